package share

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"strings"

	"vornix/core/fault"
	"vornix/core/secret"
)

// Store is a place that keeps bytes under names. Names are slash paths of letters, digits, - and _. All of it may be called from several goroutines.
type Store interface {
	// Read opens what is kept under a name, from its first byte on. Where there is nothing the error is fs.ErrNotExist.
	Read(ctx context.Context, name string) (io.ReadCloser, error)
	// Has says whether anything is kept under a name.
	Has(ctx context.Context, name string) (bool, error)
	// Write keeps size bytes under a name: all of them, or nothing.
	Write(ctx context.Context, name string, size int64, content io.Reader) error
	Close() error
}

// Place says where a store is and how to be let in.
type Place struct {
	Address string // http://, https://, nats:// or tls:// with a bucket as path; else a folder
	// Secret is a token, or user:password; empty for none.
	Secret string
	// Credentials is the content of a NATS credentials file; nil for none.
	Credentials []byte
	Plain       bool // whether a secret may go to another machine without encryption
	ReadOnly    bool
	Limits      Limits
}

// Limits of what a store keeps, where Vornix itself looks after it: a folder, and a bucket that it makes.
type Limits struct {
	Bytes int64 // 0: no limit
	Days  int   // since something was last asked for, or in a bucket since it was written; 0: no limit
}

// Kind says what an address is of: "folder", "web" or "nats".
func Kind(address string) string {
	switch scheme, _, found := strings.Cut(address, "://"); {
	case !found:
		return "folder"
	case scheme == "http" || scheme == "https":
		return "web"
	case scheme == "nats" || scheme == "tls":
		return "nats"
	}
	return ""
}

// Check says what is wrong with an address; empty when nothing is.
func Check(address string) string {
	kind := Kind(address)
	if kind == "folder" {
		return ""
	}
	u, err := url.Parse(address)
	switch {
	case kind == "":
		return "it begins with none of http://, https://, nats:// and tls://, and is no folder either"
	case err != nil || u.Host == "":
		return "it is no address"
	case u.User != nil:
		return "a secret does not belong here; use token_env or token_file"
	case u.RawQuery != "" || u.Fragment != "":
		return "an address with ? or # names no folder"
	case kind == "nats" && !bucketName(strings.Trim(u.Path, "/")):
		return "it ends in the name of a bucket, letters, digits, - and _, as in nats://farm.example/results"
	}
	return ""
}

func bucketName(s string) bool {
	return s != "" && len(s) <= 64 && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") == ""
}

// Open opens a store. A folder has to be there; others are not asked anything yet.
func Open(p Place) (Store, error) {
	if why := Check(p.Address); why != "" {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no place for shared results: %s", p.Address, why), Do: "Correct [shared] url."}
	}
	if Kind(p.Address) != "folder" && (p.Secret != "" || p.Credentials != nil) {
		if err := secret.Encrypted(p.Address, p.Plain, "plain_http = true under [shared]"); err != nil {
			return nil, err
		}
	}
	switch Kind(p.Address) {
	case "folder":
		return openFolder(filepath.FromSlash(p.Address), p)
	case "web":
		return openWeb(p)
	}
	return openObjects(p)
}
