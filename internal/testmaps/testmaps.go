// Package testmaps makes maps of any size for tests and benchmarks. The same call gives the same map everywhere.
package testmaps

import (
	"fmt"
	"math"
	"strings"
)

// Random is a small generator of numbers (splitmix64) that gives the same ones everywhere.
type Random uint64

// Next is from 0 to below 1.
func (r *Random) Next() float64 {
	*r += 0x9e3779b97f4a7c15
	z := uint64(*r)
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return float64((z^z>>31)>>11) / (1 << 53)
}

func (r *Random) between(a, b float64) float64 { return math.Round((a+(b-a)*r.Next())*16) / 16 }

// Rooms is a map of about n solids: rooms of 8 x 8 x 4 m in a square, with doorways to their
// neighbours, crates, pillars, ramps and a lamp each. It is closed to the outside.
func Rooms(n int) string {
	side := max(int(math.Sqrt(float64(n-2)/17)), 1)
	var b strings.Builder
	r := Random(1)
	made := 0
	solid := func(format string, args ...any) {
		if made < n {
			fmt.Fprintf(&b, "solid s%d %s\n", made, fmt.Sprintf(format, args...))
			made++
		}
	}
	fmt.Fprintf(&b, "map rooms title=\"Rooms\" players=2..8 modes=relay sealed=yes\n")
	for x := range side {
		for y := range side {
			e, s := float64(x)*8, float64(y)*8
			solid("box %g,%g,-0.5 %g,%g,0 material=floor", e, s, e+8, s+8)
			solid("box %g,%g,4 %g,%g,4.5 material=roof", e, s, e+8, s+8)
			// Doorways stand now here, now there, so that nobody sees through all rooms; at the rim there is none.
			door, low := float64((x*3+y*2)%4), 3.0
			if x == 0 {
				low = 0
			}
			solid("box %g,%g,0 %g,%g,4 material=wall", e, s, e+0.5, s+1+door)
			solid("box %g,%g,0 %g,%g,4 material=wall", e, s+3+door, e+0.5, s+8)
			solid("box %g,%g,%g %g,%g,4 material=wall", e, s+1+door, low, e+0.5, s+3+door)
			if low = 3; y == 0 {
				low = 0
			}
			solid("box %g,%g,0 %g,%g,4 material=wall", e+0.5, s, e+1+door, s+0.5)
			solid("box %g,%g,0 %g,%g,4 material=wall", e+3+door, s, e+8, s+0.5)
			solid("box %g,%g,%g %g,%g,4 material=wall", e+1+door, s, low, e+3+door, s+0.5)
			for range 4 {
				cx, cy, w := e+r.between(1, 6), s+r.between(1, 6), r.between(0.5, 1.5)
				solid("box %g,%g,0 %g,%g,%g material=crate", cx, cy, cx+w, cy+w, w)
			}
			for range 2 {
				solid("cylinder %g,%g,0 radius=0.4 height=4 sides=8 material=stone", e+r.between(1, 7),
					s+r.between(1, 7))
			}
			solid("wedge %g,%g,0 %g,%g,1 rise=east material=floor", e+5, s+5.5, e+7, s+7)
			solid("box %g,%g,1.5 %g,%g,1.75 material=crate", e+0.5, s+6, e+1.25, s+7.5)
			solid("box %g,%g,3.5 %g,%g,4 material=stone", e+0.5, s+0.5, e+8, s+1)
			fmt.Fprintf(&b, "light lamp_%d_%d point %g,%g,3.25 radius=0.1 colour=#ffe0b0 power=60\n", x, y, e+4.25,
				s+3.75)
		}
	}
	end := float64(side) * 8
	solid("box %g,0,-0.5 %g,%g,4.5 material=wall", end, end+0.5, end+0.5)
	solid("box 0,%g,-0.5 %g,%g,4.5 material=wall", end, end, end+0.5)
	for made < n { // what is left over stands about
		x, y, w := r.between(1, end-2), r.between(1, end-2), r.between(0.25, 1)
		solid("box %g,%g,0 %g,%g,%g material=crate", x, y, x+w, y+w, w)
	}
	return b.String()
}

// Open is a map of about n solids: one large ground under the sky with hulls, boxes and wedges on
// and in it, many of them in one another.
func Open(n int) string {
	width := math.Ceil(math.Sqrt(float64(n)) * 4)
	var b strings.Builder
	r := Random(2)
	fmt.Fprintf(&b, "map open title=\"Open\" players=2..8 modes=relay\nsky noon sun=42,150 disc=1\nsolid ground box 0,0,-8 %g,%g,0 material=ground\n", width, width)
	for i := 1; i < n; i++ {
		x, y, w, h := r.between(0, width-6), r.between(0, width-6), r.between(1, 5), r.between(0.5, 4)
		switch i % 3 {
		case 0:
			fmt.Fprintf(&b, "solid s%d box %g,%g,-1 %g,%g,%g material=stone\n", i, x, y, x+w, y+w, h)
		case 1:
			fmt.Fprintf(&b, "solid s%d wedge %g,%g,0 %g,%g,%g rise=north material=ground\n", i, x, y, x+w, y+2*w, h)
		default:
			fmt.Fprintf(&b, "solid s%d hull %g,%g,-1 %g,%g,-1 %g,%g,-1 %g,%g,-1 %g,%g,%g %g,%g,%g material=rock\n", i,
				x, y, x+w, y+r.between(0, 0.5), x+w, y+w, x, y+w, x+w/2, y+w/3, h, x+w/4, y+w/2, h+r.between(0, 1))
		}
	}
	return b.String()
}
