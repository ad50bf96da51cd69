//go:build !amd64

package bvh

func enters(n *node, q *asked) uint32 { return entersPlain(n, q) }
