//go:build unix

package main

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"vornix/core/format/bvh"
	"vornix/internal/testmaps"
)

// shadowRay asks whether anything lies between two points.
type shadowRay struct {
	From, To bvh.Vec
	Limit    float32
}

// hills are 2·side² triangles of rolling ground, 100 m wide, and shadow rays between points over it
// that have nothing to do with each other.
func hills(side, rays int) ([]bvh.Triangle, []shadowRay) {
	at := func(x, y int) bvh.Vec {
		u, v := float64(x)/float64(side), float64(y)/float64(side)
		z := 6*math.Sin(9*u+3*v)*math.Cos(7*v) + 2*math.Sin(31*u)*math.Sin(29*v) +
			0.4*math.Sin(131*u+40*v)*math.Cos(117*v)
		return bvh.Vec{float32(100 * u), float32(100 * v), float32(z)}
	}
	var list []bvh.Triangle
	for y := range side {
		for x := range side {
			a, b, c, d := at(x, y), at(x+1, y), at(x, y+1), at(x+1, y+1)
			list = append(list, bvh.Triangle{a, b, c}, bvh.Triangle{b, d, c})
		}
	}
	r := testmaps.Random(7)
	asked := make([]shadowRay, rays)
	for i := range asked {
		var p [2]bvh.Vec
		for k := range p {
			p[k] = at(int(r.Next()*float64(side)), int(r.Next()*float64(side)))
			p[k][2] += float32(0.05 + 4*r.Next())
		}
		asked[i] = shadowRay{p[0], bvh.Vec{p[1][0] - p[0][0], p[1][1] - p[0][1], p[1][2] - p[0][2]}, 1}
	}
	return list, asked
}

// measureRays asks the same questions of Vornix's tree and of Embree, in turns.
func measureRays(runs int) (string, error) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	triangles, asked := hills(512, 1_000_000)
	dir, err := os.MkdirTemp("", "vornix-rays-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	var b bytes.Buffer
	for _, part := range []any{[2]uint32{uint32(len(triangles)), uint32(len(asked))}, triangles, asked} {
		if err := binary.Write(&b, binary.LittleEndian, part); err != nil {
			return "", err
		}
	}
	file, exe := filepath.Join(dir, "rays"), filepath.Join(dir, "occluded")
	if err := os.WriteFile(file, b.Bytes(), 0o644); err != nil {
		return "", err
	}
	out, err := exec.Command("gcc", "-O2", "-o", exe, "bench/embree/occluded.c", "-lembree3").CombinedOutput()
	peer := err == nil
	if !peer {
		fmt.Fprintf(os.Stderr, "Embree is left out (install libembree-dev): %s\n", out)
	}
	var builds, ours, theirs, ratios []float64
	var blocked, theirBlocked int
	for range runs {
		start := time.Now()
		tree := bvh.New(triangles)
		builds = append(builds, time.Since(start).Seconds())
		start = time.Now()
		blocked = 0
		for _, r := range asked {
			if tree.Blocked(r.From, r.To, r.Limit) {
				blocked++
			}
		}
		ours = append(ours, time.Since(start).Seconds())
		if !peer {
			continue
		}
		out, err := exec.Command(exe, file).Output()
		if err != nil {
			return "", fmt.Errorf("running Embree: %w", err)
		}
		var build, ask float64
		if _, err := fmt.Sscan(string(out), &build, &ask, &theirBlocked); err != nil {
			return "", err
		}
		theirs = append(theirs, ask)
		ratios = append(ratios, ask/ours[len(ours)-1])
	}
	middle := func(list []float64) float64 { slices.Sort(list); return list[len(list)/2] }
	rate := func(list []float64) string {
		return fmt.Sprintf("%.2f million/s", float64(len(asked))/middle(list)/1e6)
	}
	text := fmt.Sprintf("\n## Shadow rays\n\n%d triangles, %d single rays with nothing in common, one thread; both on the same triangles and rays.\n\n| | rays | blocked | tree built in |\n|---|---|---|---|\n| Vornix | %s | %d | %.2f s |\n",
		len(triangles), len(asked), rate(ours), blocked, middle(builds))
	if peer {
		hold("shadow rays, one thread", "Embree 3", ">= 0.6x",
			fmt.Sprintf("%.2fx (%.2f to %.2f)", middle(ratios), slices.Min(ratios), slices.Max(ratios)))
		text += fmt.Sprintf("| Embree 3 | %s | %d | |\n\nVornix against Embree: %.2fx (%.2f to %.2f); to reach: 0.6x.\n",
			rate(theirs), theirBlocked, middle(ratios), slices.Min(ratios), slices.Max(ratios))
	}
	return text, nil
}
