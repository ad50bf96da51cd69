package compile

import (
	"fmt"
	"slices"
	"strings"

	"vornix/core/base/finding"
	"vornix/core/compile/pathfind"
	"vornix/core/format/geom"
	"vornix/core/source/scene"
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
		walkers := pathfind.Walkers(r.Map)
		for i := range walkers {
			w := &walkers[i]
			who := ""
			if len(walkers) > 1 && w.Name != "" {
				who = " as a " + w.Name
			}
			var cut []scene.Spawn
			for _, s := range m.Spawns {
				if !slices.ContainsFunc(goals, func(g geom.Vec) bool {
					_, ok := w.Find(pathfind.Point{s.At.X, s.At.Y, s.At.Z}, pathfind.Point{g.X, g.Y, g.Z})
					return ok
				}) {
					cut = append(cut, s)
				}
			}
			if len(cut) > 0 {
				r.Findings = append(r.Findings,
					finding.NavCut.At(cut[0].Place, "%d of %d spawns can't reach the %s%s: %s", len(cut), len(m.Spawns),
						kind, who, names(cut)))
			}
		}
	}
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
			r.Findings = append(r.Findings,
				finding.LightBuried.At(l.Place, "the light %q lies in the solid %q", l.Name, m.Solids[in].Name))
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
		r.Findings = append(r.Findings, finding.MapFar.At(place, "the map reaches %.0f km from its middle", d/1000))
	}
}
