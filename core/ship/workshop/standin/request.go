package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/klauspost/compress/zstd"

	"vornix/core/ship/workshop"
)

var titles = map[string]struct {
	status int
	title  string
}{
	workshop.NotLetIn:    {http.StatusUnauthorized, "the token is missing or not known"},
	workshop.NotYours:    {http.StatusForbidden, "the item is somebody else's"},
	workshop.NotThere:    {http.StatusNotFound, "there is no such thing"},
	workshop.Gone:        {http.StatusGone, "it is gone"},
	workshop.Conflict:    {http.StatusConflict, "somebody else changed it meanwhile"},
	workshop.Unfinished:  {http.StatusConflict, "not everything was sent"},
	workshop.Invalid:     {http.StatusUnprocessableEntity, "it is not taken"},
	workshop.WrongHash:   {http.StatusUnprocessableEntity, "the content is another one"},
	workshop.TooLarge:    {http.StatusRequestEntityTooLarge, "it is too large"},
	workshop.TooSlow:     {http.StatusRequestTimeout, "it took too long to come"},
	workshop.Malformed:   {http.StatusBadRequest, "the request can't be understood"},
	workshop.NotPossible: {http.StatusConflict, "it is not possible now"},
	workshop.Busy:        {http.StatusTooManyRequests, "there is too much to do"},
	workshop.Failed:      {http.StatusInternalServerError, "the workshop has a fault"},
}

func problem(kind, detail string, args ...any) *workshop.Problem {
	t := titles[kind]
	return &workshop.Problem{Type: kind, Title: t.title, Status: t.status, Detail: fmt.Sprintf(detail, args...)}
}

// invalid is the problem of what doesn't keep the limits; nil when there is nothing wrong.
func invalid(list []workshop.Wrong) error {
	if len(list) == 0 {
		return nil
	}
	p := problem(workshop.Invalid, "%s", list[0].String())
	if len(list) > 1 {
		p.Detail += fmt.Sprintf(", and %d more", len(list)-1)
	}
	p.Fields = list
	return p
}

// handle is a route's work: what it returns is the answer.
type handle func(w http.ResponseWriter, r *http.Request) (any, error)

// serve makes a handler of a route's work.
func (ws *Workshop) serve(work handle) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		c := http.NewResponseController(w)
		_ = c.SetReadDeadline(time.Now().Add(ws.o.Patience)) // a connection that can't do that has no body either
		answer, err := work(w, r)
		// What of a body was not read, the server reads and throws away; also that must end.
		if err != nil {
			refuse(w, err)
			return
		}
		switch x := answer.(type) {
		case nil:
			w.WriteHeader(http.StatusNoContent)
		case sent: // by the route itself
		case created:
			say(w, http.StatusCreated, x.value)
		case accepted:
			say(w, http.StatusAccepted, x.value)
		default:
			say(w, http.StatusOK, x)
		}
	}
}

type (
	sent     struct{}
	created  struct{ value any }
	accepted struct{ value any }
)

func say(w http.ResponseWriter, status int, value any) {
	data, err := json.Marshal(value)
	if err != nil {
		refuse(w, err)
		return
	}
	if x, ok := value.(workshop.Item); ok {
		w.Header().Set("ETag", fmt.Sprintf(`"%d"`, x.Revision))
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_, _ = w.Write(append(data, '\n')) // whoever asked may be gone
}

func refuse(w http.ResponseWriter, err error) {
	p := &workshop.Problem{}
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &p):
	case errors.As(err, &large):
		p = problem(workshop.TooLarge, "at most %d bytes are taken", large.Limit)
	case errors.Is(err, os.ErrDeadlineExceeded):
		p = problem(workshop.TooSlow, "the request did not come to its end")
	case errors.Is(err, io.ErrUnexpectedEOF):
		p = problem(workshop.Malformed, "the request was cut off")
	default:
		p = problem(workshop.Failed, "%v", err)
	}
	if p.Status == http.StatusUnauthorized {
		w.Header().Add("WWW-Authenticate", `Basic realm="workshop", charset="UTF-8"`) // first, for browsers
		w.Header().Add("WWW-Authenticate", `Bearer realm="workshop"`)
	}
	if p.Type == workshop.TooSlow || p.Type == workshop.TooLarge {
		w.Header().Set("Connection", "close")
	}
	data, _ := json.Marshal(p) // it has only strings and numbers
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(p.Status)
	_, _ = w.Write(append(data, '\n'))
}

// read reads a message. Members that are not known are a mistake, of which whoever sent it should hear.
func read(w http.ResponseWriter, r *http.Request, to any) error {
	body := io.Reader(http.MaxBytesReader(w, r.Body, workshop.MaxMessage))
	switch r.Header.Get("Content-Encoding") {
	case "":
	case "zstd":
		z, err := zstd.NewReader(body, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(8<<20))
		if err != nil {
			return err
		}
		defer z.Close()
		body = &bounded{z, workshop.MaxMessage}
	default:
		return problem(workshop.Malformed, "Content-Encoding can be zstd or be left out")
	}
	d := json.NewDecoder(body)
	d.DisallowUnknownFields()
	err := d.Decode(to)
	if err == nil && d.More() {
		err = errors.New("something stands after it")
	}
	var large *http.MaxBytesError
	var p *workshop.Problem
	if err == nil || errors.As(err, &large) || errors.As(err, &p) || errors.Is(err, os.ErrDeadlineExceeded) {
		return err
	}
	return problem(workshop.Malformed, "%v", err)
}

// bounded refuses to become longer than it may be.
type bounded struct {
	r    io.Reader
	left int64
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, problem(workshop.TooLarge, "at most %d bytes are taken", workshop.MaxMessage)
	}
	return n, err
}

type accountKey struct{}

// who is the account that a request comes from; empty for nobody.
func who(r *http.Request) string {
	name, _ := r.Context().Value(accountKey{}).(string)
	return name
}

// by is the account and the program that a request comes from.
func by(r *http.Request) string {
	agent, _, _ := strings.Cut(r.UserAgent(), " ")
	agent = strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return -1
		}
		return r
	}, agent)
	return strings.TrimSuffix(who(r)+" with "+agent[:min(len(agent), 60)], " with ")
}

// known finds out whose token a request has. A wrong one is refused everywhere, so that nobody takes it for a good one.
func (ws *Workshop) known(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := r.Header.Get("Authorization")
		if h == "" {
			next.ServeHTTP(w, r)
			return
		}
		token, ok := strings.CutPrefix(h, "Bearer ")
		user := ""
		if !ok {
			user, token, _ = r.BasicAuth() // for browsers
			if r.Method != http.MethodGet && r.Method != http.MethodHead {
				// A browser sends it wherever some other site leads it to.
				refuse(w, problem(workshop.NotLetIn,
					"a browser's sign-in is for reading; changes need the token as a bearer token"))
				return
			}
		}
		ws.mu.RLock()
		name := ws.accounts[hashOf(token)] // by its hash: how long that takes tells nothing of the token
		ws.mu.RUnlock()
		if name == "" || user != "" && user != name {
			refuse(w, problem(workshop.NotLetIn, "this workshop does not know the token"))
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), accountKey{}, name)))
	})
}

// item finds the item of a request, if whoever asks may see it.
func (ws *Workshop) item(r *http.Request) (*entry, *record, error) {
	ws.mu.RLock()
	e := ws.items[chi.URLParam(r, "item")]
	ws.mu.RUnlock()
	missing := problem(workshop.NotThere, "there is no item %q, or it is hidden", chi.URLParam(r, "item"))
	if e == nil {
		return nil, nil, missing
	}
	x := e.now.Load()
	if !mayBeSeen(x, who(r)) {
		return nil, nil, missing
	}
	if x.Deleted {
		return nil, nil, problem(workshop.Gone, "the item was deleted")
	}
	return e, x, nil
}

// own finds the item of a request that wants to change it.
func (ws *Workshop) own(r *http.Request) (*entry, *record, error) {
	if who(r) == "" {
		return nil, nil, problem(workshop.NotLetIn, "changing an item needs its owner's token")
	}
	e, x, err := ws.item(r)
	if err == nil && x.Owner != who(r) {
		err = problem(workshop.NotYours, "it belongs to %s", x.Owner)
	}
	return e, x, err
}

func mayBeSeen(x *record, account string) bool {
	if x.Visibility != workshop.Hidden || account != "" && x.Owner == account {
		return true
	}
	for _, t := range x.Page.Testers {
		if account != "" && t == account {
			return true
		}
	}
	return false
}

// after is the revision that a request has seen, from its If-Match.
func after(r *http.Request) (int, error) {
	h := r.Header.Get("If-Match")
	n, err := strconv.Atoi(strings.Trim(h, `"`))
	if err != nil || n < 1 {
		return 0, problem(workshop.Malformed, "If-Match must have the revision that was seen, as in \"7\"")
	}
	return n, nil
}
