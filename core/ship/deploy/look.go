package deploy

import (
	"context"
	"path"
	"slices"
	"time"

	"vornix/core/base/fault"
	"vornix/core/config/project"
	"vornix/core/game/gameserver"
)

// State is what a target has now.
type State struct {
	Target    string             `json:"target"`
	Where     string             `json:"where,omitempty"`
	Kind      string             `json:"kind"`
	Version   string             `json:"version,omitempty"`   // "" if the project is not deployed there
	Drift     []string           `json:"drift"`               // files that are not as they were deployed
	Last      *Record            `json:"last,omitempty"`      // what was done last, without its files
	Withdrawn []string           `json:"withdrawn,omitempty"` // maps that were taken off since the last deployment
	Half      string             `json:"half,omitempty"`      // an unfinished deployment
	Locked    *Holder            `json:"locked,omitempty"`
	Reachable bool               `json:"reachable"`
	Error     string             `json:"error,omitempty"`  // why it could not be looked at
	Server    *gameserver.Status `json:"server,omitempty"` // what its game server says
	Asked     string             `json:"asked,omitempty"`  // why the game server said nothing

	Bundles map[string]string `json:"-"` // SHA-256 of the bundles of its version, by file name
}

// Look says what a target has, by what it remembers and by what is there: sizes and times, or
// contents with verify. An error is in the State.
func Look(ctx context.Context, p *project.Project, name string, a Access, verify bool) *State {
	st := &State{Target: name, Kind: p.File.Targets[name].Kind, Drift: []string{}}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	failed := func(err error) *State {
		st.Error = err.Error()
		st.Reachable = fault.KindOf(err) != fault.Unreachable
		return st
	}
	t, err := Open(ctx, p, name, a)
	if err != nil {
		return failed(err)
	}
	defer t.Close()
	st.Where, st.Reachable = t.where, true
	s, err := t.readState(ctx, t.Project)
	if err != nil {
		return failed(err)
	}
	if last := s.last(); last != nil {
		short := *last
		short.Files, short.Lists, short.Found, short.Page = nil, nil, nil, nil
		st.Last = &short
	}
	now := s.now()
	st.Version, st.Withdrawn = now.Version, s.withdrawn()
	plan := &Plan{Steps: []FileChange{}}
	st.Bundles = map[string]string{}
	for rel, f := range now.Files {
		if f.Role == Bundle && !f.Older {
			st.Bundles[path.Base(rel)] = f.SHA256
		}
		plan.Steps = append(plan.Steps,
			FileChange{Path: rel, Role: f.Role, Size: f.Size, want: GoalFile{Path: rel, File: *f}})
	}
	if err := t.look(ctx, plan, now, PlanOptions{Verify: verify}); err != nil {
		return failed(err)
	}
	for _, x := range plan.Steps {
		if x.Action == Leave || x.Role == Listing { // lists are everybody's
			continue
		}
		if x.Role == Page && x.Drift != "" && t.shares() { // so is the page
			files, _, err := t.neighbours(ctx)
			if err != nil {
				return failed(err)
			}
			if t.whose(&x, files); x.Drift == "" {
				continue
			}
		}
		st.Drift = append(st.Drift, x.Path)
	}
	slices.Sort(st.Drift)
	if j, err := t.journal(ctx); err != nil {
		return failed(err)
	} else if j != nil {
		st.Half = j.Kind + " of version " + j.Version + " by " + j.By
	}
	if st.Locked, err = t.shownLock(ctx); err != nil {
		return failed(err)
	}
	c, err := t.dial(ctx, false)
	if err == nil && c != nil {
		st.Server, err = c.Status(ctx)
	}
	switch {
	case fault.KindOf(err) == fault.Refused:
		st.Asked = "its server was not asked: " + err.Error()
	case err != nil:
		st.Asked = "its server does not answer"
	}
	return st
}

// withdrawn are the maps that were taken off since the last deployment or rollback.
func (s *state) withdrawn() (names []string) {
	for i := len(s.records) - 1; i >= 0 && s.records[i].Kind == Withdrawing; i-- {
		names = append(names, s.records[i].Maps...)
	}
	slices.Sort(names)
	return slices.Compact(names)
}
