//go:build unix

package main

import (
	"context"
	"fmt"
	"math"
	"runtime"
	"runtime/debug"
	"strings"
	"time"

	"vornix/core/compile"
	"vornix/core/compile/geometry"
	"vornix/core/compile/partition"
	"vornix/core/finding"
	"vornix/core/mapfile"
	"vornix/core/mapsrc"
	"vornix/core/scene"
)

// random is a small generator of numbers (splitmix64) that gives the same ones everywhere.
type random uint64

func (r *random) next() float64 {
	*r += 0x9e3779b97f4a7c15
	z := uint64(*r)
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return float64((z^z>>31)>>11) / (1 << 53)
}

func (r *random) between(a, b float64) float64 { return math.Round((a+(b-a)*r.next())*16) / 16 }

// rooms is a map of about n solids: rooms of 8 x 8 x 4 m in a square, with doorways to their neighbours, crates, pillars and ramps.
func rooms(n int) string {
	side := int(math.Ceil(math.Sqrt(float64(n) / 17)))
	var b strings.Builder
	r := random(1)
	made := 0
	solid := func(format string, args ...any) {
		if made < n {
			fmt.Fprintf(&b, "solid s%d %s\n", made, fmt.Sprintf(format, args...))
			made++
		}
	}
	fmt.Fprintf(&b, "map rooms title=\"Rooms\" players=2..8 modes=relay\n")
	for x := range side {
		for y := range side {
			e, s := float64(x)*8, float64(y)*8
			solid("box %g,%g,-0.5 %g,%g,0 material=floor", e, s, e+8, s+8)
			solid("box %g,%g,4 %g,%g,4.5 material=roof", e, s, e+8, s+8)
			solid("box %g,%g,0 %g,%g,4 material=wall", e, s, e+0.5, s+3)
			solid("box %g,%g,0 %g,%g,4 material=wall", e, s+5, e+0.5, s+8)
			solid("box %g,%g,3 %g,%g,4 material=wall", e, s+3, e+0.5, s+5)
			solid("box %g,%g,0 %g,%g,4 material=wall", e+0.5, s, e+3, s+0.5)
			solid("box %g,%g,0 %g,%g,4 material=wall", e+5, s, e+8, s+0.5)
			solid("box %g,%g,3 %g,%g,4 material=wall", e+3, s, e+5, s+0.5)
			for range 4 {
				cx, cy, w := e+r.between(1, 6), s+r.between(1, 6), r.between(0.5, 1.5)
				solid("box %g,%g,0 %g,%g,%g material=crate", cx, cy, cx+w, cy+w, w)
			}
			for range 2 {
				solid("cylinder %g,%g,0 radius=0.4 height=4 sides=8 material=stone", e+r.between(1, 7), s+r.between(1, 7))
			}
			solid("wedge %g,%g,0 %g,%g,1 rise=east material=floor", e+5, s+5.5, e+7, s+7)
			solid("box %g,%g,1.5 %g,%g,1.75 material=crate", e+0.5, s+6, e+1.25, s+7.5)
			solid("box %g,%g,3.5 %g,%g,4 material=stone", e+0.5, s+0.5, e+8, s+1)
		}
	}
	return b.String()
}

// open is a map of about n solids: one large ground with hulls, boxes and wedges on and in it, many of them in one another.
func open(n int) string {
	width := math.Ceil(math.Sqrt(float64(n)) * 4)
	var b strings.Builder
	r := random(2)
	fmt.Fprintf(&b, "map open title=\"Open\" players=2..8 modes=relay\nsolid ground box 0,0,-8 %g,%g,0 material=ground\n", width, width)
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

// measureMaps times reading and the geometry stage on made maps that grow tenfold, on one processor and on all.
func measureMaps() (string, error) {
	var b strings.Builder
	b.WriteString("\n## Maps\n\nMaps that `bench/maps.go` makes, in this process: reading the source into a scene, the surface and the tree of parts on one processor\n(their sum is the geometry stage), the whole compilation on all processors, and memory in use after it.\n\n")
	b.WriteString("| map | solids | source | read | speed | surface | tree | geometry on one | growth | all | faces | leaves | memory |\n|---|---|---|---|---|---|---|---|---|---|---|---|---|\n")
	for _, kind := range []struct {
		name string
		make func(int) string
	}{{"rooms", rooms}, {"open", open}} {
		var last time.Duration
		lastSize := 0
		for _, n := range []int{1000, 10000, 50000} {
			source := []byte(kind.make(n))
			start := time.Now()
			m, findings := mapsrc.Read("m.vnx", source, mapsrc.Options{})
			read := time.Since(start)
			if m == nil {
				return "", &finding.Failure{What: "the made map is wrong", Findings: findings}
			}
			var surfaces, trees []time.Duration
			for range max(1, 10000/n) { // short times waver
				surface, tree, err := onOne(m)
				if err != nil {
					return "", err
				}
				surfaces, trees = append(surfaces, surface), append(trees, tree)
			}
			surfaceTime, treeTime := median(surfaces), median(trees)
			start = time.Now()
			r, err := compile.Compile(context.Background(), m, compile.Options{MaterialSize: func(string) float64 { return 2 }})
			if err != nil {
				return "", err
			}
			if _, err := mapfile.Encode(r.Map); err != nil {
				return "", err
			}
			all := time.Since(start)
			debug.FreeOSMemory()
			var memory runtime.MemStats
			runtime.ReadMemStats(&memory)
			growth, one := "", surfaceTime+treeTime
			if lastSize > 0 {
				growth = fmt.Sprintf("%.1fx for %dx", float64(one)/float64(last), n/lastSize)
			}
			last, lastSize = one, n
			fmt.Fprintf(&b, "| %s | %d | %.1f MB | %s | %.1f MB/s | %s | %s | %s | %s | %s | %d | %d | %s |\n", kind.name, len(m.Solids), float64(len(source))/1e6, ms(read), float64(len(source))/1e6/read.Seconds(),
				ms(surfaceTime), ms(treeTime), ms(one), growth, ms(all), len(r.Map.Faces), len(r.Map.Leaves), mb(int64(memory.HeapAlloc)))
			runtime.KeepAlive(m)
			runtime.KeepAlive(r)
		}
	}
	return b.String(), nil
}

// onOne runs the geometry stage on one processor.
func onOne(m *scene.Map) (surface, tree time.Duration, err error) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	start := time.Now()
	faces, err := geometry.Build(context.Background(), m, geometry.Options{Size: func(string) float64 { return 2 }})
	if err != nil {
		return 0, 0, err
	}
	surface = time.Since(start)
	start = time.Now()
	_, err = partition.Build(context.Background(), m, faces.Faces)
	return surface, time.Since(start), err
}
