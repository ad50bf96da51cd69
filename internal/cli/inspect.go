package cli

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/build"
	"vornix/core/bundle"
	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/glb"
	"vornix/core/index"
	"vornix/core/mapfile"
	"vornix/core/model"
	"vornix/core/picture"
	"vornix/core/release"
	"vornix/core/scene"
	"vornix/core/sprite"
	"vornix/core/texture"
	"vornix/internal/cli/show"
)

// look are the options of inspect.
type look struct{ source, picture, scene string }

func (a *app) inspectCommand() *cobra.Command {
	var o look
	cmd := &cobra.Command{
		Use:   "inspect FILE",
		Short: "What is inside a map, bundle, texture, image or index",
		Long: `Inspect reads a compiled map (.vnm, with or without packed content), an archive, a texture (KTX2, DDS), an image (PNG,
JPEG, TGA, TIFF, BMP, WebP, GIF, Radiance), a map source (.vnx), a version index or a sprite's index, checks it, and shows what is
inside. It needs no project. Of a map source it says what it compiles to, and what only its compilation shows, such as a gap in a sealed
map. Of a texture it also says how far it is from its source, which is found when the texture lies in a
project's out/tree, or named with --source; of an image in a project, what becomes of it and why. --picture draws a texture's
levels, channels and differences, or a map from above and from two sides, with the way that a leak takes; --glb writes a map as a
glTF scene.`,
		Example: `  vornix inspect out/tree/maps/cairn_station.vnm
  vornix inspect out/bundles/highline-1.0.0.parcel --json
  vornix inspect out/tree/textures/wood/plank.ktx2 --picture plank.png`,
		Args: between(1, 1, "one file"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			name := args[0]
			result, err := a.inspect(ctx, name, o)
			if err != nil {
				if fault.KindOf(err) == fault.Failed && !isShown(err) {
					err = &fault.Fault{What: "the file can't be read", Place: fault.Place{File: filepath.ToSlash(name)}, Err: err, Do: "Make it again, or get it again from where it came from."}
				}
				return err
			}
			answer.Result = result
			return nil
		}),
	}
	cmd.Flags().StringVar(&o.source, "source", "", "`image` that a texture was made of, to measure the difference")
	cmd.Flags().StringVar(&o.picture, "picture", "", "draw a map, a texture or an image into this PNG `file`")
	cmd.Flags().StringVar(&o.scene, "glb", "", "write a map's surface, materials, lights and objects into this GLB `file`")
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
		return nil, &fault.Fault{Kind: fault.Usage, What: "could not open the file", Place: fault.Place{File: name}, Err: err, Do: "Check the path."}
	}
	head := make([]byte, headSize)
	n, _ := f.Read(head) // an empty file is none of the kinds below
	f.Close()
	head = head[:n]
	read := func() ([]byte, error) { return os.ReadFile(name) }
	switch {
	case o.scene != "" && !strings.EqualFold(filepath.Ext(name), ".vnm") && !strings.EqualFold(filepath.Ext(name), ".vnx") && !glb.IsScene(name):
		return nil, &fault.Fault{Kind: fault.Usage, What: "--glb is for maps", Place: fault.Place{File: filepath.ToSlash(name)}, Do: "Leave it out."}
	case bytes.HasPrefix(head, []byte("\xabKTX 20")), bytes.HasPrefix(head, []byte("DDS ")):
		return a.inspectTexture(ctx, name, o)
	case slices.Contains(texture.Endings, strings.ToLower(filepath.Ext(name))) && o.source == "":
		return a.inspectImage(ctx, name, o)
	case o.source != "":
		return nil, &fault.Fault{Kind: fault.Usage, What: "--source is for textures", Place: fault.Place{File: filepath.ToSlash(name)}, Do: "Leave it out."}
	case isModel(name) && o == look{}:
		return a.inspectModel(name)
	case strings.HasSuffix(strings.ToLower(name), ".vnx"), glb.IsScene(name):
		return a.inspectSource(ctx, name, o)
	case bytes.HasPrefix(head, []byte("\x8bVNM")):
		return a.inspectBundle(ctx, name, o)
	case o != look{}:
		return nil, &fault.Fault{Kind: fault.Usage, What: "--picture is for maps, textures and images, --glb for maps", Place: fault.Place{File: filepath.ToSlash(name)}, Do: "Leave it out."}
	case bytes.HasPrefix(head, []byte("PK")):
		return a.inspectBundle(ctx, name, o)
	case strings.HasSuffix(strings.ToLower(name), ".json"):
		return a.inspectIndex(read())
	}
	return nil, &fault.Fault{What: "Vornix does not know this kind of file", Place: fault.Place{File: filepath.ToSlash(name)},
		Do: "Known are .vnm, ZIP archives, KTX2, DDS, images, .vnx, index.json and a sprite's index; 'vornix sprite' reads sheets."}
}

// bundleAnswer is what inspect says of an archive or a map.
type bundleAnswer struct {
	Kind    string        `json:"kind"`
	Map     *mapAnswer    `json:"map,omitempty"`
	Entries []entryAnswer `json:"entries"`
}

type entryAnswer struct {
	Path   string `json:"path"`
	Size   uint64 `json:"size"`
	Packed uint64 `json:"packed"`
}

type mapAnswer struct {
	Meta    mapfile.Meta    `json:"meta"`
	Size    uint64          `json:"size"`
	Chunks  []mapfile.Chunk `json:"chunks"`
	Counts  map[string]int  `json:"counts"`
	Objects []objectAnswer  `json:"objects"`
	Uses    []string        `json:"uses"` // materials, models, sprites and sounds
}

type objectAnswer struct {
	Kind   string     `json:"kind"`
	Name   string     `json:"name,omitempty"`
	Detail string     `json:"detail,omitempty"`
	At     [3]float32 `json:"at"`
}

func (a *app) inspectBundle(ctx context.Context, name string, o look) (any, error) {
	b, err := bundle.Open(name)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	answer := bundleAnswer{Kind: "archive", Entries: []entryAnswer{}}
	if b.MapData != nil {
		answer.Kind = "map"
		if answer.Map, err = a.inspectMap(ctx, name, b.MapData, o); err != nil {
			return nil, err
		}
	}
	var rows [][]string
	var size, packed uint64
	for _, e := range b.Entries() {
		if _, err := b.ReadFile(e.Name); err != nil {
			return nil, err
		}
		answer.Entries = append(answer.Entries, entryAnswer{e.Name, e.UncompressedSize64, e.CompressedSize64})
		size, packed = size+e.UncompressedSize64, packed+e.CompressedSize64
		rows = append(rows, []string{e.Name, release.Bytes(int64(e.UncompressedSize64)), release.Bytes(int64(e.CompressedSize64))})
	}
	if len(rows) > 0 {
		a.out.Heading("%d entries, all read and whole: %s, packed to %s", len(rows), release.Bytes(int64(size)), release.Bytes(int64(packed)))
		a.out.Table([]string{"entry", "size", "packed"}, rows)
	}
	return answer, nil
}

func (a *app) inspectMap(ctx context.Context, name string, data []byte, o look) (*mapAnswer, error) {
	r, err := mapfile.Open(data)
	if err != nil {
		return nil, err
	}
	m, err := r.Map()
	if err != nil {
		return nil, err
	}
	answer := &mapAnswer{Meta: m.Meta, Size: r.Size, Chunks: r.Chunks, Objects: []objectAnswer{}, Uses: slices.Concat(m.Materials(), m.ItemModels(), m.Sprites(), m.Sounds()),
		Counts: counts(m)}
	a.out.Heading("%s: %s, for %d to %d players, modes %s", m.Meta.Name, m.Meta.Title, m.Meta.Players[0], m.Meta.Players[1], orWord(strings.Join(m.Meta.Modes, ", "), "none"))
	var has []string
	for _, what := range []string{"faces", "vertices", "bodies", "leaves", "terrains", "props", "grids", "cells"} {
		if n := answer.Counts[what]; n > 0 {
			has = append(has, fmt.Sprintf("%d %s", n, what))
		}
	}
	a.out.Say("%s", strings.Join(has, ", "))
	a.out.Say("uses %s\n", orWord(strings.Join(answer.Uses, ", "), "nothing"))
	var rows [][]string
	for _, c := range r.Chunks {
		rows = append(rows, []string{c.ID, strconv.FormatUint(c.Offset, 10), strconv.FormatUint(c.Size, 10), fmt.Sprintf("%08x", c.CRC)})
	}
	a.out.Table([]string{"chunk", "offset", "bytes", "crc-32c"}, rows)
	rows = nil
	for _, o := range m.Objects {
		answer.Objects = append(answer.Objects, objectAnswer{o.Kind, o.Name, o.Detail, o.A})
		rows = append(rows, []string{o.Kind, o.Name, o.Detail, fmt.Sprintf("%g, %g, %g", o.A[0], o.A[1], o.A[2])})
	}
	a.out.Say("")
	a.out.Table([]string{"object", "name", "", "at"}, rows)
	if o.scene != "" {
		_, p, err := around(name)
		if err != nil {
			return nil, err
		}
		var surface func(string) (glb.Surface, error)
		if p != nil {
			if surface, err = build.Surfaces(ctx, p); err != nil {
				return nil, err
			}
		}
		if err := a.writeScene(o.scene, m, surface); err != nil {
			return nil, err
		}
	}
	return answer, a.picture(o.picture, picture.Plan(m, nil))
}

func (a *app) inspectSource(ctx context.Context, name string, o look) (any, error) {
	one, err := a.compileOne(ctx, name, nil)
	if err != nil {
		return nil, err
	}
	if one.Compiled == nil {
		return nil, &finding.Failure{What: "the map source has mistakes", Findings: one.Findings}
	}
	m := one.Scene
	var uses []string
	for _, list := range [][]scene.Ref{m.Materials(), m.Models(), m.Sprites()} {
		for _, r := range list {
			uses = append(uses, r.Name)
		}
	}
	of := map[string]int{"solids": len(m.Solids), "terrains": len(m.Terrains), "props": len(m.Props), "lights": len(m.Lights), "spawns": len(m.Spawns), "volumes": len(m.Volumes),
		"probes": len(m.Probes), "cameras": len(m.Cameras), "items": len(m.Items), "sounds": len(m.Sounds), "grids": len(m.Grids), "areas": len(m.Areas)}
	a.out.Findings(one.Findings)
	a.out.Say("map source %s: %s", m.Name, m.Title)
	var rows [][]string
	for _, k := range slices.Sorted(maps.Keys(of)) {
		if of[k] > 0 {
			rows = append(rows, []string{k, strconv.Itoa(of[k])})
		}
	}
	a.out.Table([]string{"of", "there are"}, rows)
	compiled := counts(one.Compiled.Map)
	a.out.Say("compiles to %d faces, %d triangles, %d leaves", compiled["faces"], compiled["triangles"], compiled["leaves"])
	a.out.Say("uses %s", orWord(strings.Join(uses, ", "), "nothing"))
	if len(m.Files) > 0 {
		a.out.Say("made of %s besides", strings.Join(m.Files, ", "))
	}
	answer := struct {
		Kind     string            `json:"kind"`
		Name     string            `json:"name"`
		Counts   map[string]int    `json:"counts"`
		Compiled map[string]int    `json:"compiled"`
		Uses     []string          `json:"uses"`
		Files    []string          `json:"files"`
		Findings []finding.Finding `json:"findings"`
	}{"map source", m.Name, of, compiled, append([]string{}, uses...), append([]string{}, m.Files...), append([]finding.Finding{}, one.Findings...)}
	if o.scene != "" {
		if err := a.writeScene(o.scene, one.Compiled.Map, one.Surface); err != nil {
			return nil, err
		}
	}
	return answer, a.picture(o.picture, picture.Plan(one.Compiled.Map, one.Compiled.Leak))
}

// isModel says whether a file lies in the folder of models of its project; elsewhere a scene is a map.
func isModel(name string) bool {
	dir, p, err := around(name)
	abs, absErr := filepath.Abs(name)
	if err != nil || absErr != nil || p == nil || !glb.IsScene(name) {
		return false
	}
	rel, err := filepath.Rel(dir, abs)
	return err == nil && strings.HasPrefix(filepath.ToSlash(rel), p.File.Sources.Models+"/")
}

// modelAnswer is what inspect says of a model.
type modelAnswer struct {
	Kind      string     `json:"kind"`
	Triangles int        `json:"triangles"`
	Materials []string   `json:"materials"`
	Min       [3]float64 `json:"min"`
	Max       [3]float64 `json:"max"`
	Bodies    []int      `json:"bodies"` // sides of each body that players bump into
	Named     bool       `json:"named"`  // the bodies come from meshes of that name
	Images    []string   `json:"images"` // that nobody uses
}

func (a *app) inspectModel(name string) (any, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	m, findings := model.Read(filepath.ToSlash(name), strings.TrimSuffix(filepath.Base(name), filepath.Ext(name)), data, nil)
	if m == nil {
		return nil, &finding.Failure{What: "the model can't be used", Findings: findings}
	}
	low, high := m.Box.Min, m.Box.Max
	answer := modelAnswer{Kind: "model", Triangles: m.Triangles(), Materials: m.Materials(), Min: [3]float64{low.X, low.Y, low.Z}, Max: [3]float64{high.X, high.Y, high.Z},
		Bodies: []int{}, Named: m.Named, Images: append([]string{}, m.Images...)}
	var sides []string
	for _, body := range m.Collision {
		answer.Bodies = append(answer.Bodies, len(body))
		sides = append(sides, strconv.Itoa(len(body)))
	}
	size := high.Sub(low)
	a.out.Say("model: %s, %.2f x %.2f x %.2f m, from %.2f,%.2f,%.2f", release.Count(answer.Triangles, "triangle"), size.X, size.Y, size.Z, low.X, low.Y, low.Z)
	a.out.Say("materials %s", strings.Join(answer.Materials, ", "))
	how := "around the whole"
	if m.Named {
		how = "of its own meshes"
	}
	a.out.Say("players bump into %s %s, with %s sides", release.Count(len(sides), "body"), how, orWord(strings.Join(sides, ", "), "no"))
	return answer, nil
}

// writeScene writes a compiled map as a glTF scene.
func (a *app) writeScene(name string, m *mapfile.Map, surface func(string) (glb.Surface, error)) error {
	if !strings.EqualFold(filepath.Ext(name), ".glb") {
		return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%s: scenes are written as GLB", filepath.ToSlash(name)), Do: "End it in .glb."}
	}
	data, err := glb.Write(m, surface)
	if err != nil {
		return err
	}
	if err := writeBeside(name, data); err != nil {
		return err
	}
	a.out.Say("written as a scene into %s, %s", filepath.ToSlash(name), release.Bytes(int64(len(data))))
	return nil
}

func (a *app) inspectIndex(data []byte, err error) (any, error) {
	if err != nil {
		return nil, err
	}
	if bytes.Contains(data, []byte(`"states"`)) { // which no version index has
		return a.inspectSprite(data)
	}
	idx, err := index.Read(data)
	if err != nil {
		return nil, err
	}
	var rows [][]string
	for _, e := range idx.Entries {
		rows = append(rows, []string{path.Base(e.File), e.Version, release.Bytes(e.Size), strings.Join(e.Maps, ", "), e.SHA256[:min(16, len(e.SHA256))]})
	}
	a.out.Say("version index of %s for %s", idx.Title, idx.Game)
	a.out.Table([]string{"file", "version", "size", "maps", "sha-256"}, rows)
	return idx, nil
}

// inspectSprite shows the index of a sprite's atlas.
func (a *app) inspectSprite(data []byte) (any, error) {
	s, err := sprite.ReadIndex(data)
	if err != nil {
		return nil, err
	}
	a.out.Say("sprite: %s of %d x %d, %s, stands on texel %d, %d", release.Count(len(s.Pages), "page"), s.Size[0], s.Size[1], release.Count(len(s.Frames), "picture"), s.Pivot[0], s.Pivot[1])
	var rows [][]string
	for _, name := range slices.Sorted(maps.Keys(s.States)) {
		st := s.States[name]
		for _, d := range slices.Sorted(maps.Keys(st.Directions)) {
			total := 0
			for _, step := range st.Directions[d] {
				total += step.Milliseconds
			}
			rows = append(rows, []string{name, orWord(d, "any"), strconv.Itoa(len(st.Directions[d])), fmt.Sprintf("%d ms", total), st.Loop})
		}
	}
	a.out.Table([]string{"state", "direction", "frames", "takes", "loop"}, rows)
	return struct {
		Kind string `json:"kind"`
		*sprite.Index
	}{"sprite", s}, nil
}
