package remotecache

import (
	"encoding/json"
	"time"

	"vornix/core/base/safefile"
)

// file is where a project remembers what its shared results were worth.
const file = "shared.json"

// History is what shared results were worth to a project, on this machine.
type History struct {
	Where string    `json:"where"`
	Since time.Time `json:"since"`
	Last  Count     `json:"last"`          // of the last build that asked
	All   Count     `json:"all"`           // since then
	Off   string    `json:"off,omitempty"` // why the last build left them alone
	// a build came to its end with them: what was made here before has been given
	Begun bool `json:"begun"`
}

// Rate is which part of what was asked for was found.
func (c Count) Rate() float64 {
	if c.Asked == 0 {
		return 0
	}
	return float64(c.Found) / float64(c.Asked)
}

func (c Count) plus(d Count) Count {
	return Count{c.Asked + d.Asked, c.Found + d.Found, c.Parts + d.Parts, c.Taken + d.Taken, c.Given + d.Given,
		c.GivenSize + d.GivenSize, c.Waited + d.Waited}
}

// ReadHistory reads what is remembered in a project's state folder; nil when nothing is.
func ReadHistory(state *safefile.Dir) *History {
	h := &History{}
	data, err := state.ReadFile(file)
	if err != nil || json.Unmarshal(data, h) != nil {
		return nil
	}
	return h
}

// Remember adds how a Line went. Another place begins anew.
func Remember(state *safefile.Dir, where string, e Ended) error {
	h := ReadHistory(state)
	if h == nil || h.Where != where {
		h = &History{Where: where, Since: time.Now().UTC().Truncate(time.Second)}
	}
	h.Last, h.All, h.Off = e.Count, h.All.plus(e.Count), ""
	h.Begun = h.Begun || e.Off == nil && e.Left == 0
	if e.Off != nil {
		h.Off = e.Off.Error()
	}
	data, err := json.MarshalIndent(h, "", "  ")
	if err != nil {
		return err
	}
	return state.WriteCache(file, data)
}
