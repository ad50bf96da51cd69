package radiance

import (
	"math"

	"vornix/core/format/bvh"
	"vornix/core/source/scene"
)

// Picture is light from all around: from straight up to straight down, north at its left edge.
type Picture struct {
	Width, Height int
	Pixels        [][3]float32 // row by row
}

// Load decodes a sky's picture; none stays none.
func Load(p *scene.Picture) (*Picture, error) {
	if p == nil {
		return nil, nil
	}
	pixels, err := p.Pixels()
	return &Picture{p.Width, p.Height, pixels}, err
}

// Sky is the light that comes from a direction, where nothing is in the way: that of the picture
// all around, or else the dome's, which goes over into the horizon's the nearer it is to it.
func (s *Scene) Sky(dir bvh.Vec) bvh.Vec {
	d := dir.Unit()
	p := s.picture
	if s.coarse != nil {
		return s.coarse.at(d)
	}
	if p == nil {
		if s.dome == s.horizon {
			return s.dome
		}
		t := 1 - max(d[2], 0)
		t = float32(t * t)
		t = float32(t * t)
		return s.dome.Scale(1 - t).Add(s.horizon.Scale(t))
	}
	// Angles are rounded, since not all machines find the same last digits.
	across := math.Round((math.Atan2(float64(d[0]), float64(d[1]))/(2*math.Pi)+1)*1e6) / 1e6 // from north, clockwise
	down := math.Round(math.Acos(min(max(float64(d[2]), -1), 1))/math.Pi*1e6) / 1e6
	x, y := float32(float64(across*float64(p.Width))-0.5), max(float32(float64(down*float64(p.Height))-0.5), 0)
	column, row := int(math.Floor(float64(x))), int(y)
	at := func(column, row int) bvh.Vec {
		return p.Pixels[min(row, p.Height-1)*p.Width+(column+p.Width)%p.Width]
	}
	fx, fy := x-float32(column), y-float32(row)
	top := at(column, row).Scale(1 - fx).Add(at(column+1, row).Scale(fx))
	low := at(column, row+1).Scale(1 - fx).Add(at(column+1, row+1).Scale(fx))
	return top.Scale(1 - fy).Add(low.Scale(fy)).Scale(s.glow())
}

func (s *Scene) glow() float32 {
	if s.Map.Meta.Sky != nil {
		return float32(s.Map.Meta.Sky.Glow)
	}
	return 1
}

// surround is light from all around in a cube's six images, which is asked much faster than a picture.
type surround struct{ texels [6][]bvh.Vec }

const (
	surroundSide = 64 // texels
	// fine is how many places of a texel are looked at, each way: enough that nothing of a usual picture is missed.
	fine = 6
)

// Coarse is the scene for those who gather light: its picture of the sky, where it has one, is
// blurred by about a degree, so that small bright parts of it are found by few rays. It shares all
// else with the scene, but Lit.
func (s *Scene) Coarse() *Scene {
	c := *s
	if s.picture == nil || s.coarse != nil {
		return &c
	}
	c.coarse = &surround{}
	for face := range c.coarse.texels {
		texels := make([]bvh.Vec, surroundSide*surroundSide)
		for i := range texels {
			sum := bvh.Vec{}
			for k := range fine * fine {
				u := float32((float32(i%surroundSide) + float32((float32(k%fine)+0.5)/fine)) / surroundSide)
				v := float32((float32(i/surroundSide) + float32((float32(k/fine)+0.5)/fine)) / surroundSide)
				sum = sum.Add(s.Sky(bvh.CubeDirection(face, u, v)))
			}
			texels[i] = sum.Scale(1.0 / (fine * fine))
		}
		c.coarse.texels[face] = texels
	}
	return &c
}

func (c *surround) at(d bvh.Vec) bvh.Vec {
	face, u, v := bvh.CubePlace(d)
	x, y := min(int(u*surroundSide), surroundSide-1), min(int(v*surroundSide), surroundSide-1)
	return c.texels[face][y*surroundSide+x]
}
