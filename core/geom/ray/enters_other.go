//go:build !amd64

package ray

func enters(n *node, q *asked) uint32 { return entersPlain(n, q) }
