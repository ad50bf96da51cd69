package texture

import "image"

// A cut-out texture (leaves, fences) is drawn where alpha is at least a threshold. Filtering evens
// alpha out, so that smaller levels would be drawn thinner and thinner; keepCoverage scales a
// level's alpha so that as large a part of it is drawn as of the first.

// cutOff is the alpha from which a texel counts as drawn.
const cutOff = 128

// coverage is how many of an image's texels are drawn.
func coverage(img *image.NRGBA) (drawn, of int) {
	for i := 3; i < len(img.Pix); i += 4 {
		if img.Pix[i] >= cutOff {
			drawn++
		}
	}
	return drawn, len(img.Pix) / 4
}

// keepCoverage scales alpha so that drawn of each `of` texels are drawn, as near as that comes.
func keepCoverage(img *image.NRGBA, drawn, of int) {
	var count [256]int
	for i := 3; i < len(img.Pix); i += 4 {
		count[img.Pix[i]]++
	}
	want := (drawn*(len(img.Pix)/4) + of/2) / of
	// The threshold on the alpha that is there which draws the number nearest to the wanted one.
	best, bestOff, above := 256, want, 0
	for t := 255; t > 0; t-- {
		above += count[t]
		if off := max(above-want, want-above); count[t] > 0 && off < bestOff {
			best, bestOff = t, off
		}
	}
	if best == 256 && want > 0 {
		return
	}
	for i := 3; i < len(img.Pix); i += 4 {
		a := int(img.Pix[i])
		if a >= best { // from best to 255 over the upper half, the rest over the lower
			a = 255 - (255-a)*(255-cutOff)/max(255-best, 1)
		} else {
			a = a * (cutOff - 1) / max(best-1, 1)
		}
		img.Pix[i] = uint8(a)
	}
}
