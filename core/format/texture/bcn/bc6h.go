package bcn

import (
	"strings"
	"sync"
)

// BC6H stores a block of light in one of fourteen modes: one line with 16 places, or two of a
// partition with 8 each; the ends in few bits, mostly as differences from the first (Khronos Data
// Format 1.3, chapter 19). This is the unsigned form.
//
// Errors are measured in steps of half floats, which are nearly even in the logarithm of light.

// bc6Mode is how a mode stores the ends.
type bc6Mode struct {
	number uint32 // as stored
	subset int    // one or two
	bits   uint   // of the first end
	delta  [3]uint
	// plain says that the other ends are stored as they are, not as differences.
	plain bool
	// layout lists the bits behind the mode's number in the order they are stored: channel, end (0 and 1 of the first
	// subset, 2 and 3 of the second), then from which bit to which.
	layout string
}

var bc6Modes = []bc6Mode{
	{0b00, 2, 10, [3]uint{5, 5, 5}, false,
		"g2:4 b2:4 b3:4 r0:0-9 g0:0-9 b0:0-9 r1:0-4 g3:4 g2:0-3 g1:0-4 b3:0 g3:0-3 b1:0-4 b3:1 b2:0-3 r2:0-4 b3:2 r3:0-4 b3:3"},
	{0b01, 2, 7, [3]uint{6, 6, 6}, false,
		"g2:5 g3:4 g3:5 r0:0-6 b3:0 b3:1 b2:4 g0:0-6 b2:5 b3:2 g2:4 b0:0-6 b3:3 b3:5 b3:4 r1:0-5 g2:0-3 g1:0-5 g3:0-3 b1:0-5 b2:0-3 r2:0-5 r3:0-5"},
	{0b00010, 2, 11, [3]uint{5, 4, 4}, false,
		"r0:0-9 g0:0-9 b0:0-9 r1:0-4 r0:10 g2:0-3 g1:0-3 g0:10 b3:0 g3:0-3 b1:0-3 b0:10 b3:1 b2:0-3 r2:0-4 b3:2 r3:0-4 b3:3"},
	{0b00110, 2, 11, [3]uint{4, 5, 4}, false,
		"r0:0-9 g0:0-9 b0:0-9 r1:0-3 r0:10 g3:4 g2:0-3 g1:0-4 g0:10 g3:0-3 b1:0-3 b0:10 b3:1 b2:0-3 r2:0-3 b3:0 b3:2 r3:0-3 g2:4 b3:3"},
	{0b01010, 2, 11, [3]uint{4, 4, 5}, false,
		"r0:0-9 g0:0-9 b0:0-9 r1:0-3 r0:10 b2:4 g2:0-3 g1:0-3 g0:10 b3:0 g3:0-3 b1:0-4 b0:10 b2:0-3 r2:0-3 b3:1 b3:2 r3:0-3 b3:4 b3:3"},
	{0b01110, 2, 9, [3]uint{5, 5, 5}, false,
		"r0:0-8 b2:4 g0:0-8 g2:4 b0:0-8 b3:4 r1:0-4 g3:4 g2:0-3 g1:0-4 b3:0 g3:0-3 b1:0-4 b3:1 b2:0-3 r2:0-4 b3:2 r3:0-4 b3:3"},
	{0b10010, 2, 8, [3]uint{6, 5, 5}, false,
		"r0:0-7 g3:4 b2:4 g0:0-7 b3:2 g2:4 b0:0-7 b3:3 b3:4 r1:0-5 g2:0-3 g1:0-4 b3:0 g3:0-3 b1:0-4 b3:1 b2:0-3 r2:0-5 r3:0-5"},
	{0b10110, 2, 8, [3]uint{5, 6, 5}, false,
		"r0:0-7 b3:0 b2:4 g0:0-7 g2:5 g2:4 b0:0-7 g3:5 b3:4 r1:0-4 g3:4 g2:0-3 g1:0-5 g3:0-3 b1:0-4 b3:1 b2:0-3 r2:0-4 b3:2 r3:0-4 b3:3"},
	{0b11010, 2, 8, [3]uint{5, 5, 6}, false,
		"r0:0-7 b3:1 b2:4 g0:0-7 b2:5 g2:4 b0:0-7 b3:5 b3:4 r1:0-4 g3:4 g2:0-3 g1:0-4 b3:0 g3:0-3 b1:0-5 b2:0-3 r2:0-4 b3:2 r3:0-4 b3:3"},
	{0b11110, 2, 6, [3]uint{6, 6, 6}, true,
		"r0:0-5 g3:4 b3:0 b3:1 b2:4 g0:0-5 g2:5 b2:5 b3:2 g2:4 b0:0-5 g3:5 b3:3 b3:5 b3:4 r1:0-5 g2:0-3 g1:0-5 g3:0-3 b1:0-5 b2:0-3 r2:0-5 r3:0-5"},
	{0b00011, 1, 10, [3]uint{10, 10, 10}, true, "r0:0-9 g0:0-9 b0:0-9 r1:0-9 g1:0-9 b1:0-9"},
	{0b00111, 1, 11, [3]uint{9, 9, 9}, false, "r0:0-9 g0:0-9 b0:0-9 r1:0-8 r0:10 g1:0-8 g0:10 b1:0-8 b0:10"},
	{0b01011, 1, 12, [3]uint{8, 8, 8}, false, "r0:0-9 g0:0-9 b0:0-9 r1:0-7 r0:11-10 g1:0-7 g0:11-10 b1:0-7 b0:11-10"},
	{0b01111, 1, 16, [3]uint{4, 4, 4}, false, "r0:0-9 g0:0-9 b0:0-9 r1:0-3 r0:15-10 g1:0-3 g0:15-10 b1:0-3 b0:15-10"},
}

// modeBits is how many bits the mode's number takes.
func (m *bc6Mode) modeBits() uint {
	if m.number < 2 {
		return 2
	}
	return 5
}

// bc6Bit is where a bit of an end is stored.
type bc6Bit struct{ end, channel, bit uint8 }

var bc6Layouts = sync.OnceValue(func() (all [][]bc6Bit) {
	for _, m := range bc6Modes {
		var list []bc6Bit
		for field := range strings.FieldsSeq(m.layout) {
			b := bc6Bit{end: field[1] - '0', channel: uint8(strings.IndexByte("rgb", field[0]))}
			from, to, _ := strings.Cut(field[3:], "-")
			if to == "" {
				to = from
			}
			number := func(s string) (n int) {
				for _, c := range s {
					n = 10*n + int(c-'0')
				}
				return n
			}
			first, last := number(from), number(to)
			step := 1
			if last < first {
				step = -1
			}
			for n := first; ; n += step {
				b.bit = uint8(n)
				list = append(list, b)
				if n == last {
					break
				}
			}
		}
		all = append(all, list)
	}
	return all
})

const largestHalf = 0x7bff // bits of the largest finite half float

// widen spreads a stored end of n bits over 16.
func widen(v int32, n uint) int32 {
	switch {
	case n >= 15 || v == 0:
		return v
	case v == 1<<n-1:
		return 0xffff
	}
	return (v<<16 + 0x8000) >> n
}

// narrow stores 16 bits in n: the one that widens to the nearest.
func narrow(v int32, n uint) int32 {
	if n >= 15 {
		return v
	}
	top := int32(1)<<n - 1
	q := min(v>>(16-n), top)
	best, bestErr := q, abs(widen(q, n)-v)
	for _, c := range [2]int32{q - 1, q + 1} {
		if c >= 0 && c <= top {
			if d := abs(widen(c, n) - v); d < bestErr {
				best, bestErr = c, d
			}
		}
	}
	return best
}

// bc6Ends are the four ends of a block in the bits of its mode.
type bc6Ends [4][3]int32

// stored says whether a mode can hold the ends: the differences must be small enough.
func (m *bc6Mode) stored(e *bc6Ends) bool {
	if m.plain {
		return true
	}
	for i := 1; i < 2*m.subset; i++ {
		for k := range 3 {
			if d, half := e[i][k]-e[0][k], int32(1)<<(m.delta[k]-1); d < -half || d >= half {
				return false
			}
		}
	}
	return true
}

// draw pulls the other ends towards the first until the mode can hold them.
func (m *bc6Mode) draw(e *bc6Ends) {
	if m.plain {
		return
	}
	for i := 1; i < 2*m.subset; i++ {
		for k := range 3 {
			half := int32(1) << (m.delta[k] - 1)
			e[i][k] = e[0][k] + min(max(e[i][k]-e[0][k], -half), half-1)
		}
	}
}

// bc6Block is a block as it will be stored.
type bc6Block struct {
	mode, partition int
	ends            bc6Ends
	index           [16]uint8
	err             int64
}

type bc6 struct {
	points  [16]point // spread over 16 bits, as ends are
	halves  [16]point // as they will be read
	quality Quality
	best    bc6Block
}

// BC6H appends a block of light: 16 bytes.
func BC6H(out []byte, t *Light, q Quality) []byte {
	s := bc6{quality: min(q, Best)}
	var whole moments
	for i := range t {
		for k, h := range t[i] {
			v := int32(h)
			switch {
			case v >= 0x8000 && v <= 0xfc00: // below zero
				v = 0
			case v > largestHalf:
				v = largestHalf
			}
			s.halves[i][k] = v
			s.points[i][k] = min((v*64+15)/31, 0xffff)
		}
		whole.add(&s.points[i])
	}
	s.best.err = noLimit
	s.whole(&whole)
	s.parted(&whole)
	if q == Exhaustive {
		s.everywhere()
	}
	return s.best.append(out)
}

// measure chooses indices for ends in a mode. It gives up when the error reaches limit.
func (s *bc6) measure(mode, partition int, e *bc6Ends, limit int64, index *[16]uint8) int64 {
	m := &bc6Modes[mode]
	bits := uint(4)
	if m.subset == 2 {
		bits = 3
	}
	w, near := weights[bits], &nearestIndex[bits]
	var a, d [2][3]int64
	var lengths, inverse [2]int64
	for k := range m.subset {
		length := int64(0)
		for c := range 3 {
			a[k][c] = int64(widen(e[2*k][c], m.bits))
			d[k][c] = int64(widen(e[2*k+1][c], m.bits)) - a[k][c]
			length += d[k][c] * d[k][c]
		}
		if lengths[k] = length; length > 0 {
			inverse[k] = 1 << 44 / length
		}
	}
	err := int64(0)
	for i := range s.points {
		k := 0
		if m.subset == 2 {
			k = int(partitions2[partition] >> i & 1)
		}
		p, h, a, d := &s.points[i], &s.halves[i], &a[k], &d[k]
		along := (int64(p[0])-a[0])*d[0] + (int64(p[1])-a[1])*d[1] + (int64(p[2])-a[2])*d[2]
		at := (min(max(along, 0), lengths[k])*inverse[k] + 1<<35) >> 36
		j := near[at]
		index[i] = j
		wj := int64(w[j])
		for c := range 3 {
			v := (a[c]*64 + wj*d[c] + 32) >> 6
			r := v*31>>6 - int64(h[c])
			err += r * r
		}
		if err >= limit {
			return noLimit
		}
	}
	return err
}

// try keeps the ends when the mode can hold them, turned as the anchors want, and they are better.
func (s *bc6) try(mode, partition int, e bc6Ends) bool {
	m := &bc6Modes[mode]
	var index [16]uint8
	err := s.measure(mode, partition, &e, s.best.err, &index)
	if err >= s.best.err {
		return false
	}
	turned := false
	for k := range m.subset {
		bits := uint(4)
		if m.subset == 2 {
			bits = 3
		}
		if index[anchor(m.subset, partition, k)]>>(bits-1) == 1 {
			e[2*k], e[2*k+1] = e[2*k+1], e[2*k]
			turned = true
		}
	}
	if !m.stored(&e) {
		m.draw(&e)
		turned = true
	}
	if turned {
		if err = s.measure(mode, partition, &e, s.best.err, &index); err >= s.best.err {
			return false
		}
		for k := range m.subset { // drawing the ends together may have moved an anchor again
			bits := uint(5 - m.subset)
			if index[anchor(m.subset, partition, k)]>>(bits-1) == 1 {
				return false
			}
		}
	}
	s.best = bc6Block{mode, partition, e, index, err}
	return true
}

// search fits a mode to points that are dealt out to its subsets.
func (s *bc6) search(mode, partition int, members *[2][16]point, count [2]int, at bc6Ends) {
	m := &bc6Modes[mode]
	bits := uint(5 - m.subset)
	refine := [...]int{Normal: 1, Draft: 1, Best: 5}[s.quality]
	for round := 0; ; round++ {
		s.try(mode, partition, at)
		if round == refine {
			return
		}
		var index [16]uint8
		s.measure(mode, partition, &at, noLimit, &index)
		var n [2]int
		var dealt [2][16]uint8
		for i := range s.points {
			k := 0
			if m.subset == 2 {
				k = int(partitions2[partition] >> i & 1)
			}
			dealt[k][n[k]] = index[i]
			n[k]++
		}
		next := at
		for k := range m.subset {
			a, b, ok := minSquares(members[k][:count[k]], dealt[k][:count[k]], weights[bits], 0xffff)
			if !ok {
				continue
			}
			for c := range 3 {
				next[2*k][c], next[2*k+1][c] = narrow(a[c], m.bits), narrow(b[c], m.bits)
			}
		}
		if next == at {
			return
		}
		at = next
	}
}

// whole tries the modes of one line.
func (s *bc6) whole(all *moments) {
	members := [2][16]point{s.points}
	low, high := all.ends(s.points[:], 6)
	ends := clamped(bc6Ends{{low[0], low[1], low[2]}, {high[0], high[1], high[2]}})
	s.modes(oneLineModes, 0, &members, [2]int{16, 0}, ends)
	if s.quality == Best {
		s.descend()
	}
}

func clamped(e bc6Ends) bc6Ends {
	for i := range e {
		for k := range e[i] {
			e[i][k] = min(max(e[i][k], 0), 0xffff)
		}
	}
	return e
}

// The modes of one and of two lines, those with the most bits first.
var (
	oneLineModes = []int{13, 12, 11, 10}
	twoLineModes = []int{2, 3, 4, 0, 5, 6, 7, 8, 1, 9}
)

// modes fits modes, the most exact first, until some could hold the ends as they are; at the best quality all.
func (s *bc6) modes(list []int, partition int, members *[2][16]point, count [2]int, ends bc6Ends) {
	left := [...]int{Normal: 3, Draft: 2, Best: len(bc6Modes)}[s.quality]
	for _, mode := range list {
		m := &bc6Modes[mode]
		narrowed := m.narrowed(&ends)
		fits := m.stored(&narrowed)
		if fits || s.quality == Best {
			s.search(mode, partition, members, count, narrowed)
		}
		if fits {
			if left--; left == 0 {
				return
			}
		}
	}
}

// narrowed are ends of 16 bits as the mode stores them.
func (m *bc6Mode) narrowed(e *bc6Ends) (n bc6Ends) {
	for i := range 2 * m.subset {
		for k := range 3 {
			n[i][k] = narrow(e[i][k], m.bits)
		}
	}
	return n
}

// parted tries the modes of two lines in the most promising partitions.
func (s *bc6) parted(all *moments) {
	tries := [...]int{Normal: 3, Draft: 0, Best: 10}[s.quality]
	if tries == 0 || s.best.err == 0 {
		return
	}
	var cost [64]int64
	var sums [32][2]moments
	for p := range sums {
		for i := range s.points {
			if partitions2[p]>>i&1 == 1 {
				sums[p][1].add(&s.points[i])
			}
		}
		sums[p][0] = all.less(&sums[p][1])
		cost[p] = sums[p][0].off() + sums[p][1].off()
	}
	order := ranked(&cost, 32)
	for _, partition := range order[:min(tries, 32)] {
		var members [2][16]point
		var count [2]int
		for i := range s.points {
			k := partitions2[partition] >> i & 1
			members[k][count[k]] = s.points[i]
			count[k]++
		}
		var ends bc6Ends
		for k := range 2 {
			low, high := sums[partition][k].ends(members[k][:count[k]], 6)
			ends[2*k], ends[2*k+1] = [3]int32{low[0], low[1], low[2]}, [3]int32{high[0], high[1], high[2]}
		}
		ends = clamped(ends)
		before := s.best.err
		s.modes(twoLineModes, int(partition), &members, count, ends)
		if s.quality == Best && s.best.err < before {
			s.descend()
		}
	}
}

// everywhere descends from every mode and partition, from the axes and from every pair of texels.
func (s *bc6) everywhere() {
	found := s.best
	three := func(p point) [3]int32 { return [3]int32{p[0], p[1], p[2]} }
	for mode := range bc6Modes {
		m := &bc6Modes[mode]
		partitions := 1
		if m.subset == 2 {
			partitions = 32
		}
		for partition := range partitions {
			var members [2][16]point
			var count [2]int
			var sums [2]moments
			for i := range s.points {
				k := subsetOf(m.subset, partition, i)
				members[k][count[k]] = s.points[i]
				count[k]++
				sums[k].add(&s.points[i])
			}
			from := func(ends bc6Ends) {
				s.best = bc6Block{err: noLimit}
				ends = clamped(ends)
				s.search(mode, partition, &members, count, m.narrowed(&ends))
				if s.best.err < 2*found.err {
					s.descend()
				}
				if s.best.err < found.err {
					found = s.best
				}
			}
			var axes bc6Ends
			for k := range m.subset {
				low, high := sums[k].ends(members[k][:count[k]], 8)
				axes[2*k], axes[2*k+1] = three(low), three(high)
			}
			from(axes)
			for k := range m.subset {
				for i := range members[k][:count[k]] {
					for j := range i {
						ends := axes
						ends[2*k], ends[2*k+1] = three(members[k][i]), three(members[k][j])
						from(ends)
					}
				}
			}
		}
	}
	s.best = found
}

// descend moves single channels of the best block's ends by a step as long as that helps.
func (s *bc6) descend() {
	for s.best.err > 0 {
		before := s.best.err
		m := &bc6Modes[s.best.mode]
		top := int32(1)<<m.bits - 1
		for i := range 2 * m.subset {
			for k := range 3 {
				for _, step := range [...]int32{-1, 1, -3, 3} {
					for {
						e := s.best.ends
						if e[i][k] += step; e[i][k] < 0 || e[i][k] > top || !s.try(s.best.mode, s.best.partition, e) {
							break
						}
					}
				}
			}
		}
		for i := 0; i < 2*m.subset; i += 2 {
			for k := range 3 {
				for _, step := range [4][2]int32{{1, 1}, {-1, -1}, {1, -1}, {-1, 1}} {
					e := s.best.ends
					e[i][k] += step[0]
					e[i+1][k] += step[1]
					if min(e[i][k], e[i+1][k]) >= 0 && max(e[i][k], e[i+1][k]) <= top {
						s.try(s.best.mode, s.best.partition, e)
					}
				}
			}
		}
		if s.best.err == before {
			return
		}
	}
}

func (b *bc6Block) append(out []byte) []byte {
	m := &bc6Modes[b.mode]
	e := b.ends
	if !m.plain {
		for i := 1; i < 2*m.subset; i++ {
			for k := range 3 {
				e[i][k] = (b.ends[i][k] - b.ends[0][k]) & (1<<m.delta[k] - 1)
			}
		}
	}
	var w bitWriter
	w.put(m.number, m.modeBits())
	for _, at := range bc6Layouts()[b.mode] {
		w.put(uint32(e[at.end][at.channel]>>at.bit&1), 1)
	}
	bits := uint(4)
	if m.subset == 2 {
		w.put(uint32(b.partition), 5)
		bits = 3
	}
	for i, j := range b.index {
		n := bits
		if i == anchor(m.subset, b.partition, subsetOf(m.subset, b.partition, i)) {
			n--
		}
		w.put(uint32(j), n)
	}
	return w.append(out)
}

// ReadBC6H unpacks 16 bytes. A block of no mode is black.
func ReadBC6H(data []byte) (t Light) {
	r := newBitReader(data)
	number := r.take(2)
	if number > 1 {
		number |= r.take(3) << 2
	}
	mode := 0
	for mode < len(bc6Modes) && bc6Modes[mode].number != number {
		mode++
	}
	if mode == len(bc6Modes) {
		return t
	}
	m := &bc6Modes[mode]
	var e bc6Ends
	for _, at := range bc6Layouts()[mode] {
		e[at.end][at.channel] |= int32(r.take(1)) << at.bit
	}
	if !m.plain {
		for i := 1; i < 2*m.subset; i++ {
			for k := range 3 {
				d := e[i][k] << (32 - m.delta[k]) >> (32 - m.delta[k])
				e[i][k] = (e[0][k] + d) & (1<<m.bits - 1)
			}
		}
	}
	partition, bits := 0, uint(4)
	if m.subset == 2 {
		partition, bits = int(r.take(5)), 3
	}
	for i := range t {
		k := subsetOf(m.subset, partition, i)
		n := bits
		if i == anchor(m.subset, partition, k) {
			n--
		}
		w := weights[bits][r.take(n)]
		for c := range 3 {
			a, b := widen(e[2*k][c], m.bits), widen(e[2*k+1][c], m.bits)
			t[i][c] = uint16(((64-w)*a + w*b + 32) >> 6 * 31 >> 6)
		}
	}
	return t
}
