package geom

// Edges holds a number for each directed edge between two numbered points: an open hash table,
// since compilers of maps ask for edges more often than for anything else.
type Edges struct {
	keys   []uint64 // 0: free
	values []int32
	used   int
}

// NewEdges has room for a number of edges; it grows when there are more.
func NewEdges(edges int) *Edges {
	size := 16
	for size < 2*edges {
		size *= 2
	}
	return &Edges{keys: make([]uint64, size), values: make([]int32, size)}
}

// at is where an edge stands, or would.
func (e *Edges) at(key uint64) int {
	mask := len(e.keys) - 1
	i := int(key*0x9e3779b97f4a7c15>>32) & mask
	for e.keys[i] != 0 && e.keys[i] != key {
		i = (i + 1) & mask
	}
	return i
}

func edgeKey(from, to int32) uint64 { return 1<<63 | uint64(uint32(from))<<32 | uint64(uint32(to)) }

// Set gives an edge its number, in place of the one that it had. Points are numbered from 0.
func (e *Edges) Set(from, to, value int32) {
	key := edgeKey(from, to)
	i := e.at(key)
	if e.keys[i] == 0 {
		if e.used++; 2*e.used > len(e.keys) {
			old := *e
			*e = *NewEdges(len(e.keys))
			for k, key := range old.keys {
				if key != 0 {
					at := e.at(key)
					e.keys[at], e.values[at] = key, old.values[k]
				}
			}
			e.used = old.used
			i = e.at(key)
		}
		e.keys[i] = key
	}
	e.values[i] = value
}

// Get is an edge's number.
func (e *Edges) Get(from, to int32) (value int32, ok bool) {
	i := e.at(edgeKey(from, to))
	return e.values[i], e.keys[i] != 0
}
