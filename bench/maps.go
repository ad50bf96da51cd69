//go:build unix

package main

import (
	"context"
	"fmt"
	"runtime"
	"runtime/debug"
	"strings"
	"time"

	"vornix/core/base/finding"
	"vornix/core/compile"
	"vornix/core/compile/bsp"
	"vornix/core/compile/csg"
	"vornix/core/format/mapfile"
	"vornix/core/source/maplang"
	"vornix/core/source/scene"
	"vornix/internal/testmaps"
)

// measureMaps times reading and the geometry stage on made maps that grow tenfold, on one processor and on all.
func measureMaps() (string, error) {
	var b strings.Builder
	b.WriteString("\n## Maps\n\nMaps that `internal/testmaps` makes, in this process: reading the source into a scene, the surface and the tree of parts on one processor\n(their sum is the geometry stage), the whole compilation on all processors, and memory in use after it.\n\n")
	b.WriteString("| map | solids | source | read | speed | surface | tree | geometry on one | growth | all | faces | leaves | memory |\n|---|---|---|---|---|---|---|---|---|---|---|---|---|\n")
	for _, kind := range []struct {
		name string
		make func(int) string
	}{{"rooms", testmaps.Rooms}, {"open", testmaps.Open}} {
		var last time.Duration
		lastSize := 0
		for _, n := range []int{1000, 10000, 50000} {
			source := []byte(kind.make(n))
			start := time.Now()
			m, findings := maplang.Read("m.vnx", source, maplang.Options{})
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
			r, err := compile.Compile(context.Background(), m,
				compile.Options{MaterialSize: func(string) float64 { return 2 }})
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
				if n == 10*lastSize {
					hold("geometry of 10 times the solids, "+kind.name, "itself", "<= 12x",
						fmt.Sprintf("%.1fx", float64(one)/float64(last)))
				}
				growth = fmt.Sprintf("%.1fx for %dx", float64(one)/float64(last), n/lastSize)
			}
			last, lastSize = one, n
			fmt.Fprintf(&b, "| %s | %d | %.1f MB | %s | %.1f MB/s | %s | %s | %s | %s | %s | %d | %d | %s |\n",
				kind.name, len(m.Solids), float64(len(source))/1e6, ms(read), float64(len(source))/1e6/read.Seconds(),
				ms(surfaceTime), ms(treeTime), ms(one), growth, ms(all), len(r.Map.Faces), len(r.Map.Leaves),
				mb(int64(memory.HeapAlloc)))
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
	faces, err := csg.Build(context.Background(), m, csg.Options{Size: func(string) float64 { return 2 }})
	if err != nil {
		return 0, 0, err
	}
	surface = time.Since(start)
	start = time.Now()
	_, err = bsp.Build(context.Background(), m, faces.Faces, nil)
	return surface, time.Since(start), err
}
