package transport

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/hashicorp/go-retryablehttp"

	"vornix/core/base/credential"
	"vornix/core/base/fault"
	"vornix/core/base/httpclient"
	"vornix/core/base/safefile"
	"vornix/core/base/stall"
)

// WebDAV is a folder of a web server that accepts files: HTTP with the methods of RFC 4918, class 1.
//
// Servers differ in what they promise, so the methods rely only on what every server does. A PUT
// replaces a file in one step. A MOVE over an existing file may remove that file first; repeated
// after a lost answer, it may remove what the first one moved. So nothing is moved or copied over
// an existing file: its content is sent again by a PUT (replace). Only MKCOL tells reliably that
// another client was faster, so it guards new files (Create). DELETE of a folder removes its
// content too, so folders are never deleted. Uploads can't be resumed: a cut upload is sent from
// its beginning.
//
// The requests are made here, over net/http: github.com/emersion/go-webdav stops at the weak entity
// tags that Apache sends for new files, and github.com/studio-b12/gowebdav knows no contexts and
// takes an answer that was cut for a whole one.
type WebDAV struct {
	base   *url.URL
	user   *url.Userinfo
	client *retryablehttp.Client

	mu      sync.Mutex
	folders map[string]bool // that are known to exist
}

// Limits of what a WebDAV server may cost.
const (
	maxListed   = 64 << 20        // bytes of an answer about files
	stored      = 2 * time.Minute // that the server may take to store or copy a file
	forbidden   = time.Second     // for which a server may forbid a new file because another is just creating it
	guardEnding = ".vornix-create"
)

// guarded is after how long the guard of a new file counts as left behind by a run that was killed.
var guarded = 20 * time.Second

// OpenWebDAV opens a WebDAV folder, which must exist. user is nil where the server asks for no name.
func OpenWebDAV(ctx context.Context, address string, user *url.Userinfo) (*WebDAV, error) {
	base, err := webFolder(address)
	if err != nil {
		return nil, err
	}
	if user != nil {
		if err := credential.Encrypted(address, false, ""); err != nil {
			return nil, err
		}
	}
	w := &WebDAV{base: base, user: user, folders: map[string]bool{}}
	w.client = httpclient.Retrying(httpclient.Options{Secret: true, Answer: stored, PerHost: streams},
		httpclient.Retries{Count: 3, Min: 200 * time.Millisecond, Max: 5 * time.Second})
	w.client.CheckRetry = func(ctx context.Context, r *http.Response, err error) (bool, error) {
		if r != nil && r.StatusCode == http.StatusInsufficientStorage {
			return false, nil
		}
		if r != nil && r.StatusCode == http.StatusLocked { // for the moment, by the request of another
			return true, nil
		}
		return retryablehttp.DefaultRetryPolicy(ctx, r, err)
	}
	root, err := w.look(ctx, "")
	if err == nil && !root.folder {
		err = fs.ErrNotExist
	}
	var status *statusError
	var gone *lostError
	_ = errors.As(err, &status)
	switch {
	case err == nil:
		return w, nil
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.Is(err, fs.ErrPermission): // also 401
		return nil, &fault.Fault{Kind: fault.Unreachable,
			What: "the server does not accept this user name and password", Place: fault.Place{File: w.String()},
			Err: cause(err), Why: "Nothing was changed.", Do: "Correct user and password_env of the target."}
	case errors.Is(err, fs.ErrNotExist):
		return nil, &fault.Fault{Kind: fault.Unreachable, What: "the folder does not exist on the server",
			Place: fault.Place{File: w.String()},
			Why:   "A folder that Vornix creates might be misspelt. Nothing was changed.",
			Do:    "Correct the url of the target, or create the folder."}
	case errors.As(err, &gone):
		return nil, &fault.Fault{Kind: fault.Unreachable, What: "the server is unreachable",
			Place: fault.Place{File: w.String()}, Err: gone.cause,
			Do: "Check the address and the connection, and run the same command again."}
	case status != nil &&
		(status.code == http.StatusTooManyRequests || status.code == http.StatusLocked || status.code >= 500 &&
			status.code != http.StatusNotImplemented):
		return nil, &fault.Fault{Kind: fault.Unreachable, What: "the server can't answer now",
			Place: fault.Place{File: w.String()}, Err: status, Do: "Run the same command again later."}
	}
	return nil, &fault.Fault{Kind: fault.Usage, What: "this is not a WebDAV folder",
		Place: fault.Place{File: w.String()}, Err: cause(err),
		Why: "Its server does not list files by PROPFIND (RFC 4918). Nothing was changed.",
		Do:  "Correct the url of the target, or enable WebDAV on the server for this folder."}
}

func (w *WebDAV) String() string { return w.base.Redacted() }

// Close ends idle connections.
func (w *WebDAV) Close() error {
	w.client.HTTPClient.CloseIdleConnections()
	return nil
}

func (w *WebDAV) do(r *retryablehttp.Request) (*http.Response, error) {
	if w.user != nil {
		password, _ := w.user.Password()
		r.SetBasicAuth(w.user.Username(), password)
	}
	r.Header.Set("Accept-Encoding", "identity") // sizes are of the file
	resp, err := w.client.Do(r)
	if err != nil {
		return nil, lost(r.Context(), err)
	}
	// some of it went wrong
	if resp.StatusCode == http.StatusMultiStatus && (r.Method == "COPY" || r.Method == "MOVE") {
		resp.Body.Close()
		return nil, &fs.PathError{Op: strings.ToLower(r.Method), Path: r.URL.Path,
			Err: errors.New("the server could not do it")}
	}
	if resp.StatusCode/100 != 2 {
		resp.Body.Close()
		return nil, statusOf(resp, strings.ToLower(r.Method), strings.TrimPrefix(r.URL.Path, w.base.Path))
	}
	return resp, nil
}

// send sends a request whose answer's body does not matter.
func (w *WebDAV) send(ctx context.Context, method, rel string, size int64, body retryablehttp.ReaderFunc,
	header ...string) error {
	resp, err := w.ask(ctx, method, rel, size, body, header...)
	if err != nil {
		return err
	}
	return resp.Body.Close()
}

// ask sends a request. Its body has size bytes; header has names and values in turn.
func (w *WebDAV) ask(ctx context.Context, method, rel string, size int64, body retryablehttp.ReaderFunc,
	header ...string) (*http.Response, error) {
	var content any
	if body != nil {
		content = body
	}
	r, err := retryablehttp.NewRequestWithContext(ctx, method, w.address(rel), content)
	if err != nil {
		return nil, err
	}
	r.ContentLength = size
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	return w.do(r)
}

// transfer has the server copy or move a file to a path that is free. It is an fs.ErrExist where that is in use.
func (w *WebDAV) transfer(ctx context.Context, method, from, to string) error {
	return w.send(ctx, method, from, 0, nil, "Destination", w.address(to), "Overwrite", "F")
}

// address is the whole address of a file.
func (w *WebDAV) address(rel string) string {
	u := *w.base
	u.Path += rel
	return u.String()
}

// found is a file or folder that the server told of.
type found struct {
	Info
	folder bool
}

// multistatus is what a server answers to PROPFIND (RFC 4918, section 14).
type multistatus struct {
	XMLName   xml.Name `xml:"DAV: multistatus"`
	Responses []struct {
		Href   string `xml:"DAV: href"`
		Status []struct {
			Status string `xml:"DAV: status"`
			Prop   struct {
				Length   string `xml:"DAV: getcontentlength"`
				Modified string `xml:"DAV: getlastmodified"`
				Type     struct {
					Collection *struct{} `xml:"DAV: collection"`
				} `xml:"DAV: resourcetype"`
			} `xml:"DAV: prop"`
		} `xml:"DAV: propstat"`
	} `xml:"DAV: response"`
}

const propfind = `<?xml version="1.0" encoding="utf-8"?>
<D:propfind xmlns:D="DAV:"><D:prop><D:resourcetype/><D:getcontentlength/><D:getlastmodified/></D:prop></D:propfind>`

// tell asks about a file or folder, and with depth 1 about what is directly in it. Only the names
// in the answer's paths count: behind a proxy a server may write other folders.
func (w *WebDAV) tell(ctx context.Context, rel, depth string) (list []found, err error) {
	resp, err := w.ask(ctx, "PROPFIND", rel, int64(len(propfind)),
		func() (io.Reader, error) { return strings.NewReader(propfind), nil },
		"Depth", depth, "Content-Type", "application/xml; charset=utf-8")
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	from := &failing{Reader: io.LimitReader(resp.Body, maxListed)}
	var m multistatus
	if resp.StatusCode != http.StatusMultiStatus {
		err = errors.New("it answered " + resp.Status)
	} else if err = xml.NewDecoder(from).Decode(&m); from.err != nil {
		return nil, lost(ctx, from.err)
	}
	if err != nil {
		return nil, &fs.PathError{Op: "look at", Path: rel,
			Err: fmt.Errorf("the server's answer to PROPFIND can't be read: %w", err)}
	}
	for _, r := range m.Responses {
		u, err := url.Parse(r.Href)
		if err != nil {
			continue
		}
		for _, s := range r.Status {
			if !strings.Contains(s.Status, " 200 ") {
				continue
			}
			f := found{Info{Path: path.Base(u.Path)}, s.Prop.Type.Collection != nil}
			if !f.folder {
				if f.Size, err = strconv.ParseInt(strings.TrimSpace(s.Prop.Length), 10, 64); err != nil || f.Size < 0 {
					return nil, &fs.PathError{Op: "look at", Path: rel,
						Err: fmt.Errorf("the server does not say how large %s is", f.Path)}
				}
			}
			t, _ := http.ParseTime(strings.TrimSpace(s.Prop.Modified))
			f.Time = t.UTC()
			list = append(list, f)
			break
		}
	}
	return list, nil
}

// look asks about one file or folder.
func (w *WebDAV) look(ctx context.Context, rel string) (found, error) {
	list, err := w.tell(ctx, rel, "0")
	if err != nil {
		return found{}, err
	}
	if len(list) == 0 { // an answer without what was asked for
		return found{}, &fs.PathError{Op: "look at", Path: rel, Err: fs.ErrNotExist}
	}
	list[0].Path = rel
	return list[0], nil
}

// List is Site's.
func (w *WebDAV) List(ctx context.Context, folders []string) (list []Info, err error) {
	for _, folder := range folders {
		rel := ""
		if folder != "." {
			rel = folder + "/"
		}
		entries, err := w.tell(ctx, rel, "1")
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			name := path.Base(e.Path)
			e.Path = path.Join(folder, name)
			if !e.folder && safefile.CheckPath(e.Path) == nil && !safefile.IsTemp(name) {
				list = append(list, e.Info)
			}
		}
	}
	return list, nil
}

// Stat is Site's.
func (w *WebDAV) Stat(ctx context.Context, rel string) (Info, error) {
	f, err := w.look(ctx, rel)
	if err == nil && f.folder {
		err = &fs.PathError{Op: "stat", Path: rel, Err: errors.New("it is not a file")}
	}
	return f.Info, err
}

// Read is Site's.
func (w *WebDAV) Read(ctx context.Context, rel string, limit int64) ([]byte, error) {
	resp, err := w.ask(ctx, http.MethodGet, rel, 0, nil)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	from := &failing{Reader: resp.Body}
	data, err := readMost(from, rel, limit)
	if from.err != nil {
		return nil, lost(ctx, from.err)
	}
	return data, err
}

// Get is Site's.
func (w *WebDAV) Get(ctx context.Context, rel string, to io.Writer) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	resp, err := w.ask(ctx, http.MethodGet, rel, 0, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return download(ctx, cancel, resp.Body, to)
}

// Hash is Site's: everything is read.
func (w *WebDAV) Hash(ctx context.Context, rels []string) (map[string]string, error) {
	return hashByReading(ctx, rels, w.Get)
}

// Upload is Site's.
func (w *WebDAV) Upload(ctx context.Context, u Upload) (Sent, error) {
	if info, err := os.Stat(u.Source); err != nil {
		return Sent{}, err
	} else if info.Size() != u.Size {
		return Sent{}, changedSource(u.Source)
	}
	if err := w.makeFolders(ctx, path.Dir(u.To)); err != nil {
		return Sent{}, err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var last *sending
	var mu sync.Mutex // the connection of a first try may still be reading
	sent := int64(0)
	open := func() (io.Reader, error) {
		in, err := os.Open(u.Source)
		if err != nil {
			return nil, err
		}
		at := int64(0)
		last = &sending{in: in, hash: sha256.New(), closed: make(chan struct{})}
		count := &told{io.TeeReader(io.LimitReader(in, u.Size), last.hash), func(n int64) {
			mu.Lock()
			defer mu.Unlock()
			if at += n; at > sent { // after a retry the same bytes do not count twice
				u.advanced(at - sent)
				sent = at
			}
		}}
		last.Reader = stall.Watch(cancel, count, silent, dripping)
		return last, nil
	}
	// With Expect, a server can refuse before the content is sent.
	if err := w.send(ctx, http.MethodPut, u.To, u.Size, open, "Expect", "100-continue"); err != nil {
		return Sent{}, lost(ctx, err)
	}
	<-last.closed
	if hex.EncodeToString(last.hash.Sum(nil)) != u.SHA256 {
		return Sent{}, errors.Join(changedSource(u.Source), w.Remove(ctx, u.To))
	}
	return Sent{Bytes: u.Size}, nil
}

// sending is the body of an upload. Its hash may be read when it is closed: until then the
// connection may read from it, even after an answer has come.
type sending struct {
	*stall.Reader
	in     *os.File
	hash   hash.Hash
	once   sync.Once
	closed chan struct{}
}

func (s *sending) Close() error {
	s.once.Do(func() {
		s.Stop()
		s.in.Close()
		close(s.closed)
	})
	return nil
}

// Write is Site's.
func (w *WebDAV) Write(ctx context.Context, rel string, data []byte) error {
	if err := w.makeFolders(ctx, path.Dir(rel)); err != nil {
		return err
	}
	return w.put(ctx, rel, data)
}

func (w *WebDAV) put(ctx context.Context, rel string, data []byte, header ...string) error {
	return w.send(ctx, http.MethodPut, rel, int64(len(data)),
		func() (io.Reader, error) { return bytes.NewReader(data), nil }, header...)
}

// makeFolders creates a folder and those that it is in.
func (w *WebDAV) makeFolders(ctx context.Context, rel string) error {
	if rel == "." {
		return nil
	}
	w.mu.Lock()
	known := w.folders[rel]
	w.mu.Unlock()
	if known {
		return nil
	}
	if err := w.makeFolders(ctx, path.Dir(rel)); err != nil {
		return err
	}
	if err := w.makeFolder(ctx, rel); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.folders[rel] = true
	return nil
}

// makeFolder creates a folder; it is an fs.ErrExist where the path is in use.
func (w *WebDAV) makeFolder(ctx context.Context, rel string) error {
	err := w.send(ctx, "MKCOL", rel+"/", 0, nil)
	if errors.Is(err, fs.ErrPermission) { // Apache's answer when another client was faster
		if _, lookErr := w.look(ctx, rel); lookErr == nil {
			return &fs.PathError{Op: "mkcol", Path: rel, Err: fs.ErrExist}
		}
	}
	return err
}

// Create is Site's. Of several that create the same file, the one whose MKCOL of the guard succeeds
// looks whether the file exists, and writes it. A guard that does not go away within the time that
// this takes was left behind by a run that was killed, and is removed.
func (w *WebDAV) Create(ctx context.Context, rel string, data []byte) error {
	if err := w.makeFolders(ctx, path.Dir(rel)); err != nil {
		return err
	}
	guard := rel + guardEnding
	for begun := time.Now(); ; {
		err := w.makeFolder(ctx, guard)
		if err == nil {
			break
		}
		var status *statusError
		switch { // servers have several words for it that another is faster, right now
		case errors.Is(err, fs.ErrExist), errors.As(err, &status) && status.code == http.StatusLocked:
		case errors.Is(err, fs.ErrPermission) && time.Since(begun) < forbidden:
		default:
			return err
		}
		if _, err := w.Stat(ctx, rel); err == nil {
			return &fs.PathError{Op: "create", Path: rel, Err: fs.ErrExist}
		}
		if time.Since(begun) > guarded {
			_ = w.send(ctx, http.MethodDelete, guard+"/", 0, nil)
			begun = time.Now()
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	defer func() { _ = w.send(context.WithoutCancel(ctx), http.MethodDelete, guard+"/", 0, nil) }()
	switch _, err := w.Stat(ctx, rel); {
	case err == nil:
		return &fs.PathError{Op: "create", Path: rel, Err: fs.ErrExist}
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	err := w.put(ctx, rel, data, "If-None-Match", "*")
	if errors.Is(err, fs.ErrExist) { // perhaps by a first try whose answer was lost
		if now, readErr := w.Read(ctx, rel, int64(len(data))); readErr == nil && bytes.Equal(now, data) {
			return nil
		}
	}
	return err
}

// Rename is Site's.
func (w *WebDAV) Rename(ctx context.Context, from, to string) error {
	was, err := w.Stat(ctx, from)
	if err != nil {
		return err
	}
	if err := w.makeFolders(ctx, path.Dir(to)); err != nil {
		return err
	}
	err = w.transfer(ctx, "MOVE", from, to)
	// perhaps moved by a first try whose answer was lost
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrExist) {
		now, toErr := w.Stat(ctx, to)
		if _, fromErr := w.Stat(ctx, from); errors.Is(fromErr, fs.ErrNotExist) && toErr == nil && now.Size == was.Size {
			return nil
		}
	}
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err := w.replace(ctx, was, to); err != nil {
		return err
	}
	return w.Remove(ctx, from)
}

// Copy is Site's.
func (w *WebDAV) Copy(ctx context.Context, from, to string) error {
	was, err := w.Stat(ctx, from)
	if err != nil {
		return err
	}
	if err := w.makeFolders(ctx, path.Dir(to)); err != nil {
		return err
	}
	if err = w.transfer(ctx, "COPY", from, to); errors.Is(err, fs.ErrExist) {
		err = w.replace(ctx, was, to)
	}
	return err
}

// replace overwrites a file with the content of another one, in one step where the server does a PUT in one step.
func (w *WebDAV) replace(ctx context.Context, from Info, to string) error {
	return w.send(ctx, http.MethodPut, to, from.Size, func() (io.Reader, error) {
		resp, err := w.ask(ctx, http.MethodGet, from.Path, 0, nil)
		if err != nil {
			return nil, err
		}
		return resp.Body, nil
	})
}

// Link is Site's: files have one name there.
func (w *WebDAV) Link(ctx context.Context, from, to string) error { return w.Copy(ctx, from, to) }

// Remove is Site's. Folders stay: a server deletes one with everything that it holds by then.
func (w *WebDAV) Remove(ctx context.Context, rel string) error {
	f, err := w.look(ctx, rel)
	if err == nil && !f.folder {
		err = w.send(ctx, http.MethodDelete, rel, 0, nil)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// statusError is an answer that is not a success.
type statusError struct {
	code int
	what string
	is   error
}

func (e *statusError) Error() string { return e.what }
func (e *statusError) Unwrap() error { return e.is }

// statusOf makes an error of an answer, in the terms of files.
func statusOf(resp *http.Response, op, rel string) error {
	e := &statusError{code: resp.StatusCode, what: "the server answered " + resp.Status}
	switch resp.StatusCode {
	case http.StatusNotFound, http.StatusGone, http.StatusConflict: // of a path whose folder does not exist
		e.is = fs.ErrNotExist
	case http.StatusForbidden, http.StatusUnauthorized:
		e.is = fs.ErrPermission
	case http.StatusPreconditionFailed:
		e.is = fs.ErrExist
	case http.StatusMethodNotAllowed:
		if op == "mkcol" {
			e.is = fs.ErrExist
		}
	case http.StatusRequestEntityTooLarge:
		e.what = "the server accepts no file of this size (" + resp.Status + "); raise its limit"
	case http.StatusInsufficientStorage:
		e.what = "no space left there: " + e.what
	case http.StatusMovedPermanently, http.StatusFound, http.StatusTemporaryRedirect, http.StatusPermanentRedirect:
		if to, err := resp.Location(); err == nil {
			e.what = fmt.Sprintf("the server redirects to %s, which has to be written in the project itself",
				to.Redacted())
		}
	}
	return &fs.PathError{Op: op, Path: rel, Err: e}
}
