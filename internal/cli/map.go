package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/compile/render"
	"vornix/core/compile/stage"
	"vornix/core/config/project"
	"vornix/core/format/gltf"
	"vornix/core/format/mapfile"
	"vornix/core/make/assembly"
	"vornix/core/release"
	"vornix/demo"
	"vornix/internal/cli/show"
)

// mapMade is what the map command made.
type mapMade struct {
	Path     string            `json:"path"`
	Bytes    int               `json:"bytes"`
	Counts   map[string]int    `json:"counts"`
	LeftOut  int               `json:"left_out"` // records on layers that a release leaves out
	Findings []finding.Finding `json:"findings"`
}

func (a *app) mapCommand() *cobra.Command {
	var layers []string
	var pictureFile string
	var stages func() (assembly.Stages, error)
	cmd := &cobra.Command{
		Use:   "map IN OUT",
		Short: "Compile one map source; the ending of OUT says into what",
		Long: `Map compiles one map source. IN is in the map language (.vnx) or a glTF scene (.glb, .gltf); OUT ends in .vnm for a compiled
map, or in .glb for a glTF scene of its surface with materials, textures, lights and cameras. In a project its materials and
models are used; without one every repeat covers 2 m. A compiled map goes through the long stages too: visibility, lighting,
reflections and navigation, or those that --stage names. The game's rules are not applied: that is what 'vornix check' and
'vornix build' do.`,
		Example: `  vornix map maps/cairn_station.vnx cairn.glb
  vornix map drafts/cave.vnx cave.vnm --layer helpers --picture cave.png`,
		Args: between(2, 2, "a map source, and what to make of it"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			in, out := args[0], args[1]
			ending := strings.ToLower(filepath.Ext(out))
			if ending != ".vnm" && ending != ".glb" {
				return &fault.Fault{Kind: fault.Usage,
					What: filepath.ToSlash(out) + ": nothing is written with that ending",
					Do:   "End it in .vnm or .glb."}
			}
			how, err := stages()
			if err != nil {
				return err
			}
			long := a.env(how)
			if ending == ".glb" { // a scene has no room for what they make
				long = nil
			}
			one, err := a.compileOne(ctx, in, layers, long)
			if err != nil {
				return err
			}
			if one.Compiled == nil {
				return &finding.Failure{What: filepath.ToSlash(in) + " can't be compiled", Findings: one.Findings}
			}
			m := one.Compiled.Map
			made := &mapMade{Path: filepath.ToSlash(out), Counts: counts(m), LeftOut: one.Scene.LeftOut,
				Findings: append([]finding.Finding{}, one.Findings...)}
			answer.Result = made
			data, err := encodeAs(ending, m, one.Surface)
			if err != nil {
				return err
			}
			if err := writeBeside(out, data); err != nil {
				return err
			}
			made.Bytes = len(data)
			a.out.Findings(one.Findings)
			a.out.Say("%s: %s, %d faces, %d triangles, %d objects, %s", made.Path, m.Meta.Name, made.Counts["faces"],
				made.Counts["triangles"], made.Counts["objects"], release.Bytes(int64(len(data))))
			if made.LeftOut > 0 {
				a.out.Say("%s on layers that a release leaves out (--layer keeps them)",
					release.Count(made.LeftOut, "line"))
			}
			if err := a.picture(pictureFile, render.Plan(m, one.Compiled.Leak)); err != nil {
				return err
			}
			if n := finding.Count(one.Findings, finding.Error); n > 0 {
				return &fault.Fault{What: fmt.Sprintf("%s was written, but %s found", made.Path,
					release.Count(n, "error")), Why: "The game would show the map wrongly, and a build refuses it.",
					Do: "Correct what is said above."}
			}
			return nil
		}),
	}
	cmd.Flags().StringArrayVar(&layers, "layer", nil,
		"keep a `layer` that is left out of releases; may be given several times")
	cmd.Flags().StringVar(&pictureFile, "picture", "",
		"draw the map from above and from two sides into this PNG `file`")
	stages = stageFlags(cmd)
	return cmd
}

// encodeAs makes the bytes of a compiled map or of a glTF scene of it.
func encodeAs(ending string, m *mapfile.Map, surface func(string) gltf.Surface) ([]byte, error) {
	if ending == ".glb" {
		return gltf.Write(m, surface)
	}
	return mapfile.Encode(m)
}

func writeBeside(name string, data []byte) error {
	d, err := safefile.OpenDir(filepath.Dir(name))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.WriteFile(filepath.Base(name), data)
}

// compileOne compiles a map source, with the project that it lies in where there is one.
func (a *app) compileOne(ctx context.Context, name string, layers []string, long *stage.Env) (*assembly.One, error) {
	if _, err := os.Stat(name); err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "could not read the map source",
			Place: fault.Place{File: filepath.ToSlash(name)}, Err: err, Do: "Check the path."}
	}
	switch strings.ToLower(filepath.Ext(name)) {
	case ".vnx", ".glb", ".gltf":
	default:
		return nil, &fault.Fault{Kind: fault.Usage, What: filepath.ToSlash(name) + " is no map source",
			Do: "Map sources end in .vnx, .glb or .gltf."}
	}
	dir, p, err := around(name)
	if err != nil {
		return nil, err
	}
	abs, err := filepath.Abs(name)
	if err != nil {
		return nil, err
	}
	source, err := filepath.Rel(dir, abs)
	if err != nil {
		return nil, err
	}
	one, err := assembly.CompileOne(ctx, p, dir, filepath.ToSlash(source), layers, long)
	if err != nil {
		return nil, err
	}
	for _, layer := range layers {
		if one.Scene != nil && !hasLayer(one, layer) {
			return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("the map has no layer %q", layer),
				Do: "Name a layer of the map."}
		}
	}
	return one, nil
}

func hasLayer(one *assembly.One, name string) bool {
	for _, l := range one.Scene.Layers {
		if l == name {
			return true
		}
	}
	return false
}

// around is the folder that a file's project, or the file itself, lies in, and the project, which
// is nil when there is none.
func around(name string) (dir string, p *project.Project, err error) {
	if dir, err = filepath.Abs(filepath.Dir(name)); err != nil {
		return "", nil, err
	}
	root, err := project.Find(dir)
	if err != nil {
		return dir, nil, nil
	}
	p, err = project.Load(root, demo.Profiles())
	return root, p, err
}

// counts are how much of everything a map has.
func counts(m *mapfile.Map) map[string]int {
	cells, triangles := 0, 0
	for _, g := range m.Grids {
		cells += len(g.Cells)
	}
	for _, f := range m.Faces {
		triangles += int(f.IndexNumber) / 3
	}
	return map[string]int{"vertices": len(m.Vertices), "faces": len(m.Faces), "triangles": triangles,
		"objects": len(m.Objects), "grids": len(m.Grids), "cells": cells,
		"bodies": len(m.Bodies), "leaves": len(m.Leaves), "terrains": len(m.Terrains), "models": len(m.Models),
		"props": len(m.Props)}
}
