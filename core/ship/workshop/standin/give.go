package standin

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"vornix/core/ship/workshop"
)

// ctx is that of what goes on without anybody waiting for it.
func (ws *Workshop) ctx() context.Context { return context.Background() }

// patient gives whoever reads an answer time for each piece of it, and no more.
type patient struct {
	http.ResponseWriter
	c        *http.ResponseController
	patience time.Duration
}

func (p *patient) Write(b []byte) (int, error) {
	_ = p.c.SetWriteDeadline(time.Now().Add(p.patience)) // a connection that can't do that is none of the net's
	return p.ResponseWriter.Write(b)
}

func (ws *Workshop) give(w http.ResponseWriter, r *http.Request, p *pieces, sum string) {
	w.Header().Set("ETag", `"`+sum+`"`)
	http.ServeContent(&patient{w, http.NewResponseController(w), ws.o.Patience}, r, "", time.Time{}, p)
}

// file hands out a file of a version, also from the middle on (RFC 9110, section 14).
func (ws *Workshop) file(w http.ResponseWriter, r *http.Request) (any, error) {
	e, x, err := ws.item(r)
	if err != nil {
		return nil, err
	}
	n, _ := strconv.Atoi(chi.URLParam(r, "number"))
	v, err := ws.whole(x, n)
	if err != nil {
		return nil, err
	}
	if x.Withdrawn != nil {
		return nil, problem(workshop.Gone, "the item was withdrawn: %s", x.Withdrawn.Reason)
	}
	if v.Withdrawn != nil {
		return nil, problem(workshop.Gone, "version %s was withdrawn: %s", v.Version, v.Withdrawn.Reason)
	}
	i := slices.IndexFunc(v.Files, func(f workshop.File) bool { return f.Name == chi.URLParam(r, "file") })
	if i < 0 {
		return nil, problem(workshop.NotThere, "version %s has no such file", v.Version)
	}
	if h := r.Header.Get("Range"); r.Method == http.MethodGet && i == 0 &&
		(h == "" || strings.HasPrefix(h, "bytes=0-")) {
		e.mu.Lock()
		e.counts.Downloads++
		e.dirty = true
		e.mu.Unlock()
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Disposition", `attachment; filename="`+v.Files[i].Name+`"`)
	ws.give(w, r, ws.open(r.Context(), x.Owner, v.Files[i].Chunks), v.Files[i].SHA256)
	return sent{}, nil
}

// page finds the item of a request from a browser, which sends a name and a token only when it is asked for them.
func (ws *Workshop) page(r *http.Request) (*entry, *record, error) {
	e, x, err := ws.item(r)
	if err != nil && who(r) == "" {
		err = problem(workshop.NotLetIn, "there is no such item, or it is hidden")
	}
	return e, x, err
}

func (ws *Workshop) picture(w http.ResponseWriter, r *http.Request) (any, error) {
	_, x, err := ws.page(r)
	if err != nil {
		return nil, err
	}
	for _, p := range x.Page.Pictures {
		if p.SHA256 == chi.URLParam(r, "sha256") {
			w.Header().Set("Content-Type", sniff(p))
			ws.give(w, r, ws.open(r.Context(), x.Owner, p.Chunks), p.SHA256)
			return sent{}, nil
		}
	}
	return nil, problem(workshop.NotThere, "the page has no such picture")
}

func pictureAt(item string, p workshop.Picture) string {
	return "/v1/items/" + item + "/pictures/" + p.SHA256
}

// itemPage is what players see of an item.
func (ws *Workshop) itemPage(w http.ResponseWriter, r *http.Request) (any, error) {
	e, x, err := ws.page(r)
	if err != nil {
		return nil, err
	}
	item := e.shown(who(r))
	v := workshop.View{Workshop: ws.settings.Name, Home: "/", Item: &item,
		Picture: func(p workshop.Picture) string { return pictureAt(x.ID, p) }}
	v.Versions = slices.Clone(x.Versions)
	slices.Reverse(v.Versions)
	if x.Withdrawn == nil {
		v.Current = x.version(x.Current)
	}
	v.File = func(of *workshop.Version, f workshop.File) string {
		return "/v1/items/" + x.ID + "/versions/" + strconv.Itoa(of.Number) + "/files/" + f.Name
	}
	for _, id := range x.Page.Needs {
		n := workshop.Needed{Title: id}
		ws.mu.RLock()
		needed := ws.items[id]
		ws.mu.RUnlock()
		if needed != nil && mayBeSeen(needed.now.Load(), who(r)) {
			n = workshop.Needed{Title: needed.now.Load().Page.Title, Address: "/items/" + id}
		}
		v.Needs = append(v.Needs, n)
	}
	return ws.html(w, func(to io.Writer) error { return workshop.WritePage(to, v) })
}

// html answers with a page, or with an error when there is one, not with half of it.
func (ws *Workshop) html(w http.ResponseWriter, write func(io.Writer) error) (any, error) {
	var b bytes.Buffer
	if err := write(&b); err != nil {
		return nil, err
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-cache")
	_, _ = (&patient{w, http.NewResponseController(w), ws.o.Patience}).Write(b.Bytes()) // whoever asked may be gone
	return sent{}, nil
}

// listPage lists what is public, and at /mine what belongs to whoever asks.
func (ws *Workshop) listPage(w http.ResponseWriter, r *http.Request) (any, error) {
	mine := r.URL.Path == "/mine"
	if mine && who(r) == "" {
		return nil, problem(workshop.NotLetIn, "whose items they are tells the token")
	}
	var cards []workshop.Card
	for _, e := range ws.all() {
		x := e.now.Load()
		if x.Deleted || mine && x.Owner != who(r) || !mine && (x.Visibility != workshop.Public || x.Withdrawn != nil) {
			continue
		}
		c := workshop.Card{Title: x.Page.Title, Version: x.Version, Owner: x.Owner, Address: "/items/" + x.ID,
			Visibility: x.Visibility}
		if len(x.Page.Pictures) > 0 {
			c.Picture = pictureAt(x.ID, x.Page.Pictures[0])
		}
		cards = append(cards, c)
	}
	return ws.html(w, func(to io.Writer) error { return workshop.WriteList(to, ws.settings.Name, mine, cards) })
}
