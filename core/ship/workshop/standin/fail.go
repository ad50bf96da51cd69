package standin

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/ship/workshop"
)

// Failure is a way in which a workshop can go wrong.
type Failure struct {
	Mode string `json:"mode"` // one of Failures; empty for none
	// only requests whose method and path have this in them, as in "POST /v1/items"
	At    string `json:"at,omitempty"`
	After int    `json:"after,omitempty"` // this many such requests go well first
	Times int    `json:"times,omitempty"` // then this many go wrong; 0 for all
}

// Failures are the ways in which a stand-in can go wrong, and what each does.
var Failures = map[string]string{
	"busy":  "answers 429, and asks to try again in a second",
	"error": "answers 500",
	"full":  "answers 507, as if its disk were full",
	"drop":  "ends the connection before anything is done",
	"lost":  "does what it is asked, and ends the connection without an answer",
	"half":  "ends the connection in the middle of an answer",
	"page":  "answers with a web page, as some other server would",
	"slow":  "answers after three seconds",
	"hang":  "never answers",
}

func (f Failure) check() error {
	if _, ok := Failures[f.Mode]; ok || f.Mode == "" {
		return nil
	}
	return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("a stand-in does not know how to go wrong by %q", f.Mode),
		Do: "It knows " + strings.Join(slices.Sorted(maps.Keys(Failures)), ", ") + "."}
}

// Fail makes the workshop go wrong from now on; a Failure without a mode ends all that.
func (ws *Workshop) Fail(f Failure) error {
	if err := f.check(); err != nil {
		return err
	}
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if f.Mode == "" {
		ws.fails = nil
	} else {
		ws.fails = append(ws.fails, f)
	}
	return nil
}

func (ws *Workshop) setFailure(w http.ResponseWriter, r *http.Request) (any, error) {
	if who(r) == "" {
		return nil, problem(workshop.NotLetIn, "going wrong needs a token")
	}
	var f Failure
	if err := read(w, r, &f); err != nil {
		return nil, err
	}
	if err := ws.Fail(f); err != nil {
		return nil, problem(workshop.Malformed, "%v", err)
	}
	return nil, nil
}

// failing finds out whether a request is one that goes wrong, and counts it.
func (ws *Workshop) failing(r *http.Request) string {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	what := r.Method + " " + r.URL.Path
	for i := range ws.fails {
		f := &ws.fails[i]
		if !strings.Contains(what, f.At) {
			continue
		}
		if f.After > 0 {
			f.After--
			continue
		}
		mode := f.Mode
		if f.Times--; f.Times == 0 {
			ws.fails = slices.Delete(ws.fails, i, i+1)
		}
		return mode
	}
	return ""
}

func (ws *Workshop) goWrong(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/fail" {
			next.ServeHTTP(w, r)
			return
		}
		switch ws.failing(r) {
		case "busy":
			w.Header().Set("Retry-After", "1")
			refuse(w, problem(workshop.Busy, "try again in a second"))
		case "error":
			refuse(w, problem(workshop.Failed, "it was told to"))
		case "full":
			p := problem(workshop.Failed, "its disk is full")
			p.Status = http.StatusInsufficientStorage
			refuse(w, p)
		case "drop":
			panic(http.ErrAbortHandler)
		case "lost":
			next.ServeHTTP(&silent{header: http.Header{}}, r)
			panic(http.ErrAbortHandler)
		case "half":
			next.ServeHTTP(&halved{ResponseWriter: w}, r)
		case "page":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte("<!doctype html><title>Sign in</title><p>Please sign in to the network.\n"))
		case "slow":
			select {
			case <-time.After(3 * time.Second):
				next.ServeHTTP(w, r)
			case <-r.Context().Done():
			}
		case "hang":
			<-r.Context().Done()
			panic(http.ErrAbortHandler)
		default:
			next.ServeHTTP(w, r)
		}
	})
}

// silent takes an answer that nobody gets.
type silent struct{ header http.Header }

func (s *silent) Header() http.Header         { return s.header }
func (s *silent) Write(b []byte) (int, error) { return len(b), nil }
func (s *silent) WriteHeader(int)             {}

// halved passes half of the first piece of an answer on, and ends the connection.
type halved struct{ http.ResponseWriter }

func (h *halved) Write(b []byte) (int, error) {
	_, _ = h.ResponseWriter.Write(b[:len(b)/2])
	if f, ok := h.ResponseWriter.(http.Flusher); ok {
		f.Flush()
	}
	panic(http.ErrAbortHandler)
}
