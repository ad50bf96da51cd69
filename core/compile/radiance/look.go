package radiance

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"image"
	"math"
	"sync"

	"vornix/core/format/bvh"
	"vornix/core/format/texture"
)

// Appearance is how a material looks, as far as light cares. The zero value is plain: light grey and opaque.
type Appearance struct {
	Colour        image.Image `json:"-"`
	Emission      image.Image `json:"-"`
	EmissionPower float64     // factor on the emission
	Tint          [3]float64  // factor on the colour, linear; the zero value is white
	Contrast      float64     // factor on the distance from middle grey; 0 is 1
	Saturation    float64     // factor on the distance from grey of the same brightness; 0 is 1, below 0 none
	SeeThrough    string      // "no", "cut-out" or "soft"
	DoubleSided   bool
	Unlit         bool // shows as bright as it is painted
}

// plain is the colour of what nobody knows the look of.
const plain = 0.6

// most is the largest part of light that any surface sends back: in nature none sends all.
const most = 0.97

// Painted is a look ready to be asked.
type Painted struct {
	width, height int
	// Where channels do not mix, which is nearly everywhere, texels are as they were, a quarter as
	// large, and tones are what their values come to.
	pix          []uint8
	tones        *[3][256]float32
	texels       [][4]float32 // linear colour, and alpha; nil where there are tones
	glowW, glowH int
	glow         [][3]float32
	brightest    float32 // of the glow
	even         bool    // the glow is the same everywhere
	seeThrough   string
	doubleSided  bool
	unlit        bool
}

// Paint makes a look ready. side is the most texels that its images keep along a side.
func Paint(l Appearance, side int) *Painted {
	p := &Painted{seeThrough: l.SeeThrough, doubleSided: l.DoubleSided, unlit: l.Unlit}
	if l.Colour == nil {
		p.width, p.height = 1, 1
		p.texels = [][4]float32{l.Plain()}
	} else {
		img := Small(l.Colour, side, true)
		p.width, p.height = img.Rect.Dx(), img.Rect.Dy()
		if l.Saturation == 0 || l.Saturation == 1 {
			p.pix, p.tones = img.Pix, l.tones()
		} else {
			p.texels = make([][4]float32, p.width*p.height)
			for i := range p.texels {
				p.texels[i] = l.Texel(img.Pix[4*i:][:4])
			}
		}
	}
	if l.Emission != nil && l.EmissionPower > 0 {
		img := Small(l.Emission, side, true)
		p.glowW, p.glowH = img.Rect.Dx(), img.Rect.Dy()
		p.glow = make([][3]float32, p.glowW*p.glowH)
		p.even = true
		for i := range p.glow {
			for k := range 3 {
				p.glow[i][k] = linearOf(float64(img.Pix[4*i+k])/255) * float32(l.EmissionPower)
				p.brightest = max(p.brightest, p.glow[i][k])
			}
			p.even = p.even && p.glow[i] == p.glow[0]
		}
	}
	return p
}

// Texel is a texel's linear colour after contrast, saturation and tint, and its alpha. p is red,
// green, blue (sRGB), alpha.
func (l *Appearance) Texel(p []uint8) (out [4]float32) {
	c := [3]float64{float64(p[0]) / 255, float64(p[1]) / 255, float64(p[2]) / 255}
	if k := l.Contrast; k != 0 && k != 1 {
		for i := range c {
			c[i] = min(max(0.5+float64((c[i]-0.5)*k), 0), 1)
		}
	}
	if k := l.Saturation; k != 0 && k != 1 {
		grey := float64(0.2126*c[0]) + float64(0.7152*c[1]) + float64(0.0722*c[2])
		for i := range c {
			c[i] = min(max(grey+float64((c[i]-grey)*max(k, 0)), 0), 1)
		}
	}
	tint := l.tint()
	for i := range c {
		out[i] = min(linearOf(c[i])*float32(tint[i]), most)
	}
	out[3] = float32(p[3]) / 255
	return out
}

// tones are what the values of each channel come to where the others do not matter.
func (l *Appearance) tones() *[3][256]float32 {
	var t [3][256]float32
	for v := range 256 {
		x := l.Texel([]uint8{uint8(v), uint8(v), uint8(v), 0})
		for k := range 3 {
			t[k][v] = x[k]
		}
	}
	return &t
}

func (l *Appearance) tint() [3]float64 {
	if l.Tint == [3]float64{} {
		return [3]float64{1, 1, 1}
	}
	return l.Tint
}

// Plain is the colour and alpha of a look without an image.
func (l *Appearance) Plain() [4]float32 {
	t := l.tint()
	return [4]float32{float32(plain * t[0]), float32(plain * t[1]), float32(plain * t[2]), 1}
}

// Small is an image with no side above a number of texels, as NRGBA; srgb says that it holds colours.
func Small(img image.Image, side int, srgb bool) *image.NRGBA {
	b := img.Bounds()
	w, h := b.Dx(), b.Dy()
	for w > side || h > side {
		w, h = max((w+1)/2, 1), max((h+1)/2, 1)
	}
	if w != b.Dx() || h != b.Dy() {
		img = texture.Resize(img, w, h, srgb, texture.Box, texture.Wrap)
	}
	return texture.Visible(img)
}

// curve is the sRGB curve (IEC 61966-2-1) in 4096 steps, rounded so that it is the same on all machines.
var curve = sync.OnceValue(func() []float32 {
	list := make([]float32, 4097)
	for i := range list {
		v := float64(float64(i) / 4096)
		if v <= 0.04045 {
			v /= 12.92
		} else {
			v = math.Pow((v+0.055)/1.055, 2.4)
		}
		list[i] = float32(math.Round(v*1e6) / 1e6)
	}
	return list
})

func linearOf(srgb float64) float32 { return curve()[int(float64(srgb*4096)+0.5)] }

// Linear is an 0xRRGGBB colour in sRGB as light.
func Linear(c uint32) bvh.Vec {
	return bvh.Vec{linearOf(float64(c>>16&255) / 255), linearOf(float64(c>>8&255) / 255),
		linearOf(float64(c&255) / 255)}
}

// wrapped is the texel that a place, in repeats, falls on.
func wrapped(u float32, n int) int {
	f := u - float32(math.Floor(float64(u)))
	return min(int(f*float32(n)), n-1)
}

// texel is the colour and alpha of one texel.
func (p *Painted) texel(i int) [4]float32 {
	if p.tones == nil {
		return p.texels[i]
	}
	t := p.pix[4*i:][:4]
	return [4]float32{p.tones[0][t[0]], p.tones[1][t[1]], p.tones[2][t[2]], float32(t[3]) / 255}
}

// at is colour and alpha at a place in repeats.
func (p *Painted) at(u, v float32) [4]float32 {
	if p.width*p.height == 1 {
		return p.texel(0)
	}
	return p.texel(wrapped(v, p.height)*p.width + wrapped(u, p.width))
}

// Colour is the surface's colour at a place in repeats.
func (p *Painted) Colour(u, v float32) bvh.Vec {
	t := p.at(u, v)
	return bvh.Vec(t[:3])
}

// sends is the light that the surface gives off by itself.
func (p *Painted) sends(u, v float32) bvh.Vec {
	if p.glow == nil {
		return bvh.Vec{}
	}
	return p.glow[wrapped(v, p.glowH)*p.glowW+wrapped(u, p.glowW)]
}

// Glows says whether it gives off light.
func (p *Painted) Glows() bool { return p.glow != nil }

// Sum is a hash of all that a look does to light.
func (p *Painted) Sum() [32]byte {
	h := sha256.New()
	_ = json.NewEncoder(h).Encode([]any{p.width, p.height, p.glowW, p.glowH, p.seeThrough, p.doubleSided, p.unlit})
	var b []byte
	for i := range p.width * p.height {
		for _, v := range p.texel(i) {
			b = binary.LittleEndian.AppendUint32(b, math.Float32bits(v))
		}
	}
	for _, t := range p.glow {
		for _, v := range t {
			b = binary.LittleEndian.AppendUint32(b, math.Float32bits(v))
		}
	}
	h.Write(b)
	return [32]byte(h.Sum(nil))
}
