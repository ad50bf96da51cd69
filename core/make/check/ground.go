package check

import (
	"fmt"
	"math"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/format/geom"
	"vornix/core/format/model"
	"vornix/core/source/scene"
)

// ground answers where players can stand: on solids, terrains and props that stop them.
type ground struct {
	m     *scene.Map
	tree  *geom.Tree
	props []geom.Box
}

func newGround(m *scene.Map, models func(string) *model.Model) *ground {
	g := &ground{m: m}
	boxes := make([]geom.Box, len(m.Solids))
	for i := range m.Solids {
		boxes[i] = m.Solids[i].Box
	}
	g.tree = geom.NewTree(boxes)
	for _, p := range m.Props {
		d := p.Shape
		if d == nil {
			d = models(p.Model.Name)
		}
		if d == nil || !p.Solid {
			continue
		}
		var corners geom.Polygon
		for _, f := range d.Box.Faces()[:2] {
			corners = append(corners, p.At.Polygon(f)...)
		}
		g.props = append(g.props, corners.Box())
	}
	return g
}

// in is a solid that shares space with a box; nil when there is none.
func (g *ground) in(body geom.Box) *scene.Solid {
	best := -1
	faces := body.Faces()
	g.tree.Touching(body, func(i int) {
		if (best < 0 || i < best) && geom.Meet(faces, g.m.Solids[i].Polygons()) {
			best = i
		}
	})
	if best < 0 {
		return nil
	}
	return &g.m.Solids[best]
}

// below is how high the nearest ground below a point is.
func (g *ground) below(p geom.Vec) (z float64, ok bool) {
	z = math.Inf(-1)
	column := geom.Box{Min: geom.Vec{X: p.X, Y: p.Y, Z: -1e9}, Max: p}
	g.tree.Touching(column, func(i int) {
		low, high := math.Inf(-1), math.Inf(1)
		for _, f := range g.m.Solids[i].Faces {
			n, d := f.Plane.N, f.Plane.D-float64(f.Plane.N.X*p.X)-float64(f.Plane.N.Y*p.Y)
			switch {
			case n.Z > 1e-9:
				high = min(high, d/n.Z)
			case n.Z < -1e-9:
				low = max(low, d/n.Z)
			case d < 0:
				return
			}
		}
		if low < high && high <= p.Z {
			z, ok = max(z, high), true
		}
	})
	for i := range g.m.Terrains {
		if h, on := g.height(i, p); on && h <= p.Z {
			z, ok = max(z, h), true
		}
	}
	for _, b := range g.props {
		if p.X >= b.Min.X && p.X <= b.Max.X && p.Y >= b.Min.Y && p.Y <= b.Max.Y && b.Max.Z <= p.Z {
			z, ok = max(z, b.Max.Z), true
		}
	}
	return z, ok
}

// height is how high a terrain is at a point, between its heights as mean of the four around.
func (g *ground) height(i int, p geom.Vec) (float64, bool) {
	t := &g.m.Terrains[i]
	size := t.Box.Max.Sub(t.Box.Min)
	x, y := float64((p.X-t.Box.Min.X)/size.X*float64(t.Columns-1)), float64((t.Box.Max.Y-p.Y)/size.Y*float64(t.Rows-1))
	if x < 0 || y < 0 || x > float64(t.Columns-1) || y > float64(t.Rows-1) {
		return 0, false
	}
	cx, cy := min(int(x), t.Columns-2), min(int(y), t.Rows-2)
	u, v := x-float64(cx), y-float64(cy)
	at := func(dx, dy int) float64 { return t.Height(cx+dx, cy+dy).Z }
	return float64(at(0, 0)*(1-u)*(1-v)) + float64(at(1, 0)*u*(1-v)) + float64(at(0, 1)*(1-u)*v) +
		float64(at(1, 1)*u*v), true
}

// probes finds places where players can be that no probe reaches: on every face that can be stood
// on, at its corners and its middle, at the height of a player's eyes.
func (c *mapChecker) probes() {
	if !c.profile.Map.Probes || len(c.m.Solids) == 0 {
		return
	}
	missed, all := 0, 0
	var first geom.Vec
	look := func(p geom.Vec) {
		p.Z += 1.5
		all++
		for _, probe := range c.m.Probes {
			if probe.At.Sub(p).Length() <= probe.Reach {
				return
			}
		}
		if missed++; missed == 1 {
			first = p
		}
	}
	for i := range c.m.Solids {
		for _, f := range c.m.Solids[i].Faces {
			if f.Plane.N.Z < 0.7 {
				continue
			}
			for _, p := range f.Polygon {
				look(p)
			}
			look(f.Polygon.Middle())
		}
	}
	if missed > 0 {
		place := c.m.Place
		if len(c.m.Probes) > 0 {
			place = c.m.Probes[0].Place
		}
		c.add(finding.ProbeMissing.At(place,
			"no probe reaches %d of %d places where players can stand, such as %.1f,%.1f,%.1f", missed, all, first.X,
			first.Y, first.Z))
	}
}

// outside finds objects that lie away from everything.
func (c *mapChecker) outside() {
	one := func(what string, at geom.Vec, place fault.Place) {
		if c.away(at) {
			c.add(finding.ObjectOut.At(place, "%s at %g,%g,%g lies outside of the map", what, at.X, at.Y, at.Z))
		}
	}
	for _, it := range c.m.Items {
		one("the "+it.Kind, it.At, it.Place)
	}
	for _, s := range c.m.Sounds {
		one(fmt.Sprintf("the sound %q", s.Name), s.At, s.Place)
	}
	for _, p := range c.m.Props {
		if p.Shape == nil {
			one(fmt.Sprintf("the prop %q", p.Name), p.At.Move, p.Place)
		}
	}
	for _, p := range c.m.Probes {
		one(fmt.Sprintf("the probe %q", p.Name), p.At, p.Place)
	}
	for _, l := range c.m.Lights {
		if l.Kind == "point" || l.Kind == "spot" {
			one(fmt.Sprintf("the light %q", l.Name), l.At, l.Place)
		}
	}
}

// away says whether a point lies off all grids, or further from the solids and terrains than a
// quarter of the map's size.
func (c *mapChecker) away(p geom.Vec) bool {
	if len(c.m.Grids) > 0 {
		for _, g := range c.m.Grids {
			if p.X >= 0 && p.Y >= 0 && p.X < float64(g.Width) && p.Y < float64(g.Height) &&
				float64(g.Level) == math.Floor(p.Z) {
				return false
			}
		}
		return true
	}
	all, ok := c.m.Bounds()
	if !ok {
		return false
	}
	size := all.Max.Sub(all.Min)
	return !all.Grow(max(5, max(size.X, size.Y, size.Z)/4)).Holds(p)
}
