package assembly_test

import (
	"context"
	"encoding/json"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	"vornix/core/compile/stage"
	"vornix/core/make/assembly"
	"vornix/core/make/remoteexec"
	"vornix/core/make/taskgraph"
)

// A worker decides of orders that come from elsewhere without breaking down: what it takes has the
// key that its own program makes, and paths that stay below a folder.
func FuzzOrder(f *testing.F) {
	dir, err := safefile.OpenDir(f.TempDir())
	require.NoError(f, err)
	defer dir.Close()
	resources := taskgraph.NewWorkspace(dir)
	hand := assembly.NewHand(1, assembly.Stages{}, nil, "")
	for step, work := range map[string]string{
		"map":     `{"Name":"a","Source":"maps/a.vnx","Out":"maps/a.vnm","Rules":{"Sizes":{"m":2}}}`,
		"texture": `{"Name":"a","Images":["textures/a.png"],"Out":"a.ktx2"}`,
		"sprite":  `{"Name":"a","Source":"sprites/a.toml","Sheet":true,"Outputs":["a.json"]}`,
		"picture": `{"ID":"a","Out":"a.png","Compiled":"maps/a.vnm"}`,
		"step":    `{"ID":"a","Step":{"Command":["rm","-r","/"],"Away":true}}`,
	} {
		o := taskgraph.Action{ID: "a", Step: step, Version: 1, Work: []byte(work),
			Inputs: []taskgraph.Output{{Path: "maps/a.vnx", SHA256: "00"}}, Outputs: []string{"maps/a.vnm"}}
		if decides, err := hand.Decides(&o); err == nil {
			o.Recipe = decides
		}
		o.Key = taskgraph.ActionKey(&o)
		data, err := json.Marshal(o)
		require.NoError(f, err)
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var o taskgraph.Action
		if json.Unmarshal(data, &o) != nil {
			return
		}
		decides, err := hand.Decides(&o)
		if err != nil {
			return
		}
		assert.NotEqual(t, taskgraph.OwnStep, o.Step, "nobody allowed that")
		task, err := resources.Task(context.Background(), &o, decides, taskgraph.Hooks{})
		if err != nil {
			return
		}
		assert.Equal(t, string(decides), string(o.Recipe))
		assert.Equal(t, o.Key, taskgraph.ActionKey(&o))
		for _, in := range task.Inputs() {
			assert.NoError(t, safefile.CheckPath(in))
			_, err := task.Input(in)
			assert.Error(t, err, "nothing was brought")
		}
	})
}

// No order makes a worker run a command unless its owner allowed that, and the project.
func TestOwnStepsElsewhere(t *testing.T) {
	o := &taskgraph.Action{Step: taskgraph.OwnStep, Work: []byte(`{"Step":{"Command":["touch","here"],"Away":true}}`)}
	_, err := assembly.NewHand(1, assembly.Stages{}, nil, "").Decides(o)
	require.ErrorIs(t, err, remoteexec.ErrNotAllowed)
	willing := assembly.NewHand(1, assembly.Stages{}, &assembly.Own{}, t.TempDir())
	_, err = willing.Decides(o)
	require.NoError(t, err)
	for _, work := range []string{`{"Step":{"Command":["touch","here"]}}`,
		`{"Step":{"Command":["env"],"Away":true,"Environment":["TOKEN"]}}`,
		`{"Step":{"Command":["{vornix}"],"Away":true},"Vornix":"another"}`, `{"Steps":{}}`, `[`} {
		o.Work = []byte(work)
		_, err = willing.Decides(o)
		assert.Error(t, err, work)
	}
	var none stage.Distributor
	o.Step = "copy"
	assert.Error(t, willing.Do(context.Background(), o, nil, none))
	_, err = os.Stat("here")
	assert.ErrorIs(t, err, os.ErrNotExist)
}
