package assembly

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/humanize"
	"vornix/core/compile"
	"vornix/core/compile/render"
	"vornix/core/compile/stage"
	"vornix/core/format/texture"
	"vornix/core/make/remoteexec"
	"vornix/core/make/taskgraph"
)

// Farming is how a build takes others' help. The zero value takes none.
type Farming struct {
	KeyFile string  // a system path
	Version string  // of the program
	Recheck float64 // which share of the workers' jobs is done here again; 0: remoteexec.Rechecked
}

// StepVersions are those of all steps that can be done elsewhere: machines that agree in them make
// the same of the same.
func StepVersions() string {
	return fmt.Sprintf("maps %d %s, textures %d, sprites %d, pictures %d %d, own steps %d", compile.Version,
		compile.Versions, texture.Version, spriteVersion, pictureVersion, render.Version, ownVersion)
}

// FarmVersion is how a program of a version is known in a farm.
func FarmVersion(program string) string { return program + " (" + StepVersions() + ")" }

// join takes a build into the farm; nil when it takes none, or can't. Why not stands in the
// findings: it keeps nobody from building.
func (f Farming) join(ctx context.Context) (*remoteexec.Client, []finding.Finding) {
	if f.KeyFile == "" {
		return nil, nil
	}
	key, err := remoteexec.ReadKey(f.KeyFile)
	var client *remoteexec.Client
	if err == nil {
		client, err = remoteexec.Join(ctx,
			remoteexec.Options{Key: key, Version: FarmVersion(f.Version), Recheck: f.Recheck})
	}
	if err == nil {
		return client, nil
	}
	away := finding.FarmAway.At(fault.Place{}, "%s", humanize.Printable(err.Error()))
	var known *fault.Fault
	if errors.As(err, &known) {
		away.Do = cmp.Or(known.Do, away.Do)
	}
	return nil, []finding.Finding{away}
}

// patience is how long a build must have lasted for workers to have said that they are there.
const patience = time.Second

// leave takes a build out of its farm, and says what went wrong there.
func leave(client *remoteexec.Client) (shares []remoteexec.WorkerShare, list []finding.Finding) {
	if client == nil {
		return nil, nil
	}
	ended := client.Close()
	for _, s := range ended.Shares {
		name := humanize.Printable(s.Worker)
		if s.Shut != "" {
			list = append(list,
				finding.FarmWrong.At(fault.Place{}, "the worker %s: %s; nothing of it was taken", name,
					humanize.Printable(s.Shut)))
		} else if s.Declined != "" {
			list = append(list,
				finding.FarmDeclined.At(fault.Place{}, "the worker %s declined: %s", name,
					humanize.Printable(s.Declined)))
		}
	}
	if len(ended.Shares) == 0 && ended.Lasted > patience {
		list = append(list, finding.FarmEmpty.At(fault.Place{}, "no worker was there"))
	}
	if ended.Off != nil {
		list = append(list,
			finding.FarmAway.At(fault.Place{}, "it was left alone for a while: %s",
				humanize.Printable(ended.Off.Error())))
	}
	return ended.Shares, list
}

// Runner does jobs for other machines' builds. It is a remoteexec.Doer.
type Runner struct {
	resources *resources
	own       bool
}

// NewHand makes a hand that uses so many processors for a job. own is what projects' own steps are
// run with, in folders below scratch; nil: none are run.
func NewHand(workers int, stages Stages, own *Own, scratch string) *Runner {
	h := &Runner{resources: newResources(workers, stages)}
	if own != nil {
		h.own, h.resources.own, h.resources.scratch = true, *own, scratch
	}
	return h
}

// Decides reads an order's work, and gives what of it decides the result.
func (h *Runner) Decides(o *taskgraph.Action) ([]byte, error) {
	if o.Step == taskgraph.OwnStep && !h.own {
		return nil, remoteexec.ErrNotAllowed
	}
	w, decides, err := readWork(o.Step, o.Work)
	if own, ok := w.(*ownWork); ok && err == nil &&
		(!own.Step.Away || len(own.Step.Environment) > 0 || own.Vornix != h.resources.own.version(&own.Step)) {
		return nil, errors.New("the step is not one that runs elsewhere")
	}
	return decides, err
}

// Do does an order.
func (h *Runner) Do(ctx context.Context, o *taskgraph.Action, t *taskgraph.Task, client stage.Distributor) error {
	w, _, err := readWork(o.Step, o.Work)
	if err != nil {
		return err
	}
	b := *h.resources
	b.serves = client
	return w.run(ctx, t, &b)
}
