package imaging

import (
	"image"
	"image/color"
	"math"

	"vornix/core/format/texture"
)

// Crops lists the ways in which an image gets another ratio: fill cuts off what sticks out, whole
// keeps all and leaves bars, stretch scales both sides by themselves, refuse wants the right ratio.
var Crops = []string{"fill", "whole", "stretch", "refuse"}

// Recipe says what is done to a picture, in this order. The zero value does nothing but bring it to its size.
type Recipe struct {
	Width, Height int    // of the finished picture
	Crop          string // one of Crops; empty is fill
	// the point of interest, in parts of the image from its upper left corner, that stays in the
	// middle as far as can be
	Focus       [2]float64
	Background  color.NRGBA // of bars, and behind what is see-through where alpha is not kept
	KeepAlpha   bool
	Blur        float64     // radius in pixels of the finished picture
	Multiply    color.NRGBA // as blend mode; alpha is how strongly
	Overlay     color.NRGBA
	Darken      float64 // part of the light that is taken away
	Vignette    float64 // part of the light that is taken away in the corners
	Frame       int     // pixels
	FrameColour color.NRGBA
	Text        *Text
}

// Window is the part of an image of w x h that fills a ratio, with the point of interest as near to
// the middle as can be; kept is how much of the image that is.
func (r *Recipe) Window(w, h int) (part image.Rectangle, kept float64) {
	width, height := w, h
	if w*r.Height > h*r.Width {
		width = max(int(math.Round(float64(h)*float64(r.Width)/float64(r.Height))), 1)
	} else {
		height = max(int(math.Round(float64(w)*float64(r.Height)/float64(r.Width))), 1)
	}
	x := min(max(int(math.Round(float64(r.Focus[0]*float64(w))-float64(float64(width)/2))), 0), w-width)
	y := min(max(int(math.Round(float64(r.Focus[1]*float64(h))-float64(float64(height)/2))), 0), h-height)
	return image.Rect(x, y, x+width, y+height), float64(width*height) / float64(w*h)
}

// SameRatio says whether an image has the ratio of the finished picture, as far as whole pixels go.
func (r *Recipe) SameRatio(w, h int) bool {
	part, _ := r.Window(w, h)
	return part.Dx() >= w-1 && part.Dy() >= h-1
}

// Grows is by how much an image has to be enlarged, as a factor on its sides; 1 and less: not at all.
func (r *Recipe) Grows(w, h int) float64 {
	x, y := float64(r.Width)/float64(w), float64(r.Height)/float64(h)
	switch r.Crop {
	case "whole":
		return min(x, y)
	default:
		return max(x, y)
	}
}

// Shot finishes a shot, which has the size already.
func (r *Recipe) Shot(m *RGB48) (*image.NRGBA, error) { return r.finish(fromShot(m)) }

// Image finishes an image.
func (r *Recipe) Image(img image.Image) (*image.NRGBA, error) {
	n := texture.Visible(img)
	b := n.Bounds()
	filter := func(w, h, tw, th int) texture.Filter {
		if tw > w || th > h {
			return texture.Cubic
		}
		return texture.Box
	}
	resized := func(n *image.NRGBA, w, h int) *canvas {
		b := n.Bounds()
		if b.Dx() != w || b.Dy() != h {
			n = texture.Resize(n, w, h, true, filter(b.Dx(), b.Dy(), w, h), texture.Clamp).(*image.NRGBA)
		}
		return fromImage(n)
	}
	switch r.Crop {
	case "stretch":
		return r.finish(resized(n, r.Width, r.Height))
	case "whole":
		by := r.Grows(b.Dx(), b.Dy())
		w, h := min(max(int(math.Round(float64(b.Dx())*by)), 1), r.Width),
			min(max(int(math.Round(float64(b.Dy())*by)), 1), r.Height)
		small, whole := resized(n, w, h), newCanvas(r.Width, r.Height)
		x0, y0 := (r.Width-w)/2, (r.Height-h)/2
		for y := range h {
			copy(whole.pix[4*((y0+y)*r.Width+x0):][:4*w], small.pix[4*y*w:][:4*w])
		}
		return r.finish(whole)
	}
	part, _ := r.Window(b.Dx(), b.Dy())
	return r.finish(resized(cropped(n, part.Add(b.Min)), r.Width, r.Height))
}

func cropped(n *image.NRGBA, part image.Rectangle) *image.NRGBA {
	out := image.NewNRGBA(image.Rect(0, 0, part.Dx(), part.Dy()))
	for y := range part.Dy() {
		copy(out.Pix[y*out.Stride:], n.Pix[n.PixOffset(part.Min.X, part.Min.Y+y):][:4*part.Dx()])
	}
	return out
}

// finish does all that comes after the size.
func (r *Recipe) finish(c *canvas) (*image.NRGBA, error) {
	if !r.KeepAlpha {
		back := r.Background
		back.A = 255
		c.under(back)
	}
	if r.Blur > 0 {
		c.blur(r.Blur)
	}
	if m := r.Multiply; m.A > 0 {
		tint, part := [3]float64{float64(m.R) / 255, float64(m.G) / 255, float64(m.B) / 255}, float64(m.A)/255
		c.each(func(_, _ int, rgb *[3]float64) {
			for k := range rgb {
				rgb[k] *= 1 - float64(part*(1-tint[k]))
			}
		})
	}
	if o := r.Overlay; o.A > 0 {
		tint, part := [3]float64{float64(o.R) / 255, float64(o.G) / 255, float64(o.B) / 255}, float64(o.A)/255
		c.each(func(_, _ int, rgb *[3]float64) {
			for k, b := range rgb { // hard light with the layers changed over
				mixed := float64(2 * b * tint[k])
				if b > 0.5 {
					mixed = 1 - float64(2*(1-b)*(1-tint[k]))
				}
				rgb[k] = b + float64((mixed-b)*part)
			}
		})
	}
	if r.Darken > 0 || r.Vignette > 0 {
		dark, corners := 1-float32(r.Darken), float32(r.Vignette)
		cx, cy := float32(c.w-1)/2, float32(c.h-1)/2
		c.scale(func(x, y int) float32 {
			dx, dy := (float32(x)-cx)/max(cx, 1), (float32(y)-cy)/max(cy, 1)
			far := min((float32(dx*dx)+float32(dy*dy))/2, 1) // 0 in the middle, 1 in the corners
			soft := far * far * (3 - float32(2*far))
			return dark * (1 - float32(corners*soft))
		})
	}
	if r.Frame > 0 {
		l := linear(r.FrameColour)
		for y := range c.h {
			for x := range c.w {
				if min(x, y, c.w-1-x, c.h-1-y) < r.Frame {
					c.blend(x, y, l, 1)
				}
			}
		}
	}
	if r.Text != nil {
		if err := r.Text.draw(c, r.Frame); err != nil {
			return nil, err
		}
	}
	return c.image(), nil
}
