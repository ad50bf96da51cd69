package standin

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-chi/chi/v5"

	"vornix/core/base/humanize"
	"vornix/core/ship/workshop"
)

// handler has the routes of docs/workshop/openapi.yaml, and the pages for people.
func (ws *Workshop) handler() http.Handler {
	r := chi.NewRouter()
	r.Use(headers, ws.goWrong, ws.known)
	r.Get("/", ws.serve(ws.listPage))
	r.Get("/mine", ws.serve(ws.listPage))
	r.Get("/items/{item}", ws.serve(ws.itemPage))
	r.Post("/fail", ws.serve(ws.setFailure))
	r.Get("/v1", ws.serve(ws.about))
	r.Route("/v1/items", func(r chi.Router) {
		r.Get("/", ws.serve(ws.list))
		r.Post("/", ws.serve(ws.make))
		r.Route("/{item}", func(r chi.Router) {
			r.Get("/", ws.serve(ws.get))
			r.Delete("/", ws.serve(ws.remove))
			r.Get("/events", ws.serve(ws.events))
			r.Put("/visibility", ws.serve(ws.setVisibility))
			r.Put("/withdrawal", ws.serve(ws.withdraw))
			r.Delete("/withdrawal", ws.serve(ws.withdraw))
			r.Put("/follow", ws.serve(ws.follow))
			r.Delete("/follow", ws.serve(ws.follow))
			r.Get("/pictures/{sha256}", ws.serve(ws.picture))
			r.Get("/versions", ws.serve(ws.versions))
			r.Get("/versions/{number}", ws.serve(ws.version))
			r.Put("/versions/{number}/withdrawal", ws.serve(ws.withdraw))
			r.Delete("/versions/{number}/withdrawal", ws.serve(ws.withdraw))
			r.Get("/versions/{number}/files/{file}", ws.serve(ws.file))
			r.Post("/drafts", ws.serve(ws.makeDraft))
			r.Get("/drafts/{draft}", ws.serve(ws.getDraft))
			r.Delete("/drafts/{draft}", ws.serve(ws.removeDraft))
			r.Put("/drafts/{draft}/chunks/{sha256}", ws.serve(ws.takeChunk))
			r.Post("/drafts/{draft}/publish", ws.serve(ws.publish))
		})
	})
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		refuse(w, problem(workshop.NotThere, "nothing is at this address"))
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		p := problem(workshop.Malformed, "%s is not possible at this address", r.Method)
		p.Status = http.StatusMethodNotAllowed
		refuse(w, p)
	})
	return r
}

// headers keep browsers from taking what somebody uploaded for a program.
func headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Content-Security-Policy",
			"default-src 'none'; img-src 'self'; style-src 'unsafe-inline'; form-action 'none'; frame-ancestors 'none'; base-uri 'none'")
		next.ServeHTTP(w, r)
	})
}

func (ws *Workshop) about(_ http.ResponseWriter, r *http.Request) (any, error) {
	return workshop.About{Protocol: workshop.Protocol, ID: ws.settings.ID, Name: ws.settings.Name, Account: who(r),
		Kinds: ws.settings.Kinds}, nil
}

// shown is an item as an account sees it.
func (e *entry) shown(account string) workshop.Item {
	x := e.now.Load().Item
	if x.Owner != account {
		x.Key, x.Page.Testers, x.Own = "", []string{}, nil
		x.Page.Pictures = slices.Clone(x.Page.Pictures)
		for i := range x.Page.Pictures {
			x.Page.Pictures[i].Chunks = nil
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	x.Downloads, x.Followers = e.counts.Downloads, len(e.counts.Followers)
	_, x.Following = e.counts.Followers[account]
	return x
}

// list has the public items; with owner=me one's own, with following=me those that one follows.
func (ws *Workshop) list(_ http.ResponseWriter, r *http.Request) (any, error) {
	q, account := r.URL.Query(), who(r)
	mine, following := q.Get("owner") == "me", q.Get("following") == "me"
	if (mine || following) && account == "" {
		return nil, problem(workshop.NotLetIn, "who is \"me\" tells the token")
	}
	items := []workshop.Item{}
	for _, e := range ws.all() {
		x := e.now.Load()
		if x.Deleted || !mayBeSeen(x, account) || mine && x.Owner != account || !mine && !following &&
			x.Visibility != workshop.Public {
			continue
		}
		if key := q.Get("key"); mine && key != "" && x.Key != key {
			continue
		}
		if item := e.shown(account); !following || item.Following {
			items = append(items, item)
		}
	}
	return map[string]any{"items": items}, nil
}

// all lists the items, the one that was changed last first.
func (ws *Workshop) all() []*entry {
	ws.mu.RLock()
	list := make([]*entry, 0, len(ws.items))
	for _, e := range ws.items {
		list = append(list, e)
	}
	ws.mu.RUnlock()
	slices.SortFunc(list, func(a, b *entry) int {
		x, y := a.now.Load(), b.now.Load()
		if n := y.Changed.Compare(x.Changed); n != 0 {
			return n
		}
		return strings.Compare(x.ID, y.ID)
	})
	return list
}

func (ws *Workshop) make(w http.ResponseWriter, r *http.Request) (any, error) {
	account := who(r)
	if account == "" {
		return nil, problem(workshop.NotLetIn, "making an item needs a token")
	}
	var n workshop.NewItem
	if err := read(w, r, &n); err != nil {
		return nil, err
	}
	limits, ok := ws.settings.Kinds[n.Kind]
	if !ok {
		return nil, invalid([]workshop.Wrong{{Field: "kind", Text: fmt.Sprintf("%q is no kind of items here", n.Kind)}})
	}
	if !workshop.IsKey(n.Key) {
		return nil, invalid([]workshop.Wrong{{Field: "key", Text: "it must be of small letters, digits and / . - _"}})
	}
	page := workshop.Page{Title: n.Title, Tags: []string{}, Modes: []string{}, Needs: []string{}, Testers: []string{},
		Pictures: []workshop.Picture{}}
	if err := invalid(limits.CheckPage(&page)); err != nil {
		return nil, err
	}
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if id, ok := ws.keys[account+" "+n.Key]; ok {
		e := ws.items[id]
		if e.now.Load().Deleted {
			return nil, problem(workshop.Gone, "an item with this key was deleted")
		}
		return e.shown(account), nil
	}
	now := time.Now().UTC().Truncate(time.Second)
	x := &record{Item: workshop.Item{ID: random(10), Key: n.Key, Kind: n.Kind, Owner: account,
		Visibility: workshop.Hidden, Revision: 1, Page: page, Made: now, Changed: now, By: by(r)},
		Versions: []workshop.Version{}}
	x.Events = []workshop.Event{{Time: now, By: x.By, What: "made, hidden", Revision: 1}}
	data, err := json.MarshalIndent(x, "", " ")
	if err != nil {
		return nil, err
	}
	if err := ws.dir.WriteFile(itemFile(x.ID, "item.json"), data); err != nil {
		return nil, err
	}
	e := &entry{drafts: map[string]*draft{}}
	e.now.Store(x)
	ws.items[x.ID] = e
	ws.keys[account+" "+n.Key] = x.ID
	return created{e.shown(account)}, nil
}

func (ws *Workshop) get(_ http.ResponseWriter, r *http.Request) (any, error) {
	e, _, err := ws.item(r)
	if err != nil {
		return nil, err
	}
	return e.shown(who(r)), nil
}

// remove deletes an item for good. Its key is not free again: who finds it deleted should hear so.
func (ws *Workshop) remove(_ http.ResponseWriter, r *http.Request) (any, error) {
	e, _, err := ws.own(r)
	if err != nil {
		return nil, err
	}
	seen, err := after(r)
	if err != nil {
		return nil, err
	}
	_, err = ws.change(e, seen, by(r), "deleted", func(x *record) error {
		x.Deleted = true
		return nil
	})
	return nil, err
}

func (ws *Workshop) events(_ http.ResponseWriter, r *http.Request) (any, error) {
	_, x, err := ws.own(r)
	if err != nil {
		return nil, err
	}
	return map[string]any{"events": x.Events}, nil
}

func (ws *Workshop) setVisibility(w http.ResponseWriter, r *http.Request) (any, error) {
	e, _, err := ws.own(r)
	if err != nil {
		return nil, err
	}
	var to struct {
		Visibility workshop.Visibility `json:"visibility"`
	}
	if err := read(w, r, &to); err != nil {
		return nil, err
	}
	seen, err := after(r)
	if err != nil {
		return nil, err
	}
	if to.Visibility != workshop.Hidden && to.Visibility != workshop.Link && to.Visibility != workshop.Public {
		return nil, invalid([]workshop.Wrong{{Field: "visibility", Text: "it is hidden, link or public"}})
	}
	_, err = ws.change(e, seen, by(r), "visibility: "+string(to.Visibility), func(x *record) error {
		if to.Visibility != workshop.Hidden {
			limits := ws.settings.Kinds[x.Kind]
			if err := invalid(limits.Missing(&x.Page, x.version(x.Current))); err != nil {
				return err
			}
		}
		x.Visibility = to.Visibility
		return nil
	})
	if err != nil {
		return nil, err
	}
	return e.shown(who(r)), nil
}

// withdraw takes an item, or a version of it, back, and brings it back again.
func (ws *Workshop) withdraw(w http.ResponseWriter, r *http.Request) (any, error) {
	e, _, err := ws.own(r)
	if err != nil {
		return nil, err
	}
	seen, err := after(r)
	if err != nil {
		return nil, err
	}
	var gone *workshop.Withdrawal
	what := "brought back"
	if r.Method == http.MethodPut {
		var to struct {
			Reason string `json:"reason"`
		}
		if err := read(w, r, &to); err != nil {
			return nil, err
		}
		if n := utf8.RuneCountInString(to.Reason); strings.TrimSpace(to.Reason) == "" || n > 500 ||
			humanize.Misleads(to.Reason, true) {
			return nil, invalid([]workshop.Wrong{{Field: "reason", Text: "it must say why, in 500 characters at most"}})
		}
		gone = &workshop.Withdrawal{Reason: to.Reason, Time: time.Now().UTC().Truncate(time.Second)}
		what = "withdrawn: " + to.Reason
	}
	number := chi.URLParam(r, "number")
	if number != "" {
		if n, err := strconv.Atoi(number); err == nil {
			if v := e.now.Load().version(n); v != nil {
				what = "version " + v.Version + " " + what // people know it by this, not by the workshop's own number
			}
		}
	}
	_, err = ws.change(e, seen, by(r), what, func(x *record) error {
		if number == "" {
			x.Withdrawn = gone
			return nil
		}
		n, _ := strconv.Atoi(number)
		v := x.version(n)
		if v == nil {
			return problem(workshop.NotThere, "there is no version with the number %s", number)
		}
		v.Withdrawn = gone
		return nil
	})
	if err != nil {
		return nil, err
	}
	return e.shown(who(r)), nil
}

func (ws *Workshop) follow(_ http.ResponseWriter, r *http.Request) (any, error) {
	account := who(r)
	if account == "" {
		return nil, problem(workshop.NotLetIn, "following an item needs a token")
	}
	e, _, err := ws.item(r)
	if err != nil {
		return nil, err
	}
	e.mu.Lock()
	if e.counts.Followers == nil {
		e.counts.Followers = map[string]time.Time{}
	}
	if r.Method == http.MethodPut {
		e.counts.Followers[account] = time.Now().UTC().Truncate(time.Second)
	} else {
		delete(e.counts.Followers, account)
	}
	e.dirty = true
	e.mu.Unlock()
	return e.shown(account), nil
}

func (ws *Workshop) versions(_ http.ResponseWriter, r *http.Request) (any, error) {
	_, x, err := ws.item(r)
	if err != nil {
		return nil, err
	}
	list := slices.Clone(x.Versions)
	if x.Owner != who(r) {
		for i := range list {
			list[i].Draft = ""
		}
	}
	return map[string]any{"versions": list}, nil
}

func (ws *Workshop) version(_ http.ResponseWriter, r *http.Request) (any, error) {
	_, x, err := ws.item(r)
	if err != nil {
		return nil, err
	}
	n, _ := strconv.Atoi(chi.URLParam(r, "number"))
	v, err := ws.whole(x, n)
	if err == nil && x.Owner != who(r) {
		v.Draft = ""
	}
	return v, err
}
