package project

import (
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
)

// CustomStep is a command of the project's own. It runs in a folder that holds its inputs and nothing
// else, and makes files that ship.
type CustomStep struct {
	Name        string   `toml:"name" jsonschema:"required,pattern=^[a-z0-9]+([_-][a-z0-9]+)*$,description=What it is called"`
	Command     []string `toml:"command" jsonschema:"required,minItems=1,description=The program and its arguments\\, without a shell. {inputs} alone stands for all inputs\\, {out} for the folder that outputs go to\\, {vornix} for this program; {name}\\, {title}\\, {version} and\\, of each map\\, {map} are filled in"`
	Inputs      []string `toml:"inputs" jsonschema:"description=Patterns of the files that it reads\\, from the project's folder; below out/tree/ what the build makes"`
	Outputs     []string `toml:"outputs" jsonschema:"description=The files that it makes\\, as paths in the game"`
	Stdout      string   `toml:"stdout" jsonschema:"description=The file\\, as a path in the game\\, that what it prints becomes"`
	Each        string   `toml:"each" jsonschema:"enum=map,description=Runs once for each map instead of once"`
	Environment []string `toml:"environment" jsonschema:"description=Names of environment variables that it sees besides PATH and those that every program needs"`
	Longest     int      `toml:"longest" jsonschema:"minimum=0,description=Seconds that it may take (default 600)"`
	Away        bool     `toml:"away" jsonschema:"description=Whether it may also be run on a worker of a farm that allows projects' own steps; its program must give the same bytes there"`
	Revision    string   `toml:"revision" jsonschema:"description=Whatever decides what it makes and can't be seen from the inputs\\, such as the version of the program; a change makes it run again"`
}

// Files are the files that it makes, for a map or for "".
func (s *CustomStep) Files(values map[string]string) []string {
	list := slices.Clone(s.Outputs)
	if s.Stdout != "" && !slices.Contains(list, s.Stdout) {
		list = append(list, s.Stdout)
	}
	for i := range list {
		list[i] = profile.Fill(list[i], values)
	}
	return list
}

// Reads are the patterns of what it reads. A program of the project's own is one of them.
func (s *CustomStep) Reads(values map[string]string) []string {
	list := slices.Clone(s.Inputs)
	if len(s.Command) > 0 && strings.Contains(s.Command[0], "/") && !path.IsAbs(s.Command[0]) &&
		!strings.Contains(s.Command[0], "{") {
		list = append(list, path.Clean(s.Command[0]))
	}
	for i := range list {
		list[i] = profile.Fill(list[i], values)
	}
	return list
}

// ReadByStep says whether one of the project's steps reads a file.
func (p *Project) ReadByStep(file string) bool {
	for i := range p.File.Steps {
		for _, pattern := range p.File.Steps[i].Reads(nil) {
			if ok, _ := doublestar.Match(strings.ReplaceAll(pattern, "{map}", "*"), file); ok {
				return true
			}
		}
	}
	return false
}

// steps checks what the project says of its own steps.
func (p *Project) steps() (list []finding.Finding) {
	names := map[string]bool{}
	for i := range p.File.Steps {
		s := &p.File.Steps[i]
		wrong := func(key, format string, args ...any) {
			list = append(list, p.Doc.Wrong([]any{"step", i, key}, format, args...))
		}
		switch {
		case !nameForm().MatchString(s.Name):
			wrong("name", "name must be small letters, digits, _ and -, and is %q", s.Name)
		case names[s.Name]:
			wrong("name", "there are two steps %q", s.Name)
		}
		names[s.Name] = true
		if len(s.Command) == 0 || s.Command[0] == "" {
			wrong("command", "command is missing: the program, and its arguments")
		}
		for _, pattern := range s.Inputs {
			if !doublestar.ValidatePattern(pattern) || pattern == "" || strings.HasPrefix(pattern, "/") ||
				strings.Contains(pattern, "..") || strings.Contains(pattern, `\`) {
				wrong("inputs", "%q is no pattern of files in the project", pattern)
			}
		}
		files := s.Files(map[string]string{"map": "a"})
		if len(files) == 0 {
			wrong("outputs", "outputs is missing: the files that it makes")
		}
		for _, file := range files {
			if err := safefile.CheckPath(file); err != nil || strings.ContainsAny(file, "*?[") {
				wrong("outputs", "%q is no path of a file in the game", file)
			}
		}
		if s.Each != "" && s.Each != "map" {
			wrong("each", "each can only be map, and is %q", s.Each)
		}
		if s.Each == "map" && !strings.Contains(strings.Join(append(slices.Clone(s.Outputs), s.Stdout), " "), "{map}") {
			wrong("outputs", "all maps would write the same file: name it with {map}")
		}
		if s.Away && len(s.Environment) > 0 {
			wrong("away", "a step that sees environment variables runs on this machine only: what they hold does not leave it")
		}
		if s.Longest < 0 {
			wrong("longest", "longest is a number of seconds, and is %d", s.Longest)
		}
	}
	return list
}

// StepPlace is where a step is declared.
func (p *Project) StepPlace(i int) fault.Place { return p.Doc.At("step", i) }
