package remoteexec

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"unicode/utf8"

	"vornix/core/base/safefile"
	"vornix/core/make/taskgraph"
)

// Any machine with the farm's key can send anything. This is the one place where messages come in:
// decode refuses every field that is not what it should be, before anything is done with it. What
// is a hash is a hash, what becomes a path stays in its folder, what becomes a part of a subject
// has no wildcard, and every number and text is bounded.

// Bounds of messages.
const (
	maxOrders  = 4096
	maxFiles   = 1 << 20   // of an action
	maxText    = 4096      // bytes of a text for people
	maxName    = 256       // bytes of a name
	maxContent = 1 << 40   // bytes of a content
	maxRead    = 256 << 20 // of one that is read into memory
	maxHands   = 1 << 14
	maxSteps   = 1 << 40 // of a stage
)

// message is what comes in.
type message interface{ check() error }

// decode reads a message, and refuses the message when any field is wrong.
func decode(data []byte, m message) error {
	if err := json.Unmarshal(data, m); err != nil {
		return err
	}
	return m.check()
}

// isToken says whether a text can be a part of a subject, as the ids of builds and units are.
func isToken(s string) bool {
	return s != "" && len(s) <= 64 &&
		strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") == ""
}

// words says whether a text is one for people, and not too long.
func words(s string, limit int) bool { return len(s) <= limit && utf8.ValidString(s) }

func isHash(s string) bool {
	return len(s) == 64 && strings.Trim(s, "0123456789abcdef") == ""
}

// seconds says whether a number is a duration.
func seconds(f float64) bool { return f >= 0 && f <= 1e7 && !math.IsNaN(f) }

func (c content) check() error {
	if !isHash(c.SHA256) || c.Size < 0 || c.Size > maxContent {
		return errors.New("a content has no hash or size that makes sense")
	}
	return nil
}

// carried checks the contents inside a message.
func carried(small map[string][]byte) error {
	for sum, data := range small {
		if contentOf(data).SHA256 != sum {
			return errors.New("a content is not what its hash says")
		}
	}
	return nil
}

func (u *unit) check() error {
	if !words(u.Version, maxText) || !isToken(u.Build) || !isToken(u.ID) || len(u.Orders) == 0 ||
		len(u.Orders) > maxOrders || u.Part != nil && len(u.Orders) != 1 {
		return errors.New("a unit is not complete")
	}
	for _, c := range u.Orders {
		if err := c.check(); err != nil {
			return err
		}
	}
	if p := u.Part; p != nil {
		if !words(p.Key, maxText) || p.First < 0 || p.Last <= p.First || p.Last > math.MaxInt32 {
			return errors.New("a unit asks for pieces that do not exist")
		}
		if err := p.Kept.check(); err != nil {
			return err
		}
	}
	return carried(u.Inline)
}

func (a *startRequest) check() error {
	if !isToken(a.Unit) || a.Worker == "" || !words(a.Worker, maxName) || !words(a.Declines, maxText) {
		return errors.New("a question is not complete")
	}
	return nil
}

func (r *startReply) check() error {
	if len(r.Go) > maxOrders || !words(r.Why, maxText) {
		return errors.New("an answer is too long")
	}
	return nil
}

func (d *report) check() error {
	if !isToken(d.Unit) || d.Worker == "" || !words(d.Worker, maxName) || len(d.Jobs) > maxOrders ||
		!seconds(d.Took) || !words(d.Err, 16*maxText) {
		return errors.New("what came of a unit is not complete")
	}
	for i := range d.Jobs {
		j := &d.Jobs[i]
		if !words(j.ID, maxText) || !seconds(j.Took) || !words(j.Err, 16*maxText) || len(j.Findings) > maxFiles {
			return errors.New("what came of a job is not complete")
		}
		if err := files(j.Outputs); err != nil {
			return err
		}
	}
	if d.Part != nil {
		if err := d.Part.check(); err != nil {
			return err
		}
	}
	return carried(d.Inline)
}

func (t *progressMessage) check() error {
	if !isToken(t.Unit) || !words(t.Worker, maxName) || !words(t.ID, maxText) || !words(t.Stage, maxName) ||
		t.Done < 0 || t.Done > t.Total || t.Total > maxSteps {
		return errors.New("how far somebody is makes no sense")
	}
	return nil
}

func (s *stopMessage) check() error {
	if s.Unit != "" && !isToken(s.Unit) {
		return errors.New("no unit is called so")
	}
	return nil
}

func (h *WorkerInfo) check() error {
	if h.Worker == "" || !words(h.Worker, maxName) || !words(h.System, maxName) || !words(h.Version, maxText) ||
		h.Slots < 0 || h.Slots > maxHands || len(h.Doing) > maxHands ||
		!words(h.Resting, maxText) || !words(h.Declines, maxText) {
		return errors.New("what a worker says of itself makes no sense")
	}
	for _, d := range h.Doing {
		if !words(d, maxText) {
			return errors.New("what a worker says of itself makes no sense")
		}
	}
	return nil
}

func (r *presenceRequest) check() error {
	if !words(r.Version, maxText) {
		return errors.New("a version is too long")
	}
	return nil
}

// cachedParts are what a job kept of its earlier stages.
type cachedParts []cachedPart

func (k *cachedParts) check() error {
	if len(*k) > maxFiles {
		return errors.New("too much was kept")
	}
	for _, x := range *k {
		if !words(x.Key, maxText) {
			return errors.New("a key is too long")
		}
		if err := x.content.check(); err != nil {
			return err
		}
	}
	return nil
}

// actionMessage is an action as it comes from a build.
type actionMessage struct{ taskgraph.Action }

func (o *actionMessage) check() error {
	if !words(o.ID, maxText) || !words(o.Step, maxName) || !words(o.Key, maxText) || len(o.Outputs) == 0 ||
		len(o.Outputs) > maxFiles || len(o.Programs) > len(o.Inputs) {
		return errors.New("an order is not complete")
	}
	for _, list := range [][]taskgraph.Output{o.Inputs, o.Earlier} {
		if err := files(list); err != nil {
			return err
		}
	}
	for _, list := range [][]string{o.Outputs, o.Programs} {
		for _, name := range list {
			if err := safefile.CheckForeign(name); err != nil {
				return err
			}
		}
	}
	return nil
}

// files checks files with their hashes.
func files(list []taskgraph.Output) error {
	if len(list) > maxFiles {
		return fmt.Errorf("more than %d files", maxFiles)
	}
	for _, f := range list {
		if err := safefile.CheckForeign(f.Path); err != nil {
			return err
		}
		if err := (content{f.SHA256, f.Size}).check(); err != nil {
			return err
		}
	}
	return nil
}

// Rechecked is which share of a worker's jobs a build does again when nobody says.
const Rechecked = 0.05

// again says who does a worker's next job a second time, to see whether it is right. This machine
// does the first one always, of the others Rechecked, and more of the first dozens, since a small
// build has no more. What is wanted beyond that (share, 0 to 1) another worker does. No worker can
// know which ones beforehand.
func again(before int, share float64) taskgraph.Verification {
	switch chance := rand.Float64(); {
	case chance < max(Rechecked, 2/float64(before+2)):
		return taskgraph.Here
	case chance < share:
		return taskgraph.Elsewhere
	}
	return taskgraph.Unchecked
}
