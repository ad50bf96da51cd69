package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vornix/core/compile/stage"
	"vornix/core/format/mapfile"
	"vornix/core/release"
)

// stagesAnswer is what inspect says of what the long stages made.
type stagesAnswer struct {
	Stage string `json:"stage"`
	How   string `json:"how"` // draft or full
	Made  string `json:"made"`
}

// cellAnswer is a cell of visibility and how much is seen from it.
type cellAnswer struct {
	Cell  int        `json:"cell"`
	Min   [3]float32 `json:"min"`
	Max   [3]float32 `json:"max"`
	Sees  int        `json:"sees"`  // cells
	Faces int        `json:"faces"` // that a game draws from there
}

// worstCells is how many cells the table shows.
const worstCells = 6

// stages says what each of a map's long stages made.
func (a *app) stages(m *mapfile.Map, sights []mapfile.CellSight) []stagesAnswer {
	list := []stagesAnswer{}
	var rows [][]string
	for _, name := range stage.Names {
		if how := m.Meta.Stages[name]; how != "" {
			s := stagesAnswer{name, how, strings.Join(made(m, name, sights), "; ")}
			list = append(list, s)
			rows = append(rows, []string{s.Stage, s.How, s.Made})
		}
	}
	if rows != nil {
		a.out.Table([]string{"stage", "", "made"}, rows)
		a.out.Say("")
	}
	return list
}

func made(m *mapfile.Map, name string, sights []mapfile.CellSight) (list []string) {
	switch name {
	case stage.Visibility:
		sees := 0
		for _, c := range sights {
			sees += c.Cells
		}
		n := len(m.Visibility.Cells)
		list = append(list,
			fmt.Sprintf("%s, each sees %.1f of them on average", release.Count(n, "cell"),
				float64(sees)/float64(max(n, 1))))
	case stage.Lighting:
		if l := m.Lightmap; l != nil {
			list = append(list,
				fmt.Sprintf("%s of %d x %d luxels", release.Count(len(l.Pages), "page"), l.Width, l.Height))
		}
		if a := m.Ambient; a != nil {
			list = append(list,
				fmt.Sprintf("%s of the light in the air, %.3g m apart", release.Count(len(a.Samples), "sample"),
					a.Spacing))
		}
		if len(m.GridLight) > 0 {
			cells := 0
			for _, g := range m.GridLight {
				cells += len(g)
			}
			list = append(list, "light on "+release.Count(cells, "cell"))
		}
	case stage.Reflections:
		list = append(list, release.Count(len(m.Cubes), "cube"))
	case stage.Navigation:
		for _, n := range m.Navigation {
			islands := map[uint32]bool{}
			for _, p := range n.Polygons {
				islands[p.Island] = true
			}
			kinds := map[mapfile.LinkKind]int{}
			for _, l := range n.Links {
				kinds[l.Kind]++
			}
			text := fmt.Sprintf("%s: %s on %s", n.Agent.Name, release.Count(len(n.Polygons), "polygon"),
				release.Count(len(islands), "island"))
			for kind := mapfile.Drop; kind <= mapfile.Door; kind++ {
				if kinds[kind] > 0 {
					text += ", " + release.Count(kinds[kind], mapfile.LinkKinds[kind])
				}
			}
			list = append(list, text)
		}
		if len(m.Costs) > 0 {
			list = append(list, "costs of "+release.Count(len(m.Costs), "grid"))
		}
	}
	return list
}

// cells says from which cells most is drawn.
func (a *app) cells(m *mapfile.Map, sights []mapfile.CellSight) []cellAnswer {
	list := []cellAnswer{}
	for i, s := range sights {
		c := &m.Visibility.Cells[i]
		list = append(list, cellAnswer{i, c.Min, c.Max, s.Cells, s.Faces})
	}
	slices.SortStableFunc(list, func(x, y cellAnswer) int { return cmp.Or(y.Faces-x.Faces, y.Sees-x.Sees) })
	if len(list) > worstCells {
		list = list[:worstCells]
	}
	if len(sights) < 2 {
		return list
	}
	var rows [][]string
	for _, c := range list {
		rows = append(rows,
			[]string{strconv.Itoa(c.Cell),
				fmt.Sprintf("%.4g,%.4g,%.4g to %.4g,%.4g,%.4g", c.Min[0], c.Min[1], c.Min[2], c.Max[0], c.Max[1],
					c.Max[2]),
				fmt.Sprintf("%d of %d cells", c.Sees, len(m.Visibility.Cells)),
				fmt.Sprintf("%d of %d faces", c.Faces, len(m.Faces))})
	}
	a.out.Table([]string{"from cell", "which lies at", "one sees", "and draws"}, rows)
	a.out.Say("")
	return list
}
