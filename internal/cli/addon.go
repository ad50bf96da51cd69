package cli

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/template"
	"vornix/core/config/project"
	"vornix/core/make/metadata"
	"vornix/core/pack/bundle"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) addonCommand() *cobra.Command {
	cmd := only(&cobra.Command{
		Use:   "addon",
		Short: "Write and check metadata files, and read those of others",
		Long: `Addon fills the fields that the game's profile declares from vornix.toml and from what the maps really hold, checks
them, and writes the files that stand beside the bundles. Those that belong inside are written by 'vornix build'.`,
		Example: `  vornix addon check
  vornix addon write
  vornix addon import old/waybill.json --plan`,
	})
	cmd.AddCommand(a.addonWriteCommand(), a.addonCheckCommand(), a.addonImportCommand())
	return cmd
}

func (a *app) addonWriteCommand() *cobra.Command {
	var planOnly, replace bool
	cmd := &cobra.Command{
		Use: "write", Short: "Write the metadata files", Args: noArgs,
		Long: `Write makes the files that stand beside the bundles, in out/addon. One that somebody changed by hand is not written over: the command
shows the change and refuses. Take it into vornix.toml ('vornix addon import'), or write the file anew with --replace-edited, which moves
the changed one to the safe place first.`,
		Example: "  vornix addon write\n  vornix addon write --plan",
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			if planOnly {
				return a.addonPlan(ctx, answer)
			}
			s, err := a.session("addon write", func(o *release.Options) { o.ReplaceEdited = replace })
			if err != nil {
				return err
			}
			defer s.Close()
			bundles, err := a.ready(ctx, s.P)
			if err != nil {
				if release.MetadataOfBundles(s.P.Profile) {
					return err
				}
				bundles = nil
			}
			step, err := s.Addon(ctx, bundles)
			var edited *release.EditedError
			if errors.As(err, &edited) {
				answer.Result = editedAnswer{edited.File, edited.Diff}
				a.out.Say("%s", show.CleanLines(edited.Diff))
			}
			return a.step(answer, step, err)
		}),
	}
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show which files would be written, and write nothing")
	cmd.Flags().BoolVar(&replace, "replace-edited", false,
		"write files anew that somebody changed by hand, after moving those to the safe place ("+project.QuarantineDir+
			")")
	return cmd
}

// addonPlan shows how the files stand to what would be written.
func (a *app) addonPlan(ctx context.Context, answer *show.Answer) error {
	p, g, err := a.scanned(ctx)
	if err != nil {
		return err
	}
	bundles, err := a.ready(ctx, p)
	if err != nil && release.MetadataOfBundles(p.Profile) {
		return err
	}
	files, findings := metadata.Make(p, g, metadata.Options{Bundles: release.AddonBundles(bundles)})
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return err
	}
	defer d.Close()
	list, err := metadata.Stand(d, release.AddonDir, "beside", files)
	if err != nil {
		return err
	}
	var rows [][]string
	plan := []standingFile{}
	for _, x := range list {
		plan = append(plan, standingFile{x.Path, string(x.State), len(x.File.Data), x.Diff})
		rows = append(rows, []string{x.Path, string(x.State), release.Bytes(int64(len(x.File.Data)))})
	}
	answer.Result = plan
	a.out.Findings(finding.Accept(findings, p.Acceptances()))
	a.out.Table([]string{"file", "state", "size"}, rows)
	for _, x := range list {
		if x.State == metadata.Edited {
			a.out.Say("\n%s", show.CleanLines(x.Diff))
		}
	}
	return nil
}

// standingFile is a metadata file of a plan in JSON answers.
type standingFile struct {
	Path  string `json:"path"`
	State string `json:"state"` // new, same, changed, edited
	Size  int    `json:"size"`
	Diff  string `json:"diff,omitempty"`
}

func (a *app) addonCheckCommand() *cobra.Command {
	return &cobra.Command{
		Use: "check", Short: "Check the metadata and show it, writing nothing", Args: noArgs,
		Long: `Check fills all fields, holds them to the profile's rules (lengths, words, characters, flags that contradict the content, names that must
agree, pictures, languages), and shows the files. What is said of bundles is right once they are packed.`,
		Example: "  vornix addon check\n  vornix addon check --json",
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			p, g, err := a.scanned(ctx)
			if err != nil {
				return err
			}
			o := metadata.Options{}
			if bundles, err := bundle.Packed(p); err == nil {
				o.Bundles = release.AddonBundles(bundles)
			}
			files, findings := metadata.Make(p, g, o)
			findings = finding.Accept(findings, p.Acceptances())
			answer.Steps = []release.Step{{Name: "addon", Summary: release.Tally(findings), Made: []release.Made{},
				Findings: findings}}
			a.out.Findings(findings)
			shown := []metadataFile{}
			for _, f := range files {
				shown = append(shown, metadataFile{f.Path, f.Place, string(f.Data)})
				a.out.Heading("%s (%s)", f.Path, f.Place)
				a.out.Say("%s", show.CleanLines(readableText(f.Data)))
			}
			answer.Result = shown
			if o.Bundles == nil && release.MetadataOfBundles(p.Profile) {
				a.out.Say("\nsizes, hashes and counts of bundles are known once they are packed: vornix pack")
			}
			return metadata.Err(findings)
		}),
	}
}

// readableText is a file as a terminal can show it, whatever its encoding.
func readableText(data []byte) string {
	return strings.TrimRight(strings.ReplaceAll(decoded(data), "\r\n", "\n"), "\n")
}

// metadataFile is a metadata file in JSON answers.
type metadataFile struct {
	Path    string `json:"path"`
	Place   string `json:"place"`
	Content string `json:"content"`
}

func (a *app) addonImportCommand() *cobra.Command {
	var planOnly bool
	var as string
	cmd := &cobra.Command{
		Use:   "import FILE",
		Short: "Read a metadata file by the game's profile, and fill vornix.toml from it",
		Long: `Import reads a metadata file that is there already (JSON, TOML, YAML, XML, INI, or lines of a key and a value), finds the profile's fields in it,
and writes what people write into vornix.toml, whose comments and order stay. What Vornix computes is compared; what no field takes is
listed. The plan is shown first.`,
		Example: `  vornix addon import old/waybill.json --plan
  vornix addon import out/addon/highline.waybill.json --yes`,
		Args: between(1, 1, "one metadata file"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, g, err := a.scanned(ctx)
			if err != nil {
				return err
			}
			data, err := os.ReadFile(args[0])
			if err != nil {
				return &fault.Fault{Kind: fault.Usage, What: "the metadata can't be read",
					Place: fault.Place{File: filepath.ToSlash(args[0])}, Err: err, Do: "Check the path."}
			}
			list, err := metadata.Import(p, g, args[0], data, as)
			if err != nil {
				return err
			}
			answer.Result = list
			set := a.taken(list)
			if set == 0 {
				a.out.Say("\nvornix.toml has all of it already")
				return nil
			}
			if planOnly {
				a.out.Say("\nnothing was changed")
				return nil
			}
			if err := a.confirm(ctx, "Write "+release.Count(set, "value")+" into vornix.toml?"); err != nil {
				return err
			}
			s, err := a.session("addon import", nil)
			if err != nil {
				return err
			}
			defer s.Close()
			n, err := metadata.Apply(s.P, list)
			if err != nil {
				return err
			}
			a.out.Say("\n%s written into vornix.toml; 'vornix addon check' shows what comes of it",
				release.Count(n, "value"))
			return nil
		}),
	}
	cmd.Flags().StringVar(&as, "as", "",
		"which of the profile's metadata files it is, by the `path` there (default: the one that it fits best)")
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would be taken over, and change nothing")
	cmd.Flags().BoolVar(&a.yes, "yes", false, "do it without asking")
	return cmd
}

// taken shows what becomes of the values of a file, and says how many go into vornix.toml.
func (a *app) taken(list []metadata.Taken) (set int) {
	words := map[string]string{metadata.TakenSet: "goes to", metadata.TakenSame: "is there",
		metadata.TakenComputed: "computed", metadata.TakenDiffers: "computed otherwise",
		metadata.TakenUnknown: "no such field", metadata.TakenRefused: "refused"}
	var rows [][]string
	for _, t := range list {
		where := t.To
		switch t.State {
		case metadata.TakenSet:
			set++
		case metadata.TakenDiffers:
			where = "it is " + template.Text(t.Old)
		case metadata.TakenRefused:
			where = t.Note
		}
		rows = append(rows,
			[]string{show.Clean(t.Key), show.Clean(short(template.Text(t.Value), 40)), words[t.State],
				show.Clean(short(where, 60))})
	}
	a.out.Table([]string{"in the file", "value", "", "in vornix.toml"}, rows)
	return set
}

// short cuts a text that is too long for a column.
func short(s string, most int) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}
