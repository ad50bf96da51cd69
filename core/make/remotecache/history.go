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
	Last  Stats     `json:"last"`          // of the last build that asked
	All   Stats     `json:"all"`           // since then
	Off   string    `json:"off,omitempty"` // why the last build left them alone
	// a build came to its end with them: what was made here before has been given
	Begun bool `json:"begun"`
}

// Rate is which part of what was asked for was found.
func (c Stats) Rate() float64 {
	if c.Asked == 0 {
		return 0
	}
	return float64(c.Found) / float64(c.Asked)
}

func (c Stats) plus(d Stats) Stats {
	return Stats{c.Asked + d.Asked, c.Found + d.Found, c.Parts + d.Parts, c.Taken + d.Taken, c.Given + d.Given,
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

// RecordHistory adds how a Client went. Another place begins anew.
func RecordHistory(state *safefile.Dir, where string, e Summary) error {
	h := ReadHistory(state)
	if h == nil || h.Where != where {
		h = &History{Where: where, Since: time.Now().UTC().Truncate(time.Second)}
	}
	h.Last, h.All, h.Off = e.Stats, h.All.plus(e.Stats), ""
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
