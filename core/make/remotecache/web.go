package remotecache

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strings"
	"time"

	"vornix/core/base/httpclient"
)

// web is a store on a web server: GET, HEAD and PUT of RFC 9110, as WebDAV modules of web servers
// and object stores behind them take them.
type web struct {
	base   *url.URL
	client *http.Client
	secret string
}

func openWeb(p Location) (Store, error) {
	u, err := url.Parse(p.Address)
	if err != nil {
		return nil, err
	}
	if !strings.HasSuffix(u.Path, "/") {
		u.Path += "/"
	}
	// A redirect could lead the secret, and what is uploaded, to another server.
	return &web{u, httpclient.New(httpclient.Options{Secret: true, Answer: patience, PerHost: uploaders}), p.Secret},
		nil
}

func (w *web) ask(ctx context.Context, method, name string, body io.Reader, size int64) (*http.Response, error) {
	u := *w.base
	u.Path += name
	req, err := http.NewRequestWithContext(ctx, method, u.String(), body)
	if err != nil {
		return nil, err
	}
	if body != nil {
		req.ContentLength = size
		req.Header.Set("Content-Type", "application/octet-stream")
	}
	req.Header.Set("Accept-Encoding", "identity") // hashes are of the bytes as they lie there
	if user, password, ok := strings.Cut(w.secret, ":"); ok {
		req.SetBasicAuth(user, password)
	} else if w.secret != "" {
		req.Header.Set("Authorization", "Bearer "+w.secret)
	}
	resp, err := w.client.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err // it repeats the address
		}
		return nil, err
	}
	if resp.StatusCode/100 == 2 {
		return resp, nil
	}
	resp.Body.Close()
	switch resp.StatusCode {
	case http.StatusNotFound, http.StatusGone:
		return nil, &fs.PathError{Op: strings.ToLower(method), Path: name, Err: fs.ErrNotExist}
	case http.StatusUnauthorized, http.StatusForbidden:
		return nil, fmt.Errorf("%w: it answered %s to %s", fs.ErrPermission, resp.Status, method)
	}
	return nil, fmt.Errorf("it answered %s to %s", resp.Status, method)
}

func (w *web) Read(ctx context.Context, name string) (io.ReadCloser, error) {
	resp, err := w.ask(ctx, http.MethodGet, name, nil, 0)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

func (w *web) Has(ctx context.Context, name string) (bool, error) {
	resp, err := w.ask(ctx, http.MethodHead, name, nil, 0)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return false, nil
	case err != nil:
		return false, err
	}
	return true, resp.Body.Close()
}

func (w *web) Write(ctx context.Context, name string, size int64, content io.Reader) error {
	body := io.NopCloser(content)
	if size == 0 {
		body = http.NoBody // a body of unknown length would be sent in chunks
	}
	resp, err := w.ask(ctx, http.MethodPut, name, body, size)
	if err != nil {
		return err
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10)) // so that the connection can be used again
	return resp.Body.Close()
}

func (w *web) Close() error {
	w.client.CloseIdleConnections()
	return nil
}

// patience is how long a store may take to begin an answer.
const patience = 10 * time.Second
