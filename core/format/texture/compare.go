package texture

import (
	"image"
	"math"
)

// Difference is how far two images are apart.
type Difference struct {
	Colour float64 `json:"colour_db"` // peak signal-to-noise ratio in decibels; 99 where nothing differs
	Alpha  float64 `json:"alpha_db"`
	// largest difference of a channel, in 8-bit steps; of light, in hundredths of its value
	Worst int `json:"worst"`
}

// Compare measures two images of one size in the channels that a format keeps. Colours that nobody sees do not count.
func Compare(a, b image.Image, f Format) Difference {
	if x, ok := a.(*Light); ok {
		if y, ok := b.(*Light); ok {
			return compareLight(x, y)
		}
	}
	return compareTexels(Visible(a), Visible(b), f)
}

// keeps says which channels a format keeps.
func (f Format) keeps() [4]bool {
	switch layouts[f].channels {
	case "rgb":
		return [4]bool{true, true, true, false}
	case "r":
		return [4]bool{true, false, false, false}
	case "rg":
		return [4]bool{true, true, false, false}
	}
	return [4]bool{true, true, true, true}
}

func compareTexels(x, y *image.NRGBA, f Format) Difference {
	keeps := f.keeps()
	var sum [2]float64
	var count [2]int
	d := Difference{}
	for row := range x.Rect.Dy() {
		for i := 0; i < 4*x.Rect.Dx(); i += 4 {
			p, q := x.Pix[row*x.Stride+i:][:4], y.Pix[row*y.Stride+i:][:4]
			for k := range 4 {
				if !keeps[k] || k < 3 && keeps[3] && p[3] == 0 {
					continue
				}
				e := int(p[k]) - int(q[k])
				d.Worst = max(d.Worst, e, -e)
				sum[k/3] += float64(e * e)
				count[k/3]++
			}
		}
	}
	d.Colour, d.Alpha = decibels(sum[0], count[0]), decibels(sum[1], count[1])
	return d
}

func decibels(squares float64, n int) float64 {
	if squares == 0 || n == 0 {
		return 99
	}
	return 10 * math.Log10(255*255*float64(n)/squares)
}

// compareLight measures light by its steps of half floats, which are even in its logarithm; the
// peak is the largest value.
func compareLight(x, y *Light) Difference {
	sum, worst := 0.0, 0.0
	for i := range min(len(x.Pix), len(y.Pix)) {
		if i&3 == 3 {
			continue
		}
		e := float64(x.Pix[i]) - float64(y.Pix[i])
		sum += float64(e * e)
		if v, w := fixed(x.Pix[i]), fixed(y.Pix[i]); max(v, w) > 1<<14 { // darker than a thousandth does not count
			worst = max(worst, 100*math.Abs(float64(v-w))/float64(max(v, w)))
		}
	}
	n := max(len(x.Pix)*3/4, 1)
	d := Difference{Colour: 99, Alpha: 99, Worst: int(math.Round(worst))}
	if sum > 0 {
		d.Colour = 10 * math.Log10(halfLargest*halfLargest*float64(n)/sum)
	}
	return d
}
