// Package assetgraph knows what refers to what: maps to models, materials, sounds, sprites, prefabs
// and companions, models to materials, materials to textures and to the materials they inherit
// from, scripts and other texts to whatever the game's profile says they name.
//
// Scan reads every map, material, sheet and text of a project once and gives a Graph, on which
// checks, the build and the packing of bundles stand. What is broken or missing is a finding that
// names everybody who wanted it.
package assetgraph

import (
	"path"
	"slices"
	"strings"

	"vornix/core/base/charset"
	"vornix/core/base/finding"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/material"
	"vornix/core/format/model"
	"vornix/core/format/sprite"
	"vornix/core/format/texture"
	"vornix/core/source/scene"
)

// Kind is the kind of an asset.
type Kind string

// The kinds of assets.
const (
	Map      Kind = "map"
	Material Kind = "material"
	Texture  Kind = "texture"
	Sound    Kind = "sound"
	Sprite   Kind = "sprite"
	Model    Kind = "model"
)

// Asset is a source that becomes something in the game.
type Asset struct {
	Kind   Kind
	Name   string // as maps and materials write it
	Source string // slash path in the project
	// Scene is set for maps, Material (with all that it inherits) for materials, Sheet for sprites,
	// Model for models, unless they are broken.
	Scene    *scene.Map
	Material *material.Material
	Sheet    *sprite.Sheet
	Model    *model.Model
	// Parts are the files that it is made of beside Source, or instead of it for a texture of several images: sidecar,
	// defaults, frames, what a map includes. They do not ship on their own.
	Parts []string
	// Chain are, for a material, the files that are laid over one another, the last its own.
	Chain []string
	// Images are the files of a texture's images, and Sidecar says how it is made (or nil).
	Images  []string
	Sidecar *project.Sidecar
	// Use is what materials use a texture for; empty when they disagree or none does. SeenThrough
	// are those that use its alpha.
	Use         texture.Kind
	SeenThrough []string
	// Bases are materials that it inherits from, and BaseOf those that inherit from it: they take
	// part and need not ship.
	Bases, BaseOf []*Asset
	own           *material.Material // as its file says
	// Content is the profile's class of a file that ships as it is, and Text what such a text says,
	// unless it can't be read.
	Content *profile.Content
	Text    *charset.Text
	// Needs are the assets this one refers to directly, those that are there, in the order they are mentioned.
	Needs []*Asset
	// Missing are those that are not there.
	Missing []Missing
	// NeededBy are the assets that refer to this one directly.
	NeededBy []*Asset
}

// Recipe is how an asset of kind Texture is made in its project.
func (a *Asset) Recipe(p *project.Project) texture.Recipe {
	return p.Making(a.Source, a.Sidecar).Recipe(p.Profile.Textures, a.Use)
}

// Missing is an asset that somebody refers to and nobody has.
type Missing struct {
	Kind Kind
	Name string
}

// Graph is every asset of a project.
type Graph struct {
	Files    []project.Info
	Assets   []*Asset // by kind and name
	Findings []finding.Finding
	ByStep   map[string]bool // files that steps of the project's own read
	byKey    map[string]*Asset
	classes  map[Kind]*profile.Content
	files    []string                      // paths of Files
	defaults map[string]*material.Material // by folder; nil for a broken one
	taken    map[string]bool               // files that are part of an asset
	byPath   map[string]*Asset             // by path in the game; nil until it is asked for
}

func key(k Kind, name string) string { return string(k) + " " + name }

// Find returns an asset by its kind and name; nil when there is none. Contents may be named without
// an ending that their patterns give.
func (g *Graph) Find(k Kind, name string) *Asset {
	if a := g.byKey[key(k, name)]; a != nil {
		return a
	}
	if c := g.classes[k]; c != nil {
		for _, rel := range c.Names(name) {
			if a := g.byKey[key(k, rel)]; a != nil {
				return a
			}
		}
	}
	return nil
}

// Named lists the assets that people may mean: by its source's path, with or without the ending, or
// by "kind name" just one, by a name alone all that have it, by the path of a file that is part of
// others those.
func (g *Graph) Named(what string) []*Asset {
	what = path.Clean(strings.ReplaceAll(what, `\`, "/"))
	var found []*Asset
	for _, a := range g.Assets {
		switch what {
		case a.Source, strings.TrimSuffix(a.Source, path.Ext(a.Source)), key(a.Kind, a.Name):
			return []*Asset{a}
		case a.Name, strings.TrimSuffix(a.Name, path.Ext(a.Name)):
			found = append(found, a)
		}
	}
	if found == nil { // a file that others are made of
		for _, a := range g.Assets {
			if slices.Contains(a.Parts, what) {
				found = append(found, a)
			}
		}
	}
	return found
}

// Of lists the assets of a kind, by name.
func (g *Graph) Of(k Kind) []*Asset {
	var list []*Asset
	for _, a := range g.Assets {
		if a.Kind == k {
			list = append(list, a)
		}
	}
	return list
}

// Complete says whether all maps could be read; when not, what they need is not known.
func (g *Graph) Complete() bool {
	return !slices.ContainsFunc(g.Assets, func(a *Asset) bool { return a.Kind == Map && a.Scene == nil })
}

// Closure lists assets and all that they need, directly or through others, each once. A map that
// another one's script leads to is no part of that one.
func Closure(roots ...*Asset) []*Asset {
	var list []*Asset
	seen := map[*Asset]bool{}
	var visit func(a *Asset)
	visit = func(a *Asset) {
		if seen[a] {
			return
		}
		seen[a] = true
		list = append(list, a)
		for _, n := range a.Needs {
			if n.Kind != Map {
				visit(n)
			}
		}
	}
	for _, r := range roots {
		visit(r)
	}
	return list
}

func (g *Graph) names(k Kind) []string {
	var names []string
	for _, a := range g.Of(k) {
		names = append(names, a.Name)
	}
	return names
}
