package publish

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync/atomic"

	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/humanize"
	"vornix/core/format/cdc"
	"vornix/core/ship/workshop"
)

// Options for Run.
type Options struct {
	// Advanced is told how far it is, in bytes: stage is "reading", or "sending" with how much of
	// how much that is. It may be nil, and is called from several goroutines.
	Advanced func(stage string, done, total int64)
}

// Result is what publishing did.
type Result struct {
	*Plan
	Made     bool  `json:"made"`     // the item was
	Revision int   `json:"revision"` // of the item now
	Changed  int   `json:"changed"`  // parts
	Sent     int64 `json:"sent"`     // bytes over the line, of everything
	Content  int64 `json:"content"`  // bytes of chunks that the workshop lacked, before they were compressed
	Again    bool  `json:"again"`    // somebody else changed something else meanwhile, and it was looked at again
	Hidden   bool  `json:"hidden"`   // the item is, still
}

// cut is a file in chunks.
type cut struct {
	file   string // slash path in the project
	chunks []cdc.Chunk
}

func sortedKeys(m map[string]string) []string { return slices.Sorted(maps.Keys(m)) }

// cut cuts a goal's files.
func (d *Desk) cut(ctx context.Context, goal *Goal, o *Options) (list []cut, err error) {
	total, before := int64(0), int64(0)
	for _, f := range goal.Files {
		total += f.Size
	}
	for _, x := range goal.Files {
		c := cut{file: goal.sources[x.SHA256]}
		f, err := os.Open(d.P.Join(c.file))
		if err != nil {
			return nil, &fault.Fault{What: "the bundle can't be read", Place: fault.Place{File: c.file}, Err: err,
				Do: "Run 'vornix pack' again."}
		}
		advanced := func(done int64) {
			if o != nil && o.Advanced != nil {
				o.Advanced("reading", before+done, total)
			}
		}
		c.chunks, err = cdc.Cut(ctx, f, x.Size, cdc.Bounds(f, x.Size), advanced)
		f.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			return nil, &fault.Fault{What: "the bundle can't be read to its end", Place: fault.Place{File: c.file},
				Err: err, Do: "Run 'vornix pack' again."}
		}
		before += x.Size
		list = append(list, c)
	}
	return list, nil
}

// maxTries is how often a page that somebody else changes meanwhile is looked at again.
const maxTries = 4

// Run does what a plan says. What was sent before, in an earlier run or from another machine, is
// not sent again; the item changes in one step, when everything is there. A plan whose parts
// somebody else has changed meanwhile is made anew, and goes on when nothing contradicts.
func (d *Desk) Run(ctx context.Context, p *Plan, o Options) (*Result, error) {
	r := &Result{Plan: p}
	to, _ := d.Client.Sent()
	for try := 1; ; try++ {
		err := d.once(ctx, r, o)
		now, _ := d.Client.Sent()
		r.Sent = now - to
		if err == nil {
			return r, nil
		}
		if !workshop.Is(err, workshop.Conflict) || try == maxTries {
			return r, err
		}
		again, planErr := d.Plan(ctx, p.Goal, p.options)
		if planErr != nil {
			return r, planErr
		}
		if again.cuts == nil {
			again.cuts = r.Plan.cuts
		}
		r.Plan, r.Again = again, true
	}
}

// Allowed says whether a plan may be done: not when somebody else changed what the project changed too.
func (d *Desk) Allowed(p *Plan) error {
	list := slices.Compact(p.Conflicts())
	if len(list) == 0 {
		return nil
	}
	return &fault.Fault{Kind: fault.Refused,
		What: fmt.Sprintf("somebody else changed the %s of %s, and so did the project", strings.Join(list, " and "),
			p.Item), Place: fault.Place{File: p.Address},
		Why: "What is written there is not overwritten; nothing was changed.",
		Do:  fmt.Sprintf("Look at 'vornix publish show %s', take over what is right, and run it again; --overwrite takes what the project says.", d.Name)}
}

func (d *Desk) once(ctx context.Context, r *Result, o Options) error {
	p := r.Plan
	if err := d.Allowed(p); err != nil {
		return err
	}
	if p.New {
		x, err := d.Client.Make(ctx, workshop.NewItem{Key: p.record.Key, Kind: p.Goal.Kind, Title: p.Goal.Page.Title})
		if workshop.Is(err, workshop.Gone) {
			return &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("an item with the key %s was deleted at %s, and the project has no record of it",
					p.record.Key, d.About.Name), Place: fault.Place{File: RecordFile},
				Why: "Its followers would not get a new one.",
				Do: "Bring " + RecordFile +
					" back from version control, and add --new-item; or give the project another name."}
		}
		if err != nil {
			return err
		}
		r.Made = true
		p.New, p.There, p.ID, p.Address = false, x, x.ID, d.Client.PageOf(x.ID)
		p.record.Sent = nil // of an item that was there before
		p.own = x.Own
		p.Page.Title = p.Goal.Page.Title
	}
	if p.record.Sent == nil {
		p.record.Sent = map[string]string{}
	}
	p.record.ID, p.record.Tried = p.ID, map[string]string{}
	for _, part := range p.ours() {
		p.record.Tried[part] = hashPart(&p.Page, part)
	}
	// Before anything else: should this be cut off, the next run knows the item, and what of its
	// page is the project's own.
	if err := d.remember(p.Item, p.record); err != nil {
		return err
	}
	r.Changed, r.Revision = p.Changes(), p.There.Revision
	r.Hidden = p.There.Visibility == workshop.Hidden
	if r.Changed > 0 {
		draft := &workshop.NewDraft{Page: p.Page, Own: maps.Clone(p.record.Sent)}
		maps.Copy(draft.Own, p.record.Tried)
		if p.uploads {
			draft.Version, draft.Notes = p.Goal.Version, p.Goal.Notes
			if p.cuts == nil {
				var err error
				if p.cuts, err = d.cut(ctx, p.Goal, &o); err != nil {
					return err
				}
			}
			for i, f := range p.Goal.Files {
				f.Chunks = p.cuts[i].chunks
				draft.Files = append(draft.Files, f)
			}
		}
		state, err := d.fill(ctx, r, draft, o)
		if err != nil {
			return err
		}
		done, err := d.Client.Publish(ctx, p.ID, state.ID, p.There.Revision)
		if err != nil {
			return err
		}
		r.Revision = done.Revision
	}
	maps.Copy(p.record.Sent, p.record.Tried)
	p.record.Tried = nil
	return d.remember(p.Item, p.record)
}

// ours are the parts of the page that are published as the project says, not as somebody else wrote them.
func (p *Plan) ours() (list []string) {
	for _, part := range p.options.Scope.parts() {
		if hashPart(&p.Page, part) == hashPart(&p.Goal.Page, part) {
			list = append(list, part)
		}
	}
	return list
}

// fill sends what a draft still lacks.
func (d *Desk) fill(ctx context.Context, r *Result, draft *workshop.NewDraft, o Options) (*workshop.Draft, error) {
	p := r.Plan
	state, err := d.Client.MakeDraft(ctx, p.ID, draft)
	if err != nil || len(state.Missing) == 0 {
		return state, err
	}
	where, err := d.places(p, draft)
	if err != nil {
		return nil, err
	}
	defer where.close()
	for round := 0; len(state.Missing) > 0; round++ {
		if round == 3 { // it was all sent, and taken, three times over
			return nil, &fault.Fault{Kind: fault.Unreachable,
				What:  fmt.Sprintf("the workshop took %d chunks and says that it lacks them", len(state.Missing)),
				Place: fault.Place{File: d.Client.String()}, Do: "Try again later; if it stays so, tell the workshop."}
		}
		total := int64(0)
		for _, sum := range state.Missing {
			at, ok := where.chunks[sum]
			if !ok {
				return nil, &fault.Fault{Kind: fault.Unreachable,
					What:  "the workshop wants something that is not in the release",
					Place: fault.Place{File: d.Client.String()}, Do: "Tell the workshop."}
			}
			total += at.size
		}
		stage := fmt.Sprintf("sending %s of %s", humanize.Bytes(total), humanize.Bytes(p.Size))
		var done atomic.Int64
		g, sending := group.WithContext(ctx)
		g.SetLimit(workshop.AtOnce)
		for _, sum := range state.Missing {
			g.Go(func() error {
				if err := sending.Err(); err != nil {
					return err
				}
				at := where.chunks[sum]
				data := make([]byte, at.size)
				if _, err := at.file.ReadAt(data, at.start); err != nil {
					return &fault.Fault{What: "the bundle can't be read", Place: fault.Place{File: at.name}, Err: err,
						Do: "Run 'vornix pack' again."}
				}
				_, err := d.Client.SendChunk(sending, p.ID, state.ID, sum, data)
				if workshop.Is(err, workshop.WrongHash) {
					return &fault.Fault{What: "the bundle was changed while it was sent",
						Place: fault.Place{File: at.name}, Why: "Nobody gets it: the item is as it was.",
						Do: "Run 'vornix pack', and publish again."}
				}
				if err == nil && o.Advanced != nil {
					o.Advanced(stage, done.Add(at.size), total)
				}
				return err
			})
		}
		if err := g.Wait(); err != nil {
			return nil, err
		}
		r.Content += total
		if state, err = d.Client.Draft(ctx, p.ID, state.ID); err != nil {
			return nil, err
		}
	}
	return state, nil
}

// place is where a chunk stands.
type place struct {
	file        *os.File
	name        string
	start, size int64
}

// places says where chunks stand.
type places struct {
	chunks map[string]place
	open   []*os.File
}

func (w *places) close() {
	for _, f := range w.open {
		f.Close()
	}
}

func (d *Desk) places(p *Plan, draft *workshop.NewDraft) (*places, error) {
	w := &places{chunks: map[string]place{}}
	add := func(sum string, list []cdc.Chunk) error {
		name, ok := p.Goal.sources[sum]
		if !ok {
			return nil // a picture that stays, which the workshop has
		}
		f, err := os.Open(d.P.Join(name))
		if err != nil {
			return &fault.Fault{What: "it can't be read", Place: fault.Place{File: name}, Err: err,
				Do: "Run 'vornix pack' again."}
		}
		w.open = append(w.open, f)
		at := int64(0)
		for _, c := range list {
			w.chunks[c.SHA256] = place{f, name, at, c.Size}
			at += c.Size
		}
		return nil
	}
	for _, x := range draft.Page.Pictures {
		if err := add(x.SHA256, x.Chunks); err != nil {
			w.close()
			return nil, err
		}
	}
	for _, f := range draft.Files {
		if err := add(f.SHA256, f.Chunks); err != nil {
			w.close()
			return nil, err
		}
	}
	return w, nil
}
