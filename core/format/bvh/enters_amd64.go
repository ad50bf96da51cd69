package bvh

import "unsafe"

// What enters_amd64.s knows of sizes and places.
var (
	_ = [1]bool{}[unsafe.Sizeof(node{})-64]
	_ = [1]bool{}[unsafe.Sizeof(stored{})-40]
	_ = [1]bool{}[unsafe.Offsetof(asked{}.nodes)-96]
)

// enters is entersPlain with the vectors that every processor of this kind has (SSE), in
// enters_amd64.s. It is most of the work of following a ray; with it a ray costs a third. It also
// fetches the node's children, so that they are at hand when they are asked.
//
//go:noescape
func enters(n *node, q *asked) uint32
