// Package transport reaches the places that releases go to: folders (folder.go), servers over SFTP
// (sftp.go, protocol version 3 with OpenSSH's extensions), clones of Git repositories (git.go), web
// folders by WebDAV (webdav.go) and web folders that can only be read (web.go).
//
// All of them are one Site: files by slash paths below a root. A Site knows nothing of releases;
// package deploy plans and switches. Where the far side can do work itself, it does: hashes are
// taken there, copies are made there, and of a file that resembles one that is there only what
// differs is sent. Operations can be repeated: a lost connection is opened again, and what was
// under way resumes.
package transport

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"vornix/core/base/fault"
)

// Site is a place with files. Paths are slash paths below its root, checked by safefile.CheckPath.
// A file that is not there is an fs.ErrNotExist.
type Site interface {
	String() string // where it is, for people
	// List finds the files that lie directly in the folders. A folder that is not there has none.
	List(ctx context.Context, folders []string) ([]Info, error)
	Stat(ctx context.Context, rel string) (Info, error)
	Read(ctx context.Context, rel string, limit int64) ([]byte, error)
	// Get writes a file's content to w.
	Get(ctx context.Context, rel string, w io.Writer) error
	// Hash takes the SHA-256, in hex, of files; those that are not there are left out.
	Hash(ctx context.Context, rels []string) (map[string]string, error)
	// Upload brings a file to its path, going on where an earlier try was cut. It is not there as a
	// whole until Upload returns; whether it is what it should be, its hash says, which the caller
	// takes unless the site did.
	Upload(ctx context.Context, u Upload) (Sent, error)
	// Write puts a small file in its place at once.
	Write(ctx context.Context, rel string, data []byte) error
	// Create makes a small file that must not be there yet: an fs.ErrExist otherwise.
	Create(ctx context.Context, rel string, data []byte) error
	// Rename moves a file at once, over what is there.
	Rename(ctx context.Context, from, to string) error
	// Copy puts a file's content at another path too, at once.
	Copy(ctx context.Context, from, to string) error
	// Link does the same where one of both is replaced or removed before anybody writes into it: it
	// may become a second name.
	Link(ctx context.Context, from, to string) error
	// Remove removes a file, or an empty folder. What is not there is no error.
	Remove(ctx context.Context, rel string) error
	Close() error
}

// Runner is a Site that can run a command on its side.
type Runner interface {
	Run(ctx context.Context, command string) (output string, err error)
}

// Spacer is a Site that knows how much room it has, in bytes.
type Spacer interface {
	Free(ctx context.Context) (int64, error)
}

// Sweeper is a Site on which a killed run leaves files that are half written: those in the folders,
// and below own, are removed. Only call it while holding the lock.
type Sweeper interface {
	Sweep(own string, folders []string)
}

// NewEnding is what a file on a server is called until it is whole. A later run removes what a cut left of them.
const NewEnding = ".vornix-new"

// ReadOnly is a Site that nothing can be brought to.
type ReadOnly interface{ ReadOnly() bool }

// Info is a file that is there.
type Info struct {
	Path string    `json:"path"`
	Size int64     `json:"size"`
	Time time.Time `json:"time"` // of its last change, as the far side says
}

// Upload is a file to bring.
type Upload struct {
	To     string
	Size   int64
	SHA256 string
	Source string // system path
	Like   []Like // files there that it is likely to resemble, the best first
	// Advanced is told how many more bytes are there.
	Advanced func(n int64)
}

// Sent is what an upload took.
type Sent struct {
	Bytes  int64 // that were sent
	Reused int64 // that the far side had, in a file like it or from an earlier try
	Hashed bool  // the far side has taken its hash, and it is right
}

func (u *Upload) advanced(n int64) {
	if u.Advanced != nil && n > 0 {
		u.Advanced(n)
	}
}

// ErrLost says that the connection to a site was lost and could not be made again.
var ErrLost = errors.New("the connection was lost")

// Explain says what went wrong with a file on a site, for people: what, where, why, and what to do.
func Explain(s Site, doing, rel string, err error) error {
	var known *fault.Fault
	if err == nil || errors.As(err, &known) || errors.Is(err, context.Canceled) {
		return err
	}
	f := &fault.Fault{What: fmt.Sprintf("could not %s %s", doing, rel), Place: fault.Place{File: s.String()},
		Err: cause(err)}
	switch {
	case errors.Is(err, ErrLost):
		f.Kind, f.Do = fault.Unreachable,
			"Look whether the server and the line to it are up, and run the same command again: it goes on."
	case full(err):
		f.Err, f.Do = errors.New("its disk is full"), "Free some space there and run the same command again."
	case errors.Is(err, fs.ErrPermission):
		f.Err, f.Do = errors.New("no permission there"),
			"Let the account that deploys own the folder, or look whether the file is locked by the game, and run the same command again."
	case errors.Is(err, fs.ErrNotExist):
		f.Err, f.Do = errors.New("it is not there"),
			"Somebody may have removed it meanwhile; run the same command again."
	default:
		f.Do = "Look at the file there (is it open in the game, is the disk full?) and run the same command again."
	}
	return f
}

// cause drops what the sentence around it says already.
func cause(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	var l *os.LinkError
	if errors.As(err, &l) {
		return l.Err
	}
	return err
}

// full says whether an error is that of a full disk, in the words of any system.
func full(err error) bool {
	s := strings.ToLower(err.Error())
	return strings.Contains(s, "no space left") || strings.Contains(s, "disk is full") ||
		strings.Contains(s, "quota") || strings.Contains(s, "not enough space")
}

// readMost bounds what is read of a small file.
func readMost(r io.Reader, rel string, limit int64) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(data)) > limit {
		err = fmt.Errorf("%s is larger than %d bytes, which it can't rightly be", rel, limit)
	}
	return data, err
}

// changedSource says that what is sent is not what was packed.
func changedSource(file string) error {
	return &fault.Fault{What: "it changed while it was being deployed", Place: fault.Place{File: file},
		Why: "What would arrive is not what was packed. Nothing was changed.", Do: "Pack again, then deploy."}
}
