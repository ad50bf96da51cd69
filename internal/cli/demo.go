package cli

import (
	"context"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/semver"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/game/gameserver"
	"vornix/core/release"
	"vornix/core/ship/publish"
	"vornix/core/ship/workshop/standin"
	"vornix/demo"
	"vornix/internal/cli/show"
)

func (a *app) demoCommand() *cobra.Command {
	var story bool
	cmd := &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Write the demo projects and release them, here and now",
		Long: `Demo writes two made-up projects into DIR (default: vornix-demo), one for a 3D game and one for a tile game, starts a
stand-in of each game's server and of a workshop, and does a full release of both, saying what it does and why: check, build, pictures, pack,
try, metadata, index, deploy, publish, report. Files that you have changed are left alone. Run again, it finds that nothing has changed.

With --story it goes on with a second week: a texture that is painted anew, a new version, a patch for players, a server that somebody
changed by hand, and a way back.`,
		Example: `  vornix demo
  vornix demo /tmp/demo --story`,
		Args: between(0, 1, "one folder at most"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			dir := "vornix-demo"
			if len(args) > 0 {
				dir = args[0]
			}
			if _, err := os.Stat(filepath.Join(dir, filepath.FromSlash(demo.Projects[0].Folder),
				project.OutDir)); err != nil {
				a.out.Say("The demo takes about %d s here the first time, and about a second when it is run again.",
					demoSeconds(runtime.GOMAXPROCS(0)))
			}
			painted := func(int, int) {}
			if bar := a.out.Progress(); bar != nil {
				painted = func(done,
					total int) {
					bar.Advanced("", "painting the demo's images", int64(done), int64(total))
				}
			}
			written, err := demo.WriteTelling(ctx, dir, painted)
			if err != nil {
				return err
			}
			if written > 0 {
				a.out.Say("The demo is in %s (%d files written).", dir, written)
			} else {
				a.out.Say("The demo is in %s, as it was left.", dir)
			}
			result := []demoAnswer{}
			for i, d := range demo.Projects {
				tell := a.teller(firstWeek)
				if i > 0 {
					tell = a.teller(map[string]string{
						"check": "The same for a game that differs in nearly every rule: tiles instead of solids, a bundle for each map, lists on its server, another texture form."})
				}
				one, err := a.demoProject(ctx, dir, d, tell, nil)
				if one != nil {
					answer.Steps = append(answer.Steps, one.Steps...)
					result = append(result, *one)
				}
				if err != nil {
					return err
				}
			}
			if story {
				one, err := a.demoProject(ctx, dir, demo.Projects[0], func(release.Step) {}, &secondWeek{dir: dir})
				if one != nil {
					answer.Steps = append(answer.Steps, one.Steps...)
					result = append(result, *one)
				}
				if err != nil {
					return err
				}
			}
			answer.Result = result
			first := demo.Projects[0]
			a.out.Heading("what to try next")
			p, err := project.Load(filepath.Join(dir, first.Folder), demo.Profiles())
			if err != nil {
				return err
			}
			version := p.File.Project.Version
			a.out.Say(`  %[3]s trust --project %[1]s
  %[3]s status --project %[1]s
  %[3]s inspect %[1]s/out/bundles/highline-%[7]s.parcel
  %[3]s stand server %[2]s --project %[1]s
  %[3]s stand workshop %[6]s
  %[3]s history --project %[1]s
  %[3]s fetch %[4]s %[5]s
  %[3]s build --watch --draft --server --project %[1]s
  %[3]s demo %[9]s --story
  look at %[1]s/out/reports/%[7]s.html in a browser
  change a line of %[1]s/maps/cairn_station.vnx, then, while the two stand-ins run:
  %[3]s release %[8]s --project %[1]s`,
				filepath.ToSlash(filepath.Join(dir, first.Folder)), filepath.ToSlash(filepath.Join(dir, first.Server)),
				invocation(), filepath.ToSlash(filepath.Join(dir, "website", first.Folder)),
				filepath.ToSlash(filepath.Join(dir, "player")),
				filepath.ToSlash(filepath.Join(dir, filepath.FromSlash(first.Workshop))), version, semver.Next(version),
				filepath.ToSlash(dir))
			return nil
		}),
	}
	cmd.Flags().BoolVar(&story, "story", false,
		"go on with a second week: a changed texture, a new version, a patch, a server that was changed, a way back")
	return cmd
}

// firstWeek is what is told before each step of the first release.
var firstWeek = map[string]string{
	"check":   "Every source is read and held to the game's rules before anything is built. The mess is there on purpose: a backup, an old bundle, a script that nothing uses, a bell that is missing, a mode whose name is inside another's.",
	"build":   "Maps are compiled and lit, textures get the form that the game reads. What has not changed is never made again.",
	"shoot":   "Cameras in the maps take the pictures, in every size that the game and its workshop want.",
	"sweep":   "What nobody needs is named. Nothing is deleted.",
	"pack":    "What the maps need goes into the bundle and nothing else: no source, no backup, no secret.",
	"try":     "A player has the bundle and nothing else, so it is opened in an empty folder, and bots walk from every spawn to what the game is about.",
	"addon":   "What the game and its workshops want to know is written from what is known already.",
	"index":   "Players' programs look here for what is new.",
	"deploy":  "The server gets it in one step: staged, verified, switched, and put back if it can't load a map.",
	"publish": "The workshop gets the page and the bundle, hidden until somebody has looked at it.",
	"record":  "The version is closed: from now on it is never altered.",
	"report":  "All of it on one page, to look at in a browser.",
}

// teller shows steps, each kind with a word about why before its first one.
func (a *app) teller(words map[string]string) func(release.Step) {
	told := map[string]bool{}
	return func(s release.Step) {
		if word := words[s.Name]; word != "" && !told[s.Name] {
			told[s.Name] = true
			a.out.Tell(word)
		}
		a.out.Step(s)
	}
}

// demoAnswer is what the demo says of one project in JSON.
type demoAnswer struct {
	Project string             `json:"project"`
	Version string             `json:"version"`
	Steps   []release.Step     `json:"steps"`
	Server  *gameserver.Status `json:"server"`
}

// demoProject releases one of the demo's projects with its server's stand-in running.
func (a *app) demoProject(ctx context.Context, dir string, d demo.Project, tell func(release.Step),
	week *secondWeek) (*demoAnswer, error) {
	p, err := project.Load(filepath.Join(dir, filepath.FromSlash(d.Folder)), demo.Profiles())
	if err != nil {
		return nil, err
	}
	server, err := gameserver.Start(filepath.Join(dir, filepath.FromSlash(d.Server)), p.Profile, gameserver.Options{})
	if err != nil {
		return nil, err
	}
	defer server.Close()
	shop, err := standin.Start(filepath.Join(dir, filepath.FromSlash(d.Workshop)),
		standin.Options{Accounts: []string{"maker", "player"}, Kinds: workshopKinds(p.Profile),
			Name: p.Profile.Game.Title + " Exchange"})
	if err != nil {
		return nil, err
	}
	defer shop.Close()
	head := p.File.Project
	if week == nil {
		a.out.Heading("%s %s for %s, in %s", head.Title, head.Version, p.Profile.Game.Title,
			filepath.ToSlash(filepath.Join(dir, d.Folder)))
		a.out.Say("server  up    a stand-in of the game's server answers at %s", server.URL)
		a.out.Say("server  up    a stand-in of a workshop answers at %s", shop.URL)
	}
	o := a.options()
	o.OnStep, o.MakeItems = tell, true
	o.Access.Trust, o.Publish.Trust = demoTrust, demoTrust
	one := &demoAnswer{Project: head.Name, Version: head.Version}
	err = func() error {
		s, err := a.opened(p, "vornix demo", o)
		if err != nil {
			return err
		}
		defer s.Close()
		run, err := s.Release(ctx, "")
		if one.Steps = run.Steps; err != nil {
			return err
		}
		if week != nil { // it was tried in the first week
			return nil
		}
		return a.demoPublished(ctx, s, one)
	}()
	if err != nil {
		return one, err
	}
	if week != nil {
		if err := a.story(ctx, week, p, o, one); err != nil {
			return one, err
		}
	}
	c, err := gameserver.Dial(ctx, server.URL, gameserver.Calls{})
	if err != nil {
		return one, err
	}
	if one.Server, err = c.Status(ctx); err != nil {
		return one, err
	}
	a.out.Say("")
	a.out.Say("GET %s/status says:", server.URL)
	a.mapTable(one.Server.Maps)
	a.out.Say("playing %s", one.Server.Playing)
	return one, nil
}

// demoPublished gets the project's items from its workshop as a player does.
func (a *app) demoPublished(ctx context.Context, s *release.Session, one *demoAnswer) error {
	for _, target := range publish.Targets(s.P) {
		access := a.publishing()
		access.Trust = demoTrust
		d, err := publish.Open(ctx, s.P, target, access)
		if err != nil {
			return err
		}
		defer d.Close()
		items, err := publish.Items(s.P, target)
		if err != nil {
			return err
		}
		for _, item := range items {
			step, _, err := s.TryPublished(ctx, d, item)
			if step != nil {
				step.Findings = nil // the release has said them
				one.Steps = append(one.Steps, *step)
				a.out.Step(*step)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// demoSeconds is about how long the first run takes: measured as 25 s with two processors of 2.5
// GHz, of which 21 s are work that all of them share.
func demoSeconds(processors int) int { return 4 + 42/processors }

// demoTrust allows what the demo itself does: it sends the tokens of its stand-ins to its
// stand-ins, which run on this machine. Whatever else a project in the demo's folder asks for needs
// consent as anywhere.
func demoTrust(p *project.Project, want []trust.Permission) (missing []trust.Permission, err error) {
	for _, x := range want {
		t := p.File.Targets[x.Name]
		own := x.Kind == trust.Send && t.TokenEnv == "" && t.PlayerTokenEnv == "" &&
			strings.HasPrefix(t.TokenFile, "../workshops/") && strings.HasPrefix(t.PlayerTokenFile, "../workshops/") &&
			strings.HasPrefix(t.URL, "../workshops/") &&
			len(x.Lines) == 1 && strings.Contains(x.Lines[0], " to http://127.0.0.1:")
		if !own {
			missing = append(missing, x)
		}
	}
	if len(missing) > 0 {
		return trusted(p, missing)
	}
	return nil, nil
}

// invocation is how the program was started, for commands to copy.
func invocation() string {
	if exe, err := os.Executable(); err == nil && strings.Contains(filepath.ToSlash(exe), "/go-build") {
		return "go run ./cmd/vornix"
	}
	return "vornix"
}
