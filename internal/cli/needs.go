package cli

import (
	"context"
	"fmt"
	"path"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/fault"
	"vornix/core/nearest"
	"vornix/core/needs"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

// needAnswer is an asset with what it needs, or with what needs it.
type needAnswer struct {
	Kind   needs.Kind `json:"kind"`
	Name   string     `json:"name"`
	Source string     `json:"source,omitempty"`
	Size   int64      `json:"size"`
	// Parts are further files that it is made of: sidecars, frames; Inherits says that values are taken from it, or by it.
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
		Long: `Needs shows the tree of what a source refers to, directly or through others, with sizes and what is missing. PATH is a
source's path, a name, or a kind and a name in quotes. With --by it goes the other way, up to every map.`,
		Example: `  vornix needs cairn_station
  vornix needs --by textures/rock/slab.png`,
		Args: between(1, 1, "one source"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, g, err := a.scanned(ctx)
			if err != nil {
				return err
			}
			found := g.Named(inProject(p, args[0]))
			if len(found) != 1 {
				return notOne(g, args[0], found)
			}
			asset := found[0]
			sizes := map[string]int64{}
			for _, f := range g.Files {
				sizes[f.Path] = f.Size
			}
			tree := needsTree(asset, by, sizes)
			answer.Result = tree
			lines := treeLines(tree, 0)
			var width [2]int
			for _, l := range lines {
				for i := range width {
					width[i] = max(width[i], len([]rune(l[i])))
				}
			}
			for _, l := range lines {
				a.out.Say("%s", strings.TrimRight(fmt.Sprintf("%-*s  %-*s  %9s", width[0], show.Clean(l[0]), width[1], show.Clean(l[1]), l[2]), " "))
			}
			a.summary(asset, by, sizes)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&by, "by", false, "show what needs it, up to every map")
	return cmd
}

// summary says how much it is all told; what several need counts once.
func (a *app) summary(asset *needs.Asset, by bool, sizes map[string]int64) {
	if by {
		if len(asset.NeededBy)+len(asset.BaseOf) == 0 {
			a.out.Say("\nnothing needs it")
		}
		return
	}
	all := needs.Closure(asset)
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
func notOne(g *needs.Graph, what string, found []*needs.Asset) error {
	if len(found) > 1 {
		f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%d things are called %q", len(found), what), Do: "Say which:"}
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
	if near := nearest.Word(what, known); near != "" {
		f.Do = fmt.Sprintf("Did you mean %q?", near)
	}
	return f
}

// needsTree follows the arrows one way. They make no circle: each kind refers to later kinds only.
func needsTree(x *needs.Asset, by bool, sizes map[string]int64) needAnswer {
	n := needAnswer{Kind: x.Kind, Name: x.Name, Source: x.Source, Size: sizes[x.Source], Parts: x.Parts}
	for _, part := range x.Parts {
		n.Size += sizes[part]
	}
	if by {
		for _, m := range x.NeededBy {
			n.By = append(n.By, needsTree(m, by, sizes))
		}
		for _, m := range x.BaseOf {
			d := needsTree(m, by, sizes)
			d.Inherits = true
			n.By = append(n.By, d)
		}
		return n
	}
	for _, m := range x.Bases {
		n.Needs = append(n.Needs, needAnswer{Kind: m.Kind, Name: m.Name, Source: m.Source, Size: sizes[m.Source], Inherits: true})
	}
	for _, m := range x.Needs {
		n.Needs = append(n.Needs, needsTree(m, by, sizes))
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
	if n.Missing {
		line[1], line[2] = "missing", ""
	}
	lines := [][3]string{line}
	for _, c := range append(n.Needs, n.By...) {
		lines = append(lines, treeLines(c, depth+1)...)
	}
	return lines
}
