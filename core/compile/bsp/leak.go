package bsp

import (
	"container/heap"
	"context"
	"slices"

	"vornix/core/format/geom"
)

// Opening is a place where one can go from one leaf to another.
type Opening struct {
	Polygon geom.Polygon
	Leaves  [2]int
	Plane   geom.Plane // before which the first leaf lies
}

// Openings are those between leaves that one can go through, or, with see, look through.
func (t *Tree) Openings(ctx context.Context, see bool) ([]Opening, error) {
	var list []Opening
	open := func(leaf int) bool { l := &t.Leaves[leaf]; return !l.Solid || see && l.Clear }
	for i := range t.Nodes {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		n := &t.Nodes[i]
		t.sift(n.Front, n.opening, n.Plane, true, open, func(front int, p geom.Polygon) {
			t.sift(n.Back, p, n.Plane, false, open, func(back int, p geom.Polygon) {
				list = append(list, Opening{p, [2]int{front, back}, n.Plane})
			})
		})
	}
	return list, nil
}

// InFront calls found with the leaves, of those that are not solid, that a face in a plane looks into.
func (t *Tree) InFront(face geom.Polygon, plane geom.Plane, found func(leaf int)) {
	if len(t.Nodes) > 0 {
		t.sift(0, face, plane, true, func(leaf int) bool { return !t.Leaves[leaf].Solid || t.Leaves[leaf].Clear },
			func(leaf int, _ geom.Polygon) { found(leaf) })
	}
}

// sift calls found with the parts of a polygon that lie against leaves, of the subtree at, that are
// open. The polygon lies in plane; front says which side of it the subtree is on.
func (t *Tree) sift(at int, p geom.Polygon, plane geom.Plane, front bool, open func(leaf int) bool,
	found func(leaf int, p geom.Polygon)) {
	if at < 0 {
		if leaf := -1 - at; open(leaf) && p.Area() > geom.Near {
			found(leaf, p)
		}
		return
	}
	n := &t.Nodes[at]
	f, b := p.Split(n.Plane)
	if f == nil && b == nil { // in the plane: it goes on the side that the subtree is on
		if same := n.N.Dot(plane.N) > 0; same == front {
			f = p
		} else {
			b = p
		}
	}
	if f != nil {
		t.sift(n.Front, f, plane, front, open, found)
	}
	if b != nil {
		t.sift(n.Back, b, plane, front, open, found)
	}
}

// way is a leaf that was reached: from which leaf, through which opening, and from which start.
type way struct {
	leaf, before, opening, start int
	length                       float64
	at                           geom.Vec
}

type ways []way

func (w ways) Len() int { return len(w) }
func (w ways) Less(i, j int) bool {
	return w[i].length < w[j].length || w[i].length == w[j].length && w[i].leaf < w[j].leaf
}
func (w ways) Swap(i, j int) { w[i], w[j] = w[j], w[i] }
func (w *ways) Push(x any)   { *w = append(*w, x.(way)) }
func (w *ways) Pop() any {
	old := *w
	x := old[len(old)-1]
	*w = old[:len(old)-1]
	return x
}

// Leak is the shortest way (Dijkstra, 1959, from all starts at once) from one of the starts,
// through openings, to the end of space: the number of the start and the points of the way. nil
// when there is none: the map is sealed. A start inside a solid leads nowhere.
func (t *Tree) Leak(openings []Opening, starts []geom.Vec) (start int, points []geom.Vec) {
	at := make([][]int, len(t.Leaves))
	for i, o := range openings {
		at[o.Leaves[0]] = append(at[o.Leaves[0]], i)
		at[o.Leaves[1]] = append(at[o.Leaves[1]], i)
	}
	came := make([]*way, len(t.Leaves)) // by leaf: the shortest way to it
	done := make([]bool, len(t.Leaves))
	var queue ways
	for i, from := range starts {
		leaf := t.Leaf(from)
		if leaf < 0 || t.Leaves[leaf].Solid || came[leaf] != nil {
			continue // of several starts in one leaf the first is as good as any
		}
		came[leaf] = &way{leaf: leaf, opening: -1, start: i, at: from}
		queue = append(queue, *came[leaf])
	}
	heap.Init(&queue)
	for queue.Len() > 0 {
		w := heap.Pop(&queue).(way)
		if done[w.leaf] {
			continue
		}
		done[w.leaf] = true
		if t.Outside(w.leaf) {
			for leaf := w.leaf; came[leaf].opening >= 0; leaf = came[leaf].before {
				points = append(points, came[leaf].at)
			}
			points = append(points, starts[w.start])
			slices.Reverse(points)
			return w.start, points
		}
		for _, o := range at[w.leaf] {
			next := openings[o].Leaves[0] + openings[o].Leaves[1] - w.leaf
			middle := openings[o].Polygon.Middle()
			step := way{leaf: next, before: w.leaf, opening: o, start: w.start,
				length: w.length + middle.Sub(w.at).Length(), at: middle}
			if !done[next] && (came[next] == nil || step.length < came[next].length) {
				came[next] = &step
				heap.Push(&queue, step)
			}
		}
	}
	return 0, nil
}
