// Package reflections is the compile stage that takes, at every probe of a lit map, a picture of
// all around it, for surfaces near by to mirror. A picture is a cube of six images with light of
// any brightness; each level is what a rougher surface mirrors: the mean over directions as they
// are spread by the distribution of Trowbridge and Reitz ("Average irregularity representation of a
// rough surface for ray reflection", 1975), sampled by importance. The box that the probe stands in
// lets games mirror what is near at the place where it is (parallax).
package reflections

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"math"
	"slices"

	"vornix/core/compile/radiance"
	"vornix/core/compile/stage"
	"vornix/core/format/bvh"
	"vornix/core/format/geom"
	"vornix/core/format/mapfile"
	"vornix/core/format/texture"
	"vornix/core/format/texture/bcn"
)

// Version is raised whenever the same map would give other pictures.
const Version = 2

const (
	side      = 64 // of a cube's images, in texels
	draftSide = 16
	smallest  = 4 // of the last level
	samples   = 96
)

// Options for Build.
type Options struct {
	Format texture.Format // of the pictures: BC6H, or else RGBA16F
	Key    string         // a hash of all that the map looks like
}

// Result is what the stage has to say.
type Result struct {
	Buried []int // objects: probes that lie in solids
}

// Build takes the pictures of all probes and writes them into the map.
func Build(ctx context.Context, e *stage.Env, m *mapfile.Map, s *radiance.Scene, o Options) (*Result, error) {
	r := &Result{}
	if !o.Format.HoldsLight() {
		o.Format = texture.RGBA16F
	}
	var probes []int
	for i := range m.Objects {
		if m.Objects[i].Kind == "probe" {
			probes = append(probes, i)
		}
	}
	size := side
	if e.Draft {
		size = draftSide
	}
	w := e.Begin(stage.Reflections, int64(len(probes)*12*size))
	m.Cubes = make([]mapfile.Cube, len(probes))
	for k, i := range probes {
		c, p := &m.Cubes[k], &m.Objects[i]
		c.Object = uint32(i)
		var in bool
		if c.Min, c.Max, in = box(s, p.A, p.Value); in {
			r.Buried = append(r.Buried, i)
		}
	}
	failed := make([]error, len(probes))
	err := w.Parts(ctx,
		stage.Parts{N: len(probes), Block: 1, Size: 1, Weight: int64(12 * size), Key: func(k int) string {
			return stage.Key(stage.Reflections, Version, o.Key, o.Format, size, m.Objects[probes[k]].A)
		}, Do: func(first, last int) {
			for k := first; k < last; k++ {
				m.Cubes[k].Texture, failed[k] = picture(ctx, w, s, m.Objects[probes[k]].A, size, o.Format)
			}
		}, Pack: func(first, last int) (data []byte) {
			for k := first; k < last; k++ {
				data = binary.LittleEndian.AppendUint32(data, uint32(len(m.Cubes[k].Texture)))
				data = append(data, m.Cubes[k].Texture...)
			}
			return data
		}, Unpack: func(first, last int, data []byte) bool {
			for k := first; k < last; k++ {
				if len(data) < 4 {
					return false
				}
				n := uint64(binary.LittleEndian.Uint32(data))
				if n == 0 || n > uint64(len(data)-4) {
					return false
				}
				m.Cubes[k].Texture, data = data[4:4+n:4+n], data[4+n:]
			}
			return len(data) == 0
		}})
	return r, errors.Join(append(failed, err)...)
}

// picture is what a probe sees, as a file.
func picture(ctx context.Context, w *stage.Work, s *radiance.Scene, at bvh.Vec, size int, f texture.Format) ([]byte,
	error) {
	levels, err := take(ctx, w, s, at, size)
	if err != nil {
		return nil, err
	}
	return pack(ctx, levels, f)
}

// cube is six images of one size, row by row.
type cube struct {
	side   int
	texels [6][]bvh.Vec
}

// at is the light from a direction.
func (c *cube) at(d bvh.Vec) bvh.Vec {
	face, u, v := bvh.CubePlace(d)
	return c.texels[face][min(int(v*float32(c.side)), c.side-1)*c.side+min(int(u*float32(c.side)), c.side-1)]
}

func newCube(side int) *cube {
	c := &cube{side: side}
	for i := range c.texels {
		c.texels[i] = make([]bvh.Vec, side*side)
	}
	return c
}

// take draws what is seen from a place, and what rougher and rougher surfaces mirror of it.
func take(ctx context.Context, w *stage.Work, s *radiance.Scene, at bvh.Vec, size int) ([]*cube, error) {
	sharp := newCube(size)
	err := w.Each(ctx, 6*size, 1, 0, func(first, last int) {
		for i := first; i < last; i++ {
			face, y := i/size, i%size
			for x := range size {
				sum := bvh.Vec{}
				for k := range 4 {
					d := bvh.CubeDirection(face, (float32(x)+0.25+float32(float32(k&1)/2))/float32(size),
						(float32(y)+0.25+float32(float32(k>>1)/2))/float32(size))
					sum = sum.Add(s.See(at, d.Unit()).Light)
				}
				sharp.texels[face][y*size+x] = sum.Scale(0.25)
			}
		}
	})
	levels := []*cube{sharp}
	count := 0
	for n := size / 2; n >= smallest; n /= 2 {
		count++
	}
	for level := 1; level <= count && err == nil; level++ {
		n := size >> level
		c := newCube(n)
		spread := lobe(float64(level) / float64(count))
		err = w.Each(ctx, 6*n, 1, 0, func(first, last int) {
			for i := first; i < last; i++ {
				face, y := i/n, i%n
				for x := range n {
					d := bvh.CubeDirection(face, (float32(x)+0.5)/float32(n), (float32(y)+0.5)/float32(n)).Unit()
					a, b := d.Frame()
					sum, weights := bvh.Vec{}, float32(0)
					for _, l := range spread {
						toward := a.Scale(l[0]).Add(b.Scale(l[1])).Add(d.Scale(l[2]))
						sum = sum.Add(sharp.at(toward).Scale(l[2]))
						weights += l[2]
					}
					c.texels[face][y*n+x] = sum.Scale(1 / weights)
				}
			}
		})
		levels = append(levels, c)
	}
	return levels, err
}

// lobe is the directions that a surface of a roughness, looked at straight on, mirrors: about Z,
// each as likely as the others.
func lobe(roughness float64) []bvh.Vec {
	var list []bvh.Vec
	a := roughness * roughness
	for i := range samples {
		u, v := (float64(i)+0.5)/samples, math.Mod(float64(i)*0.6180339887498949, 1)
		cos2 := (1 - u) / (1 + float64((float64(a*a)-1)*u)) // of the angle to the half-way direction
		z := 2*cos2 - 1
		if z <= 0 {
			continue
		}
		sin, cos := geom.Turn(360 * v)
		r := math.Sqrt(max(1-float64(z*z), 0))
		list = append(list, bvh.Vec{float32(r * cos), float32(r * sin), float32(z)})
	}
	return list
}

// pack makes a KTX2 file of a cube's levels.
func pack(ctx context.Context, levels []*cube, f texture.Format) ([]byte, error) {
	var all *texture.Texture
	for _, c := range levels {
		images := make([]image.Image, 6)
		for i, texels := range c.texels {
			img := texture.NewLight(c.side, c.side)
			for k, v := range texels {
				img.SetColours(k, v)
			}
			images[i] = img
		}
		t, err := texture.Compile(ctx, images,
			texture.Options{Format: f, Shape: texture.Cube, Levels: 1, Quality: bcn.Normal})
		if err != nil {
			return nil, fmt.Errorf("packing a probe's picture: %w", err)
		}
		if all == nil {
			all = t
		} else {
			all.Levels = append(all.Levels, t.Levels...)
		}
	}
	return all.Encode(texture.Container{Name: "ktx2"})
}

// box is the walls around a place, as far as reach: the median of where rays along each axis end.
// in says that most of them end on the backs of surfaces.
func box(s *radiance.Scene, at bvh.Vec, reach float32) (low, high [3]float32, in bool) {
	behind, all := 0, 0
	for k := range 3 {
		for _, sign := range [2]float32{-1, 1} {
			var ends []float32
			for i := range 25 {
				d := bvh.Vec{}
				d[k] = sign
				d[(k+1)%3], d[(k+2)%3] = (float32(i%5)-2)*0.12, (float32(i/5)-2)*0.12
				seen := s.See(at, d) // the length of d along the axis is 1
				ends = append(ends, min(seen.Distance, reach))
				all++
				if seen.Behind {
					behind++
				}
			}
			slices.Sort(ends)
			if sign < 0 {
				low[k] = at[k] - ends[len(ends)/2]
			} else {
				high[k] = at[k] + ends[len(ends)/2]
			}
		}
	}
	return low, high, behind > all/2
}
