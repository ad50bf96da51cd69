package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"vornix/core/make/assembly"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) shootCommand() *cobra.Command {
	var draft, plans bool
	cmd := &cobra.Command{
		Use:               "shoot [MAP...]",
		ValidArgsFunction: a.completeMaps,
		Short:             "Pictures from map cameras and source images, every size the game's profile wants",
		Long: `Shoot makes the pictures that the game's profile asks for: thumbnails, loading screens, the workshop's page. A picture is taken by
the map's camera of its name, else by its cameras in order, or made as recipes under [[picture]] in vornix.toml say: of another camera
or an image, cut, blurred, tinted, framed, lettered. Maps are compiled where they changed. Pictures that ship go into out/tree, the
others into out/pictures. What is asked for and can't be made is a finding.

With --draft maps are lit and drawn quickly and roughly, to choose cameras by. With --plan-view a map is drawn for people who build
it instead: from above, and from a corner with all that is above the players' heads cut away, with its spawns, volumes and objects named.`,
		Example: `  vornix shoot
  vornix shoot cairn_station --draft
  vornix shoot cairn_station --plan-view`,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			s, err := a.session("shoot",
				func(o *release.Options) { o.Stages = assembly.Stages{Draft: draft, Grows: grow} })
			if err != nil {
				return err
			}
			defer s.Close()
			if plans {
				made, err := s.PlanViews(ctx, args)
				answer.Result = made
				for _, m := range made {
					a.out.Say("%s: drawn into %s", m.Map, m.File)
				}
				return err
			}
			step, shots, err := s.Shoot(ctx, true, args)
			if shots != nil {
				answer.Result = shots
				a.shots(shots)
			}
			if step != nil {
				step.Made = []release.Made{} // the table has said it
			}
			return a.step(answer, step, err)
		}),
	}
	cmd.Flags().BoolVar(&draft, "draft", false, "light and draw quickly and roughly")
	cmd.Flags().BoolVar(&plans, "plan-view", false,
		"draw maps for those who build them: from above and cut open, with names")
	return cmd
}

// shots prints the pictures of a project.
func (a *app) shots(s *release.Shots) {
	var rows [][]string
	for _, x := range s.Shots {
		name := x.Picture
		if x.Variant != "" {
			name += ", " + x.Variant
		}
		rows = append(rows,
			[]string{name, orWord(x.Map, "the project"), x.From, fmt.Sprintf("%d x %d", x.Width, x.Height), x.File,
				release.Bytes(x.Size), x.State})
	}
	if len(rows) > 0 {
		a.out.Table([]string{"picture", "of", "from", "size", "file", "bytes", ""}, rows)
	}
	for _, l := range s.Left {
		a.out.Say("not made: %s, %s", l.Picture, l.Why)
	}
}
