// Package pathfind finds ways over the ground that a compiled map has: for bots, for checks, for
// whoever asks how far it is.
//
// Over polygons it is a search that goes on from the most promising place (Hart, Nilsson and
// Raphael, "A formal basis for the heuristic determination of minimum cost paths", 1968) across the
// lines between them, whose way is then pulled tight as a string is (Lee and Preparata, "Euclidean
// shortest paths in the presence of rectilinear barriers", 1984). Over the cells of grids it is the
// same search in eight directions, never cutting a corner.
package pathfind

import (
	"container/heap"
	"math"
	"slices"

	"vornix/core/format/mapfile"
)

// Point is a place, in metres; on a grid, in cells with the level as the third.
type Point = [3]float64

// Way is a way that was found.
type Way struct {
	Points []Point
	Length float64
	// Links are the ways that are no walking: Links[i] is taken between Points[i] and Points[i+1]; the others are Walk.
	Links []mapfile.LinkKind
}

// Net is ground that ways can be asked of.
type Net struct {
	n   *mapfile.Navigation
	out [][]int // by polygon: the links that lead away
}

// New makes ground ready to be asked.
func New(n *mapfile.Navigation) *Net {
	net := &Net{n: n, out: make([][]int, len(n.Polygons))}
	for i, l := range n.Links {
		net.out[l.From] = append(net.out[l.From], i)
	}
	return net
}

// Polygon is the polygon that a place is on, or the nearest within an agent's width and a step; -1: none.
func (t *Net) Polygon(p Point) int {
	best, lowest := -1, math.Inf(1)
	reach := 2.5 * float64(t.n.Agent.Radius)
	for i := range t.n.Polygons {
		g := &t.n.Polygons[i]
		x, y := min(max(p[0], float64(g.Low[0])), float64(g.High[0])),
			min(max(p[1], float64(g.Low[1])), float64(g.High[1]))
		z := float64(g.Height(float32(x), float32(y)))
		up := p[2] - z
		if math.Abs(x-p[0]) > reach || math.Abs(y-p[1]) > reach || up < -float64(t.n.Agent.Step)-0.1 ||
			up > float64(t.n.Agent.Height) {
			continue
		}
		if d := math.Sqrt(float64((x-p[0])*(x-p[0]))+float64((y-p[1])*(y-p[1]))) + float64(math.Abs(up)/2); d < lowest {
			best, lowest = i, d
		}
	}
	return best
}

// state is a polygon that was come to, over a link.
type state struct {
	polygon, link int
	at            Point
	cost, guess   float64
	before        *state
	order         int
}

type open []*state

func (o open) Len() int { return len(o) }
func (o open) Less(i, j int) bool {
	if o[i].guess != o[j].guess {
		return o[i].guess < o[j].guess
	}
	return o[i].order < o[j].order
}
func (o open) Swap(i, j int) { o[i], o[j] = o[j], o[i] }
func (o *open) Push(x any)   { *o = append(*o, x.(*state)) }
func (o *open) Pop() any {
	old := *o
	x := old[len(old)-1]
	*o = old[:len(old)-1]
	return x
}

func distance(a, b Point) float64 {
	return math.Sqrt(float64((a[0]-b[0])*(a[0]-b[0])) + float64((a[1]-b[1])*(a[1]-b[1])) +
		float64((a[2]-b[2])*(a[2]-b[2])))
}

func point(v [3]float32) Point { return Point{float64(v[0]), float64(v[1]), float64(v[2])} }

// nearest is the place on a line that is nearest to both of two places: where a string between them would cross it.
func nearest(l *mapfile.Link, from, to Point) Point {
	a, b := point(l.A), point(l.B)
	// The line runs along X or Y: mirror to the far side and cross straight.
	k := 0
	if a[0] == b[0] {
		k = 1
	}
	o := 1 - k
	d1, d2 := math.Abs(from[o]-a[o]), math.Abs(to[o]-a[o])
	at := from[k]
	if d1+d2 > 1e-9 {
		at = from[k] + (to[k]-from[k])*d1/(d1+d2)
	}
	at = min(max(at, min(a[k], b[k])), max(a[k], b[k]))
	t := 0.0
	if b[k] != a[k] {
		t = (at - a[k]) / (b[k] - a[k])
	}
	return Point{a[0] + float64((b[0]-a[0])*t), a[1] + float64((b[1]-a[1])*t), a[2] + float64((b[2]-a[2])*t)}
}

func walks(k mapfile.LinkKind) bool { return k == mapfile.Walk || k == mapfile.Door }

// Find is the shortest way between two places; ok is false when there is none, or one of them is nowhere on the ground.
func (t *Net) Find(from, to Point) (way Way, ok bool) {
	start, end := t.Polygon(from), t.Polygon(to)
	if start < 0 || end < 0 {
		return way, false
	}
	best := make([]float64, len(t.n.Links))
	for i := range best {
		best[i] = math.Inf(1)
	}
	queue := &open{{polygon: start, link: -1, at: from, guess: distance(from, to)}}
	order := 0
	var last *state
	for queue.Len() > 0 {
		s := heap.Pop(queue).(*state)
		if s.link >= 0 && s.cost > best[s.link] {
			continue
		}
		if s.polygon == end {
			last = s
			break
		}
		for _, i := range t.out[s.polygon] {
			l := &t.n.Links[i]
			next := &state{polygon: int(l.To), link: i, before: s}
			if walks(l.Kind) {
				next.at = nearest(l, s.at, to)
				next.cost = s.cost + distance(s.at, next.at)
			} else {
				next.at = point(l.B)
				next.cost = s.cost + distance(s.at, point(l.A)) + distance(point(l.A), next.at)
			}
			if next.cost >= best[i] {
				continue
			}
			best[i] = next.cost
			next.guess = next.cost + distance(next.at, to)
			order++
			next.order = order
			heap.Push(queue, next)
		}
	}
	if last == nil {
		return way, false
	}
	var links []int
	for s := last; s.link >= 0; s = s.before {
		links = append(links, s.link)
	}
	slices.Reverse(links)
	return t.tight(from, to, links), true
}

// tight pulls a way over links tight, piece by piece between what is no walking.
func (t *Net) tight(from, to Point, links []int) Way {
	w := Way{Points: []Point{from}}
	var gates []*mapfile.Link
	walk := func(to Point) {
		for _, p := range pull(w.Points[len(w.Points)-1], to, gates) {
			w.Points, w.Links = append(w.Points, p), append(w.Links, mapfile.Walk)
		}
		gates = nil
	}
	for _, i := range links {
		l := &t.n.Links[i]
		if l.Kind == mapfile.Walk {
			gates = append(gates, l)
			continue
		}
		if l.Kind == mapfile.Door { // one goes through its middle
			a, b := point(l.A), point(l.B)
			middle := Point{(a[0] + b[0]) / 2, (a[1] + b[1]) / 2, (a[2] + b[2]) / 2}
			walk(middle)
			w.Points, w.Links = append(w.Points, middle), append(w.Links, l.Kind)
			continue
		}
		walk(point(l.A))
		w.Points, w.Links = append(w.Points, point(l.B)), append(w.Links, l.Kind)
	}
	walk(to)
	for i := 1; i < len(w.Points); i++ {
		w.Length += distance(w.Points[i-1], w.Points[i])
	}
	return w
}

// pull is the corners, after from, of the shortest line to a place through gates. It moves
// crossings to where they are best for their neighbours until nothing moves any more: that is the
// string, since the length of a line through gates has one valley.
func pull(from, to Point, gates []*mapfile.Link) []Point {
	points := make([]Point, len(gates)+2)
	points[0], points[len(points)-1] = from, to
	for i, g := range gates {
		points[i+1] = nearest(g, points[i], to)
	}
	for range 200 {
		moved := 0.0
		for i, g := range gates {
			p := nearest(g, points[i], points[i+2])
			moved = max(moved, distance(p, points[i+1]))
			points[i+1] = p
		}
		if moved < 1e-4 {
			break
		}
	}
	out := []Point{}
	for i, p := range points[1:] {
		if k := len(out); k > 0 || i > 0 {
			before := from
			if k > 1 {
				before = out[k-2]
			}
			if k > 0 && distance(before, out[k-1])+distance(out[k-1], p)-distance(before, p) < 1e-5 {
				out[k-1] = p // on one line
				continue
			}
		}
		out = append(out, p)
	}
	return out
}
