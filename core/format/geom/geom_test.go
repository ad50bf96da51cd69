package geom_test

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/geom"
)

func point(r *rand.Rand, size float64) geom.Vec {
	return geom.Vec{X: (r.Float64() - 0.5) * size, Y: (r.Float64() - 0.5) * size, Z: (r.Float64() - 0.5) * size}
}

// regular is a polygon of n corners in a plane through at.
func regular(n int, at, normal geom.Vec, radius float64) geom.Polygon {
	square := geom.Plane{N: normal}.Square(geom.Vec{}, 1)
	u, _ := square[1].Sub(square[0]).Unit()
	v := normal.Cross(u)
	var p geom.Polygon
	for i := range n {
		sin, cos := geom.Turn(float64(i) * 360 / float64(n))
		p = append(p, at.Add(u.Scale(cos*radius)).Add(v.Scale(sin*radius)))
	}
	return p
}

func volume(faces []geom.Polygon) float64 {
	v := 0.0
	for _, f := range faces {
		for i := 2; i < len(f); i++ {
			v += f[0].Dot(f[i-1].Cross(f[i])) / 6
		}
	}
	return v
}

// Cut in two, a polygon keeps its area and its plane, each part lies on its side, and whoever
// shares an edge finds the same point.
func TestSplit(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 2000 {
		normal, _ := point(r, 2).Unit()
		p := regular(3+r.IntN(8), point(r, 100), normal, 1+r.Float64()*20)
		by, ok := point(r, 2).Unit()
		require.True(t, ok)
		plane := geom.Plane{N: by, D: by.Dot(p.Middle()) + (r.Float64()-0.5)*10}
		front, back := p.Split(plane)
		area := 0.0
		for _, part := range []geom.Polygon{front, back} {
			if part == nil {
				continue
			}
			area += part.Area()
			whole, ok := part.Plane()
			if part.Area() > 1e-3 {
				require.True(t, ok)
				assert.InDelta(t, 1, whole.N.Dot(normal), 1e-6)
			}
		}
		assert.InDelta(t, p.Area(), area, 1e-6)
		for _, v := range front {
			assert.GreaterOrEqual(t, plane.Distance(v), -2*geom.Near)
		}
		for _, v := range back {
			assert.LessOrEqual(t, plane.Distance(v), 2*geom.Near)
		}
		if front != nil && back != nil {
			other := geom.Polygon{p[1], p[0], p[0].Add(normal)} // it shares the first edge
			f, b := other.Split(plane)
			for _, part := range []geom.Polygon{front, back} {
				for _, v := range part {
					onEdge := v.Sub(p[0]).Cross(p[1].Sub(p[0])).Length() < 1e-9*p[1].Sub(p[0]).Length() && v != p[0] &&
						v != p[1]
					if onEdge && f != nil && b != nil {
						assert.True(t, slices.Contains(f, v) || slices.Contains(b, v), "the same point to the bit")
					}
				}
			}
		}
	}
}

// A plane along an axis is exact, wherever the polygon lies.
func TestPlanesAlongAxesAreExact(t *testing.T) {
	for k := range 3 {
		for _, far := range []float64{0, 1e3, 9e6} {
			at := geom.Vec{X: far + 0.1, Y: far + 0.2, Z: far + 0.3}
			b := geom.Box{Min: at, Max: at.Add(geom.Vec{X: 1, Y: 2, Z: 3})}
			for _, f := range b.Faces() {
				plane, ok := f.Plane()
				require.True(t, ok)
				if math.Abs(plane.N.At(k)) == 1 {
					assert.Equal(t, f[0].At(k)*plane.N.At(k), plane.D)
				}
			}
		}
	}
}

// The hull of points holds them all, is closed and convex, and has no more volume than the box around them.
func TestHull(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	for range 200 {
		var points []geom.Vec
		for range 4 + r.IntN(14) {
			p := point(r, 10)
			if r.IntN(3) == 0 { // some on a grid, so that many lie in one plane
				p = geom.Vec{X: math.Round(p.X), Y: math.Round(p.Y), Z: math.Round(p.Z)}
			}
			points = append(points, p)
		}
		faces, err := geom.Hull(points)
		if err != nil {
			assert.ErrorIs(t, err, geom.ErrFlat)
			continue
		}
		edges := map[[2]geom.Vec]int{}
		for _, f := range faces {
			plane, ok := f.Plane()
			require.True(t, ok)
			for _, p := range points {
				assert.LessOrEqual(t, plane.Distance(p), 3*geom.Near, "every point lies behind every face")
			}
			for i, a := range f {
				edges[[2]geom.Vec{a, f[(i+1)%len(f)]}]++
				edges[[2]geom.Vec{f[(i+1)%len(f)], a}]--
			}
		}
		for e, n := range edges {
			assert.Zero(t, n, "an open edge %v", e)
		}
		box := geom.Polygon(points).Box()
		size := box.Max.Sub(box.Min)
		v := volume(faces)
		assert.Positive(t, v)
		assert.LessOrEqual(t, v, size.X*size.Y*size.Z+1e-6)
		around := geom.Around(points)
		require.NotNil(t, around)
		assert.GreaterOrEqual(t, volume(around), v-1e-3, "the body of 26 sides is larger")
		again := geom.Enclose(geom.Planes(faces), box.Middle(), 20)
		assert.InDelta(t, v, volume(again), 1e-2*v+1e-3, "the planes of a hull enclose it")
	}
	_, err := geom.Hull(make([]geom.Vec, geom.MaxHullPoints+1))
	assert.Error(t, err)
	assert.Nil(t, geom.Enclose([]geom.Plane{{N: geom.Vec{X: 1}, D: 1}, {N: geom.Vec{Y: 1}, D: 1}}, geom.Vec{}, 10),
		"open to one side")
}

// Pieces cut from a polygon by many planes grow together again to few, with the same area.
func TestMergeUndoesCuts(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	for range 100 {
		normal, _ := point(r, 2).Unit()
		whole := regular(4, point(r, 10), normal, 10)
		parts := []geom.Polygon{whole}
		for range 1 + r.IntN(4) {
			by, _ := point(r, 2).Unit()
			plane := geom.Plane{N: by, D: by.Dot(whole.Middle())}
			var next []geom.Polygon
			for _, p := range parts {
				f, b := p.Split(plane)
				for _, part := range []geom.Polygon{f, b} {
					if part != nil {
						next = append(next, part)
					}
				}
			}
			parts = next
		}
		merged := geom.Merge(parts, normal)
		area := 0.0
		for _, p := range merged {
			area += p.Area()
		}
		assert.InDelta(t, whole.Area(), area, 1e-3)
		assert.LessOrEqual(t, len(merged), max(len(parts)*2/3, 1), "of %d", len(parts))
		assert.Equal(t, merged, geom.Merge(parts, normal))
	}
}

// Any simple outline is cut into convex pieces of the same area.
func TestConvexPieces(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for range 300 {
		var star geom.Polygon
		n := 5 + r.IntN(20)
		for i := range n {
			sin, cos := geom.Turn(float64(i) * 360 / float64(n))
			far := 1 + 4*r.Float64()
			star = append(star, geom.Vec{X: cos * far, Y: sin * far})
		}
		area := 0.0
		for i, a := range star {
			b := star[(i+1)%n]
			area += (a.X*b.Y - b.X*a.Y) / 2
		}
		pieces, ok := geom.ConvexPieces(star, geom.Vec{Z: 1})
		require.True(t, ok, "%v", star)
		sum := 0.0
		for _, p := range pieces {
			sum += p.Area()
			for i, b := range p {
				a, c := p[(i+len(p)-1)%len(p)], p[(i+1)%len(p)]
				assert.GreaterOrEqual(t, b.Sub(a).Cross(c.Sub(b)).Z, -1e-6)
			}
		}
		assert.InDelta(t, area, sum, 1e-3)
	}
	_, ok := geom.ConvexPieces(geom.Polygon{{X: 0}, {X: 4, Y: 4}, {X: 4}, {Y: 4}}, geom.Vec{Z: 1})
	assert.False(t, ok, "it crosses itself")
}

func TestTransforms(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for range 500 {
		a := geom.Place(point(r, 100), r.Float64()*720-360, geom.Vec{X: 0.5 + r.Float64(), Y: -0.5 - r.Float64(), Z: 1})
		b := geom.Place(point(r, 10), float64(r.IntN(8))*45, geom.Vec{X: 1, Y: 1, Z: 2})
		p := point(r, 50)
		assert.InDelta(t, 0, a.After(b).Point(p).Sub(a.Point(b.Point(p))).Length(), 1e-9)
		back, ok := a.Inverse()
		require.True(t, ok)
		assert.InDelta(t, 0, back.Point(a.Point(p)).Sub(p).Length(), 1e-9)
		box := geom.NewBox(point(r, 5), point(r, 5))
		var faces []geom.Polygon
		for _, f := range box.Faces() {
			faces = append(faces, a.Polygon(f))
		}
		assert.InDelta(t, volume(box.Faces())*math.Abs(a.Volume()), volume(faces), 1e-9,
			"a mirrored body still looks outward")
	}
	assert.Equal(t, geom.Vec{X: -2, Y: 1, Z: 3},
		geom.Place(geom.Vec{}, 90, geom.Vec{X: 1, Y: 1, Z: 1}).Point(geom.Vec{X: 1, Y: 2, Z: 3}), "quarters are exact")
	for _, turn := range []float64{0, 90, 180, 270} {
		assert.Equal(t, math.Mod(360-turn, 360), geom.Place(geom.Vec{}, turn, geom.Vec{X: 1, Y: 1, Z: 1}).Heading(0))
	}
	_, ok := geom.Transform{}.Inverse()
	assert.False(t, ok)
}

// The tree finds just those boxes that a look at every one of them finds.
func TestTreeFindsWhatALookAtAllFinds(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	for _, n := range []int{0, 1, 7, 9, 500} {
		boxes := make([]geom.Box, n)
		for i := range boxes {
			boxes[i] = geom.NewBox(point(r, 100), point(r, 100))
			boxes[i].Max = boxes[i].Min.Add(geom.Vec{X: r.Float64() * 9, Y: r.Float64() * 9, Z: r.Float64() * 9})
		}
		tree := geom.NewTree(boxes)
		for range 100 {
			at := point(r, 100)
			query := geom.Box{Min: at, Max: at.Add(geom.Vec{X: 5, Y: 5, Z: 5})}
			var want, got []int
			for i, b := range boxes {
				if b.Touches(query) {
					want = append(want, i)
				}
			}
			tree.Touching(query, func(i int) { got = append(got, i) })
			slices.Sort(got)
			assert.Equal(t, want, got)
		}
	}
}

func TestMeet(t *testing.T) {
	box := func(x, y, z float64) []geom.Polygon {
		return geom.NewBox(geom.Vec{X: x, Y: y, Z: z}, geom.Vec{X: x + 2, Y: y + 2, Z: z + 2}).Faces()
	}
	assert.True(t, geom.Meet(box(0, 0, 0), box(1, 1, 1)))
	assert.True(t, geom.Meet(box(0, 0, 0), box(0, 0, 0)), "one in the other's place")
	assert.False(t, geom.Meet(box(0, 0, 0), box(2, 0, 0)), "they only touch")
	assert.False(t, geom.Meet(box(0, 0, 0), box(5, 5, 5)))
	large := geom.NewBox(geom.Vec{X: -9, Y: -9, Z: -9}, geom.Vec{X: 9, Y: 9, Z: 9}).Faces()
	assert.True(t, geom.Meet(large, box(0, 0, 0)), "one wholly inside")
	assert.True(t, geom.Meet(box(0, 0, 0), large))
}

// Directions keep their meaning at any length, and level ones stay level.
func TestUnit(t *testing.T) {
	for _, scale := range []float64{1e-20, 1, 1e20, 1e200} {
		u, ok := geom.Vec{X: 3 * scale, Y: 4 * scale}.Unit()
		require.True(t, ok)
		assert.InDelta(t, 0.6, u.X, 1e-12)
		assert.Zero(t, u.Z)
	}
	for _, bad := range []geom.Vec{{}, {X: math.NaN()}, {X: math.Inf(1)}, {X: 1e-40}} {
		_, ok := bad.Unit()
		assert.False(t, ok, bad)
	}
	u, _ := geom.Vec{X: 1, Y: 1e-14}.Unit()
	assert.Equal(t, geom.Vec{X: 1}, u)
}

func TestHalveDoesWhatSortingDoes(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for range 2000 {
		list := make([]float64, 1+r.IntN(300))
		for i := range list {
			list[i] = float64(r.IntN(1 + r.IntN(100))) // many alike
		}
		switch r.IntN(4) {
		case 0:
			slices.Sort(list)
		case 1:
			slices.SortFunc(list, func(a, b float64) int { return cmp.Compare(b, a) })
		}
		sorted, k := slices.Sorted(slices.Values(list)), r.IntN(len(list))
		geom.Halve(list, k, cmp.Compare[float64])
		require.Equal(t, sorted[k], list[k])
		require.LessOrEqual(t, slices.Max(append([]float64{-1}, list[:k]...)), list[k])
		require.GreaterOrEqual(t, slices.Min(list[k:]), list[k])
		slices.Sort(list)
		require.Equal(t, sorted, list, "none is lost")
	}
}
