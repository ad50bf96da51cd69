package texture

import "image"

// SizeRule is what sizes a game takes, and what to do with an image of another.
type SizeRule struct {
	Largest    int  // longest side in texels; 0 for no limit
	PowerOfTwo bool // both sides must be powers of two
	// How is "nearest", "up" or "down": the power of two that a side becomes. "refuse", or empty,
	// leaves the image alone.
	How string
	// KeepAspect scales both sides alike and repeats the edge over what is left to the right and below.
	KeepAspect bool
}

// SizeWays lists what How may be.
var SizeWays = []string{"refuse", "nearest", "up", "down"}

// Takes says whether the game takes an image of w by h texels.
func (r SizeRule) Takes(w, h int) bool {
	return (r.Largest == 0 || max(w, h) <= r.Largest) && (!r.PowerOfTwo || w&(w-1) == 0 && h&(h-1) == 0)
}

// Fit is the size that a texture of an image of w by h texels has, and the part of it that the image fills.
func (r SizeRule) Fit(w, h int) (size, filled image.Point) {
	size = r.fit(w, h)
	if !r.KeepAspect || r.Takes(w, h) {
		return size, size
	}
	filled = size
	if w*size.Y > h*size.X {
		filled.Y = max((h*size.X+w/2)/w, 1)
	} else {
		filled.X = max((w*size.Y+h/2)/h, 1)
	}
	return size, filled
}

func (r SizeRule) fit(w, h int) image.Point {
	if !r.PowerOfTwo {
		if larger := max(w, h); r.Largest > 0 && larger > r.Largest { // keeps the aspect
			return image.Pt(max(w*r.Largest/larger, 1), max(h*r.Largest/larger, 1))
		}
		return image.Pt(w, h)
	}
	side := func(n int) int {
		n = r.power(n)
		for r.Largest > 0 && n > r.Largest {
			n /= 2
		}
		return max(n, 1)
	}
	return image.Pt(side(w), side(h))
}

// power is a power of two near n; of "nearest" the one with the smaller ratio to n.
func (r SizeRule) power(n int) int {
	p := 1
	for p*2 <= n {
		p *= 2
	}
	if p != n && (r.How == "up" || r.How != "down" && n*n > 2*p*p) {
		return p * 2
	}
	return p
}

// apply resizes an image as the rule says.
func (r SizeRule) apply(img image.Image, srgb bool, f Filter, e Edge) image.Image {
	b := img.Bounds()
	size, filled := r.Fit(b.Dx(), b.Dy())
	img = Resize(img, filled.X, filled.Y, srgb, f, e)
	if filled == size {
		return img
	}
	if l, ok := img.(*Light); ok {
		out := NewLight(size.X, size.Y)
		for y := range size.Y {
			for x := range size.X {
				copy(out.Pix[4*(y*size.X+x):][:4], l.Pix[4*(min(y, filled.Y-1)*filled.X+min(x, filled.X-1)):])
			}
		}
		return out
	}
	n, out := img.(*image.NRGBA), image.NewNRGBA(image.Rectangle{Max: size})
	for y := range size.Y {
		for x := range size.X {
			copy(out.Pix[y*out.Stride+4*x:][:4], n.Pix[min(y, filled.Y-1)*n.Stride+4*min(x, filled.X-1):])
		}
	}
	return out
}
