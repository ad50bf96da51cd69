package cli

import (
	"context"
	"crypto"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/base/download"
	"vornix/core/base/fault"
	"vornix/core/release"
	"vornix/core/ship/fetch"
	"vornix/core/ship/index"
	"vornix/core/ship/indexwriter"
	"vornix/internal/cli/show"
)

func (a *app) indexCommand() *cobra.Command {
	cmd := only(&cobra.Command{
		Use:   "index",
		Short: "Write, sign and check the version index",
		Long: `The index says what there is, in which version, how large, with which SHA-256, where to get it and by which patches. A version that was
released and whose content has changed is refused: the version has to be raised, or players would never get the change.`,
		Example: `  vornix index write --key ~/highline.key --to public
  vornix index check https://downloads.example/highline/`,
	})
	cmd.AddCommand(a.indexWriteCommand(), a.indexSignCommand(), a.indexCheckCommand(), a.indexRetractCommand())
	return cmd
}

// signFlags are the flags of commands that sign the index.
type signFlags struct {
	keys              []string
	unsigned, lostKey bool
}

func (f *signFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&f.keys, "key", nil,
		"sign the index with the key in this `file`, or agent[:COMMENT]; several to change keys (default: "+keyVariable+
			")")
	cmd.Flags().BoolVar(&f.lostKey, "lost-key", false,
		"sign with keys that the last index does not know, since its own are lost")
}

func (f *signFlags) addUnsigned(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.unsigned, "unsigned", false,
		"write the index without a signature although the last one had one")
}

// signers are the keys that were named, or that the environment names; none for no signature.
func (f *signFlags) signers() ([]crypto.Signer, error) {
	names := f.keys
	if len(names) == 0 {
		names = []string{""}
	}
	var list []crypto.Signer
	for _, name := range names {
		key, err := signingKey(name)
		if err != nil {
			return nil, err
		}
		if key != nil {
			list = append(list, key)
		}
	}
	return list, nil
}

func (f *signFlags) set(o *release.Options) (err error) {
	o.Unsigned, o.LostKey = f.unsigned, f.lostKey
	if !f.unsigned {
		o.Keys, err = f.signers()
	}
	return err
}

func (a *app) indexWriteCommand() *cobra.Command {
	var f signFlags
	var to, date string
	var offline bool
	cmd := &cobra.Command{
		Use: "write", Short: "Write the index of the packed bundles, and the game's own forms of it", Args: noArgs,
		Long: `Write makes out/index/index.json of the packed bundles and of the patches in out/patches that lead to them, and the forms of it that the
game's profile asks for. It continues the index that players get (at targets with role = "downloads", at base under [index], or in the
folder of --to): its number is the next one, and one of its keys must sign. A version that was released keeps its date; what is new says what
notes/VERSION.md says. A version that [[index.retracted]] takes back stays listed as such, and the last good version replaces it.

With --to, a folder gets everything that the index names, to be served or pushed from there: files first, the index last.`,
		Example: "  vornix index write\n  vornix index write --key ~/highline.key --to public",
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			o := release.Options{}
			if err := f.set(&o); err != nil {
				return err
			}
			s, err := a.session("index write", func(all *release.Options) {
				all.Keys, all.Unsigned, all.LostKey = o.Keys, o.Unsigned, o.LostKey
			})
			if err != nil {
				return err
			}
			defer s.Close()
			bundles, err := a.ready(ctx, s.P)
			if err != nil {
				return err
			}
			all := a.options()
			all.Offline = offline
			places, err := a.checkPlaces(ctx, s.P, bundles, true, all, release.Query{IndexFolder: to})
			if err != nil {
				return err
			}
			step, err := s.Index(ctx, bundles, date, places)
			if err := a.step(answer, step, err); err != nil || to == "" {
				return err
			}
			c, err := indexwriter.Collect(ctx, s.P, to)
			if err != nil {
				return err
			}
			answer.Result = collected{filepath.ToSlash(to), append([]string{}, c.Copied...),
				append([]string{}, c.Kept...), append([]string{}, c.Left...)}
			a.out.Say("%s has all that the index names: %s copied, %d there already", filepath.ToSlash(to),
				release.Count(len(c.Copied), "file"), len(c.Kept))
			if len(c.Left) > 0 {
				a.out.Say("left there, since the index does not name them: %s", release.Few(c.Left))
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&to, "to", "", "also copy everything that the index names to this `folder`")
	cmd.Flags().StringVar(&date, "date", "",
		"`date` of a version that is not released yet, as in 2026-11-25 (a release gives its own)")
	f.add(cmd)
	f.addUnsigned(cmd)
	addOffline(cmd, &offline)
	return cmd
}

// collected is a folder to serve in JSON answers.
type collected struct {
	Folder string   `json:"folder"`
	Copied []string `json:"copied"`
	Kept   []string `json:"kept"`
	Left   []string `json:"left"`
}

func (a *app) indexSignCommand() *cobra.Command {
	var f signFlags
	var offline bool
	cmd := &cobra.Command{
		Use: "sign", Short: "Sign the index that is there: for the first time, for longer, or with other keys",
		Args: noArgs,
		Long: `Sign signs out/index/index.json again, with a new number and, with valid_days under [index], a new day on which it expires.

To change keys, sign with the old and the new one for as long as players need to have been there, then with the new one alone: players who saw
the index meanwhile know the new key. A key is in a file that only you can read, or in an SSH agent (Ed25519).`,
		Example: "  vornix index sign --key ~/highline.key\n  vornix index sign --key ~/highline.key --key agent:highline-2027",
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			keys, err := f.signers()
			if err == nil && len(keys) == 0 {
				err = &fault.Fault{Kind: fault.Usage, What: "no key is named",
					Do: "Name its file: --key FILE, --key agent, or in " + keyVariable +
						"; 'vornix key new FILE' makes one."}
			}
			if err != nil {
				return err
			}
			s, err := a.session("index sign", nil)
			if err != nil {
				return err
			}
			defer s.Close()
			all := a.options()
			all.Offline = offline
			places, err := release.QueryPlaces(ctx, s.P, all, release.Query{})
			if err == nil {
				err = places.Answered(offline)
			}
			if err != nil {
				return err
			}
			a.silent(places)
			published, at := places.Index()
			x, err := indexwriter.SignAgain(s.P,
				indexwriter.WriteOptions{Keys: keys, Now: time.Now(), LostKey: f.lostKey, Published: published,
					PublishedAt: at})
			if err != nil {
				return err
			}
			answer.Result = x
			a.out.Say("index number %d is signed by %s%s", x.Serial, strings.Join(x.Signers(), " and "), until(x))
			return nil
		}),
	}
	f.add(cmd)
	addOffline(cmd, &offline)
	return cmd
}

func until(x *index.Index) string {
	if x.Expires == "" {
		return ", and does not expire"
	}
	day, _, _ := strings.Cut(x.Expires, "T")
	return ", and good until " + day
}

func (a *app) indexCheckCommand() *cobra.Command {
	var trust []string
	var online, beside bool
	cmd := &cobra.Command{
		Use:   "check [URL|DIR]",
		Short: "Fetch and verify everything that an index names: there, whole, signed, patches that work",
		Long: `Check reads the index at an address or in a folder and all files that it names, and verifies sizes, hashes and signatures. Patches are applied
to the versions that they start from, where this project still has them. Without an address the project's own index is held to its
own files; with --online, to what base under [index] really serves.`,
		Example: `  vornix index check
  vornix index check https://downloads.example/highline/ --trust ed25519:…`,
		Args: between(0, 1, "one address or folder at most"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			keys, _, err := a.trusted(trust)
			if err != nil {
				return err
			}
			address := ""
			if len(args) > 0 {
				address = args[0]
			}
			p, err := a.hereProject()
			if err != nil && address == "" {
				return err
			}
			if address == "" {
				if p, err = a.load(); err != nil {
					return err
				}
				if online {
					base, _ := index.Normal(p.File.Index.Base)
					if base == "" {
						return &fault.Fault{Kind: fault.Usage,
							What:  "the project does not say where its files are downloaded from",
							Place: p.Doc.At("index", "base"), Do: "Set base under [index], or name the address."}
					}
					address = base
				} else {
					return a.indexHere(answer)
				}
			}
			o := fetch.CheckOptions{Trust: keys, Beside: beside, AtOnce: 4, Workers: a.workers(),
				Remote: download.Options{Agent: download.Agent(Version())}, Advanced: a.steps("reading")}
			if p != nil {
				local, err := indexwriter.NewLocal(p)
				if err != nil {
					return err
				}
				o.Bases = local.Released()
			}
			c, err := fetch.Check(ctx, address, o)
			if c != nil {
				answer.Result = c
				a.checked(c)
			}
			if err != nil {
				return err
			}
			if c.Wrong > 0 {
				return &fault.Fault{What: fmt.Sprintf("%d of %s not as the index says", c.Wrong,
					release.Count(len(c.Files), "file")), Place: fault.Place{File: c.Address},
					Why: "Players' downloads fail there.",
					Do:  "Upload them again, the index last: 'vornix index write --to DIR' brings all together."}
			}
			return nil
		}),
	}
	cmd.Flags().StringArrayVar(&trust, "trust", nil,
		"demand a signature by this public `key`; may be given several times (default: those under [signing])")
	cmd.Flags().BoolVar(&online, "online", false, "check what base under [index] serves")
	cmd.Flags().BoolVar(&beside, "beside", false, "look for files beside the index, whatever base it says: for mirrors")
	return cmd
}

// indexHere holds the project's index to the project's files.
func (a *app) indexHere(answer *show.Answer) error {
	p, err := a.load()
	if err != nil {
		return err
	}
	x, err := indexwriter.Check(p)
	if err != nil {
		return err
	}
	answer.Result = x
	a.indexTable(x)
	a.out.Say("\nThe index and the files agree.")
	return nil
}

// indexTable shows what an index says.
func (a *app) indexTable(x *index.Index) {
	signed := "not signed"
	if len(x.Signatures) > 0 {
		signed = "signed by " + strings.Join(x.Signers(), " and ") + until(x)
	}
	a.out.Say("%s for %s, index number %d, %s", show.Clean(x.Title), show.Clean(x.Game), x.Serial, signed)
	if x.Base != "" {
		a.out.Say("downloads from %s", show.Clean(x.Base))
	}
	a.out.Say("")
	var rows [][]string
	for _, r := range x.Bundles {
		var maps []string
		for _, m := range r.Maps {
			maps = append(maps, m.Name)
		}
		patches := ""
		if n := len(r.Patches); n > 0 {
			var from []string
			for _, w := range r.Patches {
				from = append(from, w.From)
			}
			patches = "from " + strings.Join(from, ", ")
		}
		rows = append(rows,
			[]string{show.Clean(r.File), r.Version, r.Date, release.Bytes(r.Size), r.Game,
				show.Clean(release.Few(maps)), show.Clean(patches), r.SHA256[:12]})
	}
	a.out.Table([]string{"file", "version", "date", "size", "game", "maps", "patches", "sha-256"}, rows)
	for _, t := range x.Retracted {
		a.out.Say("version %s was taken back: %s", show.Clean(t.Version), show.Clean(t.Reason))
	}
}

// checked shows what became of each file.
func (a *app) checked(c *fetch.Checked) {
	a.indexTable(c.Index)
	var rows [][]string
	for _, f := range c.Files {
		state := "whole"
		switch {
		case !f.OK:
			state = "wrong: " + f.Why
		case f.Applied == "yes":
			state = "whole; applied, it comes to what it must"
		case f.Applied != "":
			state = "whole; " + f.Applied
		}
		if f.OK && !a.out.Verbose && len(c.Files) > 30 {
			continue
		}
		rows = append(rows, []string{show.Clean(f.File), f.What, release.Bytes(f.Size), show.Clean(state)})
	}
	if len(rows) > 0 {
		a.out.Say("")
		a.out.Table([]string{"file", "what", "size", "state"}, rows)
	}
	good := len(c.Files) - c.Wrong
	a.out.Say("\n%d of %s whole, %s read from %s", good, release.Count(len(c.Files), "file"), release.Bytes(c.Bytes),
		c.Address)
	if c.Untried > 0 {
		a.out.Say("%s not tried: this project has not released what they start from", release.Count(c.Untried, "patch"))
	}
}

func (a *app) indexRetractCommand() *cobra.Command {
	var reason string
	var undo bool
	cmd := &cobra.Command{
		Use:   "retract VERSION",
		Short: "Take a version back: it stays listed as taken back, and the last good version replaces it",
		Long: `Retract writes [[index.retracted]] into vornix.toml, with a reason that players read. The next 'vornix index write' lists the version as taken
back. When it is the newest, the version before replaces it for players.`,
		Example: `  vornix index retract 1.1.0 --reason "the lift on cairn_station does not stop"
  vornix index retract 1.1.0 --undo`,
		Args:              between(1, 1, "one version"),
		ValidArgsFunction: a.completeVersions,
		RunE: a.run(func(_ context.Context, answer *show.Answer, args []string) error {
			if !undo && strings.TrimSpace(reason) == "" {
				return &fault.Fault{Kind: fault.Usage, What: "a version that is taken back needs a reason",
					Why: "Players read it.", Do: "Say it: --reason \"the lift does not stop\""}
			}
			s, err := a.session("index retract", nil)
			if err != nil {
				return err
			}
			defer s.Close()
			versions, err := release.Versions(s.P)
			if err != nil {
				return err
			}
			if err := s.P.Retract(args[0], reason, undo, versions); err != nil {
				return err
			}
			answer.Result = retractAnswer{args[0], !undo}
			if undo {
				a.out.Say("version %s is good again, once the index is written: vornix index write", args[0])
			} else {
				a.out.Say("version %s is taken back, once the index is written: vornix index write", args[0])
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, in `words` that players read")
	cmd.Flags().BoolVar(&undo, "undo", false, "the version is good after all")
	return cmd
}
