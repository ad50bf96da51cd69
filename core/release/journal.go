package release

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"strings"
	"time"

	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/pack/bundle"
)

// journalFile is where the steps of the release under way are written down. What a step made says
// by itself whether it is still right; the journal adds what can't be seen from files: that bundles
// were tried, and what a patch was made of.
const journalFile = project.StateDir + "/release.json"

// journal is the release under way, or the last one.
type journal struct {
	Version  string           `json:"version"`
	Begun    time.Time        `json:"begun"`
	Finished time.Time        `json:"finished,omitzero"`
	Steps    map[string]entry `json:"steps"`
}

// entry is a step that came to its end.
type entry struct {
	Ended   time.Time `json:"ended"`
	Seconds float64   `json:"seconds"`       // when it last had something to do
	Key     string    `json:"key,omitempty"` // of all that decides its result, where no file shows that
	When    time.Time `json:"when,omitzero"` // Key and Step are of
	Step    *Step     `json:"step,omitempty"`
	SHA256  string    `json:"sha256,omitempty"` // of a file; empty when it was decided to make none
	Why     string    `json:"why,omitempty"`    // then
}

// readJournal reads what is known of the last release; one that can't be read is as good as none,
// since all of it can be done again.
func readJournal(p *project.Project) *journal {
	j := &journal{}
	if data, err := os.ReadFile(p.Join(journalFile)); err != nil || json.Unmarshal(data, j) != nil {
		j = &journal{}
	}
	if j.Steps == nil {
		j.Steps = map[string]entry{}
	}
	return j
}

// openJournal goes on with the journal of a version, or begins a new one, which keeps what was
// found out about files. A rehearsal is of no version.
func openJournal(p *project.Project, rehearsal bool) *journal {
	j := readJournal(p)
	v := p.File.Project.Version
	if rehearsal {
		v = ""
	}
	if j.Version != v {
		j.Version, j.Begun, j.Finished = v, moment(), time.Time{}
		for name, e := range j.Steps {
			e.Ended, e.Seconds = time.Time{}, 0
			j.Steps[name] = e
		}
	}
	return j
}

// moment is now, as it is written down.
func moment() time.Time { return time.Now().UTC().Truncate(time.Second) }

// last is the last step that came to its end; empty when none did.
func (j *journal) last() (last string) {
	for _, name := range StepNames {
		for id, e := range j.Steps {
			if !e.Ended.IsZero() && (id == name || strings.HasPrefix(id, name+" ")) {
				last = name
			}
		}
	}
	return last
}

// end writes down that a step ended. With a key, its result is kept.
func (j *journal) end(p *project.Project, step *Step, key string) error {
	id := strings.TrimSpace(step.Name + " " + step.Target)
	e := j.Steps[id]
	e.Ended = moment()
	// how long it takes to find that nothing changed is of no interest
	if (!step.Kept || e.Seconds == 0) && j.Finished.IsZero() {
		e.Seconds = step.Seconds
	}
	if key != "" {
		kept := *step
		e.Key, e.Step, e.When = key, &kept, e.Ended
	}
	j.Steps[id] = e
	return j.save(p)
}

func (j *journal) finish(p *project.Project) error {
	if !j.Finished.IsZero() {
		return nil
	}
	j.Finished = moment()
	return j.save(p)
}

func (j *journal) save(p *project.Project) error {
	data, err := json.MarshalIndent(j, "", "  ")
	if err != nil {
		return err
	}
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.WriteCache(journalFile, data)
}

// keyOf hashes all that decides something.
func keyOf(parts ...any) string {
	h := sha256.New()
	e := json.NewEncoder(h)
	for _, part := range parts {
		_ = e.Encode(part) // a hash takes every write
	}
	return hex.EncodeToString(h.Sum(nil))
}

// tryKey decides whether bundles have to be tried again.
func tryKey(p *project.Project, program string, bundles []bundle.Bundle) string {
	return keyOf(program, p.Source, p.Profile.Source, hashes(bundles))
}
