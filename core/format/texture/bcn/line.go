package bcn

import "math/bits"

// A subset of a block is stored as two ends and, for each texel, how far along the line between them it lies. This file
// finds lines: the first by the principal axis, better ones by least squares over the positions chosen so far.

// point is a texel, or the end of a line, of up to four channels; unused ones are 0.
type point [4]int32

// weights are the 64ths of the second end by index, for indices of 2, 3 and 4 bits.
var weights = [5][]int32{
	2: {0, 21, 43, 64},
	3: {0, 9, 18, 27, 37, 46, 55, 64},
	4: {0, 4, 9, 13, 17, 21, 26, 30, 34, 38, 43, 47, 51, 55, 60, 64},
}

// nearestIndex is the index whose weight is nearest, by 256ths of the way.
var nearestIndex [5][257]uint8

func init() {
	for b := 2; b <= 4; b++ {
		i := 0
		for at := range nearestIndex[b] {
			for i+1 < len(weights[b]) && int32(at) >= 2*(weights[b][i]+weights[b][i+1]) {
				i++
			}
			nearestIndex[b][at] = uint8(i)
		}
	}
}

// moments are the sums over some texels from which their principal axis follows.
type moments struct {
	n     int64
	sum   [4]int64
	cross [10]int64 // of channels 00 01 02 03 11 12 13 22 23 33
}

func (m *moments) add(p *point) {
	m.n++
	a, b, c, d := int64(p[0]), int64(p[1]), int64(p[2]), int64(p[3])
	m.sum[0] += a
	m.sum[1] += b
	m.sum[2] += c
	m.sum[3] += d
	x := &m.cross
	x[0] += a * a
	x[1] += a * b
	x[2] += a * c
	x[3] += a * d
	x[4] += b * b
	x[5] += b * c
	x[6] += b * d
	x[7] += c * c
	x[8] += c * d
	x[9] += d * d
}

func (m *moments) join(o *moments) {
	m.n += o.n
	for k := range m.sum {
		m.sum[k] += o.sum[k]
	}
	for k := range m.cross {
		m.cross[k] += o.cross[k]
	}
}

func (m *moments) less(o *moments) (r moments) {
	r.n = m.n - o.n
	for k := range m.sum {
		r.sum[k] = m.sum[k] - o.sum[k]
	}
	for k := range m.cross {
		r.cross[k] = m.cross[k] - o.cross[k]
	}
	return r
}

// covariance is n squared times the covariance, as the upper triangle.
func (m *moments) covariance() (c [10]int64) {
	k := 0
	for i := range 4 {
		for j := i; j < 4; j++ {
			c[k] = m.n*m.cross[k] - m.sum[i]*m.sum[j]
			k++
		}
	}
	return c
}

// axis finds the principal axis by power iteration, its entries within 12 bits; zero when all points are one.
func (m *moments) axis(rounds int) (a [4]int64) {
	c := m.covariance()
	largest := max(c[0], c[4], c[7], c[9])
	if largest == 0 {
		return a
	}
	if shift := bits.Len64(uint64(largest)) - 40; shift > 0 { // leaves room for the products below
		for k := range c {
			c[k] >>= shift
		}
	}
	switch max(c[0], c[4], c[7], c[9]) { // the row of the widest channel leans towards the axis
	case c[0]:
		a = [4]int64{c[0], c[1], c[2], c[3]}
	case c[4]:
		a = [4]int64{c[1], c[4], c[5], c[6]}
	case c[7]:
		a = [4]int64{c[2], c[5], c[7], c[8]}
	default:
		a = [4]int64{c[3], c[6], c[8], c[9]}
	}
	a = within12(a)
	for range rounds {
		a = within12([4]int64{
			c[0]*a[0] + c[1]*a[1] + c[2]*a[2] + c[3]*a[3],
			c[1]*a[0] + c[4]*a[1] + c[5]*a[2] + c[6]*a[3],
			c[2]*a[0] + c[5]*a[1] + c[7]*a[2] + c[8]*a[3],
			c[3]*a[0] + c[6]*a[1] + c[8]*a[2] + c[9]*a[3],
		})
	}
	return a
}

// within12 scales a direction to entries of 12 bits.
func within12(a [4]int64) [4]int64 {
	largest := max(a[0], -a[0], a[1], -a[1], a[2], -a[2], a[3], -a[3])
	if shift := bits.Len64(uint64(largest)) - 12; shift > 0 {
		for k := range a {
			a[k] >>= shift
		}
	}
	return a
}

// off is about the summed squared distance of the points from their principal axis: the trace of
// the scatter less a lower bound of its largest eigenvalue, the sum of the squared entries over the
// trace, which is met when the points lie on a line.
func (m *moments) off() int64 {
	if m.n < 2 {
		return 0
	}
	c := m.covariance()
	return offLine(&c) / m.n
}

// offLine is off of a covariance.
func offLine(c *[10]int64) int64 {
	trace := c[0] + c[4] + c[7] + c[9]
	shift := max(bits.Len64(uint64(trace))-28, 0)
	if trace>>shift == 0 {
		return 0
	}
	var x [10]int64
	for k := range c {
		x[k] = c[k] >> shift
	}
	squares := x[0]*x[0] + x[4]*x[4] + x[7]*x[7] + x[9]*x[9] +
		2*(x[1]*x[1]+x[2]*x[2]+x[3]*x[3]+x[5]*x[5]+x[6]*x[6]+x[8]*x[8])
	return max(trace-squares/(trace>>shift)<<shift, 0)
}

// ends are the outermost places of the points on their principal axis.
func (m *moments) ends(points []point, rounds int) (low, high point) {
	a := m.axis(rounds)
	length := a[0]*a[0] + a[1]*a[1] + a[2]*a[2] + a[3]*a[3]
	if length == 0 {
		return points[0], points[0]
	}
	lowest, highest := int64(1)<<62, -int64(1)<<62
	for i := range points {
		p := &points[i]
		t := a[0]*int64(p[0]) + a[1]*int64(p[1]) + a[2]*int64(p[2]) + a[3]*int64(p[3])
		lowest, highest = min(lowest, t), max(highest, t)
	}
	middle := a[0]*m.sum[0] + a[1]*m.sum[1] + a[2]*m.sum[2] + a[3]*m.sum[3] // n times that of the mean
	for k := range 4 {
		low[k] = int32((m.sum[k] + divRound(a[k]*(lowest*m.n-middle), length)) / m.n)
		high[k] = int32((m.sum[k] + divRound(a[k]*(highest*m.n-middle), length)) / m.n)
	}
	return low, high
}

// minSquares finds the ends that fit the points best at their weights in 64ths, within 0 and
// largest; ok is false when all lie at one place.
func minSquares(points []point, at []uint8, weight []int32, largest int32) (a, b point, ok bool) {
	var aa, ab, bb int64
	var pa, pb [4]int64
	for i := range points {
		p := &points[i]
		wb := int64(weight[at[i]])
		wa := 64 - wb
		aa, ab, bb = aa+wa*wa, ab+wa*wb, bb+wb*wb
		for k := range 4 {
			pa[k] += wa * int64(p[k])
			pb[k] += wb * int64(p[k])
		}
	}
	det := aa*bb - ab*ab
	if det == 0 {
		return a, b, false
	}
	for k := range 4 {
		a[k] = int32(min(max(divRound(64*(bb*pa[k]-ab*pb[k]), det), 0), int64(largest)))
		b[k] = int32(min(max(divRound(64*(aa*pb[k]-ab*pa[k]), det), 0), int64(largest)))
	}
	return a, b, true
}
