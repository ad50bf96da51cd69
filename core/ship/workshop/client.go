package workshop

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/hashicorp/go-retryablehttp"
	"github.com/klauspost/compress/zstd"

	"vornix/core/base/credential"
	"vornix/core/base/fault"
	"vornix/core/base/httpclient"
	"vornix/core/base/humanize"
)

// Options for Dial. The zero value is what people want.
type Options struct {
	Token    string
	Agent    string        // how the program calls itself
	Plain    bool          // the token may go over http also to other machines
	Retries  int           // how often what can pass is tried again (default 5; -1 for never)
	Wait     time.Duration // before the first new try; each further one waits twice as long (default 500 ms)
	MostWait time.Duration // longest wait, also where a workshop asks for more (default 30 s)
	Stall    time.Duration // how long nothing may go either way before a connection counts as dead (default 40 s)
	// Wrap, when set, stands between the client and the network.
	Wrap func(http.RoundTripper) http.RoundTripper
}

// Client speaks with a workshop. It is safe for use by several goroutines.
type Client struct {
	o    Options
	base *url.URL
	http *retryablehttp.Client
	sent atomic.Int64
	got  atomic.Int64
}

// Dial takes the address of a workshop. Nothing is asked yet.
func Dial(address string, o Options) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil {
		return nil, &fault.Fault{Kind: fault.Usage,
			What: fmt.Sprintf("%q is no address of a workshop", redact(u, address)),
			Do:   "Write it as in https://workshop.example, without a name or a token in it."}
	}
	if o.Token != "" {
		if err := credential.Encrypted(address, o.Plain, "plain_http = true for the target"); err != nil {
			return nil, err
		}
	}
	u.Path = strings.TrimSuffix(u.Path, "/")
	o.Retries = cmp.Or(o.Retries, 5)
	o.Wait, o.MostWait, o.Stall = cmp.Or(o.Wait, 500*time.Millisecond), cmp.Or(o.MostWait, 30*time.Second),
		cmp.Or(o.Stall, 40*time.Second)
	c := &Client{o: o, base: u}
	c.http = httpclient.Retrying(httpclient.Options{Secret: true, Dial: 15 * time.Second, PerHost: 2 * AtOnce,
		Raw:  true,
		Conn: func(conn net.Conn) net.Conn { return &counted{Conn: conn, c: c} }, Round: o.Wrap},
		httpclient.Retries{Count: o.Retries, Min: o.Wait, Max: o.MostWait})
	c.http.CheckRetry = func(ctx context.Context, r *http.Response, err error) (bool, error) {
		if once, _ := ctx.Value(onceKey{}).(bool); once {
			return ctx.Err() == nil && r != nil &&
				(r.StatusCode == http.StatusTooManyRequests || r.StatusCode == http.StatusServiceUnavailable), ctx.Err()
		}
		if r != nil && r.StatusCode == http.StatusInsufficientStorage {
			return false, nil // a full disk does not pass soon
		}
		return retryablehttp.DefaultRetryPolicy(ctx, r, err)
	}
	return c, nil
}

// onceKey marks requests whose answer may get lost after they were done: only what surely was not done is tried again.
type onceKey struct{}

func redact(u *url.URL, address string) string {
	if u == nil {
		return address
	}
	return u.Redacted()
}

// counted is a connection that notes what goes over it, and is given up when nothing does for too long.
type counted struct {
	net.Conn
	c *Client
}

func (x *counted) Read(b []byte) (int, error) {
	_ = x.SetReadDeadline(time.Now().Add(x.c.o.Stall))
	n, err := x.Conn.Read(b)
	x.c.got.Add(int64(n))
	return n, err
}

func (x *counted) Write(b []byte) (int, error) {
	_ = x.SetDeadline(time.Now().Add(x.c.o.Stall)) // the answer has as long again, from here on
	n, err := x.Conn.Write(b)
	x.c.sent.Add(int64(n))
	return n, err
}

// Sent is how many bytes went over the line, to the workshop and back.
func (c *Client) Sent() (to, from int64) { return c.sent.Load(), c.got.Load() }

// String is the workshop's address.
func (c *Client) String() string { return c.base.String() }

// PageOf is the address at which people see an item.
func (c *Client) PageOf(id string) string { return c.base.JoinPath("items", id).String() }

// Close lets go of its connections.
func (c *Client) Close() { c.http.HTTPClient.CloseIdleConnections() }

// request is one question.
type request struct {
	method, path string
	query        url.Values
	after        int  // revision that was seen; 0 for none
	once         bool // see onceKey
	body         any  // []byte goes as it is
	packed       bool // the body is compressed
	header       http.Header
}

func (c *Client) send(ctx context.Context, q request) (*http.Response, error) {
	var body any
	header := http.Header{}
	switch b := q.body.(type) {
	case nil:
	case []byte:
		body = b
		header.Set("Content-Type", "application/octet-stream")
	default:
		data, err := json.Marshal(b)
		if err != nil {
			return nil, err
		}
		if len(data) > 4<<10 {
			data, q.packed = pack(data), true
		}
		body = data
		header.Set("Content-Type", "application/json")
	}
	if q.packed {
		header.Set("Content-Encoding", "zstd")
	}
	for k, v := range q.header {
		header[k] = v
	}
	if c.o.Token != "" {
		header.Set("Authorization", "Bearer "+c.o.Token)
	}
	if q.after > 0 {
		header.Set("If-Match", `"`+strconv.Itoa(q.after)+`"`)
	}
	header.Set("User-Agent", cmp.Or(c.o.Agent, "vornix"))
	if q.once {
		ctx = context.WithValue(ctx, onceKey{}, true)
	}
	u := c.base.JoinPath(q.path)
	u.RawQuery = q.query.Encode()
	r, err := retryablehttp.NewRequestWithContext(ctx, q.method, u.String(), body)
	if err != nil {
		return nil, err
	}
	r.Header = header
	answer, err := c.http.Do(r)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, c.unreachable(err)
	}
	return answer, nil
}

// ask sends a question and reads the answer into to, which may be nil.
func (c *Client) ask(ctx context.Context, q request, to any) error {
	tries := max(c.o.Retries, 0)
	if q.once {
		tries = 0
	}
	for try := 0; ; try++ {
		r, err := c.send(ctx, q)
		if err != nil {
			return err
		}
		data, err := io.ReadAll(io.LimitReader(r.Body, MaxMessage+1))
		r.Body.Close()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil && try < tries: // cut in the middle of the answer
			if err := c.pause(ctx, try); err != nil {
				return err
			}
			continue
		case err != nil:
			return c.unreachable(err)
		case len(data) > MaxMessage:
			return c.odd("its answer is larger than any answer is")
		}
		return c.answer(r, data, to)
	}
}

func (c *Client) pause(ctx context.Context, try int) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(min(c.o.Wait<<min(try, 10), c.o.MostWait)):
		return nil
	}
}

func (c *Client) answer(r *http.Response, data []byte, to any) error {
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if r.StatusCode >= 300 {
		p := &Problem{}
		if kind != "application/problem+json" || json.Unmarshal(data, p) != nil || p.Type == "" {
			p = &Problem{Type: Failed,
				Title:  "it answers " + strings.ToLower(strconv.Itoa(r.StatusCode)+" "+http.StatusText(r.StatusCode)),
				Status: r.StatusCode}
			if r.StatusCode == http.StatusTooManyRequests {
				p.Type = Busy
			}
		}
		p.Status = r.StatusCode
		return c.refused(p)
	}
	if to == nil || r.StatusCode == http.StatusNoContent {
		return nil
	}
	if kind != "application/json" {
		return c.odd("there is a web page, or something else that is no workshop")
	}
	if err := json.Unmarshal(data, to); err != nil {
		return c.odd("its answer can't be understood: " + humanize.Printable(err.Error()))
	}
	return nil
}

func (c *Client) unreachable(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	return &fault.Fault{Kind: fault.Unreachable, What: "the workshop does not answer",
		Place: fault.Place{File: c.String()}, Err: err,
		Do: "Check the address and the network, and run the same command again: it goes on where it stopped."}
}

func (c *Client) odd(what string) error {
	return &fault.Fault{Kind: fault.Unreachable, What: what, Place: fault.Place{File: c.String()},
		Do: "Check the address."}
}

// refused is the fault of a problem, which is behind it.
func (c *Client) refused(p *Problem) error {
	f := &fault.Fault{What: "the workshop says: " + p.Title, Place: fault.Place{File: c.String()}, Err: p}
	if p.Detail != "" {
		f.What = "the workshop says: " + p.Detail
	}
	f.Err = hidden{p}
	switch p.Type {
	case NotLetIn:
		f.Kind, f.Do = fault.Refused,
			"Get a token there, and keep it with 'vornix publish login TARGET', in the variable that token_env names, or in the file that token_file names."
	case NotYours:
		f.Kind, f.Do = fault.Refused, "Use its owner's token, or ask the owner."
	case Conflict:
		f.Kind, f.Why, f.Do = fault.Refused, "Nothing was changed: what somebody else wrote is not overwritten.",
			"Run the same command again; it looks at what is there now."
	case Invalid:
		f.Do = "Change it and run the same command again."
	case Busy, Failed:
		f.Kind, f.Do = fault.Unreachable, "Run the same command again later; it goes on where it stopped."
	}
	return f
}

// hidden is a cause that says nothing: the fault has said it.
type hidden struct{ p *Problem }

func (h hidden) Error() string { return h.p.Title }
func (h hidden) Unwrap() error { return h.p }

// Is says whether an error is a problem of a type.
func Is(err error, kind string) bool {
	var p *Problem
	return errors.As(err, &p) && p.Type == kind
}

// Lost says whether it is unknown if a request was done: its answer did not come, or the workshop
// failed in the middle of it.
func Lost(err error) bool {
	var p *Problem
	return fault.KindOf(err) == fault.Unreachable && (!errors.As(err, &p) || p.Type != Busy)
}

var packers = sync.Pool{New: func() any {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(MaxChunk),
		zstd.WithEncoderLevel(zstd.SpeedDefault))
	if err != nil {
		panic(err) // the options are ours
	}
	return e
}}

func pack(data []byte) []byte {
	e := packers.Get().(*zstd.Encoder)
	defer packers.Put(e)
	return e.EncodeAll(data, nil)
}

// About asks a workshop what it is.
func (c *Client) About(ctx context.Context) (*About, error) {
	a := &About{}
	if err := c.ask(ctx, request{method: http.MethodGet, path: "/v1"}, a); err != nil {
		return nil, err
	}
	if a.Protocol != Protocol || a.ID == "" {
		return nil, c.odd(fmt.Sprintf("it speaks version %d of the protocol, and this program speaks %d", a.Protocol,
			Protocol))
	}
	printable(&a.Name, &a.Account)
	return a, nil
}

// printable takes what could repaint a terminal out of what a workshop calls things.
func printable(list ...*string) {
	for _, s := range list {
		*s = humanize.Printable(*s)
	}
}

type itemList struct {
	Items []Item `json:"items"`
}

// Mine lists one's own items; with a key only the one that has it.
func (c *Client) Mine(ctx context.Context, key string) ([]Item, error) {
	q := url.Values{"owner": {"me"}}
	if key != "" {
		q.Set("key", key)
	}
	var list itemList
	err := c.ask(ctx, request{method: http.MethodGet, path: "/v1/items", query: q}, &list)
	for i := range list.Items {
		x := &list.Items[i]
		if !IsID(x.ID) {
			return nil, c.odd("its answer has an item without an id")
		}
		printable(&x.Owner, &x.Version, &x.Kind, &x.By)
	}
	return list.Items, err
}

func of(id string, parts ...string) string {
	return "/v1/items/" + url.PathEscape(id) + strings.Join(append([]string{""}, parts...), "/")
}

// Item asks for an item.
func (c *Client) Item(ctx context.Context, id string) (*Item, error) {
	return c.item(ctx, request{method: http.MethodGet, path: of(id)})
}

func (c *Client) item(ctx context.Context, q request) (*Item, error) {
	x := &Item{}
	if err := c.ask(ctx, q, x); err != nil {
		return nil, err
	}
	if !IsID(x.ID) || x.Revision < 1 {
		return nil, c.odd("its answer has no item")
	}
	printable(&x.Owner, &x.Version, &x.Kind, &x.By)
	return x, nil
}

// again asks, and when it stays unknown whether that was done, looks what is there before it asks
// once more. look says whether it was done.
func again[T any](ctx context.Context, c *Client, ask func() (T, error), look func() (T, bool, error)) (T, error) {
	for try := 0; ; try++ {
		x, err := ask()
		if err == nil || !Lost(err) || ctx.Err() != nil || try >= max(c.o.Retries, 0) {
			return x, err
		}
		if err := c.pause(ctx, try); err != nil {
			return x, err
		}
		there, done, lookErr := look()
		if lookErr != nil {
			return x, err
		}
		if done {
			return there, nil
		}
	}
}

// Make makes an item. When its answer is lost, the workshop is asked whether it is there before it is tried again.
func (c *Client) Make(ctx context.Context, n NewItem) (*Item, error) {
	return again(ctx, c, func() (*Item, error) {
		return c.item(ctx, request{method: http.MethodPost, path: "/v1/items", body: n, once: true})
	}, func() (*Item, bool, error) {
		list, err := c.Mine(ctx, n.Key)
		if err != nil || len(list) != 1 {
			return nil, false, err
		}
		return &list[0], true, nil
	})
}

// Versions lists an item's versions, the oldest first.
func (c *Client) Versions(ctx context.Context, id string) ([]Version, error) {
	var list struct {
		Versions []Version `json:"versions"`
	}
	err := c.ask(ctx, request{method: http.MethodGet, path: of(id, "versions")}, &list)
	for i := range list.Versions {
		printable(&list.Versions[i].Version)
	}
	return list.Versions, err
}

// Version asks for a version with the chunks of its files.
func (c *Client) Version(ctx context.Context, id string, number int) (*Version, error) {
	v := &Version{}
	err := c.ask(ctx, request{method: http.MethodGet, path: of(id, "versions", strconv.Itoa(number))}, v)
	return v, err
}

// Events lists what happened to an item, the oldest first.
func (c *Client) Events(ctx context.Context, id string) ([]Event, error) {
	var list struct {
		Events []Event `json:"events"`
	}
	err := c.ask(ctx, request{method: http.MethodGet, path: of(id, "events")}, &list)
	return list.Events, err
}

// MakeDraft tells a workshop what an item is to become. The same draft twice is one, so it can be asked for again.
func (c *Client) MakeDraft(ctx context.Context, id string, d *NewDraft) (*Draft, error) {
	x := &Draft{}
	err := c.ask(ctx, request{method: http.MethodPost, path: of(id, "drafts"), body: d}, x)
	return x, err
}

// Draft asks how far a draft is.
func (c *Client) Draft(ctx context.Context, id, draft string) (*Draft, error) {
	x := &Draft{}
	err := c.ask(ctx, request{method: http.MethodGet, path: of(id, "drafts", draft)}, x)
	return x, err
}

// AtOnce is how many chunks are on their way at once.
const AtOnce = 6

// SendChunk sends a chunk, compressed when that makes it smaller, and says how many bytes that were.
func (c *Client) SendChunk(ctx context.Context, id, draft, sum string, data []byte) (int64, error) {
	body, packed := data, false
	if z := pack(data); len(z) < len(data)-len(data)/32 {
		body, packed = z, true
	}
	return int64(len(body)),
		c.ask(ctx, request{method: http.MethodPut, path: of(id, "drafts", draft, "chunks", sum), body: body,
			packed: packed}, nil)
}

// Publish makes a draft the item's next state, if the item is still as it was at the revision
// after. When the answer is lost, the workshop is asked what became of it before it is tried again.
// It waits as long as the workshop checks what was sent.
func (c *Client) Publish(ctx context.Context, id, draft string, after int) (*Draft, error) {
	d, err := again(ctx, c, func() (*Draft, error) {
		d := &Draft{}
		return d, c.ask(ctx,
			request{method: http.MethodPost, path: of(id, "drafts", draft, "publish"), body: Publish{After: after},
				once: true}, d)
	}, func() (*Draft, bool, error) {
		d, err := c.Draft(ctx, id, draft)
		return d, err == nil && d.State != Open, err
	})
	if err != nil {
		return nil, err
	}
	began := time.Now()
	for wait := 100 * time.Millisecond; d.State == Checking; wait = min(2*wait, 2*time.Second) {
		if time.Since(began) > longestCheck {
			return nil, c.odd(fmt.Sprintf("it has been checking what was sent for %s", longestCheck))
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(wait):
		}
		if d, err = c.Draft(ctx, id, draft); err != nil {
			return nil, err
		}
	}
	switch {
	case d.State == Published:
		return d, nil
	case d.State == Refused && d.Problem != nil:
		return nil, c.refused(d.Problem)
	}
	return nil, c.odd("it did not say what became of the draft")
}

// longestCheck is how long a workshop may check what was sent.
const longestCheck = 20 * time.Minute

// settled asks for a change of an item, and when the answer is lost looks whether it was done before trying again.
func (c *Client) settled(ctx context.Context, q request, id string, done func(*Item) (bool, error)) (*Item, error) {
	q.once = true
	return again(ctx, c, func() (*Item, error) { return c.item(ctx, q) }, func() (*Item, bool, error) {
		x, err := c.Item(ctx, id)
		if err != nil {
			return nil, false, err
		}
		ok, err := done(x)
		return x, ok, err
	})
}

// SetVisibility changes who finds an item.
func (c *Client) SetVisibility(ctx context.Context, id string, v Visibility, after int) (*Item, error) {
	return c.settled(ctx,
		request{method: http.MethodPut, path: of(id, "visibility"), body: map[string]Visibility{"visibility": v},
			after: after}, id,
		func(x *Item) (bool, error) { return x.Visibility == v, nil })
}

// Withdraw takes an item back, or with a number one of its versions; without a reason it brings it back.
func (c *Client) Withdraw(ctx context.Context, id string, number int, reason string, after int) (*Item, error) {
	q := request{method: http.MethodPut, path: of(id, "withdrawal"), body: map[string]string{"reason": reason},
		after: after}
	if number > 0 {
		q.path = of(id, "versions", strconv.Itoa(number), "withdrawal")
	}
	if reason == "" {
		q.method, q.body = http.MethodDelete, nil
	}
	return c.settled(ctx, q, id, func(x *Item) (bool, error) {
		gone := x.Withdrawn
		if number > 0 {
			v, err := c.Version(ctx, id, number)
			if err != nil {
				return false, err
			}
			gone = v.Withdrawn
		}
		return (gone != nil) == (reason != ""), nil
	})
}

// Follow makes whoever the token belongs to follow an item, or follow it no more.
func (c *Client) Follow(ctx context.Context, id string, follow bool) (*Item, error) {
	q := request{method: http.MethodPut, path: of(id, "follow")}
	if !follow {
		q.method = http.MethodDelete
	}
	return c.item(ctx, q)
}

// Sink takes a download and keeps what it has.
type Sink interface {
	io.Writer
	Size() int64
	Restart() error
}

// Download reads a file of a version, from where the sink is, and goes on where it is cut. Whoever
// reads checks the hash.
func (c *Client) Download(ctx context.Context, id string, number int, f File, to Sink) error {
	return c.fetch(ctx, of(id, "versions", strconv.Itoa(number), "files", url.PathEscape(f.Name)), f.SHA256, f.Size, to)
}

// Picture reads a picture of a page.
func (c *Client) Picture(ctx context.Context, id string, p Picture, to Sink) error {
	return c.fetch(ctx, of(id, "pictures", p.SHA256), p.SHA256, p.Size, to)
}

func (c *Client) fetch(ctx context.Context, path, sum string, size int64, to Sink) error {
	for try := 0; ; try++ {
		before := to.Size()
		if before == size {
			return nil
		}
		q := request{method: http.MethodGet, path: path, header: http.Header{}}
		if before > 0 {
			q.header.Set("Range", fmt.Sprintf("bytes=%d-", before))
			q.header.Set("If-Range", `"`+sum+`"`)
		}
		r, err := c.send(ctx, q)
		if err != nil {
			return err
		}
		err = c.take(r, size, to)
		r.Body.Close()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err == nil:
			return nil
		case fault.KindOf(err) != fault.Unreachable || Is(err, Failed):
			return err
		case to.Size() > before:
			try = 0
		case try >= max(c.o.Retries, 0):
			return err
		}
		if err := c.pause(ctx, try); err != nil {
			return err
		}
	}
}

// take writes the body of an answer into the sink.
func (c *Client) take(r *http.Response, size int64, to Sink) error {
	switch r.StatusCode {
	case http.StatusOK:
		if to.Size() > 0 {
			if err := to.Restart(); err != nil {
				return err
			}
		}
	case http.StatusPartialContent:
		if !strings.HasPrefix(r.Header.Get("Content-Range"), fmt.Sprintf("bytes %d-", to.Size())) {
			return c.odd("it sent another part of the file than was asked for")
		}
	default:
		data, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20)) // what can't be read says nothing
		return c.answer(r, bytes.TrimSpace(data), nil)
	}
	sink := &catching{w: to}
	_, err := io.Copy(sink, io.LimitReader(r.Body, size-to.Size()+1))
	switch {
	case sink.err != nil:
		return sink.err
	case err != nil:
		return c.unreachable(err)
	case to.Size() > size:
		return c.odd("it sends more than the file has")
	case to.Size() < size:
		return c.unreachable(io.ErrUnexpectedEOF)
	}
	return nil
}

// catching tells an error in writing from one in reading.
type catching struct {
	w   io.Writer
	err error
}

func (x *catching) Write(b []byte) (int, error) {
	n, err := x.w.Write(b)
	x.err = err
	return n, err
}
