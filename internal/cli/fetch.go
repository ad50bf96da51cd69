package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/base/download"
	"vornix/core/base/fault"
	"vornix/core/release"
	"vornix/core/ship/fetch"
	"vornix/internal/cli/show"
)

func (a *app) fetchCommand() *cobra.Command {
	var o fetch.Options
	var back, list, watch bool
	var every time.Duration
	cmd := &cobra.Command{
		Use:   "fetch [URL] DIR",
		Short: "The player's side of an index: get what it names, keep it up to date, go back",
		Long: `Fetch reads the index at an address or in a folder, verifies it, and brings DIR up to date: what is missing or old is downloaded, by a patch
where that is shorter, and goes on where it was cut; everything is verified, and takes its place at once. What the index no longer has
is removed, if it came this way and nobody changed it since. The version before is kept: --back brings it back.

The first index says whose signature counts from then on (or --trust does); one that somebody else signed, that is older than the last or
has expired is refused, and what is there stays. When nobody answers, what is there is verified and goes on working. Without URL, DIR is
brought up to date from where it came.`,
		Example: `  vornix fetch https://downloads.example/highline/ ~/games/kestrel-post/parcels
  vornix fetch ~/games/kestrel-post/parcels
  vornix fetch https://downloads.example/highline/ /srv/mirror --mirror --watch --every 10m`,
		Args: between(1, 2, "the address of an index, and the folder to bring up to date"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			dir := args[len(args)-1]
			if len(args) == 2 {
				o.URL = args[0]
			} else if download.IsWeb(dir) {
				return &fault.Fault{Kind: fault.Usage, What: "which folder is to be brought up to date?",
					Do: "Name it after the address: vornix fetch " + dir + " DIR"}
			}
			if err := trustedWords(o.Trust); err != nil {
				return err
			}
			if watch && (o.Plan || back || list) {
				return &fault.Fault{Kind: fault.Usage, What: "--watch goes with none of --plan, --back, --list",
					Do: "Leave one out."}
			}
			if o.AtOnce < 1 || o.AtOnce > 64 {
				return &fault.Fault{Kind: fault.Usage, What: "--at-once must be a number from 1 to 64",
					Do: "4 is what most servers like."}
			}
			if every < time.Second {
				return &fault.Fault{Kind: fault.Usage, What: "--every must be a second at least",
					Do: "Write it as in 30s, 10m or 2h."}
			}
			o.Workers, o.Remote, o.Advanced = a.workers(), download.Options{Agent: download.Agent(Version())},
				a.steps("fetching")
			switch {
			case list:
				return a.fetchedList(answer, dir)
			case watch:
				return a.fetchWatch(ctx, dir, o, every)
			}
			if _, err := os.Stat(dir); err != nil && o.Plan { // a plan makes no folder
				temp, err := os.MkdirTemp("", "vornix-plan-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(temp)
				dir = temp
			}
			work := fetch.Run
			if back {
				work = fetch.Back
			}
			r, err := work(ctx, dir, o)
			if err != nil {
				return err
			}
			answer.Result = r
			a.fetched(r, dir, o, back)
			return nil
		}),
	}
	flags := cmd.Flags()
	flags.BoolVar(&o.Plan, "plan", false, "show what would be done, and change nothing")
	flags.BoolVar(&back, "back", false,
		"bring back the version that was there before; it stays until there is another one than that which was left")
	flags.BoolVar(&list, "list", false, "say what DIR has, in which version, from where, signed by whom")
	flags.StringArrayVar(&o.Only, "only", nil,
		"only bundles with this `name`, or with a map of that name (* for any letters); remembered; '*' is all again")
	flags.StringArrayVar(&o.Trust, "trust", nil,
		"the index must be signed by this public `key`; may be given several times (default: by whom it was signed before)")
	flags.BoolVar(&o.Mirror, "mirror", false,
		"also get patches, the game's own forms and the index itself, so that DIR can be served; remembered")
	flags.BoolVar(&o.Beside, "beside", false,
		"look for files beside the index, whatever base it says: from mirrors; remembered")
	flags.BoolVar(&o.Offline, "offline", false, "ask nobody: verify what is there")
	flags.BoolVar(&o.Verify, "verify", false, "read every file again, also those that nobody touched")
	flags.BoolVar(&o.Again, "again", false, "also install the version that was left with --back")
	flags.BoolVar(&o.Older, "older", false,
		"take an index with a lower number than the last: when its authors began anew")
	flags.IntVar(&o.AtOnce, "at-once", 4, "`number` of downloads at the same time")
	flags.BoolVar(&watch, "watch", false, "go on, and look again and again, until Ctrl-C")
	flags.DurationVar(&every, "every", 5*time.Minute,
		"how `long` to wait between two looks of --watch, as in 30s, 10m, 2h")
	return cmd
}

// fetched says what came of it.
func (a *app) fetched(r *fetch.Result, dir string, o fetch.Options, back bool) {
	if r.Mended != "" {
		a.out.Say("a run that was killed here was %s first", r.Mended)
	}
	if r.Offline {
		why := "nobody was asked"
		if r.Why != "" {
			why = "nobody answers (" + show.Clean(r.Why) + ")"
		}
		a.out.Say("%s: going on with what is here", why)
	}
	if len(r.Pinned) > 0 && o.Plan {
		a.out.Say("signed by %s", strings.Join(r.Signers, " and "))
	} else if len(r.Pinned) > 0 {
		a.out.Say("signed by %s; from now on only what is signed so is taken", strings.Join(r.Signers, " and "))
	}
	if r.Retract != "" {
		a.out.Say("version %s was taken back: %s", show.Clean(r.From), show.Clean(r.Retract))
	}
	if r.Held {
		a.out.Say("%s stays at version %s: somebody went back to it. A newer version is taken by itself; the one that was left with --again.", show.Clean(r.Title), show.Clean(r.To))
		return
	}
	var rows [][]string
	counts := map[string]int{}
	for _, x := range r.Actions {
		counts[x.Do]++
		if x.Do == fetch.Keep && !a.out.Verbose {
			continue
		}
		how := x.Do
		switch x.Do {
		case fetch.Whole:
			how = "download"
		case fetch.Patch:
			how = "patch from " + x.From
		case fetch.Copy:
			if x.From != "" {
				how = "take from " + x.From
			}
		}
		rows = append(rows,
			[]string{show.Clean(x.File), show.Clean(how), release.Bytes(x.Size), dash(x.Bytes), show.Clean(x.Note)})
	}
	if len(rows) > 0 {
		a.out.Table([]string{"file", "how", "size", "bytes", ""}, rows)
		a.out.Say("")
	}
	version := show.Clean(r.Title) + " " + show.Clean(r.To)
	switch {
	case o.Plan && !r.Changed:
		a.out.Say("%s is there and whole: nothing to do", version)
	case o.Plan:
		a.out.Say("%s would come to %s with %s to download (%s in all); nothing was changed", version,
			filepath.ToSlash(dir), release.Bytes(r.Bytes), release.Bytes(r.Full))
	case back:
		a.out.Say("back from version %s to %s; it stays so until there is another one, or: --again", show.Clean(r.From),
			show.Clean(r.To))
	case !r.Changed:
		a.out.Say("%s is there and whole (%s, %s)", version, release.Count(counts[fetch.Keep], "file"),
			release.Bytes(r.Full))
	default:
		from := ""
		if r.From != "" && r.From != r.To {
			from = ", " + show.Clean(r.From) + " before"
		}
		came := release.Bytes(r.Bytes) + " downloaded"
		if r.Bytes == 0 {
			came = "nothing to download"
		}
		a.out.Say("%s is there and whole%s: %s, %s in all", version, from, came, release.Bytes(r.Full))
	}
	if r.Changed && !back && !o.Plan {
		for _, n := range r.News {
			a.out.Say("\n%s", show.CleanLines(n))
		}
	}
}

func dash(n int64) string {
	if n == 0 {
		return "-"
	}
	return release.Bytes(n)
}

// fetchWatch mirrors until Ctrl-C: a line for each change, and one when something begins or ends to be wrong.
func (a *app) fetchWatch(ctx context.Context, dir string, o fetch.Options, every time.Duration) error {
	last := ""
	now := func() string { return time.Now().Format(time.DateTime) }
	err := fetch.Watch(ctx, dir, o, every, func(r *fetch.Result, err error) {
		if a.out.JSON { // one object each time
			exit := 0
			if err != nil {
				exit = fault.KindOf(err).ExitCode()
			}
			a.out.Line(&show.Answer{Command: "fetch", Result: r}, err, exit)
			return
		}
		line := ""
		switch {
		case err != nil:
			line = "not up to date: " + err.Error()
		case r.Offline:
			line = fmt.Sprintf("nobody answers (%s): %s %s stays", show.Clean(r.Why), show.Clean(r.Title),
				show.Clean(r.To))
		case r.Changed:
			files := slices.DeleteFunc(slices.Clone(r.Actions),
				func(x fetch.FileChange) bool { return x.Do == fetch.Keep || x.Do == fetch.Leave })
			line = fmt.Sprintf("%s %s: %s changed, %s downloaded", show.Clean(r.Title), show.Clean(r.To),
				release.Count(len(files), "file"), release.Bytes(r.Bytes))
		default:
			line = fmt.Sprintf("%s %s is there and whole", show.Clean(r.Title), show.Clean(r.To))
		}
		if line != last {
			a.out.Say("%s  %s", now(), line)
		}
		if last = line; err == nil && r.Changed {
			last = fmt.Sprintf("%s %s is there and whole", show.Clean(r.Title), show.Clean(r.To))
		}
	})
	return err
}

// fetchedList says what a folder has.
func (a *app) fetchedList(answer *show.Answer, dir string) error {
	places, err := fetch.Places(dir)
	if err != nil {
		return err
	}
	answer.Result = places
	var rows [][]string
	for _, p := range places {
		by := "nobody"
		if len(p.Keys) > 0 {
			by = strings.Join(p.Keys, " or ")
		}
		rows = append(rows,
			[]string{show.Clean(p.Title), show.Clean(p.Version), orWord(show.Clean(p.Back), "-"),
				fmt.Sprint(len(p.Files)), show.Clean(p.URL), by})
	}
	if len(rows) == 0 {
		a.out.Say("nothing was fetched to %s yet", filepath.ToSlash(dir))
		return nil
	}
	a.out.Table([]string{"what", "version", "back to", "files", "from", "signed by"}, rows)
	return nil
}
