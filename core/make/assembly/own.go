package assembly

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/make/taskgraph"
	"vornix/core/source/assetgraph"
)

// ownVersion is raised when a step of a project's own would be run otherwise.
const ownVersion = 1

// Own is what steps of a project's own are run with.
type Own struct {
	Trust   trust.Checker // what a person allowed projects on this machine
	Environ []string      // NAME=value; of these a step sees what it names, and what every program needs
	Program string        // path of this program, for {vornix}
	Version string        // tells one of this program from another
	// Said is told what a step printed, when it ends; nil: nobody wants to know.
	Said func(step string, output []byte, failed bool)
}

// longestStep is how long a step may take when it does not say.
const longestStep = 10 * time.Minute

// everywhere are the variables that every program needs.
var everywhere = []string{"PATH", "HOME", "USER", "LANG", "SYSTEMROOT", "SYSTEMDRIVE", "WINDIR", "COMSPEC", "PATHEXT",
	"USERPROFILE", "APPDATA", "LOCALAPPDATA", "PROGRAMFILES", "PROGRAMDATA"}

// ownWork is a step of a project's own, for one map or for all.
type ownWork struct {
	ID      string // in words
	Step    project.CustomStep
	Place   fault.Place
	Values  map[string]string // that are filled in
	Earlier []string          // what it reads of what other jobs make, as paths in the tree
	Outputs []string
	Sees    []string // what the variables hold that it names
	Vornix  string   // the version of this program, if it runs it
}

func (w *ownWork) decides() any {
	return struct {
		Step    project.CustomStep
		Values  map[string]string
		Earlier []string
		Sees    []string
		Vornix  string
	}{w.Step, w.Values, w.Earlier, w.Sees, w.Vornix}
}

// own adds the project's own steps. They come last, since they may read what other jobs make.
func (pl *planner) own(own Own) {
	made := map[string]string{} // by output: its job
	for _, j := range pl.jobs {
		for _, o := range j.Outputs {
			made[o] = j.ID
		}
	}
	type planned struct {
		work *ownWork
		job  *taskgraph.Job
	}
	var list []planned
	head := pl.p.File.Project
	for i := range pl.p.File.Steps {
		s := &pl.p.File.Steps[i]
		of := []string{""}
		if s.Each == "map" {
			of = nil
			for _, m := range pl.g.Of(assetgraph.Map) {
				of = append(of, m.Name)
			}
		}
		for _, m := range of {
			w := &ownWork{ID: s.Name, Step: *s, Place: pl.p.StepPlace(i),
				Values: map[string]string{"name": head.Name, "title": head.Title, "version": head.Version}}
			if m != "" {
				w.Values["map"] = m
				w.ID += " " + m
			}
			w.Outputs = s.Files(w.Values)
			j := &taskgraph.Job{ID: "step " + w.ID, Step: taskgraph.OwnStep, Version: ownVersion, Outputs: w.Outputs,
				LocalOnly: true}
			for _, o := range w.Outputs {
				made[o] = j.ID
				if m != "" {
					pl.maps[o] = []string{m}
				}
			}
			list = append(list, planned{w, j})
		}
	}
	for _, x := range list {
		w, j := x.work, x.job
		for _, pattern := range w.Step.Reads(w.Values) {
			if below, ok := strings.CutPrefix(pattern, project.TreeDir+"/"); ok {
				for o, id := range made {
					if match, _ := doublestar.Match(below, o); match && id != j.ID {
						j.After, w.Earlier = append(j.After, id), append(w.Earlier, o)
					}
				}
				continue
			}
			for _, f := range pl.g.Files {
				if match, _ := doublestar.Match(pattern, f.Path); match {
					j.Inputs = append(j.Inputs, f.Path)
				}
			}
		}
		for _, l := range []*[]string{&j.Inputs, &j.After, &w.Earlier} {
			slices.Sort(*l)
			*l = slices.Compact(*l)
		}
		w.Sees, w.Vornix = own.values(&w.Step), own.version(&w.Step)
		pl.work(j, w)
		if !w.Step.Away {
			j.Work = nil
		}
	}
}

// values are what the variables that a step names hold: they decide what it makes, like its inputs.
func (o Own) values(s *project.CustomStep) []string {
	values := make([]string, len(s.Environment))
	for i, name := range s.Environment {
		for _, v := range o.Environ {
			if n, value, _ := strings.Cut(v, "="); n == name || runtime.GOOS == "windows" &&
				strings.EqualFold(n, name) {
				values[i] = value
			}
		}
	}
	return values
}

// version is that of this program for a step that runs it.
func (o Own) version(s *project.CustomStep) string {
	if slices.ContainsFunc(s.Command, func(a string) bool { return strings.Contains(a, "{vornix}") }) {
		return o.Version
	}
	return ""
}

// sees is what all steps of a project see of the environment.
func (o Own) sees(p *project.Project) string {
	text := ""
	for i := range p.File.Steps {
		text += fmt.Sprintf(" %q", o.values(&p.File.Steps[i]))
	}
	return text
}

// Untrusted are a project's custom steps that nobody allowed on this machine.
func (o Own) Untrusted(p *project.Project) ([]trust.Permission, error) {
	if len(p.File.Steps) == 0 {
		return nil, nil
	}
	want, err := trust.Steps(p)
	if err != nil {
		return nil, err
	}
	return o.Trust.Missing(p, want...)
}

// trusted refuses a build whose project has custom steps that nobody allowed here.
func (o Own) trusted(p *project.Project) error {
	missing, err := o.Untrusted(p)
	if err != nil || len(missing) == 0 {
		return err
	}
	return &fault.Fault{Kind: fault.Refused,
		What:  fmt.Sprintf("the project runs %s without consent on this machine", commands(len(missing))),
		Place: missing[0].Place,
		Why:   "They could do whatever you can do. Nothing was built.",
		Do:    "See what would run, and allow it once: vornix trust"}
}

// run runs a step in a folder of its own that holds its inputs, and takes its outputs over.
func (w *ownWork) run(ctx context.Context, t *taskgraph.Task, b *resources) error {
	own, s, values := b.own, &w.Step, w.Values
	scratch, err := safefile.NewScratchDir(b.scratch)
	if err != nil {
		return err
	}
	defer scratch.Close()
	inputs, err := w.layOut(ctx, t, scratch)
	if err != nil {
		return err
	}
	const outFolder = "out"
	for _, folder := range []string{workFolder, outFolder} {
		if err := scratch.MakeFolder(folder); err != nil {
			return err
		}
	}
	root, err := filepath.Abs(scratch.Path())
	if err != nil {
		return err
	}
	out := filepath.Join(root, outFolder)
	for _, o := range w.Outputs { // a program that writes a file seldom makes its folder
		if dir := path.Dir(o); dir != "." {
			if err := scratch.MakeFolder(path.Join(outFolder, dir)); err != nil {
				return err
			}
		}
	}
	failed := func(format string, args ...any) error {
		return &finding.Failure{What: "the step " + s.Name + " failed",
			Findings: []finding.Finding{finding.StepFailed.At(w.Place, "the step %q %s", w.ID,
				fmt.Sprintf(format, args...))}}
	}
	args, err := w.command(own, inputs, out)
	if err != nil {
		return failed("could not be run: %v", err)
	}
	limited, cancel := context.WithTimeout(ctx, cmp.Or(time.Duration(s.Longest)*time.Second, longestStep))
	defer cancel()
	cmd := exec.CommandContext(limited, args[0], args[1:]...)
	cmd.Dir = filepath.Join(root, workFolder)
	cmd.Env = own.environ(s, root)
	cmd.WaitDelay = 2 * time.Second
	alone(cmd)
	var printed, said bytes.Buffer
	kept := &keptWriter{w: &said} // the same for both, so that one goroutine writes
	cmd.Stderr, cmd.Stdout = kept, kept
	if s.Stdout != "" {
		cmd.Stdout = &printed
	}
	runErr := cmd.Run()
	if own.Said != nil && ctx.Err() == nil {
		own.Said(w.ID, bytes.TrimSpace(said.Bytes()), runErr != nil)
	}
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case limited.Err() != nil:
		return failed("did not end in %s", cmp.Or(time.Duration(s.Longest)*time.Second, longestStep))
	case errors.As(runErr, &exit):
		return failed("ended with exit code %d%s", exit.ExitCode(), lastLine(said.Bytes()))
	case runErr != nil:
		return failed("could not be run: %v", runErr)
	}
	if s.Stdout != "" {
		file := profile.Fill(s.Stdout, values)
		if err := t.Write(file, printed.Bytes()); err != nil {
			return err
		}
	}
	for _, o := range w.Outputs {
		if s.Stdout != "" && o == profile.Fill(s.Stdout, values) {
			continue
		}
		file := filepath.Join(out, filepath.FromSlash(o))
		info, err := os.Lstat(file)
		if err != nil || !info.Mode().IsRegular() {
			return failed("did not make %s%s", o, lastLine(said.Bytes()))
		}
		if err := t.Take(ctx, file, o); err != nil {
			return err
		}
	}
	return nil
}

// workFolder is where a step runs, inside its scratch folder.
const workFolder = "work"

// layOut copies a step's inputs to where it runs: sources at their paths in the project, what the
// build made below out/tree.
func (w *ownWork) layOut(ctx context.Context, t *taskgraph.Task, scratch *safefile.ScratchDir) (list []string,
	err error) {
	for _, rel := range t.Inputs() {
		if err := t.LayOut(ctx, rel, scratch.Dir, path.Join(workFolder, rel)); err != nil {
			return nil, err
		}
		list = append(list, rel)
	}
	for _, rel := range w.Earlier {
		data, err := t.Output(rel)
		if err != nil {
			return nil, err
		}
		at := path.Join(project.TreeDir, rel)
		if err := scratch.WriteCache(path.Join(workFolder, at), data); err != nil {
			return nil, err
		}
		list = append(list, at)
	}
	return list, nil
}

// command fills in a step's command.
func (w *ownWork) command(own Own, inputs []string, out string) ([]string, error) {
	if m := w.Values["map"]; m != "" && !trust.PlainName(m) &&
		slices.ContainsFunc(w.Step.Command, func(a string) bool { return strings.Contains(a, "{map}") }) {
		return nil, fmt.Errorf("the map's name %q could change what the command does: only letters, digits, _, - and . may be filled in", m)
	}
	all := maps.Clone(w.Values)
	all["out"], all["vornix"] = out, own.Program
	var args []string
	for _, a := range w.Step.Command {
		if a == "{inputs}" {
			for _, in := range inputs {
				if strings.HasPrefix(in, "-") { // no file's name becomes an option
					in = "./" + in
				}
				args = append(args, in)
			}
			continue
		}
		args = append(args, profile.Fill(a, all))
	}
	// one of the inputs, at its place where the step runs
	if strings.Contains(w.Step.Command[0], "/") && !filepath.IsAbs(args[0]) {
		return args, nil
	}
	found, err := exec.LookPath(args[0])
	if err != nil {
		return nil, fmt.Errorf("the program %q was not found on this machine", args[0])
	}
	args[0] = found
	return args, nil
}

// environ is what a step sees of the environment, with what makes programs give the same on any machine and day.
func (o Own) environ(s *project.CustomStep, temp string) (list []string) {
	for _, v := range o.Environ {
		name, _, _ := strings.Cut(v, "=")
		same := func(n string) bool { return n == name || runtime.GOOS == "windows" && strings.EqualFold(n, name) }
		if slices.ContainsFunc(everywhere, same) || slices.ContainsFunc(s.Environment, same) {
			list = append(list, v)
		}
	}
	return append(list, "TZ=UTC", "LC_ALL=C.UTF-8", "SOURCE_DATE_EPOCH=0", "TMPDIR="+temp, "TEMP="+temp, "TMP="+temp)
}

// lastLine is the last thing that a program said, for a sentence.
func lastLine(said []byte) string {
	lines := strings.Split(strings.TrimSpace(strings.ToValidUTF8(string(said), "\ufffd")), "\n")
	if last := strings.TrimSpace(lines[len(lines)-1]); last != "" {
		return ": " + last
	}
	return ""
}

// keptWriter keeps the most that is worth to be shown of what a program says.
type keptWriter struct{ w *bytes.Buffer }

const maxSaid = 1 << 20

func (l *keptWriter) Write(p []byte) (int, error) {
	if room := maxSaid - l.w.Len(); room > 0 {
		l.w.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

func commands(n int) string {
	if n == 1 {
		return "1 command"
	}
	return fmt.Sprintf("%d commands", n)
}
