package transport

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/httpclient"
	"vornix/core/base/stall"
)

// Web is a web folder: it can be compared and verified, and nothing can be brought to it.
type Web struct {
	base   *url.URL
	client *http.Client
}

// OpenWeb takes the address of a web folder. Nothing is asked yet.
func OpenWeb(address string) (*Web, error) {
	u, err := webFolder(address)
	if err != nil {
		return nil, err
	}
	return &Web{u, httpclient.New(httpclient.Options{Answer: silent, PerHost: streams})}, nil
}

// webFolder reads the address of a folder.
func webFolder(address string) (*url.URL, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is not the address of a web folder", address),
			Do: "Write it as in https://downloads.example/highline/"}
	}
	u.RawPath = ""
	if !strings.HasSuffix(u.Path, "/") {
		u.Path += "/"
	}
	return u, nil
}

func (w *Web) String() string { return w.base.Redacted() }

// Close ends idle connections.
func (w *Web) Close() error {
	w.client.CloseIdleConnections()
	return nil
}

// ReadOnly is ReadOnly's.
func (w *Web) ReadOnly() bool { return true }

func (w *Web) ask(ctx context.Context, method, rel string) (*http.Response, error) {
	u := *w.base
	u.Path += rel
	u.RawPath = ""
	req, err := http.NewRequestWithContext(ctx, method, u.String(), nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept-Encoding", "identity") // sizes are of the file
	resp, err := w.client.Do(req)
	if err != nil {
		return nil, lost(ctx, err)
	}
	if resp.StatusCode == http.StatusOK {
		return resp, nil
	}
	resp.Body.Close()
	return nil, statusOf(resp, "read", rel)
}

// List is Site's: a web server tells of no folders, so it finds nothing.
func (w *Web) List(context.Context, []string) ([]Info, error) { return nil, errors.ErrUnsupported }

// Stat is Site's.
func (w *Web) Stat(ctx context.Context, rel string) (Info, error) {
	resp, err := w.ask(ctx, http.MethodHead, rel)
	if err != nil {
		return Info{}, err
	}
	resp.Body.Close()
	t, _ := http.ParseTime(resp.Header.Get("Last-Modified"))
	return Info{rel, resp.ContentLength, t.UTC()}, nil
}

// Read is Site's.
func (w *Web) Read(ctx context.Context, rel string, limit int64) ([]byte, error) {
	resp, err := w.ask(ctx, http.MethodGet, rel)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	return readMost(resp.Body, rel, limit)
}

// Get is Site's.
func (w *Web) Get(ctx context.Context, rel string, to io.Writer) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	resp, err := w.ask(ctx, http.MethodGet, rel)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return download(ctx, cancel, resp.Body, to)
}

// Hash is Site's: everything is read.
func (w *Web) Hash(ctx context.Context, rels []string) (map[string]string, error) {
	return hashByReading(ctx, rels, w.Get)
}

// hashByReading takes the SHA-256, in hex, of files that get reads; those that do not exist are left out.
func hashByReading(ctx context.Context, rels []string,
	get func(ctx context.Context, rel string, to io.Writer) error) (map[string]string, error) {
	sums := map[string]string{}
	var mu sync.Mutex
	g, ctx := group.WithContext(ctx)
	g.SetLimit(streams)
	for _, rel := range rels {
		g.Go(func() error {
			h := sha256.New()
			err := get(ctx, rel, h)
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err == nil {
				mu.Lock()
				defer mu.Unlock()
				sums[rel] = hex.EncodeToString(h.Sum(nil))
			}
			return err
		})
	}
	return sums, g.Wait()
}

// silent is how long a web server may send and accept nothing before the connection counts as lost.
var silent = 30 * time.Second

// dripping is how many bytes per second a web server must send or accept, on average.
const dripping = 256

// download copies the body of an answer.
func download(ctx context.Context, cancel context.CancelCauseFunc, body io.Reader, to io.Writer) error {
	w := stall.Watch(cancel, body, silent, dripping)
	defer w.Stop()
	from := &failing{Reader: w}
	_, err := io.Copy(to, from)
	if from.err != nil {
		return lost(ctx, from.err)
	}
	return err
}

// failing remembers the error of its reader, to tell it from one of the writer.
type failing struct {
	io.Reader
	err error
}

func (f *failing) Read(p []byte) (int, error) {
	n, err := f.Reader.Read(p)
	if err != nil && err != io.EOF {
		f.err = err
	}
	return n, err
}

// lost says that an error of a connection means that it was lost, unless the user stopped.
func lost(ctx context.Context, err error) error {
	var path *fs.PathError
	var known *fault.Fault
	switch cause := context.Cause(ctx); {
	case err == nil || errors.Is(err, ErrLost) || errors.As(err, &path) || errors.As(err, &known):
		return err
	case errors.Is(cause, stall.Err):
		return &lostError{cause}
	case cause != nil:
		return ctx.Err()
	}
	var u *url.Error
	if errors.As(err, &u) { // it repeats the address
		err = u.Err
	}
	return &lostError{err}
}

// lostError is ErrLost with its cause.
type lostError struct{ cause error }

func (e *lostError) Error() string   { return ErrLost.Error() + ": " + e.cause.Error() }
func (e *lostError) Unwrap() []error { return []error{ErrLost, e.cause} }

func (w *Web) refuse() error {
	return &fault.Fault{Kind: fault.Usage, What: "a web folder can only be read", Place: fault.Place{File: w.String()},
		Do: "Add a target that brings the files there (folder, sftp, git or webdav). Compare this one with --plan and --verify."}
}

// Upload is Site's, and refuses.
func (w *Web) Upload(context.Context, Upload) (Sent, error) { return Sent{}, w.refuse() }

// Write is Site's, and refuses.
func (w *Web) Write(context.Context, string, []byte) error { return w.refuse() }

// Create is Site's, and refuses.
func (w *Web) Create(context.Context, string, []byte) error { return w.refuse() }

// Rename is Site's, and refuses.
func (w *Web) Rename(context.Context, string, string) error { return w.refuse() }

// Copy is Site's, and refuses.
func (w *Web) Copy(context.Context, string, string) error { return w.refuse() }

// Link is Site's, and refuses.
func (w *Web) Link(context.Context, string, string) error { return w.refuse() }

// Remove is Site's, and refuses.
func (w *Web) Remove(context.Context, string) error { return w.refuse() }
