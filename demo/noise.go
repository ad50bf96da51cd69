package demo

// The images are made with whole numbers alone, so that they are the same on every machine. Values and colours are 0 to
// 255, lengths are in texels.

// hash mixes a lattice point and a seed (the finaliser of a 32-bit multiply-xorshift hash).
func hash(x, y int, seed uint32) uint32 {
	h := uint32(x)*0x8da6b343 ^ uint32(y)*0xd8163841 ^ seed*0xcb1ab31f
	h ^= h >> 16
	h *= 0x7feb352d
	h ^= h >> 15
	h *= 0x846ca68b
	return h ^ h>>16
}

// noise is smooth value noise that repeats every size texels, with cells of the given width; 0 to 255.
func noise(x, y, cell, size int, seed uint32) int {
	n := max(size/cell, 1)
	cx, cy := x/cell, y/cell
	fx, fy := smooth(x%cell*256/cell), smooth(y%cell*256/cell)
	at := func(i, j int) int { return int(hash((cx+i)%n, (cy+j)%n, seed) >> 24) }
	top := at(0, 0)*(256-fx) + at(1, 0)*fx
	bottom := at(0, 1)*(256-fx) + at(1, 1)*fx
	return (top*(256-fy) + bottom*fy) >> 16
}

// smooth eases t of 256: 3t²-2t³.
func smooth(t int) int { return t * t * (3*256 - 2*t) >> 16 }

// fractal adds octaves of noise, each of half the width and half the weight.
func fractal(x, y, cell, size int, seed uint32) int {
	sum, weight := 0, 0
	for w := 128; cell >= 1 && w >= 8; cell, w = cell/2, w/2 {
		sum += noise(x, y, cell, size, seed+uint32(w)) * w
		weight += w
	}
	return sum / max(weight, 1)
}

// mix goes from a to b as t goes from 0 to 255.
func mix(a, b [3]int, t int) [3]int {
	t = min(max(t, 0), 255)
	for k := range a {
		a[k] += (b[k] - a[k]) * t / 255
	}
	return a
}

// shade scales a colour; 255 leaves it as it is.
func shade(c [3]int, by int) [3]int {
	for k := range c {
		c[k] = min(max(c[k]*by/255, 0), 255)
	}
	return c
}
