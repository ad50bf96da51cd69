package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/suggest"
	"vornix/core/compile/stage"
	"vornix/core/make/assembly"
)

// stageFlags adds the flags that say which of a map's long stages run, and how; the function reads them.
func stageFlags(cmd *cobra.Command) func() (assembly.Stages, error) {
	var only []string
	var draft, full bool
	var memory string
	flags := cmd.Flags()
	flags.BoolVar(&draft, "draft", false, "run the long stages of maps quickly and roughly, to look at while working")
	flags.BoolVar(&full, "full", false, "run them as a release needs them (default)")
	flags.StringArrayVar(&only, "stage", nil,
		"run only this long `stage` of maps: "+strings.Join(stage.Names, ", ")+" or none; may be given several times")
	flags.StringVar(&memory, "memory", "", "`size` of memory that a stage may take, such as 500M or 8G (default 4G)")
	_ = cmd.RegisterFlagCompletionFunc("stage", fixed(append(slices.Clone(stage.Names), "none"))) // it exists
	return func() (s assembly.Stages, err error) {
		if draft && full {
			return s, &fault.Fault{Kind: fault.Usage, What: "--draft and --full exclude each other",
				Do: "Give one of them."}
		}
		s.Draft, s.Grows = draft, grow
		for _, name := range only {
			switch {
			case name == "none" && len(only) == 1:
				s.Only = []string{}
			case !slices.Contains(stage.Names, name):
				f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("there is no stage %q", name),
					Do: "The long stages are " + strings.Join(stage.Names, ", ") + "; none runs no other."}
				if near := suggest.Word(name, stage.Names); near != "" {
					f.Do = fmt.Sprintf("Did you mean %q?", near)
				}
				return s, f
			default:
				s.Only = append(s.Only, name)
			}
		}
		if memory != "" {
			s.Memory, err = parseSize(memory)
		}
		return s, err
	}
}

// env is the stages as one map alone is compiled.
func (a *app) env(s assembly.Stages) *stage.Env {
	e := &stage.Env{Only: s.Only, Draft: s.Draft, Memory: s.Memory, Workers: a.jobs, Grows: s.Grows}
	if p := a.out.Progress(); p != nil {
		e.Progress = func(name string, done, total int64) { p.Advanced("", name, done, total) }
	}
	return e
}

// parseSize reads a size in bytes, or with K, M or G behind it.
func parseSize(s string) (int64, error) {
	digits := strings.TrimRight(strings.ToUpper(s), "BKMGI")
	factor, ok := map[string]int64{"": 1, "B": 1, "K": 1 << 10, "KB": 1 << 10, "M": 1 << 20, "MB": 1 << 20,
		"G": 1 << 30, "GB": 1 << 30}[strings.ToUpper(s)[len(digits):]]
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || !ok || n <= 0 || n > (1<<50)/factor {
		return 0, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no size", s),
			Do: "Give a number with K, M or G behind it, such as 500M."}
	}
	return n * factor, nil
}
