//go:build unix

package main

import (
	"fmt"
	"image/color"
	"math"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"vornix/core/compile/stage"
	"vornix/internal/testmaps"
)

func newNoise(seed int64) *rand.Rand { return rand.New(rand.NewSource(seed)) }

// curve is how long a step takes for one, ten and a hundred times of something.
type curve struct {
	step, of string
	sizes    [3]int
	took     [3]time.Duration
	memory   int64 // at the largest
}

// measureGrowth runs each long step on one, ten and a hundred times as much, and draws how its time grows.
func measureGrowth(w *workbench) (string, error) {
	dir := filepath.Join(w.dir, "growth")
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	var curves []*curve
	// of runs a step at each size: prepare makes the input and gives the command.
	of := func(step, what string, sizes [3]int, prepare func(at string, n int) ([]string, error)) error {
		c := &curve{step: step, of: what, sizes: sizes}
		for i, n := range sizes {
			at := filepath.Join(dir, fmt.Sprintf("%d-%d", len(curves), n))
			if err := os.MkdirAll(at, 0o777); err != nil {
				return err
			}
			command, err := prepare(at, n)
			if err != nil {
				return fmt.Errorf("%s of %d: %w", step, n, err)
			}
			f, err := timeOnce(at, append([]string{w.exe}, command...)...)
			if err != nil {
				return fmt.Errorf("%s of %d: %w", step, n, err)
			}
			c.took[i], c.memory = f.wall, f.memory
			if err := os.RemoveAll(at); err != nil {
				return err
			}
		}
		curves = append(curves, c)
		return nil
	}
	mapStep := func(how string, stages ...string) func(at string, n int) ([]string, error) {
		return func(at string, n int) ([]string, error) {
			command := []string{"map", "m.vnx", "m.vnm", "--quiet", "--" + how}
			for _, s := range stages {
				command = append(command, "--stage", s)
			}
			return command, os.WriteFile(filepath.Join(at, "m.vnx"), []byte(testmaps.Rooms(n)), 0o644)
		}
	}
	files := func(at string, n int, ready ...string) error {
		if err := packProject(at); err != nil {
			return err
		}
		if _, err := realFiles(filepath.Join(at, "files"), n); err != nil {
			return err
		}
		for _, command := range ready {
			if _, err := timeOnce(at, append([]string{w.exe}, strings.Fields(command)...)...); err != nil {
				return err
			}
		}
		return nil
	}
	thousands, real := [3]int{100, 1000, 10000}, [3]int{50, 500, 5000}
	for _, s := range []struct {
		step, of string
		sizes    [3]int
		prepare  func(at string, n int) ([]string, error)
	}{
		{"check", "sources", thousands,
			func(at string, n int) ([]string, error) { return []string{"check", "--quiet"}, makeProject(at, n) }},
		{"build", "sources", thousands,
			func(at string, n int) ([]string, error) { return []string{"build", "--quiet"}, makeProject(at, n) }},
		{"build again", "sources", thousands, func(at string, n int) ([]string, error) {
			if err := makeProject(at, n); err != nil {
				return nil, err
			}
			_, err := timeOnce(at, w.exe, "build", "--quiet")
			return []string{"build", "--quiet"}, err
		}},
		{"textures", "images of 128 x 128", [3]int{20, 200, 2000}, func(at string, n int) ([]string, error) {
			return []string{"build", "--quiet"}, imageProject(at, n, 128, "")
		}},
		{"geometry", "solids", thousands, mapStep("full", "none")},
		{"visibility", "solids", thousands, mapStep("full", stage.Visibility)},
		{"light (draft)", "solids", thousands, mapStep("draft", stage.Lighting)},
		{"navigation", "solids", thousands, mapStep("full", stage.Navigation)},
		{"pack", "real files", real, func(at string, n int) ([]string, error) {
			return []string{"pack", "--quiet"}, files(at, n, "build --quiet")
		}},
		{"read and check", "real files", real, func(at string, n int) ([]string, error) {
			return []string{"inspect", "--quiet", "out/bundles/bench-1.0.0.zip"}, files(at, n, "pack --quiet")
		}},
		{"unpack", "real files", real, func(at string, n int) ([]string, error) {
			return []string{"extract", "--quiet", "out/bundles/bench-1.0.0.zip", "--to", "look"},
				files(at, n, "pack --quiet")
		}},
		{"index", "real files", real, func(at string, n int) ([]string, error) {
			return []string{"index", "write", "--quiet", "--to", "public"}, files(at, n, "pack --quiet")
		}},
		{"sweep (plan)", "real files", real, func(at string, n int) ([]string, error) {
			return []string{"sweep", "--plan", "--quiet"}, files(at, n, "build --quiet")
		}},
		{"delta", "MB, a change each 40 kB", [3]int{4, 40, 400}, func(at string, n int) ([]string, error) {
			return []string{"delta", "make", "old", "new", "d.vcdiff", "--quiet"}, changedFiles(at, n)
		}},
		{"patch apply", "MB, a change each 40 kB", [3]int{4, 40, 400}, func(at string, n int) ([]string, error) {
			if err := changedFiles(at, n); err != nil {
				return nil, err
			}
			_, err := timeOnce(at, w.exe, "patch", "make", "old", "new", "p.vnp", "--quiet")
			return []string{"patch", "apply", "p.vnp", "old", "--quiet"}, err
		}},
	} {
		if err := of(s.step, s.of, s.sizes, s.prepare); err != nil {
			return "", err
		}
	}
	var b strings.Builder
	b.WriteString("Each step once, as a whole process (with its start-up of some milliseconds), on one, ten and a hundred times as much. The growth from ten to a hundred times is what counts: below that, beginnings weigh in.\n\n" +
		"![How the time of each step grows](figures/growth.png)\n\n| step | of | 1x | 10x | 100x | 1x to 10x | 10x to 100x | memory at 100x |\n|---|---|---|---|---|---|---|---|\n")
	for _, c := range curves {
		fmt.Fprintf(&b, "| %s | %d, %d, %d %s | %s | %s | %s | %.1fx | %.1fx | %s |\n", c.step, c.sizes[0], c.sizes[1],
			c.sizes[2], c.of, ms(c.took[0]), ms(c.took[1]), ms(c.took[2]),
			float64(c.took[1])/float64(c.took[0]), float64(c.took[2])/float64(c.took[1]), mb(c.memory))
	}
	return b.String(), drawGrowth(curves)
}

// changedFiles writes old and new: megabytes of noise and text, with a few bytes changed each 40 kB.
func changedFiles(at string, megabytes int) error {
	for _, name := range []string{"old", "new"} {
		if err := madeFile(filepath.Join(at, name), int64(megabytes)<<20, 3); err != nil {
			return err
		}
	}
	f, err := os.OpenFile(filepath.Join(at, "new"), os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	for offset := int64(1000); offset < int64(megabytes)<<20; offset += 40_000 {
		if _, err := f.WriteAt([]byte("changed here"), offset); err != nil {
			return err
		}
	}
	return f.Close()
}

// drawGrowth draws the curves over two logarithmic axes: a straight line at 45 degrees takes ten
// times as long for ten times as much.
func drawGrowth(curves []*curve) error {
	p := plot.New()
	p.Title.Text = "Time of each step for 1, 10 and 100 times as much"
	p.X.Label.Text, p.Y.Label.Text = "times as much", "seconds"
	p.X.Scale, p.Y.Scale = plot.LogScale{}, plot.LogScale{}
	p.X.Tick.Marker = plot.ConstantTicks{{Value: 1, Label: "1"}, {Value: 10, Label: "10"}, {Value: 100, Label: "100"}}
	p.Y.Tick.Marker = plot.LogTicks{Prec: -1}
	p.Legend.Top, p.Legend.Left = true, true
	p.Legend.TextStyle.Font.Size = vg.Points(8)
	p.Add(plotter.NewGrid())
	for i, c := range curves {
		points := make(plotter.XYs, 3)
		for k := range points {
			points[k].X, points[k].Y = math.Pow(10, float64(k)), c.took[k].Seconds()
		}
		line, dots, err := plotter.NewLinePoints(points)
		if err != nil {
			return err
		}
		line.Color, line.Width = hue(i, len(curves)), vg.Points(1.4)
		if i%2 == 1 {
			line.Dashes = []vg.Length{vg.Points(5), vg.Points(2)}
		}
		dots.Color, dots.Shape, dots.Radius = line.Color,
			[]draw.GlyphDrawer{draw.CircleGlyph{}, draw.SquareGlyph{}, draw.TriangleGlyph{}, draw.PyramidGlyph{}}[i%4],
			vg.Points(2.6)
		p.Add(line, dots)
		p.Legend.Add(c.step, line, dots)
	}
	p.X.Max = 105
	name := filepath.Join(benchDir(), "..", "docs", "figures", "growth.png")
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return p.Save(26*vg.Centimeter, 18*vg.Centimeter, name)
}

// hue spreads colours around the circle, dark enough for a white page.
func hue(i, of int) color.Color {
	at := 6 * float64(i) / float64(of)
	x := 1 - math.Abs(math.Mod(at, 2)-1)
	rgb := [][3]float64{{1, x, 0}, {x, 1, 0}, {0, 1, x}, {0, x, 1}, {x, 0, 1}, {1, 0, x}}[int(at)]
	return color.NRGBA{uint8(190 * rgb[0]), uint8(150 * rgb[1]), uint8(210 * rgb[2]), 255}
}
