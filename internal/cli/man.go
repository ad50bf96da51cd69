package cli

import (
	"bytes"
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"vornix/core/base/safefile"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) manCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "man DIR",
		Short: "Write the man pages of all commands into a folder",
		Long: `Man writes a page for every command (section 1) into DIR, which may be there already. Put DIR into MANPATH, or write into a folder that is there,
such as ~/.local/share/man/man1.`,
		Example: `  vornix man ~/.local/share/man/man1
  vornix man pages && man pages/vornix-release.1`,
		Args: between(1, 1, "the folder for the pages"),
		RunE: a.run(func(_ context.Context, answer *show.Answer, args []string) error {
			d, err := safefile.MakeDir(args[0])
			if err != nil {
				return err
			}
			defer d.Close()
			step := &release.Step{Name: "man", Made: []release.Made{}}
			if err := a.manPages(d, a.root(), args[0], step); err != nil {
				return err
			}
			step.Summary = release.Count(len(step.Made), "page") + " written into " + filepath.ToSlash(args[0])
			return a.step(answer, step, nil)
		}),
	}
}

// manPages writes the page of a command and those of the commands below it.
func (a *app) manPages(d *safefile.Dir, cmd *cobra.Command, dir string, step *release.Step) error {
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			if err := a.manPages(d, c, dir, step); err != nil {
				return err
			}
		}
	}
	page := manPage(cmd)
	name := strings.ReplaceAll(cmd.CommandPath(), " ", "-") + ".1"
	if err := d.WriteFile(name, page); err != nil {
		return err
	}
	step.Made = append(step.Made,
		release.Made{Path: filepath.ToSlash(filepath.Join(dir, name)), Size: int64(len(page)), State: "made"})
	return nil
}

// manPage is a command's help in the macros of man(7). The libraries that do this read Markdown for
// it, which costs every start of the program more than all else that it does before its work.
func manPage(cmd *cobra.Command) []byte {
	var b bytes.Buffer
	text := func(s string) { // a line that begins with a point or a quote would be read as a request
		for line := range strings.SplitSeq(s, "\n") {
			line = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(line)
			if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
				line = `\&` + line
			}
			if line == "" {
				line = ".PP"
			}
			b.WriteString(line + "\n")
		}
	}
	code := func(s string) {
		b.WriteString(".nf\n")
		text(strings.TrimRight(strings.ReplaceAll(s, "\n\n", "\n"), "\n"))
		b.WriteString(".fi\n")
	}
	name := strings.ReplaceAll(cmd.CommandPath(), " ", "-")
	fmt.Fprintf(&b, ".TH \"%s\" \"1\" \"\" \"Vornix\" \"Vornix\"\n.SH NAME\n", strings.ToUpper(name))
	text(name + " - " + cmd.Short)
	b.WriteString(".SH SYNOPSIS\n")
	use := cmd.UseLine()
	if cmd.HasAvailableSubCommands() && !cmd.Runnable() {
		use = cmd.CommandPath() + " COMMAND [flags]"
	}
	text(use)
	b.WriteString(".SH DESCRIPTION\n")
	text(first(cmd.Long, cmd.Short))
	for _, part := range []struct {
		title string
		flags *pflag.FlagSet
	}{{"OPTIONS", cmd.LocalNonPersistentFlags()}, {"OPTIONS OF ALL COMMANDS", cmd.Root().PersistentFlags()}} {
		headed := false
		part.flags.VisitAll(func(f *pflag.Flag) {
			if f.Hidden {
				return
			}
			if !headed {
				b.WriteString(".SH " + part.title + "\n")
				headed = true
			}
			value, usage := pflag.UnquoteUsage(f)
			b.WriteString(".TP\n")
			text(strings.TrimSpace("--" + f.Name + " " + value))
			text(usage)
		})
	}
	if cmd.Example != "" {
		b.WriteString(".SH EXAMPLES\n")
		code(cmd.Example)
	}
	var also []string
	if cmd.HasParent() {
		also = append(also, strings.ReplaceAll(cmd.Parent().CommandPath(), " ", "-"))
	}
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			also = append(also, strings.ReplaceAll(c.CommandPath(), " ", "-"))
		}
	}
	if len(also) > 0 {
		b.WriteString(".SH SEE ALSO\n")
		for i, name := range also {
			comma := " ,"
			if i == len(also)-1 {
				comma = ""
			}
			fmt.Fprintf(&b, ".BR %s (1)%s\n", strings.ReplaceAll(name, "-", `\-`), comma)
		}
	}
	return b.Bytes()
}
