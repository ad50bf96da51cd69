package bcn

// BC7 stores a block in one of eight modes that share 128 bits differently out between subsets, ends and indices
// (Khronos Data Format 1.3, chapter 20).

// bc7Mode is how a mode shares out its bits.
type bc7Mode struct {
	subsets                       int
	partition, rotation, selector uint // bits
	colour, alpha                 uint // bits of a channel of an end; alpha 0: always opaque
	shared                        bool // the last bit is one for both ends of a subset
	unique                        bool // the last bit is one for each end
	// bits of an index; second: of alpha's, or of colour's when the selector is set
	index, second uint
	trials        [4]int // partitions tried at each quality: normal, draft, best, exhaustive
}

var bc7Modes = [8]bc7Mode{
	{subsets: 3, partition: 4, colour: 4, unique: true, index: 3, trials: [4]int{0, 0, 3, 64}},
	{subsets: 2, partition: 6, colour: 6, shared: true, index: 3, trials: [4]int{2, 0, 8, 64}},
	{subsets: 3, partition: 6, colour: 5, index: 2, trials: [4]int{0, 0, 3, 64}},
	{subsets: 2, partition: 6, colour: 7, unique: true, index: 2, trials: [4]int{1, 0, 4, 64}},
	{subsets: 1, rotation: 2, selector: 1, colour: 5, alpha: 6, index: 2, second: 3, trials: [4]int{1, 0, 1, 1}},
	{subsets: 1, rotation: 2, colour: 7, alpha: 8, index: 2, second: 2, trials: [4]int{1, 1, 1, 1}},
	{subsets: 1, colour: 7, alpha: 7, unique: true, index: 4, trials: [4]int{1, 1, 1, 1}},
	{subsets: 2, partition: 6, colour: 5, alpha: 5, unique: true, index: 2, trials: [4]int{2, 0, 8, 64}},
}

// expand spreads n bits over 8, repeating the upper ones below.
func expand(v int32, n uint) int32 { return v<<(8-n) | v>>(2*n-8) }

// bc7Block is a block as it will be stored.
type bc7Block struct {
	mode, partition, rotation, selector int
	ends                                [3][2]end
	index, second                       [16]uint8
	err                                 int64
}

// bc7 searches the best block.
type bc7 struct {
	points  [16]point
	opaque  bool
	quality Quality
	whole   moments
	best    bc7Block
}

// BC7 appends a block of colours with alpha: 16 bytes.
func BC7(out []byte, t *Texels, q Quality) []byte {
	s := bc7{quality: q, opaque: true}
	for i := range t {
		s.points[i] = point{int32(t[i][0]), int32(t[i][1]), int32(t[i][2]), int32(t[i][3])}
		s.opaque = s.opaque && t[i][3] == 255
	}
	for i := range s.points {
		s.whole.add(&s.points[i])
	}
	s.search()
	return s.best.append(out)
}

// nearlyGood is a squared error of a block below which one line is likely to be the best, and worth a closer look.
const nearlyGood = 200

// goodEnough is a squared error of a block, in 8-bit steps, below which other modes are not tried.
var goodEnough = [4]int64{Normal: 12, Draft: 96}

func (s *bc7) search() {
	s.best.err = noLimit
	s.oneLine()
	enough := goodEnough[s.quality]
	if s.best.err <= enough {
		return
	}
	if s.quality != Draft || !s.opaque {
		s.apart(5)
		if s.best.err > enough && s.quality != Draft {
			s.apart(4)
		}
	}
	if s.best.err <= enough || s.quality == Draft {
		return
	}
	two := s.rank2()
	for _, mode := range []int{1, 3, 7} {
		if (mode == 7) != s.opaque || s.quality >= Best && mode == 7 {
			s.parts(mode, two[:])
		}
	}
	if s.opaque && s.quality >= Best {
		three := s.rank3()
		s.parts(0, three[:])
		s.parts(2, three[:])
	}
}

func (s *bc7) quantiser(mode int) quantiser {
	m := &bc7Modes[mode]
	return quantiser{colour: m.colour, alpha: m.alpha, shared: m.shared, unique: m.unique, solid: s.opaque}
}

// oneLine tries mode 6: one line through all channels with 16 places.
func (s *bc7) oneLine() {
	l := line8{points: s.points[:], z: s.quantiser(6), index: 4}
	l.fit(&s.whole, s.quality)
	if l.polish(s.quality); s.quality == Normal && l.best.err > 0 && l.best.err < nearlyGood {
		l.descend(1)
	}
	s.best = bc7Block{mode: 6, index: l.best.index, err: l.best.err}
	s.best.ends[0] = l.best.ends
}

// apart tries modes 4 and 5: a line through three channels and a scale of its own for the fourth.
func (s *bc7) apart(mode int) {
	m := &bc7Modes[mode]
	best := s.loner()
	for rotation := range 4 {
		if s.quality < Best && rotation != best {
			continue
		}
		var colours, alone [16]point
		var mc, ma moments
		for i, p := range s.points {
			if rotation > 0 {
				p[3], p[rotation-1] = p[rotation-1], p[3]
			}
			colours[i], alone[i] = point{p[0], p[1], p[2], 255}, point{255, 255, 255, p[3]} // 255: what is not stored
			mc.add(&colours[i])
			ma.add(&alone[i])
		}
		for selector := range 1 << m.selector {
			bits := [2]uint{m.index, m.second}
			if selector == 1 {
				bits = [2]uint{m.second, m.index}
			}
			c := line8{points: colours[:], z: quantiser{colour: m.colour}, index: bits[0]}
			a := line8{points: alone[:], z: quantiser{alpha: m.alpha}, index: bits[1]}
			c.fit(&mc, s.quality)
			if s.hopeless(c.best.err) {
				continue
			}
			c.polish(s.quality)
			if c.best.err >= s.best.err {
				continue
			}
			a.fit(&ma, s.quality)
			a.polish(s.quality)
			if err := c.best.err + a.best.err; err < s.best.err {
				s.best = bc7Block{mode: mode, rotation: rotation, selector: selector, index: c.best.index,
					second: a.best.index, err: err}
				for which := range 2 {
					e := c.best.ends[which]
					e.v[3] = a.best.ends[which].v[3]
					s.best.ends[0][which] = e
				}
			}
		}
	}
}

// hopeless says that an error will not be polished to below the best one.
func (s *bc7) hopeless(err int64) bool {
	switch s.quality {
	case Best:
		return err > s.best.err*4/3+16
	case Exhaustive:
		return err > 4*s.best.err+256
	}
	return err >= s.best.err
}

// loner is the rotation that sets the channel apart without which the others lie most nearly on a line.
func (s *bc7) loner() (rotation int) {
	c, lowest := s.whole.covariance(), int64(1)<<62
	for r, without := range [4][10]int64{
		{c[0], c[1], c[2], 0, c[4], c[5], 0, c[7], 0, 0},
		{3: 0, 4: c[4], 5: c[5], 6: c[6], 7: c[7], 8: c[8], 9: c[9]},
		{0: c[0], 2: c[2], 3: c[3], 7: c[7], 8: c[8], 9: c[9]},
		{0: c[0], 1: c[1], 3: c[3], 4: c[4], 6: c[6], 9: c[9]},
	} {
		if off := offLine(&without); off < lowest {
			rotation, lowest = r, off
		}
	}
	return rotation
}

// moments are those of each texel alone.
func (s *bc7) moments() (each [16]moments) {
	for i := range each {
		each[i].add(&s.points[i])
	}
	return each
}

// rank2 orders the partitions of two subsets by how far the texels lie off the subsets' axes.
func (s *bc7) rank2() (order [64]uint8) {
	var cost [64]int64
	each := s.moments()
	for p := range cost {
		var second moments
		for mask, i := partitions2[p], 0; mask != 0; mask, i = mask>>1, i+1 {
			if mask&1 == 1 {
				second.join(&each[i])
			}
		}
		first := s.whole.less(&second)
		cost[p] = first.off() + second.off()
	}
	return ranked(&cost, 64)
}

func (s *bc7) rank3() (order [64]uint8) {
	var cost [64]int64
	each := s.moments()
	for p := range cost {
		var m [3]moments
		for i := range s.points {
			m[subsetOf(3, p, i)].join(&each[i])
		}
		cost[p] = m[0].off() + m[1].off() + m[2].off()
	}
	return ranked(&cost, 64)
}

// ranked lists the partitions with the lowest cost first.
func ranked(cost *[64]int64, n int) (order [64]uint8) {
	for i := range n {
		order[i] = uint8(i)
		for j := i; j > 0 && cost[order[j]] < cost[order[j-1]]; j-- {
			order[j], order[j-1] = order[j-1], order[j]
		}
	}
	return order
}

// parts tries a mode of several subsets in the most promising partitions.
func (s *bc7) parts(mode int, order []uint8) {
	m := &bc7Modes[mode]
	tried := 0
	for _, partition := range order {
		if tried == m.trials[s.quality] || s.best.err <= goodEnough[s.quality] {
			return
		}
		if int(partition) >= 1<<m.partition {
			continue
		}
		tried++
		s.partition(mode, int(partition))
	}
}

func (s *bc7) partition(mode, partition int) {
	m := &bc7Modes[mode]
	var members [3][16]point
	var count [3]int
	var sums [3]moments
	for i := range s.points {
		k := subsetOf(m.subsets, partition, i)
		members[k][count[k]] = s.points[i]
		count[k]++
		sums[k].add(&s.points[i])
	}
	found := bc7Block{mode: mode, partition: partition}
	var lines [3]line8
	for k := range m.subsets {
		lines[k] = line8{points: members[k][:count[k]], z: s.quantiser(mode), index: m.index}
		lines[k].fit(&sums[k], s.quality)
		found.err += lines[k].best.err
		if s.hopeless(found.err) {
			return
		}
	}
	if s.quality >= Best {
		found.err = 0
		for k := range m.subsets {
			lines[k].polish(s.quality)
			if found.err += lines[k].best.err; found.err >= s.best.err {
				return
			}
		}
	}
	if found.err >= s.best.err {
		return
	}
	var at [3]int
	for i := range s.points {
		k := subsetOf(m.subsets, partition, i)
		found.index[i] = lines[k].best.index[at[k]]
		at[k]++
	}
	for k := range m.subsets {
		found.ends[k] = lines[k].best.ends
	}
	s.best = found
}

// turn makes the anchors' highest bits zero by turning lines round.
func (b *bc7Block) turn() {
	m := &bc7Modes[b.mode]
	bits, second := m.index, m.second
	if b.selector == 1 {
		bits, second = second, bits
	}
	for k := range m.subsets {
		if b.index[anchor(m.subsets, b.partition, k)]>>(bits-1) == 0 {
			continue
		}
		e := &b.ends[k]
		alpha := [2]int32{e[0].v[3], e[1].v[3]}
		e[0], e[1] = e[1], e[0]
		if second > 0 { // alpha has indices of its own
			e[0].v[3], e[1].v[3] = alpha[0], alpha[1]
		}
		for i := range b.index {
			if subsetOf(m.subsets, b.partition, i) == k {
				b.index[i] = 1<<bits - 1 - b.index[i]
			}
		}
	}
	if second > 0 && b.second[0]>>(second-1) == 1 {
		e := &b.ends[0]
		e[0].v[3], e[1].v[3] = e[1].v[3], e[0].v[3]
		for i := range b.second {
			b.second[i] = 1<<second - 1 - b.second[i]
		}
	}
}

func (b *bc7Block) append(out []byte) []byte {
	b.turn()
	m := &bc7Modes[b.mode]
	var w bitWriter
	w.put(1<<b.mode, uint(b.mode)+1)
	w.put(uint32(b.partition), m.partition)
	w.put(uint32(b.rotation), m.rotation)
	w.put(uint32(b.selector), m.selector)
	for channel := range 4 {
		n := m.colour
		if channel == 3 {
			n = m.alpha
		}
		for k := range m.subsets {
			w.put(uint32(b.ends[k][0].v[channel]), n)
			w.put(uint32(b.ends[k][1].v[channel]), n)
		}
	}
	for k := range m.subsets {
		if m.shared || m.unique {
			w.put(uint32(b.ends[k][0].last), 1)
		}
		if m.unique {
			w.put(uint32(b.ends[k][1].last), 1)
		}
	}
	first, second := &b.index, &b.second
	if b.selector == 1 { // what is stored first always has the fewer bits
		first, second = second, first
	}
	for i, j := range first {
		n := m.index
		if i == anchor(m.subsets, b.partition, subsetOf(m.subsets, b.partition, i)) {
			n--
		}
		w.put(uint32(j), n)
	}
	for i, j := range second {
		if m.second > 0 {
			n := m.second
			if i == 0 {
				n--
			}
			w.put(uint32(j), n)
		}
	}
	return w.append(out)
}

// ReadBC7 unpacks 16 bytes. A block of no mode is see-through black.
func ReadBC7(data []byte) (t Texels) {
	r := newBitReader(data)
	mode := 0
	for mode < 8 && r.take(1) == 0 {
		mode++
	}
	if mode == 8 {
		return t
	}
	m := &bc7Modes[mode]
	b := bc7Block{mode: mode, partition: int(r.take(m.partition)), rotation: int(r.take(m.rotation)),
		selector: int(r.take(m.selector))}
	for channel := range 4 {
		n := m.colour
		if channel == 3 {
			n = m.alpha
		}
		for k := range m.subsets {
			b.ends[k][0].v[channel] = int32(r.take(n))
			b.ends[k][1].v[channel] = int32(r.take(n))
		}
	}
	for k := range m.subsets {
		if m.shared || m.unique {
			b.ends[k][0].last = int32(r.take(1))
			b.ends[k][1].last = b.ends[k][0].last
		}
		if m.unique {
			b.ends[k][1].last = int32(r.take(1))
		}
	}
	for i := range b.index {
		n := m.index
		if i == anchor(m.subsets, b.partition, subsetOf(m.subsets, b.partition, i)) {
			n--
		}
		b.index[i] = uint8(r.take(n))
	}
	bits := [2]uint{m.index, m.index}
	b.second = b.index
	if m.second > 0 {
		for i := range b.second {
			n := m.second
			if i == 0 {
				n--
			}
			b.second[i] = uint8(r.take(n))
		}
		bits[1] = m.second
		if b.selector == 1 {
			b.index, b.second = b.second, b.index
			bits[0], bits[1] = bits[1], bits[0]
		}
	}
	z := quantiser{colour: m.colour, alpha: m.alpha, shared: m.shared, unique: m.unique}
	var ends [3][2]point
	for k := range m.subsets {
		ends[k] = [2]point{z.load(b.ends[k][0]), z.load(b.ends[k][1])}
	}
	for i := range t {
		e := &ends[subsetOf(m.subsets, b.partition, i)]
		for k := range 4 {
			w := weights[bits[0]][b.index[i]]
			if k == 3 {
				w = weights[bits[1]][b.second[i]]
			}
			t[i][k] = uint8(((64-w)*e[0][k] + w*e[1][k] + 32) >> 6)
		}
		if b.rotation > 0 {
			t[i][3], t[i][b.rotation-1] = t[i][b.rotation-1], t[i][3]
		}
	}
	return t
}
