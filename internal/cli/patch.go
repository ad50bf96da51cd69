package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/base/diff"
	"vornix/core/base/fault"
	"vornix/core/base/humanize"
	"vornix/core/base/transaction"
	"vornix/core/pack/patch"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) patchCommand() *cobra.Command {
	cmd := only(&cobra.Command{
		Use:   "patch",
		Short: "From exactly this to exactly that, and back: make, apply and undo patches",
		Example: `  vornix patch make 1.0.0 1.1.0
  vornix patch apply highline-1.0.0-to-1.1.0.vnp ~/games/kestrel-post
  vornix patch undo ~/games/kestrel-post`,
	})
	cmd.AddCommand(a.patchMakeCommand(), a.patchApplyCommand(), a.patchUndoCommand(), a.patchListCommand(),
		a.patchInspectCommand(), a.patchOverlayCommand(), a.patchSignCommand())
	return cmd
}

// appliedAnswer is the result of patch apply in JSON, once it is done.
type appliedAnswer struct {
	*patch.Plan
	Change *transaction.Record `json:"change"`
}

func (a *app) patchApplyCommand() *cobra.Command {
	var planOnly bool
	var conflicts, to, most string
	var trust []string
	cmd := &cobra.Command{
		Use:   "apply PATCH BASE",
		Short: "Apply a patch to a file, a folder or an installed game, wherever in it the base lies",
		Long: `Apply finds what the patch is for in BASE, a file, a folder or an installed game, by its content; makes the result beside it, held to its
hash; and puts it in place at once, under the names that the patch says, with the files that the patch includes. The
originals are kept, and 'vornix patch undo' brings them back. Applied already, it says so.

PATCH may be a folder of patches: the newest version is reached that they lead to, one after the other. A patch that does not fit
is helped by those beside it in the same way. What is there and is not the base is named: which version it is, or where it differs.

A text that somebody changed gets the patch's change merged into it; where both changed the same, that is shown and nothing is done,
unless --conflicts says which is to stay.`,
		Example: `  vornix patch apply highline-1.0.0-to-1.1.0.vnp ~/games/kestrel-post --plan
  vornix patch apply patches ~/games/kestrel-post
  vornix patch apply ground.vnp textures/ground.ktx2 --to patched`,
		Args: between(2, 2, "a patch (or a folder of patches) and what it is applied to"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			o := patch.ApplyOptions{Workers: a.workers(), Conflicts: patch.Conflicts(conflicts), To: to}
			if !slices.Contains([]patch.Conflicts{patch.Refuse, patch.Keep, patch.Take}, o.Conflicts) {
				return &fault.Fault{Kind: fault.Usage, What: "--conflicts must be keep or take",
					Do: "keep leaves what is there, take lets the patch's come."}
			}
			if most != "" {
				var err error
				if o.Most, err = parseSize(most); err != nil {
					return err
				}
			}
			keys, demanded, err := a.trusted(trust)
			if err != nil {
				return err
			}
			if planOnly {
				if err := unfinished(args[1]); err != nil {
					return err
				}
			} else {
				mended, err := patch.Mend(ctx, args[1])
				for _, m := range mended {
					a.out.Say("%s", m)
				}
				if err != nil {
					return err
				}
			}
			asked, err := openPatches(args[0])
			defer func() { closePatches(asked) }()
			if err != nil {
				return err
			}
			plan, err := patch.Prepare(ctx, args[1], asked, nil, o)
			var wrong *patch.WrongBaseError
			if errors.As(err, &wrong) { // the ones beside it may help
				others := beside(args[0], asked)
				defer closePatches(others)
				if len(others) > 0 {
					plan, err = patch.Prepare(ctx, args[1], asked, others, o)
				}
			}
			if err != nil {
				return a.patchRefused(answer, err)
			}
			answer.Result = plan
			if demanded && !plan.Already {
				if err := plan.Trust(keys); err != nil {
					return err
				}
			}
			if plan.Already {
				a.out.Say("already applied: %s is %s", plan.Place, show.Clean(version(plan.To, "what the patch makes")))
				return nil
			}
			a.patchPlan(plan)
			if planOnly {
				a.out.Say("\nnothing was changed")
				return nil
			}
			o.Advanced = a.steps("patching")
			r, err := plan.Apply(ctx, o)
			if err != nil {
				return a.patchRefused(answer, err)
			}
			switch {
			case to != "":
				a.out.Say("\nthe result is in %s; %s is as it was", filepath.ToSlash(to), plan.Place)
			case r == nil:
				a.out.Say("\nall of it was so already")
			default:
				answer.Result = appliedAnswer{plan, r}
				a.out.Say("\napplied: %s; 'vornix patch undo %s' takes it back",
					show.Clean(version(plan.To, release.Count(len(r.Files), "file"))), plan.Root())
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would change, and change nothing")
	cmd.Flags().StringVar(&conflicts, "conflicts", "",
		"`what` stays where the patch and somebody else changed the same in a text: keep what is there, or take the patch's")
	cmd.Flags().StringVar(&to, "to", "", "write the result into this new `folder`, and leave the base alone")
	cmd.Flags().StringArrayVar(&trust, "trust", nil,
		"demand a signature by this public `key`; may be given several times")
	cmd.Flags().StringVar(&most, "max-size", "", "`size` that the result may have, such as 100G (default 64G)")
	return cmd
}

func version(v, otherwise string) string {
	if v == "" {
		return otherwise
	}
	return "version " + v
}

// unfinished says that something was cut off, which a look alone does not mend.
func unfinished(where string) error {
	folders, err := patch.Patched(where)
	if err != nil {
		return err
	}
	for _, dir := range folders {
		if transaction.Unfinished(dir) {
			return &fault.Fault{Kind: fault.Refused, What: "a change was cut off here and is not at its end",
				Place: fault.Place{File: filepath.ToSlash(dir)},
				Why:   "Until then nobody can say what would come of a patch.",
				Do:    "Bring it to its end: vornix patch list " + filepath.ToSlash(dir)}
		}
	}
	return nil
}

// steps tells a progress how far something is; nil where nothing may move.
func (a *app) steps(what string) func(done, total int64) {
	p := a.out.Progress()
	if p == nil {
		return nil
	}
	return func(done, total int64) { p.Advanced("", what, done, total) }
}

// openPatches opens a patch, or all of a folder, the newest first.
func openPatches(name string) (list []*patch.Opened, err error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "there is no patch " + filepath.ToSlash(name), Err: err,
			Do: "Name a patch, or a folder of patches."}
	}
	if !info.IsDir() {
		p, err := patch.Open(name)
		if err != nil {
			return nil, err
		}
		return []*patch.Opened{p}, nil
	}
	list, err = patchesIn(name)
	if err == nil && len(list) == 0 {
		err = &fault.Fault{Kind: fault.Usage, What: "there are no patches in " + filepath.ToSlash(name),
			Do: "Name a patch, or a folder of patches (*" + patch.Ending + ")."}
	}
	return list, err
}

func patchesIn(dir string) (list []*patch.Opened, err error) {
	names, err := filepath.Glob(filepath.Join(globbed(dir), "*"+patch.Ending))
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		p, err := patch.Open(n)
		if err != nil {
			return list, err
		}
		list = append(list, p)
	}
	slices.SortStableFunc(list, func(x, y *patch.Opened) int { return strings.Compare(y.To, x.To) })
	return list, nil
}

// globbed makes a folder's name safe in a pattern.
func globbed(dir string) string {
	if filepath.Separator == '\\' {
		return dir // there, nothing can be escaped
	}
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(dir)
}

// beside are the other patches in the folder of the one that was named. Those that can't be read do not help.
func beside(name string, asked []*patch.Opened) (list []*patch.Opened) {
	if len(asked) != 1 {
		return nil
	}
	names, _ := filepath.Glob(filepath.Join(globbed(filepath.Dir(name)), "*"+patch.Ending)) // a pattern of ours
	for _, n := range names {
		if p, err := patch.Open(n); err == nil {
			if p.SHA256 == asked[0].SHA256 {
				p.Close()
				continue
			}
			list = append(list, p)
		}
	}
	return list
}

func closePatches(list []*patch.Opened) {
	for _, p := range list {
		p.Close()
	}
}

// patchPlan shows what applying comes to.
func (a *app) patchPlan(p *patch.Plan) {
	signed := "not signed"
	if p.Signer != "" {
		signed = "signed by " + p.Signer
	}
	what := ""
	if p.From != "" || p.To != "" {
		what = show.Clean(fmt.Sprintf(", %s to %s", orDash(p.From), orDash(p.To)))
	}
	a.out.Say("found: %s%s (%s)", p.Place, what, signed)
	if len(p.Patches) > 1 {
		var names []string
		for _, n := range p.Patches {
			names = append(names, filepath.Base(n))
		}
		a.out.Say("by %s, one after the other: %s", release.Count(len(names), "patch"), strings.Join(names, ", "))
	}
	var rows [][]string
	for _, x := range p.Actions {
		old, now := release.Bytes(x.Old), release.Bytes(x.New)
		if x.Do == "add" || x.Do == "bring" && x.Old == 0 {
			old = ""
		}
		if x.Do == "remove" {
			now = ""
		}
		rows = append(rows, []string{x.Do, x.Path, old, now, x.Why})
	}
	if shown := 30; len(rows) > shown+1 && !a.out.Verbose {
		rows = append(rows[:shown],
			[]string{"", fmt.Sprintf("and %d more (--verbose lists all)", len(rows)-shown), "", "", ""})
	}
	a.out.Table([]string{"", "file", "size", "size then", ""}, rows)
	for _, n := range p.Notes {
		a.out.Say("note: %s", show.Clean(n))
	}
}

func orDash(s string) string {
	if s == "" {
		return "?"
	}
	return s
}

// patchRefused shows why a patch can't be applied.
func (a *app) patchRefused(answer *show.Answer, err error) error {
	var wrong *patch.WrongBaseError
	var c *patch.ConflictError
	switch {
	case errors.As(err, &wrong):
		answer.Result = wrong
		f := &fault.Fault{Kind: fault.Refused, What: wrong.Error(), Place: fault.Place{File: wrong.Place},
			Why: "Nothing was changed.",
			Do:  "Get the file that the patch is for again, unchanged, or a patch for what is there."}
		if wrong.Version != "" {
			f.Do = "Get a patch from version " + wrong.Version + ", or the full file."
			if slices.Contains(wrong.Leads, wrong.Version) {
				f.Do = "There is a patch from " + wrong.Version +
					": apply that one, or name the folder that both lie in."
			}
		} else {
			var rows [][]string
			for _, w := range wrong.Wrong {
				rows = append(rows, []string{w.Path, differs(w), where(w), w.Inside})
			}
			if shown := 20; len(rows) > shown && !a.out.Verbose {
				rows = append(rows[:shown],
					[]string{fmt.Sprintf("and %d more (--verbose lists all)", len(rows)-shown), "", "", ""})
			}
			a.out.Table([]string{"not as it must be", "", "from", "in"}, rows)
			a.out.Say("")
		}
		return f
	case errors.As(err, &c):
		answer.Result = c
		for _, file := range c.Files {
			for _, p := range file.Places {
				at := file.Path
				if p.Line > 0 {
					at += fmt.Sprintf(":%d", p.Line)
				}
				if p.Key != "" {
					a.out.Say("%s  %s\n  it was      %s\n  here it is  %s\n  the patch   %s\n", at, show.Clean(p.Key),
						show.Clean(p.Base), show.Clean(p.Ours), show.Clean(p.Theirs))
					continue
				}
				a.out.Say("%s\n%s%s%s%s%s", at, marked("      ", p.Before), marked("  was ", p.Base),
					marked(" here ", p.Ours), marked("patch ", p.Theirs), marked("      ", p.After))
			}
		}
		return &fault.Fault{Kind: fault.Refused, What: c.Error(), Place: fault.Place{File: c.Files[0].Path},
			Why: "Nothing was changed.",
			Do:  "Decide with --conflicts keep or --conflicts take, or change the text by hand and do it again."}
	}
	return err
}

// marked puts a mark before each line.
func marked(mark, text string) string {
	if text == "" {
		return ""
	}
	var b strings.Builder
	for _, line := range strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n") {
		b.WriteString(mark + "| " + show.Clean(strings.TrimRight(line, "\r\n")) + "\n")
	}
	return b.String()
}

func differs(w patch.Wrong) string {
	switch {
	case w.Gone:
		return "it is not there"
	case w.Differ < 0:
		return humanize.Instead(w.Have, w.Want)
	case w.Have != w.Want:
		return fmt.Sprintf("%s; at most %s differ, in %s", humanize.Instead(w.Have, w.Want), release.Bytes(w.Differ),
			release.Count(w.Places, "place"))
	}
	return fmt.Sprintf("at most %s differ, in %s", release.Bytes(w.Differ), release.Count(w.Places, "place"))
}

func where(w patch.Wrong) string {
	if w.First < 0 || w.Gone {
		return ""
	}
	return fmt.Sprintf("byte %d", w.First)
}

// changesAt is where changes were made, and what they are.
type changesAt struct {
	Folder  string               `json:"folder"`
	Mended  string               `json:"mended,omitempty"`
	Changes []transaction.Record `json:"changes"`
}

func (a *app) patchListCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "list [PLACE]",
		Short: "What was applied where, and what can be taken back",
		Long: `List shows the changes that patches and overlays made in a folder and those below it, from the records that lie there (in vornix-patched).
A change that was cut off, since the power went, is brought to its end first.`,
		Example: `  vornix patch list ~/games/kestrel-post
  vornix patch list --json`,
		Args: between(0, 1, "a folder"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			place := "."
			if len(args) > 0 {
				place = args[0]
			}
			mended, err := patch.Mend(ctx, place)
			for _, m := range mended {
				a.out.Say("%s", m)
			}
			if err != nil {
				return err
			}
			folders, err := patch.Patched(place)
			if err != nil {
				return err
			}
			list := []changesAt{}
			for _, dir := range folders {
				records, err := transaction.Records(dir)
				if err != nil {
					return err
				}
				if len(records) == 0 {
					continue
				}
				list = append(list, changesAt{Folder: filepath.ToSlash(dir), Changes: records})
				a.out.Heading("%s", show.Clean(filepath.ToSlash(dir)))
				var rows [][]string
				for _, r := range records {
					state := "applied"
					if r.Undone {
						state = "undone"
					}
					versions := ""
					if r.From != "" || r.To != "" {
						versions = orDash(r.From) + " to " + orDash(r.To)
					}
					rows = append(rows,
						[]string{fmt.Sprint(r.ID), r.Time.Local().Format("2006-01-02 15:04"), r.Kind, r.Title, versions,
							release.Count(len(r.Files), "file"), state})
				}
				a.out.Table([]string{"", "when", "", "what", "versions", "", ""}, rows)
			}
			answer.Result = list
			if len(list) == 0 {
				a.out.Say("nothing was applied in %s", filepath.ToSlash(place))
			}
			return nil
		}),
	}
}

func (a *app) patchUndoCommand() *cobra.Command {
	var change int
	var all, planOnly, leave, setAside bool
	cmd := &cobra.Command{
		Use:   "undo PLACE",
		Short: "Bring back what was there before a patch or an overlay",
		Long: `Undo takes the last change in a folder back that was not undone yet: the originals, kept and checked by hash, return to their places, and
what came goes. It refuses where somebody changed a file since, and shows which and how. --leave-changed leaves those as they are, and keeps
their originals for a later undo. --set-aside moves them into vornix-patched/aside, and brings the originals back.`,
		Example: `  vornix patch undo ~/games/kestrel-post
  vornix patch undo ~/games/kestrel-post --change 2 --plan`,
		Args: between(1, 1, "the folder that was patched"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			mended, err := patch.Mend(ctx, args[0])
			for _, m := range mended {
				a.out.Say("%s", m)
			}
			if err != nil {
				return err
			}
			dir, err := changedFolder(args[0])
			if err != nil {
				return err
			}
			how := transaction.Refuse
			switch {
			case leave:
				how = transaction.Leave
			case setAside:
				how = transaction.Aside
			}
			f, err := transaction.Open(ctx, dir, "vornix patch undo")
			if err != nil {
				return err
			}
			defer f.Close()
			records, err := toUndo(f, change, all)
			if err != nil {
				return err
			}
			var done []transaction.Record
			for _, r := range records {
				drift, err := f.Drifted(r)
				if err != nil {
					return err
				}
				if len(drift) > 0 {
					a.drifted(f, drift)
				}
				if planOnly || len(drift) > 0 && how == transaction.Refuse {
					a.undoPlan(r)
				}
				if planOnly {
					done = append(done, *r)
					continue
				}
				if len(drift) > 0 && how == transaction.Refuse {
					answer.Result = drift
				}
				aside, err := f.RollBack(ctx, r, how)
				if err != nil {
					return err
				}
				done = append(done, *r)
				a.out.Say("taken back: change %d, %s (%s)", r.ID, show.Clean(r.Title),
					release.Count(len(r.Files)-len(drift)+len(aside), "file"))
				for _, at := range aside {
					a.out.Say("set aside: %s", show.Clean(filepath.ToSlash(f.Join(at))))
				}
			}
			answer.Result = done
			if planOnly {
				a.out.Say("\nnothing was changed")
			}
			return nil
		}),
	}
	cmd.Flags().IntVar(&change, "change", 0,
		"undo the change with this `number`, as 'patch list' shows it (default: the last)")
	cmd.Flags().BoolVar(&all, "all", false, "undo all changes, the last first")
	cmd.Flags().BoolVar(&leave, "leave-changed", false, "leave files as they are that somebody changed since")
	cmd.Flags().BoolVar(&setAside, "set-aside", false,
		"move files that somebody changed since to "+transaction.Dir+"/aside, and bring their originals back")
	cmd.MarkFlagsMutuallyExclusive("leave-changed", "set-aside")
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would come back, and change nothing")
	return cmd
}

// changedFolder is the one folder at or below a place that has changes to undo.
func changedFolder(place string) (string, error) {
	folders, err := patch.Patched(place)
	if err != nil {
		return "", err
	}
	var with []string
	for _, dir := range folders {
		records, err := transaction.Records(dir)
		if err != nil {
			return "", err
		}
		if slices.ContainsFunc(records, func(r transaction.Record) bool { return !r.Undone }) {
			with = append(with, filepath.ToSlash(dir))
		}
	}
	if own := filepath.ToSlash(filepath.Clean(place)); slices.Contains(with, own) {
		return filepath.FromSlash(own), nil
	}
	switch len(with) {
	case 0:
		return "", &fault.Fault{Kind: fault.Usage, What: "there is nothing to undo in " + filepath.ToSlash(place),
			Do: "'vornix patch list' shows what was applied."}
	case 1:
		return filepath.FromSlash(with[0]), nil
	}
	return "", &fault.Fault{Kind: fault.Usage, What: "several folders were changed", Why: strings.Join(with, ", "),
		Do: "Name one of them."}
}

// toUndo are the changes that are meant.
func toUndo(f *transaction.Folder, change int, all bool) (list []*transaction.Record, err error) {
	records := f.Records()
	for i := len(records) - 1; i >= 0; i-- {
		r := &records[i]
		if r.Undone || change > 0 && r.ID != change {
			continue
		}
		list = append(list, r)
		if !all {
			break
		}
	}
	if len(list) == 0 {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("there is no change %d to undo", change),
			Do: "'vornix patch list' shows their numbers."}
	}
	return list, nil
}

// drifted shows what is not as a change left it.
func (a *app) drifted(f *transaction.Folder, list []transaction.Drift) {
	var rows [][]string
	for _, d := range list {
		how := humanize.Instead(d.NowSize, d.NewSize)
		switch {
		case d.Now == "":
			how = "it is gone"
		case d.New == "":
			how = "it is there again, " + release.Bytes(d.NowSize)
		case d.NowSize == d.NewSize:
			how = "other content of the same size"
		}
		by := "somebody"
		if d.By > 0 {
			by = fmt.Sprintf("change %d", d.By)
		}
		when := ""
		if !d.Written.IsZero() {
			when = d.Written.Local().Format(time.DateTime)
		}
		rows = append(rows, []string{d.Path, how, by, when})
	}
	a.out.Table([]string{"changed since", "", "by", "written"}, rows)
	for _, d := range list { // of texts, what they are now instead of what the patch left
		left, ok := f.Text(d.File)
		now, err := os.ReadFile(f.Join(d.Path))
		if !ok || err != nil || len(now) > 1<<20 {
			continue
		}
		a.out.Say("")
		lines := strings.Split(strings.TrimSuffix(diff.Unified(d.Path+" (as the patch left it)", d.Path+" (now)", left,
			string(now)), "\n"), "\n")
		if shown := 24; len(lines) > shown && !a.out.Verbose {
			lines = append(lines[:shown], fmt.Sprintf("and %d more lines (--verbose lists all)", len(lines)-shown))
		}
		for _, line := range lines {
			a.out.Say("%s", show.Clean(strings.TrimRight(line, "\r")))
		}
	}
}

// undoPlan shows what would come back.
func (a *app) undoPlan(r *transaction.Record) {
	var rows [][]string
	for _, f := range r.Files {
		do, size := "bring back", release.Bytes(f.OldSize)
		if f.Old == "" {
			do, size = "remove", ""
		}
		rows = append(rows, []string{do, f.Path, size})
	}
	a.out.Heading("change %d, %s", r.ID, show.Clean(r.Title))
	a.out.Table([]string{"", "file", "size"}, rows)
	a.out.Say("")
}
