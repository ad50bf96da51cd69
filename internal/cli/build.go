package cli

import (
	"context"
	"os"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/config/project"
	"vornix/core/make/assembly"
	"vornix/core/pack/bundle"
	"vornix/core/pack/installer"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) buildCommand() *cobra.Command {
	var stages func() (assembly.Stages, error)
	var farming func() (assembly.Farming, error)
	var watching watchFlags
	cmd := &cobra.Command{
		Use:   "build [PATH...]",
		Short: "Compile maps, textures, materials, sprites and sounds that changed into out/tree",
		Long: `Build brings out/tree up to date: the exact files that ship, at the paths the game sees. What has not changed is
not made again; going back to an older source takes the result from .vornix/cache. Files whose sources are gone are
removed. PATH is a source, a folder of sources or a map's name; only what is made of it is built then.

The long stages of maps (visibility, lighting, reflections, navigation) keep what they made by content: a moved camera lights
nothing again. With --draft they are quick and rough, with --stage only those named run. Neither is for players: every command
that packs builds in full first. A build that was stopped goes on where it was.

With --farm others help: the workers of a farm take whole jobs, and pieces of the long stages; see 'vornix farm --help'. The result has
the same bytes. A farm that is away, or has nobody, keeps nobody from building.

With --watch it builds again whenever a source is saved, and says what changed and how long it took; with --server also a stand-in of
the game's server plays what was built, drafts too, and loads it anew each time.`,
		Example: `  vornix build
  vornix build maps/cairn_station.vnx textures/rock
  vornix build cairn_station --draft --stage lighting
  vornix build --farm
  vornix build --watch --draft --server`,
		ValidArgsFunction: a.completeMaps,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			how, err := stages()
			if err != nil {
				return err
			}
			if err := watching.check(); err != nil {
				return err
			}
			help, err := farming()
			if err != nil {
				return err
			}
			change := func(o *release.Options) { o.Stages, o.Farming, o.Workers = how, help, a.jobs }
			if watching.on {
				return a.watch(ctx, args, change, watching)
			}
			s, err := a.session("build", change)
			if err != nil {
				return err
			}
			defer s.Close()
			step, _, err := s.Build(ctx, pathsIn(s.P, args))
			return a.step(answer, step, err)
		}),
	}
	stages, farming = stageFlags(cmd), a.farmFlags(cmd)
	watching.add(cmd)
	a.addFormat(cmd, show.SARIFFormat)
	cmd.MarkFlagsMutuallyExclusive("watch", "format")
	return cmd
}

// pathsIn are sources that were typed as they are called in the project; nil for all of it.
func pathsIn(p *project.Project, args []string) []string {
	paths := []string{}
	for _, arg := range args {
		if rel := inProject(p, arg); rel != "." {
			paths = append(paths, rel)
		}
	}
	if len(paths) < len(args) { // the project's own folder
		return nil
	}
	return paths
}

func (a *app) packCommand() *cobra.Command {
	var intoMap, withInstaller bool
	var program string
	cmd := &cobra.Command{
		Use:   "pack",
		Short: "Pack what ships into bundles, as the game wants them",
		Long: `Pack builds what changed and packs out/tree into out/bundles: one archive for the project, one for each map, or each map with its
content behind it, as the game's profile says, split where the profile sets a largest size. The same tree gives the same bytes on
any machine. What has not changed is taken over from the bundle of before without packing it again.

Sources, backups, private keys, access tokens and paths of a home folder never ship: pack looks at every name and every byte, and
stops. What must ship all the same is named under [[pack.exception]] in vornix.toml, with a reason.

With --into-map each compiled map gets its content behind it, in out/into-map, whatever the profile says: for a client that
downloads the map alone. With --installer it also writes a program, in out/installers, that installs the bundles into the game, with
backups, and uninstalls them: this program itself with the bundles at its end, or another system's with --program.`,
		Example: `  vornix pack
  vornix pack --into-map
  vornix pack --installer --program ~/downloads/vornix-windows-amd64.exe
  vornix pack --json | jq '.result[].sha256'`,
		Args: noArgs,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			s, err := a.session("pack", nil)
			if err != nil {
				return err
			}
			defer s.Close()
			switch {
			case intoMap && withInstaller:
				return &fault.Fault{Kind: fault.Usage, What: "--installer and --into-map exclude each other",
					Do: "Give one of them."}
			case program != "" && !withInstaller:
				return &fault.Fault{Kind: fault.Usage, What: "--program is for --installer, which was not given",
					Do: "Add --installer, or leave --program out."}
			}
			if withInstaller { // a wrong program is better found before the work than after it
				if program == "" {
					if program, err = os.Executable(); err != nil {
						return err
					}
				}
				if _, err := installer.System(program); err != nil {
					return err
				}
			}
			bundles, err := a.pack(ctx, answer, s, intoMap)
			answer.Result = bundles
			if err != nil || !withInstaller {
				return err
			}
			return a.installer(ctx, answer, s, program, bundles)
		}),
	}
	cmd.Flags().BoolVar(&withInstaller, "installer", false,
		"also write a program that installs the bundles into the game")
	cmd.Flags().StringVar(&program, "program", "", "with --installer: the Vornix `program` of another system")
	cmd.Flags().BoolVar(&intoMap, "into-map", false, "pack each map's content into the compiled map, in out/into-map")
	return cmd
}

// pack builds and packs: what trying, indexing and deploying stand on.
func (a *app) pack(ctx context.Context, answer *show.Answer, s *release.Session, intoMap bool) ([]bundle.Bundle,
	error) {
	step, built, err := s.Build(ctx, nil)
	if err := a.step(answer, step, err); err != nil {
		return nil, err
	}
	step, bundles, err := s.Pack(ctx, &built.Tree, intoMap)
	return bundles, a.step(answer, step, err)
}

// packedAnswer is the result of pack --installer in JSON.
type packedAnswer struct {
	Bundles   []bundle.Bundle `json:"bundles"`
	Installer *installer.Made `json:"installer"`
}

// installer writes a program that installs bundles.
func (a *app) installer(ctx context.Context, answer *show.Answer, s *release.Session, program string,
	bundles []bundle.Bundle) error {
	var files []string
	for _, b := range bundles {
		files = append(files, s.P.Join(bundle.Dir, b.Name))
	}
	made, err := installer.Write(ctx, s.P, program, files)
	if err != nil {
		return err
	}
	answer.Result = packedAnswer{bundles, made}
	return a.step(answer,
		&release.Step{Name: "pack", Made: []release.Made{{Path: made.Path, Size: made.Size, State: "made"}},
			Summary: "an installer for " + made.System}, nil)
}
