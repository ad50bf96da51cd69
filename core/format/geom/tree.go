package geom

// Tree finds, among many boxes, those that touch another. It is a bounding-volume tree, split at
// the middle box along the longest side, with at most leafSize boxes a leaf.
type Tree struct {
	boxes []Box
	order []int
	nodes []treeNode
}

type treeNode struct {
	box         Box
	first, last int // of order, for leaves
	left, right int // 0 for leaves
}

const leafSize = 8

// NewTree builds a tree over boxes, which it keeps.
func NewTree(boxes []Box) *Tree {
	t := &Tree{boxes: boxes, order: make([]int, len(boxes))}
	middles := make([]Vec, len(boxes))
	for i, b := range boxes {
		t.order[i], middles[i] = i, b.Middle()
	}
	if len(boxes) > 0 {
		t.build(middles, 0, len(boxes))
	}
	return t
}

func (t *Tree) build(middles []Vec, first, last int) int {
	box := t.boxes[t.order[first]]
	for _, i := range t.order[first:last] {
		box = box.Union(t.boxes[i])
	}
	at := len(t.nodes)
	t.nodes = append(t.nodes, treeNode{box: box, first: first, last: last})
	if last-first <= leafSize {
		return at
	}
	size, axis := box.Max.Sub(box.Min), 0
	for k := 1; k < 3; k++ {
		if size.At(k) > size.At(axis) {
			axis = k
		}
	}
	part := t.order[first:last]
	Halve(part, len(part)/2, func(a, b int) int {
		switch x, y := middles[a].At(axis), middles[b].At(axis); {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return a - b
	})
	middle := first + (last-first)/2
	left := t.build(middles, first, middle)
	right := t.build(middles, middle, last)
	t.nodes[at].left, t.nodes[at].right = left, right
	return at
}

// Touching calls found with the number of each box that touches box, in no particular order.
func (t *Tree) Touching(box Box, found func(i int)) {
	if len(t.nodes) > 0 {
		t.touching(0, box, found)
	}
}

func (t *Tree) touching(at int, box Box, found func(i int)) {
	n := &t.nodes[at]
	if !n.box.Touches(box) {
		return
	}
	if n.left == 0 {
		for _, i := range t.order[n.first:n.last] {
			if t.boxes[i].Touches(box) {
				found(i)
			}
		}
		return
	}
	t.touching(n.left, box, found)
	t.touching(n.right, box, found)
}
