package ray

// enters is entersPlain with the vectors that every processor of this kind has (SSE), in enters_amd64.s. It is most of the work
// of following a ray; with it a ray costs a third.
//
//go:noescape
func enters(n *node, q *asked) uint32
