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

	"vornix/core/fault"
	"vornix/core/group"
)

// Web is a web folder: it can be compared and verified, and nothing can be brought to it.
type Web struct {
	base   *url.URL
	client *http.Client
}

// OpenWeb takes the address of a web folder. Nothing is asked yet.
func OpenWeb(address string) (*Web, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no address of a web folder", address), Do: "Write it as in https://downloads.example/highline/"}
	}
	if !strings.HasSuffix(u.Path, "/") {
		u.Path += "/"
	}
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.ResponseHeaderTimeout, t.MaxIdleConnsPerHost = 30*time.Second, streams
	return &Web{u, &http.Client{Transport: t}}, nil
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
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%w: %w", ErrLost, err)
	}
	switch resp.StatusCode {
	case http.StatusOK:
		return resp, nil
	case http.StatusNotFound, http.StatusGone:
		err = &fs.PathError{Op: "read", Path: rel, Err: fs.ErrNotExist}
	case http.StatusForbidden, http.StatusUnauthorized:
		err = &fs.PathError{Op: "read", Path: rel, Err: fs.ErrPermission}
	default:
		err = &fs.PathError{Op: "read", Path: rel, Err: errors.New("the server answered " + resp.Status)}
	}
	resp.Body.Close()
	return nil, err
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
func (w *Web) Read(ctx context.Context, rel string, most int64) ([]byte, error) {
	resp, err := w.ask(ctx, http.MethodGet, rel)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	return readMost(resp.Body, rel, most)
}

// Get is Site's.
func (w *Web) Get(ctx context.Context, rel string, to io.Writer) error {
	resp, err := w.ask(ctx, http.MethodGet, rel)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(to, resp.Body)
	return err
}

// Hash is Site's: all is read.
func (w *Web) Hash(ctx context.Context, rels []string) (map[string]string, error) {
	sums := map[string]string{}
	var mu sync.Mutex
	g, ctx := group.WithContext(ctx)
	g.SetLimit(streams)
	for _, rel := range rels {
		g.Go(func() error {
			h := sha256.New()
			err := w.Get(ctx, rel, h)
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

func (w *Web) refuse() error {
	return &fault.Fault{Kind: fault.Usage, What: "a web folder can only be read", Place: fault.Place{File: w.String()}, Do: "Describe how its files get there as a target of its own (folder, sftp or git); this one can be compared with --plan and --verify."}
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
