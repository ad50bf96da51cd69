package remoteexec

import (
	"encoding/json"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/make/taskgraph"
)

var sum = strings.Repeat("ab", 32)

// Every field of every message is refused when it is not what it should be.
func TestMessagesAreChecked(t *testing.T) {
	hash := content{sum, 5}
	unitOf := func(change func(*unit)) *unit {
		u := &unit{Version: "1", Build: "b1", ID: "7", Orders: []content{hash},
			Part: &part{Key: "k", First: 0, Last: 4, Kept: hash}}
		change(u)
		return u
	}
	orderOf := func(change func(*actionMessage)) *actionMessage {
		o := &actionMessage{taskgraph.Action{ID: "map a", Step: "map",
			Inputs: []taskgraph.Output{{Path: "maps/a.vnx", SHA256: sum, Size: 3}}, Outputs: []string{"maps/a.vnm"}}}
		change(o)
		return o
	}
	doneOf := func(change func(*report)) *report {
		d := &report{Unit: "7", Worker: "attic",
			Jobs:   []jobReport{{ID: "map a", Outputs: []taskgraph.Output{{Path: "maps/a.vnm", SHA256: sum, Size: 3}}}},
			Inline: map[string][]byte{contentOf([]byte("x")).SHA256: []byte("x")}}
		change(d)
		return d
	}
	for name, m := range map[string]message{
		"unit: an empty hash":         unitOf(func(u *unit) { u.Orders[0].SHA256 = "" }),
		"unit: a hash that is a path": unitOf(func(u *unit) { u.Orders[0].SHA256 = "xx/../../../dev/zero" }),
		"unit: a long path as a hash": unitOf(func(u *unit) { u.Orders[0].SHA256 = "../" + sum[3:] }),
		"unit: a negative size":       unitOf(func(u *unit) { u.Orders[0].Size = -1 }),
		"unit: no order":              unitOf(func(u *unit) { u.Orders = nil }),
		"unit: many orders": unitOf(func(u *unit) {
			u.Part, u.Orders = nil,
				make([]content, maxOrders+1)
		}),
		"unit: a build with a wildcard":   unitOf(func(u *unit) { u.Build = ">" }),
		"unit: a build in two parts":      unitOf(func(u *unit) { u.Build = "a.b" }),
		"unit: no id":                     unitOf(func(u *unit) { u.ID = "" }),
		"unit: negative pieces":           unitOf(func(u *unit) { u.Part.First = -1 }),
		"unit: pieces backwards":          unitOf(func(u *unit) { u.Part.Last = 0 }),
		"unit: endless pieces":            unitOf(func(u *unit) { u.Part.Last = math.MaxInt }),
		"unit: what was kept has no hash": unitOf(func(u *unit) { u.Part.Kept.SHA256 = "" }),
		"unit: a content that lies":       unitOf(func(u *unit) { u.Inline = map[string][]byte{sum: []byte("x")} }),
		"order: a path that leads out":    orderOf(func(o *actionMessage) { o.Inputs[0].Path = "../../.ssh/id" }),
		"order: an absolute output":       orderOf(func(o *actionMessage) { o.Outputs[0] = "/etc/passwd" }),
		"order: a program outside":        orderOf(func(o *actionMessage) { o.Programs = []string{"../x"} }),
		"order: no output":                orderOf(func(o *actionMessage) { o.Outputs = nil }),
		"order: an input without a hash":  orderOf(func(o *actionMessage) { o.Inputs[0].SHA256 = "" }),
		"order: an earlier file outside": orderOf(func(o *actionMessage) {
			o.Earlier = []taskgraph.Output{{Path: "a/../../b",
				SHA256: sum}}
		}),
		"done: an output outside":        doneOf(func(d *report) { d.Jobs[0].Outputs[0].Path = "../a" }),
		"done: an output without a hash": doneOf(func(d *report) { d.Jobs[0].Outputs[0].SHA256 = "" }),
		"done: time that ran backwards":  doneOf(func(d *report) { d.Took = -1 }),
		"done: no worker":                doneOf(func(d *report) { d.Worker = "" }),
		"done: a content that lies":      doneOf(func(d *report) { d.Inline[sum] = []byte("y") }),
		"done: pieces without a hash":    doneOf(func(d *report) { d.Part = &content{} }),
		"ask: a unit with a wildcard":    &startRequest{Unit: "*", Worker: "a"},
		"ask: a long name":               &startRequest{Unit: "1", Worker: strings.Repeat("a", maxName+1)},
		"tell: more than all":            &progressMessage{Unit: "1", Worker: "a", Done: 2, Total: 1},
		"stop: a wildcard":               &stopMessage{Unit: "a b"},
		"here: nobody":                   &WorkerInfo{},
		"here: many hands":               &WorkerInfo{Worker: "a", Slots: math.MaxInt},
		"roll: a long version":           &presenceRequest{Version: strings.Repeat("v", maxText+1)},
		"kept: no hash":                  &cachedParts{{Key: "k"}},
	} {
		t.Run(name, func(t *testing.T) {
			data, err := json.Marshal(m)
			require.NoError(t, err)
			assert.Error(t, decode(data, m))
		})
	}
	for name, m := range map[string]message{"unit": unitOf(func(*unit) {}), "order": orderOf(func(*actionMessage) {}),
		"done": doneOf(func(*report) {}),
		"ask":  &startRequest{Unit: "1", Worker: "attic"}, "reply": &startReply{Go: []string{"a"}},
		"tell": &progressMessage{Unit: "1", Worker: "a", Total: 3}, "stop": &stopMessage{},
		"here": &WorkerInfo{Worker: "a"}, "roll": &presenceRequest{},
		"kept": &cachedParts{{"k", hash}}} {
		data, err := json.Marshal(m)
		require.NoError(t, err)
		assert.NoError(t, decode(data, m), name)
	}
}

// Whatever comes in, checking it ends without a fault, and what passes can be used: a key made of
// it, a path below a folder.
func FuzzMessages(f *testing.F) {
	f.Add([]byte(`{"version":"1","build":"b","id":"1","orders":[{"sha256":"` + sum + `","size":1}]}`))
	f.Add([]byte(`{"id":"a","step":"map","inputs":[{"path":"a","sha256":"` + sum + `","size":1}],"outputs":["b"]}`))
	f.Add([]byte(`{"unit":"1","worker":"a","jobs":[{"id":"x","outputs":[{"path":"b","sha256":"","size":1}]}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, m := range []message{&unit{}, &actionMessage{}, &report{}, &startRequest{}, &startReply{},
			&progressMessage{},
			&stopMessage{}, &WorkerInfo{}, &presenceRequest{},
			&cachedParts{}} {
			if decode(data, m) != nil {
				continue
			}
			switch m := m.(type) {
			case *unit:
				assert.NotContains(t, subject(m.Build, askWord), "*")
				assert.Len(t, strings.Split(subject(m.Build, askWord), "."), 4)
			case *actionMessage:
				assert.NotEmpty(t, taskgraph.ActionKey(&m.Action))
			}
		}
	})
}

// How sure it is that a worker is found out that spoils some of a dozen jobs. docs/farm.md says these odds.
func TestTheOddsOfBeingFoundOut(t *testing.T) {
	for _, c := range []struct {
		share       float64
		bad         []int
		least, most float64
	}{
		{Rechecked, []int{0}, 1, 1},
		{Rechecked, []int{2, 6, 9}, 0.60, 0.80},
		{Rechecked, []int{11}, 0.10, 0.22},
		{0.5, []int{2, 6, 9}, 0.85, 0.95},
		{1, []int{11}, 1, 1},
	} {
		const tries = 4000
		found := 0
		for range tries {
			for _, n := range c.bad {
				if again(n, c.share) != taskgraph.Unchecked {
					found++
					break
				}
			}
		}
		odds := float64(found) / tries
		assert.True(t, odds >= c.least && odds <= c.most, "share %g, bad %v: %.2f", c.share, c.bad, odds)
	}
}
