package cli

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/suggest"
	"vornix/core/format/gltf"
	"vornix/core/format/texture"
	"vornix/core/release"
	"vornix/core/source/assetgraph"
	"vornix/core/source/shots"
	"vornix/internal/cli/show"
)

// needAnswer is an asset with what it needs, or with what needs it.
type needAnswer struct {
	Kind   assetgraph.Kind `json:"kind"`
	Name   string          `json:"name"`
	Source string          `json:"source,omitempty"`
	Size   int64           `json:"size"`
	// Parts are further files that it is made of: sidecars, frames; Inherits says that values are
	// taken from it, or by it.
	Parts    []string     `json:"parts,omitempty"`
	Inherits bool         `json:"inherits,omitempty"`
	Missing  bool         `json:"missing"`
	Needs    []needAnswer `json:"needs,omitempty"`
	By       []needAnswer `json:"by,omitempty"`
}

func (a *app) needsCommand() *cobra.Command {
	var by bool
	cmd := &cobra.Command{
		Use:   "needs PATH",
		Short: "What a map, material or other source needs; with --by, what needs it",
		Long: `Needs shows the tree of what a source refers to, directly or through others, with sizes and what is missing: materials,
models, sounds, sprites, prefabs, companions and scripts of a map, the images of its pictures, textures of materials, whatever a script or
a start file names. PATH is a source's path, a name, or a kind and a name in quotes. With --by it goes the other way, up to every map.`,
		Example: `  vornix needs cairn_station
  vornix needs --by textures/rock/slab.png
  vornix needs --by prefabs/relay.vnx`,
		Args:              between(1, 1, "one source"),
		ValidArgsFunction: a.completeMaps,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, g, err := a.scanned(ctx)
			if err != nil {
				return err
			}
			view := &needsView{g: g, plan: shots.NewPlan(p, g), by: by, sizes: map[string]int64{}}
			for _, f := range g.Files {
				view.sizes[f.Path] = f.Size
			}
			what := inProject(p, args[0])
			tree, asset, err := view.root(what)
			if err != nil {
				return err
			}
			answer.Result = tree
			lines := treeLines(tree, 0)
			var width [2]int
			for _, l := range lines {
				for i := range width {
					width[i] = max(width[i], len([]rune(l[i])))
				}
			}
			for _, l := range lines {
				a.out.Say("%s", strings.TrimRight(fmt.Sprintf("%-*s  %-*s  %9s", width[0], show.Clean(l[0]), width[1],
					show.Clean(l[1]), l[2]), " "))
			}
			if asset != nil {
				a.summary(asset, by, view.sizes)
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&by, "by", false, "show what needs it, up to every map")
	return cmd
}

// summary says how much it is all told; what several need counts once.
func (a *app) summary(asset *assetgraph.Asset, by bool, sizes map[string]int64) {
	if by {
		if len(asset.NeededBy)+len(asset.BaseOf) == 0 {
			a.out.Say("\nnothing needs it")
		}
		return
	}
	all := assetgraph.Closure(asset)
	var total int64
	files := len(all)
	for _, x := range all {
		files += len(x.Parts)
		total += sizes[x.Source]
		for _, part := range x.Parts {
			total += sizes[part]
		}
	}
	a.out.Say("\n%d files, %s of sources", files, release.Bytes(total))
}

// notOne says why a name leads to no asset, or to several.
func notOne(g *assetgraph.Graph, what string, found []*assetgraph.Asset) error {
	if len(found) > 1 {
		f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%d things are called %q", len(found), what),
			Do: "Say which:"}
		for _, x := range found {
			f.Do += fmt.Sprintf(" %q", string(x.Kind)+" "+x.Name)
		}
		return f
	}
	var known []string
	for _, x := range g.Assets {
		known = append(known, strings.TrimSuffix(x.Source, path.Ext(x.Source)), x.Source, x.Name)
	}
	f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("nothing is called %q", what),
		Do: `Name a source's path, or a kind and a name: vornix needs "material rock/slab".`}
	if near := suggest.Word(what, known); near != "" {
		f.Do = fmt.Sprintf("Did you mean %q?", near)
	}
	return f
}

// needsView is what the tree is made from.
type needsView struct {
	g     *assetgraph.Graph
	plan  *shots.Plan
	sizes map[string]int64
	by    bool
}

// root is the tree of what was asked for: an asset, or with --by a file that others are made of.
func (v *needsView) root(what string) (tree needAnswer, asset *assetgraph.Asset, err error) {
	found := v.g.Named(what)
	if v.by {
		part := needAnswer{Kind: partKind(what), Name: path.Base(what), Source: what, Size: v.sizes[what]}
		isSource := slices.ContainsFunc(found, func(a *assetgraph.Asset) bool { return a.Source == what })
		for _, a := range v.g.Assets {
			if !isSource && slices.Contains(a.Parts, what) {
				part.By = append(part.By, v.tree(a, nil))
			}
		}
		for i := range v.plan.Pictures {
			if x := &v.plan.Pictures[i]; x.Image == what {
				part.By = append(part.By, v.picture(x))
			}
		}
		if part.By != nil {
			return part, nil, nil
		}
	}
	if len(found) != 1 {
		return tree, nil, notOne(v.g, what, found)
	}
	return v.tree(found[0], nil), found[0], nil
}

// picture is a picture that is made of an image, and what it is of.
func (v *needsView) picture(x *shots.Picture) needAnswer {
	n := needAnswer{Kind: "picture", Name: x.Name, Source: x.File}
	if !v.by {
		n.Needs = []needAnswer{{Kind: "image", Name: path.Base(x.Image), Source: x.Image, Size: v.sizes[x.Image]}}
	} else if m := v.g.Find(assetgraph.Map, x.Map); m != nil {
		n.By = []needAnswer{v.leaf(m)}
	}
	return n
}

// partKind is what a file is that others are made of.
func partKind(file string) assetgraph.Kind {
	switch ending := strings.ToLower(path.Ext(file)); {
	case ending == ".vnx" || gltf.IsScene(file):
		return "prefab"
	case slices.Contains(texture.Endings, ending):
		return "image"
	}
	return "part"
}

func (v *needsView) leaf(x *assetgraph.Asset) needAnswer {
	n := needAnswer{Kind: x.Kind, Name: x.Name, Source: x.Source, Size: v.sizes[x.Source]}
	if x.Kind != assetgraph.Map {
		n.Parts = x.Parts
		for _, part := range x.Parts {
			n.Size += v.sizes[part]
		}
	}
	return n
}

// tree follows the arrows one way. A map that a script leads to, and what stands above already, is not followed again.
func (v *needsView) tree(x *assetgraph.Asset, above []*assetgraph.Asset) needAnswer {
	n := v.leaf(x)
	if slices.Contains(above, x) {
		return n
	}
	above = append(above[:len(above):len(above)], x)
	if v.by {
		for _, m := range x.NeededBy {
			n.By = append(n.By, v.tree(m, above))
		}
		for _, m := range x.BaseOf {
			d := v.tree(m, above)
			d.Inherits = true
			n.By = append(n.By, d)
		}
		return n
	}
	for _, m := range x.Bases {
		n.Needs = append(n.Needs,
			needAnswer{Kind: m.Kind, Name: m.Name, Source: m.Source, Size: v.sizes[m.Source], Inherits: true})
	}
	for _, m := range x.Needs {
		if m.Kind == assetgraph.Map {
			n.Needs = append(n.Needs, v.leaf(m))
		} else {
			n.Needs = append(n.Needs, v.tree(m, above))
		}
	}
	if x.Kind == assetgraph.Map {
		for _, part := range x.Parts {
			n.Needs = append(n.Needs,
				needAnswer{Kind: partKind(part), Name: path.Base(part), Source: part, Size: v.sizes[part]})
		}
		for i := range v.plan.Pictures {
			if p := &v.plan.Pictures[i]; p.Map == x.Name && p.Image != "" {
				n.Needs = append(n.Needs, v.picture(p))
			}
		}
	}
	for _, m := range x.Missing {
		n.Needs = append(n.Needs, needAnswer{Kind: m.Kind, Name: m.Name, Missing: true})
	}
	return n
}

// treeLines prints a tree as what it is, where, and how large.
func treeLines(n needAnswer, depth int) [][3]string {
	line := [3]string{strings.Repeat("  ", depth) + string(n.Kind) + " " + n.Name, n.Source, release.Bytes(n.Size)}
	if n.Inherits {
		line[0] += " (inherits)"
	}
	if len(n.Parts) > 0 {
		line[1] += fmt.Sprintf(" and %d more", len(n.Parts))
	}
	switch {
	case n.Missing:
		line[1], line[2] = "missing", ""
	case n.Kind == "picture":
		line[2] = "" // it is made
	}
	lines := [][3]string{line}
	for _, c := range append(n.Needs, n.By...) {
		lines = append(lines, treeLines(c, depth+1)...)
	}
	return lines
}
