package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/format/gltf"
	"vornix/core/format/mapfile"
	"vornix/core/format/model"
	"vornix/core/make/assembly"
	"vornix/core/release"
	"vornix/core/source/scene"
)

type mapAnswer struct {
	Meta    mapfile.Meta    `json:"meta"`
	Size    uint64          `json:"size"`
	Chunks  []mapfile.Chunk `json:"chunks"`
	Counts  map[string]int  `json:"counts"`
	Objects []objectAnswer  `json:"objects"`
	Uses    []string        `json:"uses"` // materials, models, sprites and sounds
	Stages  []stagesAnswer  `json:"stages"`
	Cells   []cellAnswer    `json:"cells"` // of visibility, those from which most is drawn
}

type objectAnswer struct {
	Kind   string     `json:"kind"`
	Name   string     `json:"name,omitempty"`
	Detail string     `json:"detail,omitempty"`
	At     [3]float32 `json:"at"`
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
	answer := &mapAnswer{Meta: m.Meta, Size: r.Size, Chunks: r.Chunks, Objects: []objectAnswer{},
		Uses:   slices.Concat(m.Materials(), m.ItemModels(), m.Sprites(), m.Sounds()),
		Counts: counts(m)}
	if o.shot == "" || a.out.JSON { // a quick look is just that
		a.showMap(m, r, answer)
	}
	if o.scene != "" {
		_, p, err := around(name)
		if err != nil {
			return nil, err
		}
		var surface func(string) gltf.Surface
		if p != nil {
			if surface, err = assembly.Surfaces(ctx, p); err != nil {
				return nil, err
			}
		}
		if err := a.writeScene(o.scene, m, surface); err != nil {
			return nil, err
		}
	}
	return answer, a.viewMap(ctx, o, m, nil, func() (assembly.Looks, error) {
		_, p, err := around(name)
		if err != nil || p == nil {
			return assembly.Looks{}, err
		}
		return assembly.LooksOf(ctx, p, m)
	})
}

// showMap prints what is inside a map.
func (a *app) showMap(m *mapfile.Map, r *mapfile.Reader, answer *mapAnswer) {
	a.out.Heading("%s: %s, for %d to %d players, modes %s", m.Meta.Name, m.Meta.Title, m.Meta.Players[0],
		m.Meta.Players[1], orWord(strings.Join(m.Meta.Modes, ", "), "none"))
	var has []string
	for _, what := range []string{"faces", "vertices", "bodies", "leaves", "terrains", "props", "grids", "cells"} {
		if n := answer.Counts[what]; n > 0 {
			has = append(has, fmt.Sprintf("%d %s", n, what))
		}
	}
	a.out.Say("%s", strings.Join(has, ", "))
	a.out.Say("uses %s\n", orWord(strings.Join(answer.Uses, ", "), "nothing"))
	var sights []mapfile.CellSight
	if m.Visibility != nil {
		sights = m.Visibility.Sights()
	}
	answer.Stages, answer.Cells = a.stages(m, sights), a.cells(m, sights)
	var rows [][]string
	for _, c := range r.Chunks {
		rows = append(rows,
			[]string{c.ID, strconv.FormatUint(c.Offset, 10), strconv.FormatUint(c.Size, 10),
				fmt.Sprintf("%08x", c.CRC)})
	}
	a.out.Table([]string{"chunk", "offset", "bytes", "crc-32c"}, rows)
	rows = nil
	for _, o := range m.Objects {
		answer.Objects = append(answer.Objects, objectAnswer{o.Kind, o.Name, o.Detail, o.A})
		rows = append(rows, []string{o.Kind, o.Name, o.Detail, fmt.Sprintf("%g, %g, %g", o.A[0], o.A[1], o.A[2])})
	}
	a.out.Say("")
	a.out.Table([]string{"object", "name", "", "at"}, rows)
}

// sourceAnswer is what inspect says of a map source in JSON.
type sourceAnswer struct {
	Kind     string            `json:"kind"`
	Name     string            `json:"name"`
	Counts   map[string]int    `json:"counts"`
	Compiled map[string]int    `json:"compiled"`
	Uses     []string          `json:"uses"`
	Files    []string          `json:"files"`
	Findings []finding.Finding `json:"findings"`
}

func (a *app) inspectSource(ctx context.Context, name string, o look) (any, error) {
	one, err := a.compileOne(ctx, name, nil, o.env(a.jobs))
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
	of := map[string]int{"solids": len(m.Solids), "terrains": len(m.Terrains), "props": len(m.Props),
		"lights": len(m.Lights), "spawns": len(m.Spawns), "volumes": len(m.Volumes),
		"probes": len(m.Probes), "cameras": len(m.Cameras), "items": len(m.Items), "sounds": len(m.Sounds),
		"grids": len(m.Grids), "areas": len(m.Areas)}
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
	a.out.Say("compiles to %d faces, %d triangles, %d leaves", compiled["faces"], compiled["triangles"],
		compiled["leaves"])
	a.out.Say("uses %s", orWord(strings.Join(uses, ", "), "nothing"))
	if len(m.Files) > 0 {
		a.out.Say("made of %s besides", strings.Join(m.Files, ", "))
	}
	answer := sourceAnswer{"map source", m.Name, of, compiled, append([]string{}, uses...),
		append([]string{}, m.Files...), append([]finding.Finding{}, one.Findings...)}
	if o.scene != "" {
		if err := a.writeScene(o.scene, one.Compiled.Map, one.Surface); err != nil {
			return nil, err
		}
	}
	return answer, a.viewMap(ctx, o, one.Compiled.Map, one.Compiled.Leak,
		func() (assembly.Looks, error) { return one.Looks, nil })
}

// isModel says whether a file lies in the folder of models of its project; elsewhere a scene is a map.
func isModel(name string) bool {
	dir, p, err := around(name)
	abs, absErr := filepath.Abs(name)
	if err != nil || absErr != nil || p == nil || !gltf.IsScene(name) {
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
	m, findings := model.Read(filepath.ToSlash(name), strings.TrimSuffix(filepath.Base(name), filepath.Ext(name)), data,
		nil)
	if m == nil {
		return nil, &finding.Failure{What: "the model can't be used", Findings: findings}
	}
	low, high := m.Box.Min, m.Box.Max
	answer := modelAnswer{Kind: "model", Triangles: m.Triangles(), Materials: m.Materials(),
		Min: [3]float64{low.X, low.Y, low.Z}, Max: [3]float64{high.X, high.Y, high.Z},
		Bodies: []int{}, Named: m.Named, Images: append([]string{}, m.Images...)}
	var sides []string
	for _, body := range m.Collision {
		answer.Bodies = append(answer.Bodies, len(body))
		sides = append(sides, strconv.Itoa(len(body)))
	}
	size := high.Sub(low)
	a.out.Say("model: %s, %.2f x %.2f x %.2f m, from %.2f,%.2f,%.2f", release.Count(answer.Triangles, "triangle"),
		size.X, size.Y, size.Z, low.X, low.Y, low.Z)
	a.out.Say("materials %s", strings.Join(answer.Materials, ", "))
	how := "around the whole"
	if m.Named {
		how = "of its own meshes"
	}
	a.out.Say("players bump into %s %s, with %s sides", release.Count(len(sides), "body"), how,
		orWord(strings.Join(sides, ", "), "no"))
	return answer, nil
}

// writeScene writes a compiled map as a glTF scene.
func (a *app) writeScene(name string, m *mapfile.Map, surface func(string) gltf.Surface) error {
	if !strings.EqualFold(filepath.Ext(name), ".glb") {
		return &fault.Fault{Kind: fault.Usage,
			What: fmt.Sprintf("%s: scenes are written as GLB", filepath.ToSlash(name)), Do: "End it in .glb."}
	}
	data, err := gltf.Write(m, surface)
	if err != nil {
		return err
	}
	if err := writeBeside(name, data); err != nil {
		return err
	}
	a.out.Say("written as a scene into %s, %s", filepath.ToSlash(name), release.Bytes(int64(len(data))))
	return nil
}
