package report

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"vornix/core/base/humanize"
	"vornix/core/compile/stage"
)

// chart is a drawing of bars in SVG, in units that are pixels when it is as wide as the page.
type chart struct {
	W, H     float64
	Title    string // what it shows, for those who can't see it
	Bars     []bar
	Labels   []label
	Lines    []line
	Key      []key // what the colours mean
	AtBottom float64
}

type bar struct {
	X, Y, W, H float64
	Class      string
	Hint       string
}

type label struct {
	X, Y   float64
	Text   string
	Anchor string
	Class  string
}

type line struct{ X1, Y1, X2, Y2 float64 }

type key struct{ Class, Text string }

// kindClasses are the colours of kinds of files, in the order in which package compare names them.
var kindClasses = []string{"maps", "textures", "pictures", "sounds", "models", "texts", "other files"}

func kindClass(kind string) string {
	return fmt.Sprintf("c%d", 1+max(slices.Index(kindClasses, kind), 0))
}

// chartWidth is that of every chart; names stand left of nameWidth.
const (
	chartWidth = 640
	nameWidth  = 176
	rowHeight  = 34
)

// kindChart draws how much there is of each kind: in bundles, and before packing behind that.
func (r *Report) kindChart() *chart {
	limit := int64(1)
	for _, k := range r.Kinds {
		limit = max(limit, k.Size, k.Old)
	}
	c := &chart{W: chartWidth, H: float64(len(r.Kinds)*rowHeight + 4), Title: "Size by kind of file"}
	const room = chartWidth - nameWidth - 150
	scale := func(n int64) float64 { return max(float64(n)/float64(limit)*room, 1) }
	for i, k := range r.Kinds {
		y := float64(i*rowHeight + 4)
		hint := fmt.Sprintf("%s: %s in bundles, %s before packing", k.Kind, humanize.Bytes(k.Packed),
			humanize.Bytes(k.Size))
		c.Bars = append(c.Bars, bar{nameWidth, y + 3, scale(k.Size), 18, kindClass(k.Kind) + " pale", hint},
			bar{nameWidth, y + 3, scale(k.Packed), 18, kindClass(k.Kind), hint})
		c.Labels = append(c.Labels, label{nameWidth - 10, y + 17, fmt.Sprintf("%s (%d)", k.Kind, k.Files), "end", ""})
		said := humanize.Bytes(k.Packed)
		if r.Before != "" && k.Old != k.Size {
			said += "  " + Grown(k.Size-k.Old)
		}
		c.Labels = append(c.Labels, label{nameWidth + scale(k.Size) + 8, y + 17, said, "start", "soft"})
	}
	return c
}

// growthChart draws how large the releases are; nil while there is one only.
func (r *Report) growthChart() *chart {
	list := r.Growth
	const limit = 24 // columns
	if len(list) < 2 {
		return nil
	}
	list = list[max(len(list)-limit, 0):]
	top := int64(1)
	kinds := map[string]bool{}
	for _, g := range list {
		sum := int64(0)
		for k, n := range g.Kinds {
			sum += n
			kinds[k] = kinds[k] || n > 0
		}
		top = max(top, sum)
	}
	const left, height, high = 76.0, 230.0, 170.0
	c := &chart{W: chartWidth, H: height, Title: "Size of the releases, by kind of file", AtBottom: high + 12}
	step := ticks(float64(top))
	scale := high / (math.Ceil(float64(top)/step) * step)
	for v := 0.0; v <= float64(top)+step-1; v += step {
		y := 12 + high - float64(v*scale)
		c.Lines = append(c.Lines, line{left, y, chartWidth, y})
		c.Labels = append(c.Labels, label{left - 8, y + 4, humanize.Bytes(int64(v)), "end", "soft"})
	}
	room := (chartWidth - left) / float64(len(list))
	width := min(room*0.6, 70)
	for i, g := range list {
		x := left + float64(room*(float64(i)+0.5)) - float64(width/2)
		y := 12 + high
		for _, k := range slices.SortedFunc(maps.Keys(g.Kinds),
			func(a, b string) int { return slices.Index(kindClasses, a) - slices.Index(kindClasses, b) }) {
			h := float64(float64(g.Kinds[k]) * scale)
			y -= h
			c.Bars = append(c.Bars,
				bar{x, y, width, h, kindClass(k), fmt.Sprintf("%s %s: %s", g.Version, k, humanize.Bytes(g.Kinds[k]))})
		}
		class := ""
		if g.Version == r.Version {
			class = "strong"
		}
		c.Labels = append(c.Labels, label{x + float64(width/2), y - 5, humanize.Bytes(g.Size), "middle", "soft"},
			label{x + float64(width/2), high + 30, g.Version, "middle", class})
		if len(list) <= 10 && g.Date != "" {
			c.Labels = append(c.Labels, label{x + float64(width/2), high + 47, g.Date, "middle", "soft"})
		}
	}
	for _, k := range kindClasses {
		if kinds[k] {
			c.Key = append(c.Key, key{kindClass(k), k})
		}
	}
	return c
}

// ticks is a round step for about four lines up to a number of bytes.
func ticks(top float64) float64 {
	unit := math.Pow(10, math.Floor(math.Log10(top/4)))
	for _, f := range []float64{1, 2, 5, 10} {
		if unit*f >= top/4 {
			return unit * f
		}
	}
	return unit * 10
}

// maxTimes is how many of the longest steps of building are drawn.
const maxTimes = 8

// timeChart draws what took longest to build: of maps by stages.
func (r *Report) timeChart() *chart {
	list := r.Times[:min(len(r.Times), maxTimes)]
	if len(list) == 0 {
		return nil
	}
	top := 0.001
	for _, t := range list {
		top = max(top, t.Seconds)
	}
	c := &chart{W: chartWidth, H: float64(len(list)*rowHeight + 4), Title: "What took longest to build"}
	const room = chartWidth - nameWidth - 90
	used := map[string]bool{}
	for i, t := range list {
		y := float64(i*rowHeight + 4)
		x := float64(nameWidth)
		part := func(class, what string, seconds float64) {
			if w := float64(seconds / top * room); w > 0 {
				c.Bars = append(c.Bars,
					bar{x, y + 3, w, 18, class, fmt.Sprintf("%s: %s %s", t.Name, what, Seconds(seconds))})
				x += w
				used[class] = true
			}
		}
		rest := t.Seconds
		for j, name := range stage.Names {
			part(fmt.Sprintf("c%d", j+1), name, t.Stages[name])
			rest -= t.Stages[name]
		}
		part("c7", "all else", max(rest, 0))
		c.Labels = append(c.Labels, label{nameWidth - 10, y + 17, short(t.Name, 21), "end", ""},
			label{x + 8, y + 17, Seconds(t.Seconds), "start", "soft"})
	}
	for j, name := range stage.Names {
		if class := fmt.Sprintf("c%d", j+1); used[class] {
			c.Key = append(c.Key, key{class, name})
		}
	}
	c.Key = append(c.Key, key{"c7", "all else"})
	return c
}

// short keeps the end of a long name, which tells more than its beginning.
func short(s string, limit int) string {
	r := []rune(s)
	if len(r) <= limit {
		return s
	}
	return "…" + string(r[len(r)-limit+1:])
}

// Grown says a change of size with its sign.
func Grown(n int64) string {
	switch {
	case n > 0:
		return "+" + humanize.Bytes(n)
	case n < 0:
		return "-" + humanize.Bytes(-n)
	}
	return "as before"
}

// Seconds says how long something took.
func Seconds(s float64) string {
	switch {
	case s < 0.1:
		return "< 0.1 s"
	case s < 60:
		return fmt.Sprintf("%.1f s", s)
	case s < 3600:
		return fmt.Sprintf("%d min %d s", int(s)/60, int(s)%60)
	}
	return strings.TrimSuffix(fmt.Sprintf("%d h %d min", int(s)/3600, int(s)%3600/60), " 0 min")
}
