package remotecache

import (
	"context"
	"fmt"
	"io"
	"path/filepath"

	"vornix/core/base/credential"
	"vornix/core/base/fault"
	"vornix/core/base/storeurl"
)

// Store is a place that keeps bytes under names. Names are slash paths of letters, digits, - and _.
// All of it may be called from several goroutines.
type Store interface {
	// Read opens what is kept under a name, from its first byte on. Where there is nothing the error is fs.ErrNotExist.
	Read(ctx context.Context, name string) (io.ReadCloser, error)
	// Has says whether anything is kept under a name.
	Has(ctx context.Context, name string) (bool, error)
	// Write keeps size bytes under a name: all of them, or nothing.
	Write(ctx context.Context, name string, size int64, content io.Reader) error
	Close() error
}

// Location says where a store is and how to be let in.
type Location struct {
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

// Open opens a store. A folder has to be there; others are not asked anything yet.
func Open(p Location) (Store, error) {
	if why := storeurl.Check(p.Address); why != "" {
		return nil, &fault.Fault{Kind: fault.Usage,
			What: fmt.Sprintf("%q is no place for shared results: %s", p.Address, why), Do: "Correct [shared] url."}
	}
	if storeurl.Kind(p.Address) != "folder" && (p.Secret != "" || p.Credentials != nil) {
		if err := credential.Encrypted(p.Address, p.Plain, "plain_http = true under [shared]"); err != nil {
			return nil, err
		}
	}
	switch storeurl.Kind(p.Address) {
	case "folder":
		return openFolder(filepath.FromSlash(p.Address), p)
	case "web":
		return openWeb(p)
	}
	return openObjects(p)
}
