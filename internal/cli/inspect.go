package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/format/audio"
	"vornix/core/format/gltf"
	"vornix/core/format/sprite"
	"vornix/core/format/texture"
	"vornix/core/game/gamefs"
	"vornix/core/pack/patch"
	"vornix/core/release"
	"vornix/core/ship/index"
	"vornix/internal/cli/show"
)

// look are the options of inspect.
type look struct{ source, picture, scene, view, camera, shot string }

func (a *app) inspectCommand() *cobra.Command {
	var o look
	cmd := &cobra.Command{
		Use:   "inspect FILE",
		Short: "What is inside a map, bundle, patch, texture, image, sound, text, index or folder",
		Long: `Inspect reads a compiled map (.vnm, with or without packed content), an archive, a texture (KTX2, DDS), an image (PNG,
JPEG, TGA, TIFF, BMP, WebP, GIF, Radiance), a map source (.vnx or glTF), a model (GLB in a project's folder of models), a
sound (WAV, Ogg, FLAC, MP3), a text (JSON, TOML, XML, INI, CSV), a patch, a delta, a version index or a sprite's index, checks it, and
shows what is inside; of a folder the size by kind and a hash of all of it. It needs no project. Archives of other programs are read too:
what is wrong with an entry is said, and whoever can't read an archive's directory is told how to save what is left.

Of a map source it says what it compiles to, and what only its compilation shows, such as a gap in a sealed map. Of a texture
it says how far it is from its source, which is found when the texture lies in a project's out/tree, or named with --source;
of an image in a project, what becomes of it and why. --picture draws a texture's levels, channels and differences, or a map
from above and from two sides, with the way that a leak takes, or with --view as a camera sees it (lit, light), how
much is seen from where (cells), or where one can walk (ground). --shot takes a quick look through a camera, on the terminal itself.
--glb writes a map as a glTF scene.`,
		Example: `  vornix inspect out/tree/maps/cairn_station.vnm
  vornix inspect out/tree/maps/cairn_station.vnm --shot porch
  vornix inspect out/bundles/highline-1.0.0.parcel --json
  vornix inspect out/tree/textures/wood/plank.ktx2 --picture plank.png`,
		Args: between(1, 1, "one file or folder"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			name := args[0]
			if err := o.checkView(a.out.Draws()); err != nil {
				return err
			}
			result, err := a.inspect(ctx, name, o)
			answer.Result = result
			if err != nil {
				if fault.KindOf(err) == fault.Failed && !isShown(err) {
					err = &fault.Fault{What: "the file can't be read", Place: fault.Place{File: filepath.ToSlash(name)},
						Err: err, Do: "Make it again, or get it again from where it came from."}
				}
				return err
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&o.source, "source", "", "`image` that a texture was made of, to measure the difference")
	cmd.Flags().StringVar(&o.picture, "picture", "", "draw a map, a texture or an image into this PNG `file`")
	cmd.Flags().StringVar(&o.view, "view", "",
		"`what` a picture of a map shows: plan (default), lit, light, cells of visibility, or ground one walks on")
	cmd.Flags().StringVar(&o.camera, "camera", "",
		"`name` of the map's camera for the views lit and light (default: the first)")
	cmd.Flags().StringVar(&o.shot, "shot", "",
		"take a quick look through a `camera` of a map: on the terminal, or into the file of --picture")
	cmd.Flags().StringVar(&o.scene, "glb", "",
		"write a map's surface, materials, lights and objects into this GLB `file`")
	return cmd
}

func isShown(err error) bool {
	switch err.(type) {
	case *fault.Fault, *finding.Failure:
		return true
	}
	return false
}

// headSize is how much of a file tells what it is.
const headSize = 16

func (a *app) inspect(ctx context.Context, name string, o look) (any, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "could not open the file", Place: fault.Place{File: name},
			Err: err, Do: "Check the path."}
	}
	if info, err := f.Stat(); err == nil && info.IsDir() {
		f.Close()
		return a.inspectFolder(ctx, name)
	}
	head := make([]byte, headSize)
	n, _ := f.Read(head) // an empty file is none of the kinds below
	f.Close()
	head = head[:n]
	switch {
	case o.scene != "" && !strings.EqualFold(filepath.Ext(name), ".vnm") &&
		!strings.EqualFold(filepath.Ext(name), ".vnx") && !gltf.IsScene(name):
		return nil, &fault.Fault{Kind: fault.Usage, What: "--glb is for maps",
			Place: fault.Place{File: filepath.ToSlash(name)}, Do: "Leave it out."}
	case bytes.HasPrefix(head, []byte{0xd6, 0xc3, 0xc4, 0}):
		return a.inspectDelta(name)
	case strings.EqualFold(filepath.Ext(name), patch.Ending):
		return a.inspectPatch(name)
	case bytes.HasPrefix(head, []byte("\xabKTX 20")), bytes.HasPrefix(head, []byte("DDS ")):
		return a.inspectTexture(ctx, name, o)
	case slices.Contains(texture.Endings, strings.ToLower(filepath.Ext(name))) && o.source == "":
		return a.inspectImage(ctx, name, o)
	case o.source != "":
		return nil, &fault.Fault{Kind: fault.Usage, What: "--source is for textures",
			Place: fault.Place{File: filepath.ToSlash(name)}, Do: "Leave it out."}
	case isModel(name) && o == look{}:
		return a.inspectModel(name)
	case strings.HasSuffix(strings.ToLower(name), ".vnx"), gltf.IsScene(name):
		return a.inspectSource(ctx, name, o)
	case bytes.HasPrefix(head, []byte("\x8bVNM")):
		return a.inspectBundle(ctx, name, o)
	case o != look{}:
		return nil, &fault.Fault{Kind: fault.Usage, What: "--picture is for maps, textures and images, --glb for maps",
			Place: fault.Place{File: filepath.ToSlash(name)}, Do: "Leave it out."}
	case bytes.HasPrefix(head, []byte("PK")):
		return a.inspectBundle(ctx, name, o)
	case audio.FormOf(head) != "" && slices.Contains(audio.Endings, strings.ToLower(filepath.Ext(name))):
		return a.inspectSound(name)
	case strings.HasSuffix(strings.ToLower(name), ".json"):
		return a.inspectJSON(name)
	case textForms[strings.ToLower(filepath.Ext(name))] != "":
		return a.inspectText(name)
	case bytes.Contains(head, []byte("PK\x03\x04")), holdsEntries(name):
		return a.inspectBundle(ctx, name, o)
	}
	return nil, &fault.Fault{What: "Vornix does not know this kind of file",
		Place: fault.Place{File: filepath.ToSlash(name)},
		Do:    "Known are folders, .vnm, ZIP archives, KTX2, DDS, images, .vnx, glTF, sounds, texts, index.json and a sprite's index; 'vornix sprite' plays sheets."}
}

// holdsEntries says whether an archive's directory stands at the end of a file of another kind, as in an installer.
func holdsEntries(name string) bool {
	b, err := gamefs.OpenAny(name)
	if err != nil {
		return false
	}
	defer b.Close()
	return len(b.Entries()) > 0
}

// inspectJSON tells kinds of JSON by the keys that they have at their top.
func (a *app) inspectJSON(name string) (any, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	var keys map[string]json.RawMessage
	_ = json.Unmarshal(data, &keys) // what can't be read is a text with a mistake
	switch {
	case keys["states"] != nil && keys["pages"] != nil:
		return a.inspectSprite(data)
	case keys["format"] != nil && keys["bundles"] != nil:
		return a.inspectIndex(data)
	}
	return a.inspectText(name)
}

func (a *app) inspectIndex(data []byte) (any, error) {
	x, err := index.Read(data)
	if err != nil {
		return nil, err
	}
	a.indexTable(x)
	return x, nil
}

// spriteIndexAnswer is what inspect says of a sprite's index in JSON.
type spriteIndexAnswer struct {
	Kind string `json:"kind"`
	*sprite.Index
}

// inspectSprite shows the index of a sprite's atlas.
func (a *app) inspectSprite(data []byte) (any, error) {
	s, err := sprite.ReadIndex(data)
	if err != nil {
		return nil, err
	}
	a.out.Say("sprite: %s of %d x %d, %s, stands on texel %d, %d", release.Count(len(s.Pages), "page"), s.Size[0],
		s.Size[1], release.Count(len(s.Frames), "picture"), s.Pivot[0], s.Pivot[1])
	var rows [][]string
	for _, name := range slices.Sorted(maps.Keys(s.States)) {
		st := s.States[name]
		for _, d := range slices.Sorted(maps.Keys(st.Directions)) {
			total := 0
			for _, step := range st.Directions[d] {
				total += step.Milliseconds
			}
			rows = append(rows,
				[]string{name, orWord(d, "any"), strconv.Itoa(len(st.Directions[d])), fmt.Sprintf("%d ms", total),
					st.Loop})
		}
	}
	a.out.Table([]string{"state", "direction", "frames", "takes", "loop"}, rows)
	return spriteIndexAnswer{"sprite", s}, nil
}
