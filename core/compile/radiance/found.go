package radiance

import (
	"cmp"
	"slices"

	"vornix/core/format/bvh"
	"vornix/core/format/material"
)

// Kind is what a place is on.
type Kind = kind

// What a place can be on.
const (
	OnFace    = face
	OnTerrain = terrain
	OnProp    = prop
)

// Found is where a ray meets a surface, for those who paint it themselves.
type Found struct {
	Kind     Kind
	Owner    uint32       // which face, terrain or prop
	Material int          // its number in Materials
	Vertex   [3]uint32    // the triangle's corners among the map's vertices; of a terrain among its heights
	Corners  bvh.Triangle // where they lie
	U, V     float32      // the place is (1-U-V)·corner 0 + U·corner 1 + V·corner 2
	Distance float32      // in lengths of the ray's direction
	Behind   bool         // the ray met its back

	part *part
	hit  bvh.Hit
}

// Materials are the names of the materials by the numbers that places have.
func (s *Scene) Materials() []string { return s.materials }

// Layers are the numbers of the materials that are painted over a terrain.
func (s *Scene) Layers(terrain uint32) []int32 { return s.layers[terrain] }

// Look finds the nearest surface on a ray that is not soft, through the holes of cut-outs, and adds
// to list all soft ones before it, the nearest first. hit is false when the ray meets none but
// those. backs says whether it stops at backs: games do not draw them, but for those of
// double-sided materials.
func (s *Scene) Look(from, dir bvh.Vec, limit float32, backs bool, list []Found) (nearest Found, hit bool,
	soft []Found) {
	h, hit := s.solid.First(from, dir, limit, nil)
	for n := 0; hit && !backs && n < maxBacks && s.hidden(0, h, dir); n++ {
		gone := float32(h.T*(1+1e-6)) + 1e-5
		h, hit = s.solid.First(from.Add(dir.Scale(gone)), dir, limit-gone, nil)
		h.T += gone
	}
	which, first := 0, len(list)
	if hit {
		limit = h.T
	}
	if len(s.parts[1]) > 0 {
		s.clear.Through(from, dir, limit, func(c bvh.Hit) bool {
			if s.paints[s.parts[1][c.Triangle].paint].seeThrough == material.SeeThroughSoft {
				list = append(list, s.found(1, c, dir))
			} else if c.T < limit && s.lets(c) == (bvh.Vec{}) && (backs || !s.hidden(1, c, dir)) {
				h, hit, which, limit = c, true, 1, c.T
			}
			return true
		})
		if found := list[first:]; len(found) > 0 {
			slices.SortFunc(found, func(a, b Found) int {
				return cmp.Or(cmp.Compare(a.Distance, b.Distance), cmp.Compare(a.hit.Triangle, b.hit.Triangle))
			})
			// on the edge between two triangles a ray meets both
			found = slices.CompactFunc(found, func(a, b Found) bool {
				return a.Kind == b.Kind && a.Owner == b.Owner && a.Behind == b.Behind &&
					b.Distance-a.Distance <= 1e-5*b.Distance
			})
			for len(found) > 0 && found[len(found)-1].Distance >= limit {
				found = found[:len(found)-1]
			}
			list = list[:first+len(found)]
		}
	}
	if hit {
		nearest = s.found(which, h, dir)
	}
	return nearest, hit, list
}

// maxBacks is how many backs a ray passes at most.
const maxBacks = 64

// hidden says whether a ray meets the back of a triangle whose material does not show from behind.
func (s *Scene) hidden(which int, h bvh.Hit, dir bvh.Vec) bool {
	return s.behind(which, h, dir) && !s.paints[s.parts[which][h.Triangle].paint].doubleSided
}

func (s *Scene) found(which int, h bvh.Hit, dir bvh.Vec) Found {
	p := &s.parts[which][h.Triangle]
	return Found{Kind: p.kind, Owner: p.owner, Material: int(p.paint), Vertex: p.vertex,
		Corners: s.triangles[which][h.Triangle], U: h.U, V: h.V,
		Distance: h.T, Behind: s.behind(which, h, dir), part: p, hit: h}
}

// On is the light that lies on a place.
func (s *Scene) On(p *Found) bvh.Vec { return s.on(p.part, p.hit) }

// Toward is where the light on a place of a face mostly comes from; its length says how much of it.
// For all else it is zero.
func (s *Scene) Toward(p *Found) bvh.Vec {
	l := s.Map.Lightmap
	if p.Kind != face || l == nil || s.Map.Faces[p.Owner].Page == 0 {
		return bvh.Vec{}
	}
	w := 1 - p.U - p.V
	a, b, c := &s.Map.Vertices[p.Vertex[0]].Luxel, &s.Map.Vertices[p.Vertex[1]].Luxel,
		&s.Map.Vertices[p.Vertex[2]].Luxel
	x := float32(w*a[0]) + float32(p.U*b[0]) + float32(p.V*c[0])
	y := float32(w*a[1]) + float32(p.U*b[1]) + float32(p.V*c[1])
	page := l.Pages[s.Map.Faces[p.Owner].Page-1].Toward
	i, j := int(x), int(y)
	fx, fy := x-float32(i), y-float32(j)
	at := func(i, j int) (v bvh.Vec) {
		packed := page[min(max(j*int(l.Width)+i, 0), len(page)-1)]
		for k := range v {
			v[k] = (float32(packed>>(8*k)&255) - 128) / 127
		}
		return v
	}
	top := at(i, j).Scale(1 - fx).Add(at(i+1, j).Scale(fx))
	low := at(i, j+1).Scale(1 - fx).Add(at(i+1, j+1).Scale(fx))
	return top.Scale(1 - fy).Add(low.Scale(fy))
}
