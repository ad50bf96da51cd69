package cli

import (
	"context"
	"fmt"
	"image"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/suggest"
	"vornix/core/format/sprite"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) spriteCommand() *cobra.Command {
	var state, direction string
	var scale int
	cmd := &cobra.Command{
		Use:   "sprite SHEET [OUT]",
		Short: "The states of a sprite sheet; into OUT, one of them as it moves",
		Long: `Sprite reads a sheet (a TOML file beside a grid image or a folder of frames) and lists its states. With OUT it plays one
state as an animated GIF (.gif: 255 colours, one bit of alpha) or PNG (.png: all colours). No project is needed.`,
		Example: `  vornix sprite sprites/mole.toml
  vornix sprite sprites/mole.toml walk.png --state walk --direction east --scale 8`,
		Args: between(1, 2, "a sheet, and where a state is to be played"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			s, dir, err := openSheet(args[0])
			if err != nil {
				return err
			}
			if len(args) == 1 {
				if state != "" || direction != "" {
					return &fault.Fault{Kind: fault.Usage,
						What: "--state and --direction say what is played into OUT, and there is no OUT",
						Do:   "Add a file that ends in .gif or .png."}
				}
				answer.Result = a.spriteStates(s)
				return nil
			}
			if scale < 1 || scale > 64 {
				return usage("--scale is a number from 1 to 64, and not %d", scale)
			}
			played, err := playState(s, dir, args[1], state, direction, scale)
			if err != nil {
				return err
			}
			d, err := safefile.OpenDir(filepath.Dir(args[1]))
			if err != nil {
				return err
			}
			defer d.Close()
			if err := d.WriteFile(filepath.Base(args[1]), played.data); err != nil {
				return err
			}
			answer.Result = played
			a.out.Say("%s: %s of %s, %d x %d, %d ms, %s", filepath.ToSlash(args[1]),
				release.Count(played.Frames, "frame"), played.State, played.Width, played.Height,
				played.Milliseconds, release.Bytes(int64(len(played.data))))
			return nil
		}),
	}
	cmd.Flags().StringVar(&state, "state", "", "`name` of the state to play (default: the first)")
	cmd.Flags().StringVar(&direction, "direction", "", "`name` of its direction (default: the first)")
	cmd.Flags().IntVar(&scale, "scale", 4, "how many texels wide and high a texel is `drawn`")
	return cmd
}

// openSheet reads a sheet and lists the files around it, as paths from the folder that it lies in.
func openSheet(name string) (*sprite.Sheet, string, error) {
	dir, base := filepath.Split(name)
	if dir == "" {
		dir = "."
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, "", &fault.Fault{Kind: fault.Usage, What: "could not read the sheet",
			Place: fault.Place{File: filepath.ToSlash(name)}, Err: err, Do: "Check the path."}
	}
	var files []string
	err = fs.WalkDir(os.DirFS(dir), ".", func(p string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			files = append(files, p)
		}
		return nil // what can't be read is not there
	})
	if err != nil {
		return nil, "", err
	}
	slices.Sort(files)
	s, list := sprite.Parse(base, data, files)
	if s == nil {
		return nil, "", &finding.Failure{What: "the sheet can't be used", Findings: list}
	}
	return s, dir, nil
}

func sheetFrames(s *sprite.Sheet, dir string) ([]*image.NRGBA, error) {
	frames, list, err := s.Frames(func(file string) (*image.NRGBA, error) {
		data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(file)))
		if err != nil {
			return nil, err
		}
		img, err := sprite.Visible(data)
		if err != nil {
			return nil, &fault.Fault{What: "the image can't be read", Place: fault.Place{File: file}, Err: err,
				Do: "Export it again."}
		}
		return img, nil
	})
	if len(list) > 0 {
		return nil, &finding.Failure{What: "the sheet can't be used", Findings: list}
	}
	return frames, err
}

// stateAnswer is what the sprite command says of a state.
type stateAnswer struct {
	State        string   `json:"state"`
	Directions   []string `json:"directions"`
	Frames       int      `json:"frames"`
	Milliseconds int      `json:"ms"` // once through, in the first direction
	Loop         string   `json:"loop"`
}

func (a *app) spriteStates(s *sprite.Sheet) []stateAnswer {
	var answers []stateAnswer
	var rows [][]string
	for _, st := range s.States {
		x := stateAnswer{State: st.Name, Directions: []string{}, Frames: len(st.Directions[0].Steps), Loop: st.Loop}
		for _, d := range st.Directions {
			if d.Name != "" {
				x.Directions = append(x.Directions, d.Name)
			}
		}
		for _, step := range st.Directions[0].Steps {
			x.Milliseconds += step.Milliseconds
		}
		answers = append(answers, x)
		rows = append(rows,
			[]string{st.Name, orWord(strings.Join(x.Directions, ", "), "any"), strconv.Itoa(x.Frames),
				fmt.Sprintf("%d ms", x.Milliseconds), st.Loop})
	}
	a.out.Say("%s: %s, %s", s.Name, release.Count(len(s.States), "state"), release.Count(len(s.Sources), "frame"))
	a.out.Table([]string{"state", "directions", "frames", "takes", "loop"}, rows)
	return answers
}

// statePlayed is what the sprite command wrote.
type statePlayed struct {
	stateAnswer
	Width  int `json:"width"`
	Height int `json:"height"`
	data   []byte
}

func playState(s *sprite.Sheet, dir, out, state, direction string, scale int) (*statePlayed, error) {
	st, ok := s.States[0], true
	if state != "" {
		st, ok = s.State(state)
	}
	if !ok {
		return nil, noSuch("state", state, s.StateNames())
	}
	d := st.Directions[0]
	if direction != "" {
		var names []string
		for _, x := range st.Directions {
			names = append(names, x.Name)
			if x.Name == direction {
				d = x
			}
		}
		if d.Name != direction {
			return nil, noSuch("direction", direction, names)
		}
	}
	frames, err := sheetFrames(s, dir)
	if err != nil {
		return nil, err
	}
	list := s.Play(frames, st, d, scale)
	p := &statePlayed{stateAnswer: stateAnswer{State: st.Name, Directions: []string{d.Name}, Frames: len(list),
		Loop: st.Loop},
		Width: list[0].Image.Rect.Dx(), Height: list[0].Image.Rect.Dy()}
	for _, f := range list {
		p.Milliseconds += f.Milliseconds
	}
	switch strings.ToLower(filepath.Ext(out)) {
	case ".gif":
		p.data, err = sprite.GIF(list, st.Loop == "once")
	case ".png":
		p.data, err = sprite.APNG(list, st.Loop == "once")
	default:
		return nil, &fault.Fault{Kind: fault.Usage,
			What: fmt.Sprintf("%s: nothing is played into a file with that ending", filepath.ToSlash(out)),
			Do:   "End it in .gif or .png."}
	}
	return p, err
}

func noSuch(what, got string, known []string) error {
	f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("the sheet has no %s %q", what, got),
		Do: "It has " + strings.Join(known, ", ") + "."}
	if near := suggest.Word(got, known); near != "" {
		f.Do = fmt.Sprintf("Did you mean %q?", near)
	}
	return f
}
