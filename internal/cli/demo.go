package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/project"
	"vornix/core/publish"
	"vornix/core/release"
	"vornix/core/standin"
	"vornix/core/workshop/stand"
	"vornix/demo"
	"vornix/internal/cli/show"
)

func (a *app) demoCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Write the demo projects and release them, here and now",
		Long: `Demo writes two made-up projects into DIR (default: vornix-demo), one for a 3D game and one for a tile game, starts a
stand-in of each game's server and of a workshop, and does a full release of both: check, build, pictures, pack, try, metadata, index,
deploy, publish. Files that you have changed are left alone. Run again, it finds that nothing has changed.`,
		Example: `  vornix demo
  vornix demo /tmp/demo --verbose`,
		Args: between(0, 1, "one folder at most"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			dir := "vornix-demo"
			if len(args) > 0 {
				dir = args[0]
			}
			written, err := demo.Write(dir)
			if err != nil {
				return err
			}
			if written > 0 {
				a.out.Say("The demo is in %s (%d files written).", dir, written)
			} else {
				a.out.Say("The demo is in %s, as it was left.", dir)
			}
			result := []demoAnswer{}
			for _, d := range demo.Projects {
				one, err := a.demoProject(ctx, dir, d)
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
			a.out.Say(`  %[3]s status --project %[1]s
  %[3]s inspect %[1]s/out/bundles/highline-1.0.0.parcel
  %[3]s stand server %[2]s --project %[1]s
  %[3]s stand workshop %[6]s
  %[3]s index write --to %[4]s --project %[1]s
  %[3]s fetch %[4]s %[5]s
  change a line of %[1]s/maps/cairn_station.vnx, then, while those two run:
  %[3]s release 1.0.1 --project %[1]s`,
				filepath.ToSlash(filepath.Join(dir, first.Folder)), filepath.ToSlash(filepath.Join(dir, first.Server)), invocation(), filepath.ToSlash(filepath.Join(dir, "public")), filepath.ToSlash(filepath.Join(dir, "player")), filepath.ToSlash(filepath.Join(dir, filepath.FromSlash(first.Workshop))))
			return nil
		}),
	}
}

// demoAnswer is what the demo says of one project in JSON.
type demoAnswer struct {
	Project string          `json:"project"`
	Version string          `json:"version"`
	Steps   []release.Step  `json:"steps"`
	Server  *standin.Status `json:"server"`
}

// demoProject releases one of the demo's projects with its server's stand-in running.
func (a *app) demoProject(ctx context.Context, dir string, d demo.Project) (*demoAnswer, error) {
	p, err := project.Load(filepath.Join(dir, filepath.FromSlash(d.Folder)), demo.Profiles())
	if err != nil {
		return nil, err
	}
	server, err := standin.Start(filepath.Join(dir, filepath.FromSlash(d.Server)), p.Profile, standin.Options{})
	if err != nil {
		return nil, err
	}
	defer server.Close()
	shop, err := stand.Start(filepath.Join(dir, filepath.FromSlash(d.Workshop)), stand.Options{Accounts: []string{"maker", "player"}, Kinds: workshopKinds(p.Profile), Name: p.Profile.Game.Title + " Exchange"})
	if err != nil {
		return nil, err
	}
	defer shop.Close()
	head := p.File.Project
	a.out.Heading("%s %s for %s, in %s", head.Title, head.Version, p.Profile.Game.Title, filepath.ToSlash(filepath.Join(dir, d.Folder)))
	a.out.Say("server  up    a stand-in of the game's server answers at %s", server.URL)
	a.out.Say("server  up    a stand-in of a workshop answers at %s", shop.URL)
	o := a.options()
	o.OnStep, o.MakeItems = a.out.Step, true
	s, err := release.Open(p, "vornix demo", o)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	one := &demoAnswer{Project: head.Name, Version: head.Version}
	run, err := s.Release(ctx, "")
	if one.Steps = run.Steps; err != nil {
		return one, err
	}
	if err := a.demoPublished(ctx, s, one); err != nil {
		return one, err
	}
	c, err := standin.Dial(ctx, server.URL, standin.Calls{})
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
		d, err := publish.Open(ctx, s.P, target, a.publishing())
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

// invocation is how the program was started, for commands to copy.
func invocation() string {
	if exe, err := os.Executable(); err == nil && strings.Contains(filepath.ToSlash(exe), "/go-build") {
		return "go run ./cmd/vornix"
	}
	return "vornix"
}
