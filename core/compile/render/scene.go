package render

import (
	"math"
	"runtime"
	"strconv"

	"vornix/core/base/group"
	"vornix/core/compile/radiance"
	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
)

// Scene is a compiled map in its light, ready for pictures. It can be used from any number of goroutines.
type Scene struct {
	Map   *mapfile.Map
	light *radiance.Scene
	skins []*skin // by the light scene's numbers of materials
	sun   bvh.Vec // toward it
	disc  float32 // the cosine of half its width; above 1: there is none
	bright,
	fog bvh.Vec // light of the sun's disc, and of fog
	range3, fogFrom, fogSky float32 // three times one by the fog's range
}

// NewScene makes a map ready. looks says how materials look, from several goroutines at once; sky
// is the picture all around or nil; side is the most texels that textures keep along a side.
func NewScene(m *mapfile.Map, looks func(material string) Appearance, sky *radiance.Picture, side int) *Scene {
	s := &Scene{Map: m}
	type ready struct {
		skin    *skin
		painted *radiance.Painted
	}
	names := m.Materials()
	made := make([]ready, len(names))
	var g group.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, name := range names {
		g.Go(func() error {
			l := looks(name)
			of := l.Appearance
			if of.SeeThrough != material.SeeThroughCutOut && of.SeeThrough != material.SeeThroughSoft {
				of.Colour, of.Emission = nil, nil // only holes are asked for
			}
			made[i] = ready{newSkin(l, side), radiance.Paint(of, side)}
			return nil
		})
	}
	_ = g.Wait() // none of them fails
	// a shape without a material is plain
	by := map[string]ready{"": {newSkin(Appearance{}, 1), radiance.Paint(radiance.Appearance{}, 1)}}
	for i, name := range names {
		by[name] = made[i]
	}
	s.light = radiance.New(m, func(name string) *radiance.Painted { return by[name].painted }, sky)
	s.light.Lit = radiance.LitOf(m)
	for _, name := range s.light.Materials() {
		s.skins = append(s.skins, by[name].skin)
	}
	s.disc = 2
	if k := m.Meta.Sky; k != nil {
		e, a := k.Elevation*math.Pi/180, k.Azimuth*math.Pi/180
		s.sun = bvh.Vec{float32(math.Sin(a) * math.Cos(e)), float32(math.Cos(a) * math.Cos(e)), float32(math.Sin(e))}
		if k.Power > 0 && k.Disc > 0 {
			half := min(k.Disc, 90) / 2 * math.Pi / 180
			s.disc = float32(math.Cos(half))
			// What the whole disc sends falls on a surface that faces it as the map says; brighter
			// than this no eye tells apart.
			s.bright = radiance.Linear(k.Colour).Scale(float32(min(k.Power/(math.Pi*math.Sin(half)*math.Sin(half)),
				24)))
		}
	}
	if f := m.Meta.Fog; f != nil && f.Range > 0 {
		s.fog, s.range3, s.fogFrom, s.fogSky = radiance.Linear(f.Colour), float32(3/f.Range), float32(f.From),
			float32(f.Sky)
	}
	return s
}

// Lit says whether the map has light.
func (s *Scene) Lit() bool { return s.light.Lit != nil }

// Box is the box around all surfaces; ok is false when there are none.
func (s *Scene) Box() (low, high bvh.Vec, ok bool) {
	box, ok := s.light.Box()
	return bvh.Vec{float32(box.Min.X), float32(box.Min.Y), float32(box.Min.Z)},
		bvh.Vec{float32(box.Max.X), float32(box.Max.Y), float32(box.Max.Z)}, ok
}

// Camera is where a picture is taken from.
type Camera struct {
	At, Look bvh.Vec
	FOV      float64 // across, degrees
	Exposure float64 // stops
	Lens     float64 // half the width of its opening, metres; 0: sharp everywhere
	Focus    float64 // metres at which it is sharp; 0: at Look
}

// CameraOf is one of a map's cameras, or, for an empty name, the first.
func CameraOf(m *mapfile.Map, name string) (Camera, bool) {
	for _, o := range m.Objects {
		if o.Kind != "camera" || name != "" && o.Name != name {
			continue
		}
		c := Camera{At: o.A, Look: o.B, FOV: float64(o.Angle), Exposure: float64(o.Value), Lens: float64(o.Radius)}
		for _, p := range o.Pairs {
			if p[0] == mapfile.FocusKey {
				c.Focus, _ = strconv.ParseFloat(p[1], 64) // 0, for what is no number, is at Look
			}
		}
		return c, true
	}
	return Camera{}, false
}

// Overview is a camera that sees all of a map, from the south-west.
func (s *Scene) Overview() (Camera, bool) {
	low, high, ok := s.Box()
	if !ok {
		return Camera{}, false
	}
	middle := low.Add(high).Scale(0.5)
	reach := high.Sub(low).Length() * 0.8
	return Camera{At: middle.Add(bvh.Vec{-reach / 2, -reach, reach / 2}), Look: middle, FOV: 60}, true
}

// sky is what one sees where nothing is in the way.
func (s *Scene) sky(dir bvh.Vec) bvh.Vec {
	d := dir.Unit()
	c := s.light.Sky(d)
	if d.Dot(s.sun) > s.disc {
		c = c.Add(s.bright)
	}
	return c.Scale(1 - s.fogSky).Add(s.fog.Scale(s.fogSky))
}

// hazed is light that came a way through the fog, in metres.
func (s *Scene) hazed(c bvh.Vec, metres float32) bvh.Vec {
	if s.range3 == 0 || metres <= s.fogFrom {
		return c
	}
	left := exp(-(metres - s.fogFrom) * s.range3)
	return c.Scale(left).Add(s.fog.Scale(1 - left))
}

func exp(v float32) float32 { return float32(math.Exp(float64(v))) }
