package compile

import (
	"fmt"
	"strings"

	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/geom"
	"vornix/core/path"
	"vornix/core/scene"
)

// reach finds spawns from which players can't get to what a game says they must.
func (r *Result) reach(m *scene.Map, targets []string) {
	if m.Menu || len(m.Spawns) == 0 {
		return
	}
	for _, kind := range targets {
		var goals []geom.Vec
		for _, it := range m.Items {
			if it.Kind == kind {
				goals = append(goals, it.At)
			}
		}
		if len(goals) == 0 {
			continue // that it is missing was said
		}
		for _, way := range r.ways() {
			var cut []scene.Spawn
			for _, s := range m.Spawns {
				ok := false
				for _, g := range goals {
					ok = ok || way.leads(s.At, g)
				}
				if !ok {
					cut = append(cut, s)
				}
			}
			if len(cut) > 0 {
				r.Findings = append(r.Findings, finding.NavCut.At(cut[0].Place, "%d of %d spawns can't reach the %s%s: %s", len(cut), len(m.Spawns), kind, way.who, names(cut)))
			}
		}
	}
}

// walker is who may get somewhere.
type walker struct {
	who   string
	leads func(from, to geom.Vec) bool
}

func (r *Result) ways() []walker {
	var list []walker
	for i := range r.Map.Navigation {
		n := &r.Map.Navigation[i]
		net := path.New(n)
		who := ""
		if len(r.Map.Navigation) > 1 {
			who = " as a " + n.Agent.Name
		}
		list = append(list, walker{who, func(from, to geom.Vec) bool {
			_, ok := net.Find(path.Point{from.X, from.Y, from.Z}, path.Point{to.X, to.Y, to.Z})
			return ok
		}})
	}
	if len(r.Map.Costs) > 0 {
		list = append(list, walker{"", func(from, to geom.Vec) bool {
			for i, g := range r.Map.Grids {
				if float64(g.Level) == from.Z && from.Z == to.Z {
					_, ok := path.FindOnGrid(r.Map, i, [2]int{int(from.X), int(from.Y)}, [2]int{int(to.X), int(to.Y)})
					return ok
				}
			}
			return from.Z != to.Z // between levels the game decides
		}})
	}
	return list
}

// names lists spawns with their places, the first few of them.
func names(list []scene.Spawn) string {
	var parts []string
	for i, s := range list {
		if i == 4 && len(list) > 5 {
			parts = append(parts, fmt.Sprintf("%d more", len(list)-i))
			break
		}
		parts = append(parts, s.Name+" at "+point(s.At))
	}
	return strings.Join(parts, ", ")
}

// buried finds lights that lie in solids.
func (r *Result) buried(m *scene.Map) {
	boxes := make([]geom.Box, len(m.Solids))
	for i := range m.Solids {
		boxes[i] = m.Solids[i].Box
	}
	tree := geom.NewTree(boxes)
	for _, l := range m.Lights {
		in := -1
		tree.Touching(geom.Box{Min: l.At, Max: l.At}, func(i int) {
			inside := true
			for _, f := range m.Solids[i].Faces {
				inside = inside && f.Plane.Distance(l.At) < -geom.Near
			}
			if inside && (in < 0 || i < in) {
				in = i
			}
		})
		if in >= 0 {
			r.Findings = append(r.Findings, finding.LightBuried.At(l.Place, "the light %q lies in the solid %q", l.Name, m.Solids[in].Name))
		}
	}
}

// distant finds what lies so far out that single precision, in which maps are kept, moves it.
func (r *Result) distant(m *scene.Map) {
	const limit = 16384
	place := m.Place
	box, ok := m.Bounds()
	if !ok {
		return
	}
	far := box.Max.Max(box.Min.Scale(-1))
	for i := range m.Solids {
		b := m.Solids[i].Box
		if o := b.Max.Max(b.Min.Scale(-1)); max(o.X, o.Y, o.Z) > limit {
			place = m.Solids[i].Place
			break
		}
	}
	if d := max(far.X, far.Y, far.Z); d > limit {
		r.Findings = append(r.Findings, finding.MapFar.At(fault.Place(place), "the map reaches %.0f km from its middle", d/1000))
	}
}
