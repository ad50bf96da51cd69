// Package download reads files from an address: from a server by HTTP (RFC 9110), or from a folder.
//
// Small files are read whole, large ones into a sink that keeps what it has, so that a download
// goes on where it was cut (range requests, RFC 9110 section 14). What can pass is tried again with
// growing waits, as the server asks for it (429, 503, Retry-After); what can't is one clear error.
// Nothing that a server sends is believed: sizes are bounded, and whoever reads checks hashes.
package download

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"

	"github.com/hashicorp/go-retryablehttp"

	"vornix/core/base/credential"
	"vornix/core/base/fault"
	"vornix/core/base/httpclient"
	"vornix/core/base/safefile"
	"vornix/core/base/stall"
)

// Options for Open. The zero value is what people want.
type Options struct {
	Retries  int           // how often what can pass is tried again without getting further (default 4; -1 for never)
	Wait     time.Duration // before the first new try; each further one waits twice as long (default 500 ms)
	MostWait time.Duration // longest wait, also where a server asks for more (default 20 s)
	Stall    time.Duration // how long nothing may come before a connection counts as dead (default 30 s)
	Agent    string        // how the program calls itself
	// Least is how many bytes per second must arrive, over all of a connection that has lasted for
	// longer than twice Stall (default 256): a server that sends a byte now and then would keep a
	// reader for years.
	Least float64
}

// Source is where files are read from.
type Source struct {
	o      Options
	start  *url.URL // of the index, as it was named; nil for a folder
	at     *url.URL // of the index, where that led to: what lies beside it lies there
	dir    *os.Root
	folder string
	client *retryablehttp.Client
}

// Stamp tells a state of a file, as its server calls it.
type Stamp struct {
	ETag     string `json:"etag,omitempty"`
	Modified string `json:"modified,omitempty"`
}

// Sink takes a download and keeps what it has.
type Sink interface {
	io.Writer
	Size() int64
	Restart() error
}

// IsWeb says whether an address is that of a server, not of a folder.
func IsWeb(address string) bool {
	lower := strings.ToLower(address)
	return strings.HasPrefix(lower, "http://") || strings.HasPrefix(lower, "https://")
}

// Open takes an address: of a server's folder, of the file called index in it, or of a folder on
// this machine. Nothing is asked yet.
func Open(address, index string, o Options) (*Source, error) {
	if o.Retries == 0 {
		o.Retries = 4
	}
	for _, d := range []struct {
		of    *time.Duration
		value time.Duration
	}{{&o.Wait, 500 * time.Millisecond}, {&o.MostWait, 20 * time.Second}, {&o.Stall, 30 * time.Second}} {
		if *d.of == 0 {
			*d.of = d.value
		}
	}
	if o.Least == 0 {
		o.Least = 256
	}
	if !IsWeb(address) {
		return openFolder(strings.TrimPrefix(address, "file://"), index, o)
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no address", address),
			Do: "Write it as in https://downloads.example/highline/"}
	}
	u.Fragment = ""
	if u.User != nil {
		if err := credential.Encrypted(address, false, ""); err != nil {
			return nil, err
		}
	}
	if path.Base(u.Path) != index && u.RawQuery == "" {
		if !strings.HasSuffix(u.Path, "/") {
			u.Path += "/"
		}
		u.Path += index
		u.RawPath = ""
	}
	return &Source{o: o, start: u, at: u, client: httpclient.Retrying(
		httpclient.Options{Answer: o.Stall, Dial: 15 * time.Second, PerHost: 16},
		httpclient.Retries{Count: o.Retries, Min: o.Wait, Max: o.MostWait})}, nil
}

func openFolder(name, index string, o Options) (*Source, error) {
	if filepath.Base(name) == index {
		name = filepath.Dir(name)
	}
	root, err := os.OpenRoot(name)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage,
			What:  "this is neither an existing folder nor an address that begins with https://",
			Place: fault.Place{File: filepath.ToSlash(name)}, Err: err,
			Do: "Name the address of the index, or the folder that it lies in."}
	}
	return &Source{o: o, dir: root, folder: name}, nil
}

// Patience sets how often what can pass is tried again from here on, for those who can do without
// an answer. It returns what it was.
func (s *Source) Patience(retries int) int {
	was := s.o.Retries
	s.o.Retries = retries
	if s.client != nil {
		s.client.RetryMax = max(retries, 0)
	}
	return was
}

// Close lets go of the source.
func (s *Source) Close() {
	if s.dir != nil {
		_ = s.dir.Close() // it was only a handle
		return
	}
	s.client.HTTPClient.CloseIdleConnections()
}

// String is the address, without passwords.
func (s *Source) String() string {
	if s.at == nil {
		return filepath.ToSlash(s.folder)
	}
	return s.start.Redacted()
}

// Plain is the address without what belongs to whoever uses it.
func (s *Source) Plain() string {
	if s.at == nil {
		if abs, err := filepath.Abs(s.folder); err == nil {
			return filepath.ToSlash(abs)
		}
		return filepath.ToSlash(s.folder)
	}
	u := *s.start
	u.User = nil
	return u.String()
}

// Address resolves what an index says of where a file lies: from base, or beside the index when
// there is none. In a folder all lies beside.
func (s *Source) Address(base, ref string, beside bool) (string, error) {
	u, err := url.Parse(ref)
	if err != nil {
		return "", err
	}
	if s.at == nil {
		if u.IsAbs() {
			return "", fmt.Errorf("%s is on a server", ref)
		}
		return u.Path, safefile.CheckPath(u.Path)
	}
	from := s.at
	if base != "" && !beside {
		if from, err = url.Parse(base); err != nil {
			return "", err
		}
	}
	if from.RawQuery != "" { // of the index, not of what lies beside it
		plain := *from
		plain.RawQuery = ""
		from = &plain
	}
	full := from.ResolveReference(u)
	if full.Scheme != "http" && full.Scheme != "https" {
		return "", fmt.Errorf("%s is not an address of a server", full.Redacted())
	}
	// a password for https does not go over http
	if s.start.User != nil && full.Host == s.start.Host && full.Scheme == s.start.Scheme {
		full.User = s.start.User
	}
	return full.String(), nil
}

// Index reads the index. known is the state that the reader has: when it is still that, data is nil.
func (s *Source) Index(ctx context.Context, name string, limit int64, known Stamp) (data []byte, now Stamp, err error) {
	if s.at == nil {
		f, err := s.dir.Open(name)
		if err != nil {
			return nil, now, s.noIndex(err)
		}
		defer f.Close()
		data, err = bounded(f, limit)
		return data, now, err
	}
	header := http.Header{"Cache-Control": {"no-cache"}}
	if known.ETag != "" {
		header.Set("If-None-Match", known.ETag)
	} else if known.Modified != "" {
		header.Set("If-Modified-Since", known.Modified)
	}
	for try := 0; ; try++ {
		data, now, err = s.once(ctx, header, limit)
		var cut *cutError
		if err == nil || !errors.As(err, &cut) || try >= s.o.Retries {
			if cut != nil {
				err = s.unreachable(s.start.Redacted(), cut.err)
			}
			return data, now, err
		}
		if err := s.pause(ctx, try); err != nil {
			return nil, now, err
		}
	}
}

// cutError is a connection that ended in the middle.
type cutError struct{ err error }

func (e *cutError) Error() string { return "the connection was cut: " + e.err.Error() }
func (e *cutError) Unwrap() error { return e.err }

func (s *Source) once(ctx context.Context, header http.Header, limit int64) ([]byte, Stamp, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r, err := s.get(ctx, s.start.String(), header)
	if err != nil {
		return nil, Stamp{}, err
	}
	defer r.Body.Close()
	now := stampOf(r)
	if r.StatusCode == http.StatusNotModified {
		return nil, now, nil
	}
	if r.StatusCode != http.StatusOK {
		return nil, now, s.status(s.start.Redacted(), r)
	}
	s.at = r.Request.URL
	watch := s.watch(cancel, r.Body)
	defer watch.Stop()
	data, err := bounded(watch, limit)
	if err != nil && ctx.Err() == nil || errors.Is(context.Cause(ctx), stall.Err) {
		var f *fault.Fault
		if errors.As(err, &f) {
			return nil, now, err
		}
		return nil, now, &cutError{err}
	}
	if err == nil && (isPage(r) || len(data) > 0 && data[0] == '<') {
		return nil, now, pageFault(s.start.Redacted())
	}
	return data, now, err
}

// stampOf tells the state of a file. A time counts only when it lies some seconds back: servers
// tell whole ones, and the file may be written twice in the same (RFC 9110, section 8.8.2.2).
func stampOf(r *http.Response) Stamp {
	s := Stamp{ETag: r.Header.Get("ETag")}
	modified, err := http.ParseTime(r.Header.Get("Last-Modified"))
	date, dateErr := http.ParseTime(r.Header.Get("Date"))
	if s.ETag == "" && err == nil && dateErr == nil && date.Sub(modified) > 2*time.Second {
		s.Modified = r.Header.Get("Last-Modified")
	}
	return s
}

func pageFault(address string) error {
	return &fault.Fault{What: "there is a web page, not the file", Place: fault.Place{File: address},
		Why: "The page shows the file to people; a program gets the page.",
		Do:  "Use the address of the file itself. On a Git server it is the one behind \"raw\" or \"plain\"."}
}

func isPage(r *http.Response) bool {
	kind, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";")
	return strings.TrimSpace(strings.ToLower(kind)) == "text/html"
}

func bounded(r io.Reader, limit int64) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(data)) > limit {
		return nil, &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("it is larger than %d MB", limit>>20),
			Why: "No index is.", Do: "Check the address."}
	}
	return data, err
}

func (s *Source) noIndex(err error) error {
	f := &fault.Fault{What: "there is no index", Place: fault.Place{File: filepath.ToSlash(s.folder)}, Err: err,
		Do: "Name the folder that index.json lies in."}
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		f.Err = pathError.Err
	}
	return f
}

// get asks once, with new tries for what can pass.
func (s *Source) get(ctx context.Context, address string, header http.Header) (*http.Response, error) {
	req, err := retryablehttp.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	req.Header.Set("User-Agent", s.o.Agent)
	r, err := s.client.Do(req)
	if err != nil {
		if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, stall.Err) {
			return nil, cause
		}
		return nil, s.unreachable(redacted(address), err)
	}
	return r, nil
}

func redacted(address string) string {
	if u, err := url.Parse(address); err == nil {
		return u.Redacted()
	}
	return address
}

func (s *Source) unreachable(address string, err error) error {
	f := &fault.Fault{Kind: fault.Unreachable, What: "it does not answer", Place: fault.Place{File: address},
		Err: plain(err), Why: "Nothing was changed.", Do: "Check the address and the network, and try again."}
	if errors.Is(err, httpclient.ErrDowngrade) {
		f.Kind, f.What, f.Do = fault.Refused, "it is not safe to go there",
			"Ask its authors for an address that stays on https."
	}
	return f
}

// plain is what is behind an error of net/http.
func plain(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	var sys *os.SyscallError
	if errors.As(err, &sys) {
		err = sys.Err
	}
	return err
}

// status is the fault of an answer that is none.
func (s *Source) status(address string, r *http.Response) error {
	f := &fault.Fault{What: fmt.Sprintf("the server answers %s",
		strings.ToLower(strings.TrimSpace(strconv.Itoa(r.StatusCode)+" "+http.StatusText(r.StatusCode)))),
		Place: fault.Place{File: address}, Why: "Nothing was changed."}
	switch {
	case r.StatusCode == http.StatusNotFound || r.StatusCode == http.StatusGone:
		f.What, f.Do = fmt.Sprintf("there is no such file on the server (%d)", r.StatusCode),
			"Check the address; small and capital letters count."
		return notThere{f}
	case r.StatusCode == http.StatusUnauthorized || r.StatusCode == http.StatusForbidden:
		f.What, f.Do = fmt.Sprintf("the server gives it to nobody, or not to everybody (%d)", r.StatusCode),
			"Ask its authors to make it public."
	default:
		f.Kind, f.Do = fault.Unreachable, "Try again later."
	}
	return f
}

// notThere is the fault of a file that the server does not have. It is an fs.ErrNotExist.
type notThere struct{ *fault.Fault }

func (notThere) Is(target error) bool { return target == fs.ErrNotExist }
func (e notThere) Unwrap() error      { return e.Fault }

func (s *Source) watch(cancel context.CancelCauseFunc, body io.Reader) *stall.Reader {
	return stall.Watch(cancel, body, s.o.Stall, s.o.Least)
}

// pause waits before a new try, longer each time.
func (s *Source) pause(ctx context.Context, try int) error {
	wait := min(s.o.Wait<<min(try, 10), s.o.MostWait)
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(wait):
		return nil
	}
}

// Download reads a file of size bytes into a sink, from where the sink is. Advanced is told of each
// piece; it may be nil.
func (s *Source) Download(ctx context.Context, address string, size int64, to Sink, advanced func(n int64)) error {
	if to.Size() > size {
		if err := to.Restart(); err != nil {
			return err
		}
	}
	furthest := to.Size()
	for try := 0; to.Size() < size || size == 0; {
		err := s.piece(ctx, address, size, to, advanced)
		if err == nil && to.Size() == size {
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var cut *cutError
		if err != nil && !errors.As(err, &cut) {
			return err
		}
		if enough := int64(s.o.Least * s.o.Stall.Seconds()); to.Size() > furthest+min(enough, size/1000) {
			furthest, try = to.Size(), 0 // it gets on, and not byte by byte
		} else if try++; try > s.o.Retries {
			if err == nil {
				return otherSize(address, to.Size(), size)
			}
			return s.unreachable(redacted(address), cut.err)
		}
		if err := s.pause(ctx, try); err != nil {
			return err
		}
	}
	return nil
}

func otherSize(address string, is, wanted int64) error {
	return &fault.Fault{What: fmt.Sprintf("it has %d bytes, and the index says %d", is, wanted),
		Place: fault.Place{File: redacted(address)}, Why: "Nothing was changed.",
		Do: "Tell its authors: the file on the server is not the one in the index."}
}

// piece reads as far as one connection gives.
func (s *Source) piece(ctx context.Context, address string, size int64, to Sink, advanced func(n int64)) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	if s.at == nil {
		return s.copy(ctx, address, size, to, advanced)
	}
	header := http.Header{"Accept-Encoding": {"identity"}} // ranges of what is packed are of no use
	if to.Size() > 0 {
		header.Set("Range", fmt.Sprintf("bytes=%d-", to.Size()))
	}
	r, err := s.get(ctx, address, header)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	watch := s.watch(cancel, r.Body)
	defer watch.Stop()
	var body io.Reader = watch
	switch r.StatusCode {
	case http.StatusPartialContent:
		var first, last int64
		if n, err := fmt.Sscanf(r.Header.Get("Content-Range"), "bytes %d-%d/", &first, &last); err != nil || n < 2 ||
			first != to.Size() {
			if err := to.Restart(); err != nil { // it gives another part than was asked for
				return err
			}
			return &cutError{fmt.Errorf("the server gave another part: %s", r.Header.Get("Content-Range"))}
		}
	case http.StatusOK:
		if to.Size() > 0 { // it does not know ranges
			if advanced != nil {
				advanced(-to.Size())
			}
			if err := to.Restart(); err != nil {
				return err
			}
		}
		if isPage(r) {
			return pageFault(redacted(address))
		}
		if r.Header.Get("Content-Encoding") == "gzip" { // although nobody asked for it
			z, err := gzip.NewReader(watch)
			if err != nil {
				return &cutError{err}
			}
			body = z
		} else if r.ContentLength >= 0 && r.ContentLength < size { // trying again would give the same
			return otherSize(address, r.ContentLength, size)
		}
	case http.StatusRequestedRangeNotSatisfiable:
		if to.Size() == 0 {
			return s.status(redacted(address), r)
		}
		return to.Restart()
	default:
		return s.status(redacted(address), r)
	}
	return pour(ctx, redacted(address), body, size, to, advanced)
}

// pour copies at most what is missing, and refuses more.
func pour(ctx context.Context, address string, from io.Reader, size int64, to Sink, advanced func(n int64)) error {
	buffer := make([]byte, min(128<<10, max(size-to.Size()+1, 512)))
	for {
		n, err := from.Read(buffer)
		if to.Size()+int64(n) > size {
			return &fault.Fault{Kind: fault.Refused,
				What:  fmt.Sprintf("it has more than the %d bytes that the index says", size),
				Place: fault.Place{File: address}, Why: "Nothing was changed.",
				Do: "Tell its authors: the file on the server is not the one in the index."}
		}
		if n > 0 {
			if _, err := to.Write(buffer[:n]); err != nil {
				return err
			}
			if advanced != nil {
				advanced(int64(n))
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			if cause := context.Cause(ctx); cause != nil {
				err = cause
			}
			return &cutError{err}
		}
	}
}

// copy reads from a folder.
func (s *Source) copy(ctx context.Context, rel string, size int64, to Sink, advanced func(n int64)) error {
	f, err := s.dir.Open(filepath.FromSlash(rel))
	if err != nil {
		return &fault.Fault{What: "the file that the index names was not found",
			Place: fault.Place{File: path.Join(filepath.ToSlash(s.folder), rel)}, Err: plainPath(err),
			Why: "Nothing was changed.", Do: "Put it there, or write the index again."}
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && !info.Mode().IsRegular() {
		return &fault.Fault{What: "what the index names is not a file",
			Place: fault.Place{File: path.Join(filepath.ToSlash(s.folder), rel)}, Why: "Nothing was changed.",
			Do: "Write the index again."}
	}
	if _, err := f.Seek(to.Size(), io.SeekStart); err != nil {
		return err
	}
	before := to.Size()
	if err := pour(ctx, rel, safefile.Until(ctx, f), size, to, advanced); err != nil {
		return err
	}
	if to.Size() < size && to.Size() == before {
		return &fault.Fault{What: fmt.Sprintf("it has %d bytes, and the index says %d", to.Size(), size),
			Place: fault.Place{File: path.Join(filepath.ToSlash(s.folder), rel)}, Why: "Nothing was changed.",
			Do: "Write the index again."}
	}
	return nil
}

func plainPath(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// Agent is how a program of a version calls itself to servers.
func Agent(version string) string {
	return fmt.Sprintf("vornix/%s (%s)", version, runtime.GOOS)
}
