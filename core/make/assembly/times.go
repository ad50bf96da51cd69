package assembly

import (
	"encoding/json"
	"os"
	"time"

	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/make/taskgraph"
)

// timesFile remembers how long each job took when it last ran: what is kept takes no time, and says
// nothing of what it cost.
const timesFile = project.StateDir + "/times.json"

// Took is how long a job took when it last ran.
type Took struct {
	Step    string             `json:"step"`
	Seconds float64            `json:"seconds"`
	Stages  map[string]float64 `json:"stages,omitempty"` // of a map's long stages
	When    time.Time          `json:"when"`
}

// Times are how long each job took when it last ran here, by its name. A project that was never built here has none.
func Times(p *project.Project) map[string]Took {
	times := map[string]Took{}
	if data, err := os.ReadFile(p.Join(timesFile)); err == nil && json.Unmarshal(data, &times) != nil {
		return map[string]Took{} // as good as none: it is made again
	}
	return times
}

// clock remembers the times of jobs that ran. whole says that results are of a whole build, so that
// all others can be forgotten but those of pictures, which have a build of their own.
func clock(d *safefile.Dir, p *project.Project, results []taskgraph.Result, whole bool) error {
	times, now := Times(p), time.Now().UTC().Truncate(time.Second)
	changed := false
	known := map[string]bool{}
	for _, r := range results {
		known[r.ID] = true
		if r.State != taskgraph.Made {
			continue
		}
		took := Took{Step: r.Step, Seconds: r.Elapsed.Seconds(), When: now}
		for stage, d := range r.Spent {
			if took.Stages == nil {
				took.Stages = map[string]float64{}
			}
			took.Stages[stage] = d.Seconds()
		}
		times[r.ID], changed = took, true
	}
	for id, took := range times {
		if whole && !known[id] && took.Step != PictureStep {
			delete(times, id)
			changed = true
		}
	}
	if !changed {
		return nil
	}
	data, err := json.MarshalIndent(times, "", "  ")
	if err != nil {
		return err
	}
	return d.WriteCache(timesFile, data)
}
