package texture

import (
	"fmt"
	"image"
	"image/color"
	"image/draw"

	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	fixedpoint "golang.org/x/image/math/fixed"
)

// Sheet draws a texture for people: its images over a checkerboard, its channels, its levels, and
// how far it is from its source where that is given (an image of the size of level 0, or nil).
// Differences are shown eightfold.
func Sheet(t *Texture, source image.Image) *image.NRGBA {
	first := t.Image(0, 0)
	title := fmt.Sprintf("%d x %d  %s  %s  levels: %d", t.Width, t.Height, t.Format,
		map[bool]string{true: "sRGB", false: "linear"}[t.SRGB], len(t.Levels))
	if t.Shape != Flat {
		title += fmt.Sprintf("  %s of %d", ShapeNames[t.Shape], t.Images)
	}
	s := &sheet{title: title}
	cube := [6]string{"right +x", "left -x", "up +y", "down -y", "front +z", "back -z"}
	for i := range min(t.Images, 12) {
		label := "as drawn"
		switch t.Shape {
		case Cube:
			label = cube[i]
		case Array:
			label = fmt.Sprintf("image %d", i)
		}
		s.add(label, overChecks(Visible(t.Image(0, i))))
	}
	if t.Images > 1 {
		s.next()
	}
	for k, name := range []string{"red", "green", "blue", "alpha"} {
		s.add(name, oneChannel(Visible(first), k))
	}
	s.next()
	if source != nil && source.Bounds().Size() == first.Bounds().Size() {
		d := Compare(source, first, t.Format)
		s.add("source", overChecks(Visible(source)))
		s.add(fmt.Sprintf("difference x 8: %.2f dB, worst %d", d.Colour, d.Worst),
			apart(Visible(source), Visible(first), t.Format.keeps()))
		s.next()
	}
	for level := range t.Levels {
		w, h := t.LevelBounds(level)
		s.add(fmt.Sprintf("%d: %d x %d", level, w, h), overChecks(Visible(t.Image(level, 0))))
	}
	return s.draw()
}

const (
	sheetCell   = 232 // texels a side of a cell
	sheetGap    = 16
	sheetLabel  = 18
	sheetAcross = 5
)

type cell struct {
	label  string
	img    *image.NRGBA
	column int
}

// sheet lays cells out in rows, each as high as its highest cell.
type sheet struct {
	title string
	rows  [][]cell
	row   []cell
}

func (s *sheet) add(label string, img *image.NRGBA) {
	if len(s.row) == sheetAcross {
		s.next()
	}
	s.row = append(s.row, cell{label, fitCell(img), len(s.row)})
}

func (s *sheet) next() {
	if len(s.row) > 0 {
		s.rows, s.row = append(s.rows, s.row), nil
	}
}

func (s *sheet) draw() *image.NRGBA {
	s.next()
	height := 2*sheetGap + sheetLabel
	for _, row := range s.rows {
		height += sheetLabel + highest(row) + sheetGap
	}
	out := image.NewNRGBA(image.Rect(0, 0, sheetGap+sheetAcross*(sheetCell+sheetGap), height))
	draw.Draw(out, out.Rect, image.NewUniform(color.NRGBA{38, 40, 44, 255}), image.Point{}, draw.Src)
	pen := font.Drawer{Dst: out, Src: image.NewUniform(color.NRGBA{226, 224, 218, 255}), Face: basicfont.Face7x13}
	write := func(text string, x, y int) {
		pen.Dot = fixedpoint.P(x, y+12)
		pen.DrawString(text)
	}
	write(s.title, sheetGap, sheetGap)
	y := 2*sheetGap + sheetLabel
	for _, row := range s.rows {
		for _, c := range row {
			x := sheetGap + c.column*(sheetCell+sheetGap)
			write(c.label, x, y)
			draw.Draw(out, c.img.Rect.Add(image.Pt(x, y+sheetLabel)), c.img, image.Point{}, draw.Src)
		}
		y += sheetLabel + highest(row) + sheetGap
	}
	return out
}

func highest(row []cell) int {
	h := 0
	for _, c := range row {
		h = max(h, c.img.Rect.Dy())
	}
	return h
}

// fitCell scales an image into a cell: down by area, up by whole factors so that texels stay squares.
func fitCell(img *image.NRGBA) *image.NRGBA {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	larger := max(w, h)
	if larger > sheetCell {
		return Resize(img, max(w*sheetCell/larger, 1), max(h*sheetCell/larger, 1), true, Box, Clamp).(*image.NRGBA)
	}
	by := sheetCell / larger
	out := image.NewNRGBA(image.Rect(0, 0, w*by, h*by))
	for y := range h * by {
		for x := range w * by {
			copy(out.Pix[y*out.Stride+4*x:][:4], img.Pix[y/by*img.Stride+x/by*4:])
		}
	}
	return out
}

// overChecks lays an image over a checkerboard, so that see-through parts show.
func overChecks(img *image.NRGBA) *image.NRGBA {
	out := image.NewNRGBA(img.Rect)
	size := max(max(img.Rect.Dx(), img.Rect.Dy())/16, 1)
	for y := range img.Rect.Dy() {
		for x := range img.Rect.Dx() {
			p, q := img.Pix[y*img.Stride+4*x:][:4], out.Pix[y*out.Stride+4*x:][:4]
			ground := 150 + (x/size+y/size)%2*40
			for k := range 3 {
				q[k] = uint8((int(p[k])*int(p[3]) + ground*(255-int(p[3])) + 127) / 255)
			}
			q[3] = 255
		}
	}
	return out
}

func oneChannel(img *image.NRGBA, k int) *image.NRGBA {
	out := image.NewNRGBA(img.Rect)
	for i := 0; i < len(out.Pix); i += 4 {
		v := img.Pix[i+k]
		out.Pix[i], out.Pix[i+1], out.Pix[i+2], out.Pix[i+3] = v, v, v, 255
	}
	return out
}

// apart shows how far two images are apart in the channels that are kept.
func apart(a, b *image.NRGBA, keeps [4]bool) *image.NRGBA {
	out := image.NewNRGBA(b.Rect)
	for i := range out.Pix {
		d := int(a.Pix[i]) - int(b.Pix[i])
		switch {
		case i&3 == 3:
			out.Pix[i] = 255
		case keeps[i&3]:
			out.Pix[i] = uint8(min(8*max(d, -d), 255))
		}
	}
	return out
}
