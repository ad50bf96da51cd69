// Package ledger is a project's record of what was released and deployed.
//
// The content of a finished version is recorded in releases/VERSION.toml, under version control
// (record.go). What this machine did is recorded in .vornix/ledger.jsonl, one JSON object a line,
// only ever added to; it may be lost. Read gives both.
package ledger

import (
	"bytes"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"vornix/core/base/safefile"
	"vornix/core/config/project"
)

const fileName = "ledger.jsonl"

// Kinds of events.
const (
	Released   = "released"
	Deployed   = "deployed"
	RolledBack = "rolled-back"
	Withdrawn  = "withdrawn"
	Swept      = "swept"
	Restored   = "restored"
	Indexed    = "indexed"
	Published  = "published" // on a workshop
	Tried      = "tried"     // as it came from a workshop
)

// Event is one thing that happened.
type Event struct {
	Kind    string            `json:"kind"`
	Time    time.Time         `json:"time"`
	Version string            `json:"version,omitempty"`
	Target  string            `json:"target,omitempty"`
	Place   string            `json:"place,omitempty"`  // the safe place of what was swept or restored
	Item    string            `json:"item,omitempty"`   // name of an item on a workshop
	Files   map[string]string `json:"files,omitempty"`  // SHA-256 by file name
	Date    string            `json:"date,omitempty"`   // of a release, as it was given
	Serial  int64             `json:"serial,omitempty"` // of an index
	Keys    []string          `json:"keys,omitempty"`   // public keys that signed an index
}

// Add records an event.
func Add(p *project.Project, e Event) error {
	d, err := safefile.MakeDir(p.State())
	if err != nil {
		return err
	}
	defer d.Close()
	e.Time = e.Time.UTC().Truncate(time.Second)
	line, err := json.Marshal(e)
	if err != nil {
		return err
	}
	return d.Append(fileName, line)
}

// Read returns all events: those that only the committed records know, by version, then those of
// this machine, the oldest first. A line that a crash cut short is passed over. A record that is
// damaged, or that contradicts this machine, is an error.
func Read(p *project.Project) ([]Event, error) {
	data, err := os.ReadFile(filepath.Join(p.State(), fileName))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	records, err := Records(p)
	if err != nil {
		return nil, err
	}
	return merge(Parse(data), records)
}

// Here returns the events of this machine alone.
func Here(p *project.Project) ([]Event, error) {
	data, err := os.ReadFile(filepath.Join(p.State(), fileName))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return Parse(data), err
}

// Parse reads a ledger's lines. One that a crash cut short is passed over.
func Parse(data []byte) (list []Event) {
	for line := range bytes.SplitSeq(data, []byte("\n")) {
		var e Event
		if json.Unmarshal(line, &e) == nil && e.Kind != "" {
			list = append(list, e)
		}
	}
	return list
}

// Release finds the record of a finished version; nil when it isn't finished.
func Release(events []Event, version string) *Event {
	for i := range events {
		if events[i].Kind == Released && events[i].Version == version {
			return &events[i]
		}
	}
	return nil
}

// LastIndex finds the record of the index with the highest serial number; nil when none was written.
func LastIndex(events []Event) *Event {
	var last *Event
	for i := range events {
		if events[i].Kind == Indexed && (last == nil || events[i].Serial > last.Serial) {
			last = &events[i]
		}
	}
	return last
}

// Path is the ledger's slash path in the project.
func Path() string { return path.Join(project.StateDir, fileName) }
