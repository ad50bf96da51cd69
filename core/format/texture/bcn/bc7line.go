package bcn

// How a mode of BC7 stores a line between two ends, and the search for the best line of a subset.

// end is a stored end of a line: its channels in the bits of the mode, without the last bit, which is apart.
type end struct {
	v    point
	last int32
}

// quantiser stores ends as a mode does.
type quantiser struct {
	colour, alpha  uint // bits without the last; alpha 0: opaque
	shared, unique bool
	// solid says that all texels are opaque and must stay so: an alpha of 254 would make a wall see-through.
	solid bool
}

// alphaWeight is how much more than others an error of alpha counts.
func (z quantiser) alphaWeight() int32 {
	if z.solid {
		return 1 << 10
	}
	return 1
}

func (z quantiser) bits(k int) uint {
	if k == 3 {
		return z.alpha
	}
	return z.colour
}

// nearest stores a channel with the given last bit (or none).
func (z quantiser) nearest(v int32, k int, last int32) int32 {
	n := z.bits(k)
	top := int32(1)<<n - 1
	if !z.shared && !z.unique {
		q := (v*top + 127) / 255
		return q
	}
	full := int32(1)<<(n+1) - 1
	q := (v*full + 127 - last*255 + 255) / 510
	q = min(max(q, 0), top)
	// The spread of the bits is not quite linear: a neighbour may be nearer.
	best, bestErr := q, abs(expand(q<<1|last, n+1)-v)
	for _, c := range [2]int32{q - 1, q + 1} {
		if c >= 0 && c <= top {
			if d := abs(expand(c<<1|last, n+1) - v); d < bestErr {
				best, bestErr = c, d
			}
		}
	}
	return best
}

func abs(v int32) int32 { return max(v, -v) }

// store quantises an end for the given last bit.
func (z quantiser) store(p point, last int32) end {
	e := end{last: last}
	for k := range 4 {
		if z.bits(k) > 0 {
			e.v[k] = z.nearest(p[k], k, last)
		}
	}
	return e
}

// load is the end as it is read back.
func (z quantiser) load(e end) (p point) {
	for k := range 4 {
		n := z.bits(k)
		switch {
		case n == 0:
			p[k] = 255
		case z.shared || z.unique:
			p[k] = expand(e.v[k]<<1|e.last, n+1)
		default:
			p[k] = expand(e.v[k], n)
		}
	}
	return p
}

func (z quantiser) miss(p point, e end) int32 {
	q, sum := z.load(e), int32(0)
	for k := range 3 {
		if z.bits(k) > 0 {
			sum += (p[k] - q[k]) * (p[k] - q[k])
		}
	}
	if z.alpha > 0 {
		sum += (p[3] - q[3]) * (p[3] - q[3]) * z.alphaWeight()
	}
	return sum
}

// pair stores two ends, with the last bits that miss least.
func (z quantiser) pair(a, b point) (end, end) {
	switch {
	case z.unique:
		best := func(p point) end {
			e0, e1 := z.store(p, 0), z.store(p, 1)
			if z.miss(p, e1) < z.miss(p, e0) {
				return e1
			}
			return e0
		}
		return best(a), best(b)
	case z.shared:
		a0, b0, a1, b1 := z.store(a, 0), z.store(b, 0), z.store(a, 1), z.store(b, 1)
		if z.miss(a, a1)+z.miss(b, b1) < z.miss(a, a0)+z.miss(b, b0) {
			return a1, b1
		}
		return a0, b0
	}
	return z.store(a, 0), z.store(b, 0)
}

// line is a subset as it is stored.
type line struct {
	ends  [2]end
	index [16]uint8 // by place in the subset
	err   int64
}

// line8 fits one subset of 8-bit texels.
type line8 struct {
	points []point
	z      quantiser
	index  uint // bits
	best   line
}

// measure chooses the index of each texel between two stored ends. It gives up when the error reaches limit.
func (s *line8) measure(a, b end, limit int64, index *[16]uint8) int64 {
	p, q := s.z.load(a), s.z.load(b)
	d0, d1, d2, d3 := q[0]-p[0], q[1]-p[1], q[2]-p[2], q[3]-p[3]
	length := int64(d0*d0 + d1*d1 + d2*d2 + d3*d3)
	inverse := int64(0)
	if length > 0 {
		inverse = (256<<20 + length/2) / length
	}
	w, near := weights[s.index], &nearestIndex[s.index]
	err, alpha := int64(0), s.z.alphaWeight()
	for i := range s.points {
		t := &s.points[i]
		along := (t[0]-p[0])*d0 + (t[1]-p[1])*d1 + (t[2]-p[2])*d2 + (t[3]-p[3])*d3
		at := (int64(along)*inverse + 1<<19) >> 20
		j := near[min(max(at, 0), 256)]
		index[i] = j
		wj := w[j]
		r0 := t[0] - p[0] - (wj*d0+32)>>6
		r1 := t[1] - p[1] - (wj*d1+32)>>6
		r2 := t[2] - p[2] - (wj*d2+32)>>6
		r3 := t[3] - p[3] - (wj*d3+32)>>6
		if err += int64(r0*r0 + r1*r1 + r2*r2 + r3*r3*alpha); err >= limit {
			return noLimit
		}
	}
	return err
}

// try keeps the pair of ends when it is better.
func (s *line8) try(a, b end) bool {
	var index [16]uint8
	err := s.measure(a, b, s.best.err, &index)
	if err >= s.best.err {
		return false
	}
	s.best = line{[2]end{a, b}, index, err}
	return true
}

// fit finds the line. The moments are those of the points.
func (s *line8) fit(m *moments, q Quality) {
	s.best.err = noLimit
	rounds, refine := 4, 2
	switch q {
	case Draft:
		rounds, refine = 2, 1
	case Best, Exhaustive:
		rounds, refine = 8, 6
	}
	low, high := m.ends(s.points, rounds)
	for k := range 4 {
		low[k], high[k] = min(max(low[k], 0), 255), min(max(high[k], 0), 255)
	}
	s.try(s.z.pair(low, high))
	for range refine {
		a, b, ok := minSquares(s.points, s.best.index[:len(s.points)], weights[s.index], 255)
		if !ok || s.best.err == 0 || !s.try(s.z.pair(a, b)) {
			break
		}
	}
}

// allRounds lets descend go on as long as it helps.
const allRounds = 1 << 30

// polish is descend at the best quality.
func (s *line8) polish(q Quality) {
	switch q {
	case Best:
		s.descend(allRounds)
	case Exhaustive:
		s.descend(allRounds)
		for i := range s.points {
			for j := range i {
				from := line8{points: s.points, z: s.z, index: s.index, best: line{err: noLimit}}
				from.try(from.z.pair(s.points[i], s.points[j]))
				if from.best.err < 2*s.best.err {
					from.descend(allRounds)
				}
				if from.best.err < s.best.err {
					s.best = from.best
				}
			}
		}
	}
}

// descend moves single channels of the ends by a step, and turns last bits, as long as that helps.
func (s *line8) descend(rounds int) {
	for ; s.best.err > 0 && rounds > 0; rounds-- {
		before := s.best.err
		for which := range 2 {
			for k := range 4 {
				top := int32(1)<<s.z.bits(k) - 1
				for _, step := range [2]int32{-1, 1} {
					for { // on in the same direction
						e := s.best.ends
						if e[which].v[k] += step; e[which].v[k] < 0 || e[which].v[k] > top || !s.try(e[0], e[1]) {
							break
						}
					}
				}
			}
		}
		for turn := 1; turn < 4; turn++ {
			if !s.z.shared && !s.z.unique || s.z.shared && turn != 3 {
				continue
			}
			p := [2]point{s.z.load(s.best.ends[0]), s.z.load(s.best.ends[1])}
			e := s.best.ends
			for which := range 2 {
				if turn>>which&1 == 1 {
					e[which] = s.z.store(p[which], 1-e[which].last)
				}
			}
			s.try(e[0], e[1])
		}
		for k := range 4 { // both ends together: the line shifts, widens or narrows in a channel
			top := int32(1)<<s.z.bits(k) - 1
			for _, step := range [4][2]int32{{1, 1}, {-1, -1}, {1, -1}, {-1, 1}} {
				e := s.best.ends
				e[0].v[k] += step[0]
				e[1].v[k] += step[1]
				if min(e[0].v[k], e[1].v[k]) >= 0 && max(e[0].v[k], e[1].v[k]) <= top {
					s.try(e[0], e[1])
				}
			}
		}
		if a, b, ok := minSquares(s.points, s.best.index[:len(s.points)], weights[s.index], 255); ok {
			s.try(s.z.pair(a, b))
		}
		if s.best.err == before {
			return
		}
	}
}
