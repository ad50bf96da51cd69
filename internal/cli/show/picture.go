package show

import (
	"bufio"
	"fmt"
	"image"

	"vornix/core/format/texture"
)

// Draws says whether pictures can be shown on standard output: a terminal with colours.
func (o *Out) Draws() bool { return o.colourOut && !o.JSON && !o.Quiet }

// maxColumns is the most characters that a picture on a terminal is wide.
const maxColumns = 120

// PictureSize is how large a picture of about a ratio should be drawn for Picture: two pixels for each that is shown.
func (o *Out) PictureSize(w, h int) (int, int) {
	columns := min(o.Width, maxColumns)
	return 2 * columns, max(2*columns*h/w, 1)
}

// Picture shows a picture on the terminal, two pixels a character, one over the other: the upper
// half block in the colour of the one on the background of the other (ISO 8613-6 colours, which
// every terminal of today knows).
func (o *Out) Picture(img image.Image) error {
	b := img.Bounds()
	w := max(min(o.Width, maxColumns, b.Dx()), 1)
	h := max(b.Dy()*w/b.Dx(), 1)
	small := texture.Resize(texture.Visible(img), w, h, true, texture.Box, texture.Clamp).(*image.NRGBA)
	out := bufio.NewWriter(o.Stdout)
	for y := 0; y < h; y += 2 {
		for x := range w {
			top := small.NRGBAAt(x, y)
			fmt.Fprintf(out, "\x1b[38;2;%d;%d;%dm", top.R, top.G, top.B)
			if y+1 < h {
				low := small.NRGBAAt(x, y+1)
				fmt.Fprintf(out, "\x1b[48;2;%d;%d;%dm", low.R, low.G, low.B)
			}
			out.WriteString("▀")
		}
		out.WriteString("\x1b[0m\n")
	}
	return out.Flush()
}
