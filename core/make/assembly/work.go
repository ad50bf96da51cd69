package assembly

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"

	"golang.org/x/sync/semaphore"

	"vornix/core/compile/stage"
	"vornix/core/make/remoteexec"
	"vornix/core/make/taskgraph"
)

// work is what a job does, as a value that can be sent: with the job's inputs it is all that
// another machine needs to do the same.
type work interface {
	// decides is what of it decides the result, and so belongs to the job's key: not where a line stands, for one.
	decides() any
	run(ctx context.Context, t *taskgraph.Task, b *resources) error
}

// emptyWork gives an empty piece of work of a step; nil when jobs of the step are not done elsewhere.
func emptyWork(step string) work {
	switch step {
	case "map":
		return &mapWork{}
	case "texture":
		return &textureWork{}
	case "sprite":
		return &spriteWork{}
	case PictureStep:
		return &pictureWork{}
	case taskgraph.OwnStep:
		return &ownWork{}
	}
	return nil
}

// readWork reads a piece of work that was sent, and its recipe.
func readWork(step string, data []byte) (w work, decides []byte, err error) {
	if w = emptyWork(step); w == nil {
		return nil, nil, fmt.Errorf("jobs of the step %q are not done here", step)
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(w); err != nil {
		return nil, nil, fmt.Errorf("the job's recipe can't be read: %w", err)
	}
	return w, recipe(w.decides()), nil
}

// resources is what of a machine pieces of work use.
type resources struct {
	workers int                 // how many goroutines pack a texture's blocks, or run a stage
	memory  *semaphore.Weighted // keeps large images from being in memory all at once
	scenes  *Studio
	stages  Stages
	own     Own
	scratch string             // the folder for folders that steps of a project's own run in, a system path
	farm    *remoteexec.Client // who helps with parts; nil: nobody does
	serves  stage.Distributor  // for whom parts are done; nil: for nobody
}

func newResources(workers int, stages Stages) *resources {
	return &resources{workers: workers, memory: semaphore.NewWeighted(imageMemory), scenes: &Studio{}, stages: stages}
}

// imageMemory is how much memory, in bytes, images being made into textures may take together; one that needs more is
// made alone.
const imageMemory = 160 << 20

// reserve waits until there is memory for images of a number of texels: read, filtered and packed,
// they take about eight bytes a texel at once.
func (b *resources) reserve(ctx context.Context, texels int) (release func(), err error) {
	n := min(int64(texels)*8, imageMemory)
	if err := b.memory.Acquire(ctx, n); err != nil {
		return nil, err
	}
	return func() { b.memory.Release(n) }, nil
}

// env is how the long stages of a job's map run.
func (b *resources) env(t *taskgraph.Task, only []string, draft bool) stage.Env {
	e := stage.Env{Only: only, Draft: draft, Memory: b.stages.Memory, Grows: b.stages.Grows, Workers: b.workers,
		Store: t, Progress: t.Advance, Took: t.Spend, Distributor: b.serves}
	if b.farm != nil {
		e.Distributor, e.Store = b.farm.Distributor(t)
	}
	return e
}
