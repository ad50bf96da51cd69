package standin

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"vornix/core/format/cdc"
	"vornix/core/format/imaging"
	"vornix/core/ship/workshop"
)

const (
	// draftDays is how long what was sent for a draft is kept.
	draftDays = 7
	// maxDrafts of an item can be open at once; the oldest gives way.
	maxDrafts = 32
)

// draft is what an item is to become.
type draft struct {
	workshop.NewDraft
	ID   string    `json:"id"`
	Made time.Time `json:"made"`

	sizes map[string]int64 // of its chunks
}

// check is a draft whose content is being checked.
type check struct {
	done    chan struct{}
	problem *workshop.Problem // once done; nil for good ones
}

func draftFile(item, id string) string { return itemFile(item, "drafts/"+id+".json") }

// lists are the chunks of each of a draft's files and pictures.
func (d *draft) lists() (all []workshop.File) {
	for _, p := range d.Page.Pictures {
		all = append(all, workshop.File{Name: p.Name, SHA256: p.SHA256, Size: p.Size, Chunks: p.Chunks})
	}
	return append(all, d.Files...)
}

// measure checks the chunks of a draft and notes their sizes.
func (d *draft) measure() (list []workshop.Wrong) {
	d.sizes = map[string]int64{}
	pictures := len(d.Page.Pictures)
	for i, f := range d.lists() {
		field := "files"
		if i < pictures {
			field = "pictures"
		}
		wrong := func(format string, args ...any) {
			list = append(list, workshop.Wrong{Field: field, Name: f.Name, Text: fmt.Sprintf(format, args...)})
		}
		if !workshop.IsHash(f.SHA256) {
			wrong("its hash is no SHA-256")
		}
		total := int64(0)
		for _, c := range f.Chunks {
			known, there := d.sizes[c.SHA256]
			if !workshop.IsHash(c.SHA256) || c.Size < 1 || c.Size > workshop.MaxChunk || there && known != c.Size {
				wrong("it has a chunk of %d bytes that can't be", c.Size)
				break
			}
			d.sizes[c.SHA256] = c.Size
			total += c.Size
		}
		if total != f.Size {
			wrong("its chunks have %d bytes, and it should have %d", total, f.Size)
		}
	}
	return list
}

// missing are the chunks that were not sent yet, in the order of the files.
func (ws *Workshop) missing(owner string, d *draft) []string {
	list := []string{}
	seen := map[string]bool{}
	for _, f := range d.lists() {
		for _, c := range f.Chunks {
			if !seen[c.SHA256] && !ws.hasChunk(owner, c.SHA256) {
				list = append(list, c.SHA256)
			}
			seen[c.SHA256] = true
		}
	}
	return list
}

func (ws *Workshop) makeDraft(w http.ResponseWriter, r *http.Request) (any, error) {
	e, x, err := ws.own(r)
	if err != nil {
		return nil, err
	}
	d := &draft{Made: time.Now().UTC().Truncate(time.Second)}
	if err := read(w, r, &d.NewDraft); err != nil {
		return nil, err
	}
	limits := ws.settings.Kinds[x.Kind]
	for i := range d.Page.Pictures { // which are looked at when they are there
		d.Page.Pictures[i].Form, d.Page.Pictures[i].Width, d.Page.Pictures[i].Height = "", 0, 0
	}
	wrong := append(limits.CheckPage(&d.Page), d.measure()...)
	wrong = append(wrong, workshop.CheckOwn(d.Own)...)
	if len(d.Files) > 0 || d.Version != "" {
		wrong = append(wrong, limits.CheckVersion(d.Version, d.Notes, d.Files)...)
	}
	for _, id := range d.Page.Needs {
		ws.mu.RLock()
		needed := ws.items[id]
		ws.mu.RUnlock()
		if needed == nil || !mayBeSeen(needed.now.Load(), who(r)) || needed.now.Load().Deleted {
			wrong = append(wrong, workshop.Wrong{Field: "needs", Text: fmt.Sprintf("there is no item %q", id)})
		}
	}
	if err := invalid(wrong); err != nil {
		return nil, err
	}
	data, err := json.Marshal(d.NewDraft)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(data)
	d.ID = hex.EncodeToString(sum[:16])
	if data, err = json.Marshal(d); err != nil {
		return nil, err
	}
	if err := ws.dir.WriteFile(draftFile(x.ID, d.ID), data); err != nil {
		return nil, err
	}
	e.mu.Lock()
	if len(e.drafts) > maxDrafts {
		clear(e.drafts) // they are read again
	}
	e.drafts[d.ID] = d
	e.mu.Unlock()
	ws.forget(x.ID + "/" + d.ID)
	ws.crowd(x.ID)
	state, err := ws.stateOf(e, d.ID)
	if err != nil {
		return nil, err
	}
	return created{state}, nil
}

// crowd removes the oldest drafts of an item that has too many.
func (ws *Workshop) crowd(item string) {
	list, err := fs.ReadDir(ws.dir.FS(), itemFile(item, "drafts"))
	if err != nil || len(list) <= maxDrafts {
		return
	}
	age := func(x fs.DirEntry) time.Time {
		info, err := x.Info()
		if err != nil {
			return time.Time{}
		}
		return info.ModTime()
	}
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return age(a).Compare(age(b)) })
	for _, x := range list[:len(list)-maxDrafts] {
		_ = ws.dir.RemoveFile(path.Join(itemFile(item, "drafts"), x.Name())) // the next one tries again
	}
}

// draft finds a draft of an item; nil when there is none any more.
func (ws *Workshop) draft(e *entry, id string) (*draft, error) {
	e.mu.Lock()
	d := e.drafts[id]
	e.mu.Unlock()
	if d != nil {
		return d, nil
	}
	if strings.Trim(id, "0123456789abcdef") != "" {
		return nil, nil
	}
	data, err := ws.dir.ReadFile(draftFile(e.id(), id))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	d = &draft{}
	if err == nil {
		err = json.Unmarshal(data, d)
	}
	if err != nil {
		return nil, err
	}
	if len(d.measure()) > 0 {
		return nil, errors.New("a draft in the workshop's folder is damaged")
	}
	e.mu.Lock()
	e.drafts[id] = d
	e.mu.Unlock()
	return d, nil
}

// stateOf says how far a draft is.
func (ws *Workshop) stateOf(e *entry, id string) (workshop.Draft, error) {
	x := e.now.Load()
	for _, v := range x.Versions {
		if v.Draft == id {
			return workshop.Draft{ID: id, State: workshop.Published, Missing: []string{}, Version: v.Number,
				Revision: x.Revision}, nil
		}
	}
	if x.PageDraft == id {
		return workshop.Draft{ID: id, State: workshop.Published, Missing: []string{}, Revision: x.Revision}, nil
	}
	d, err := ws.draft(e, id)
	if err != nil {
		return workshop.Draft{}, err
	}
	if d == nil {
		return workshop.Draft{}, noDraft()
	}
	state := workshop.Draft{ID: id, State: workshop.Open, Missing: ws.missing(x.Owner, d), Revision: x.Revision,
		Expires: d.Made.AddDate(0, 0, draftDays)}
	ws.mu.RLock()
	c := ws.checks[x.ID+"/"+id]
	ws.mu.RUnlock()
	if c != nil {
		select {
		case <-c.done:
			if c.problem != nil {
				state.State, state.Problem = workshop.Refused, c.problem
			}
		default:
			state.State = workshop.Checking
		}
	}
	return state, nil
}

func (ws *Workshop) getDraft(_ http.ResponseWriter, r *http.Request) (any, error) {
	e, _, err := ws.own(r)
	if err != nil {
		return nil, err
	}
	return ws.stateOf(e, chi.URLParam(r, "draft"))
}

func (ws *Workshop) removeDraft(_ http.ResponseWriter, r *http.Request) (any, error) {
	e, x, err := ws.own(r)
	if err != nil {
		return nil, err
	}
	id := chi.URLParam(r, "draft")
	if d, err := ws.draft(e, id); err != nil || d == nil {
		return nil, err
	}
	e.mu.Lock()
	delete(e.drafts, id)
	e.mu.Unlock()
	return nil, ws.dir.RemoveFile(draftFile(x.ID, id))
}

func (ws *Workshop) takeChunk(w http.ResponseWriter, r *http.Request) (any, error) {
	e, x, err := ws.own(r)
	if err != nil {
		return nil, err
	}
	d, err := ws.draft(e, chi.URLParam(r, "draft"))
	if err != nil {
		return nil, err
	}
	sum := chi.URLParam(r, "sha256")
	if d == nil {
		return nil, noDraft()
	}
	size, ok := d.sizes[sum]
	if !ok {
		return nil, problem(workshop.NotThere, "the draft has no such chunk")
	}
	packed := false
	switch r.Header.Get("Content-Encoding") {
	case "":
	case "zstd":
		packed = true
	default:
		return nil, problem(workshop.Malformed, "Content-Encoding can be zstd or be left out")
	}
	// what does not become smaller need not be compressed
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, size+1024))
	if err != nil {
		return nil, err
	}
	if ws.hasChunk(x.Owner, sum) {
		return nil, nil
	}
	return nil, ws.keepChunk(x.Owner, cdc.Chunk{SHA256: sum, Size: size}, body, packed)
}

// forget forgets how an earlier check of a draft ended.
func (ws *Workshop) forget(key string) {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if c := ws.checks[key]; c != nil {
		select {
		case <-c.done:
			delete(ws.checks, key)
		default:
		}
	}
}

// publish checks a draft and makes it the item's next state. Whoever asks again while it is
// checked, or after, gets the same answer.
func (ws *Workshop) publish(w http.ResponseWriter, r *http.Request) (any, error) {
	e, x, err := ws.own(r)
	if err != nil {
		return nil, err
	}
	var p workshop.Publish
	if err := read(w, r, &p); err != nil {
		return nil, err
	}
	if p.After < 1 {
		return nil, problem(workshop.Malformed, "after must have the revision that was seen")
	}
	id := chi.URLParam(r, "draft")
	state, err := ws.stateOf(e, id)
	if err != nil || state.State == workshop.Published {
		return state, err
	}
	if len(state.Missing) > 0 {
		p := problem(workshop.Unfinished, "%d chunks are missing", len(state.Missing))
		p.Missing = state.Missing
		return nil, p
	}
	d, err := ws.draft(e, id)
	if err != nil {
		return nil, err
	}
	if d == nil {
		return nil, noDraft()
	}
	key := x.ID + "/" + id
	ws.mu.Lock()
	c := ws.checks[key]
	running := false
	if c != nil {
		select {
		case <-c.done:
		default:
			running = true
		}
	}
	if !running {
		c = &check{done: make(chan struct{})}
		ws.checks[key] = c
		agent := by(r)
		ws.running.Go(func() {
			defer close(c.done)
			if err := ws.takeOver(e, d, p.After, agent); err != nil {
				if !errors.As(err, &c.problem) {
					c.problem = problem(workshop.Failed, "%v", err)
				}
			}
		})
	}
	ws.mu.Unlock()
	select {
	case <-c.done:
	case <-time.After(ws.o.Answer):
	case <-r.Context().Done():
	}
	if state, err = ws.stateOf(e, id); err != nil {
		return nil, err
	}
	switch state.State {
	case workshop.Refused:
		ws.forget(key)
		return nil, state.Problem
	case workshop.Checking:
		return accepted{state}, nil
	}
	return state, nil
}

func noDraft() error {
	return problem(workshop.NotThere, "there is no such draft; it may have expired")
}

// takeOver checks everything that a draft has against its hashes and the limits, and then changes the item in one step.
func (ws *Workshop) takeOver(e *entry, d *draft, after int, agent string) error {
	x := e.now.Load()
	limits := ws.settings.Kinds[x.Kind]
	page := d.Page
	page.Pictures = slices.Clone(page.Pictures)
	for i := range page.Pictures {
		p := &page.Pictures[i]
		data, err := io.ReadAll(ws.open(ws.ctx(), x.Owner, p.Chunks))
		if err != nil {
			return err
		}
		if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != p.SHA256 {
			return problem(workshop.WrongHash, "the picture %s has another hash", p.Name)
		}
		ready, err := imaging.Inspect(p.Name, data)
		if err != nil {
			return invalid([]workshop.Wrong{{Field: "pictures", Name: p.Name, Text: "it is no picture, or damaged"}})
		}
		p.Form, p.Width, p.Height = strings.ToLower(ready.Form), ready.Width, ready.Height
		if ready.Progressive {
			p.Form = "progressive jpeg"
		}
	}
	if err := invalid(limits.CheckPage(&page)); err != nil {
		return err
	}
	for _, f := range d.Files {
		h := sha256.New()
		n, err := io.Copy(h, ws.open(ws.ctx(), x.Owner, f.Chunks))
		if err != nil {
			return err
		}
		if hex.EncodeToString(h.Sum(nil)) != f.SHA256 || n != f.Size {
			return problem(workshop.WrongHash, "the file %s has another hash", f.Name)
		}
	}
	changed := workshop.Changed(&x.Page, &page)
	what := "page: " + strings.Join(changed, ", ")
	if len(changed) == 0 {
		what = "page"
	}
	if len(d.Files) > 0 {
		what = "version " + d.Version
		if len(changed) > 0 {
			what += "; page: " + strings.Join(changed, ", ")
		}
	}
	_, err := ws.change(e, after, agent, what, func(x *record) error {
		x.Page, x.PageDraft = page, d.ID
		if d.Own != nil {
			x.Own = d.Own
		}
		if len(d.Files) == 0 {
			return nil
		}
		v := workshop.Version{Number: len(x.Versions) + 1, Version: d.Version, Notes: d.Notes,
			Time: time.Now().UTC().Truncate(time.Second), Draft: d.ID}
		for _, old := range x.Versions {
			if old.Version == d.Version && old.Withdrawn == nil {
				return invalid([]workshop.Wrong{{Field: "version",
					Text: fmt.Sprintf("%s is there already, with other files", d.Version)}})
			}
		}
		data, err := json.Marshal(d.Files)
		if err != nil {
			return err
		}
		// which nobody sees before the record names it
		if err := ws.dir.WriteFile(versionFile(x.ID, v.Number), data); err != nil {
			return err
		}
		for _, f := range d.Files {
			f.Chunks = nil
			v.Files = append(v.Files, f)
		}
		x.Versions = append(x.Versions, v)
		return nil
	})
	if err != nil {
		return err
	}
	e.mu.Lock()
	delete(e.drafts, d.ID)
	e.mu.Unlock()
	_ = ws.dir.RemoveFile(draftFile(x.ID, d.ID)) // it is no harm there
	return nil
}

// tidy removes drafts that have expired, and chunks that nothing has.
func (ws *Workshop) tidy(now time.Time) error {
	used := map[string]bool{}
	for id, e := range ws.items {
		x := e.now.Load()
		note := func(list []cdc.Chunk) {
			for _, c := range list {
				used[chunkFile(x.Owner, c.SHA256)] = true
			}
		}
		for _, p := range x.Page.Pictures {
			note(p.Chunks)
		}
		for _, v := range x.Versions {
			whole, err := ws.whole(x, v.Number)
			if err != nil {
				return err
			}
			for _, f := range whole.Files {
				note(f.Chunks)
			}
		}
		list, err := fs.ReadDir(ws.dir.FS(), itemFile(id, "drafts"))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, file := range list {
			d := &draft{}
			data, err := ws.dir.ReadFile(path.Join(itemFile(id, "drafts"), file.Name()))
			if err != nil {
				return err
			}
			if json.Unmarshal(data, d) != nil || now.After(d.Made.AddDate(0, 0, draftDays)) {
				if err := ws.dir.RemoveFile(path.Join(itemFile(id, "drafts"), file.Name())); err != nil {
					return err
				}
				continue
			}
			for _, f := range d.lists() {
				note(f.Chunks)
			}
		}
	}
	return fs.WalkDir(ws.dir.FS(), ownersDir, func(name string, x fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || x.IsDir() || used[strings.TrimSuffix(name, zstdEnding)] {
			return err
		}
		if info, err := x.Info(); err == nil && now.Sub(info.ModTime()) > 24*time.Hour {
			return ws.dir.RemoveFile(name)
		}
		return nil
	})
}

// sniff is what a picture's form is called over HTTP.
func sniff(p workshop.Picture) string {
	if bytes.HasSuffix([]byte(p.Form), []byte("jpeg")) {
		return "image/jpeg"
	}
	return "image/png"
}
