package render

import (
	"cmp"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"math"
	"slices"
	"strings"

	"vornix/core/compile/radiance"
	"vornix/core/format/bvh"
	"vornix/core/format/imaging"
	"vornix/core/format/mapfile"
	"vornix/core/format/texture"
)

// Sprite is a frame of a sprite: the texel at Pivot stands at the object's place.
type Sprite struct {
	Image *image.NRGBA
	Pivot image.Point
}

// Tiles is a tile map ready to be drawn, texel by texel.
type Tiles struct {
	m       *mapfile.Map
	side    int           // texels along a cell
	cells   []*painted    // by legend; nil: nothing is drawn
	sprites []placedImage // from the north to the south
}

// painted is a cell's texels, linear.
type painted struct {
	w, h int
	pix  []bvh.Vec
}

type placedImage struct {
	Sprite
	at    [2]float64 // cells
	level int32
}

// maxTexels is the most texels along a cell.
const maxTexels = 64

// NewTiles makes a map of grids ready. looks says how materials look; sprites gives a sprite's
// first frame in a state and a direction, or nothing.
func NewTiles(m *mapfile.Map, looks func(material string) Appearance,
	sprites func(name, state, direction string) (Sprite, bool)) *Tiles {
	t := &Tiles{m: m, side: 1}
	for _, l := range m.Legend {
		var p *painted
		if l.Material != "" {
			look := looks(l.Material)
			p = &painted{w: 1, h: 1, pix: []bvh.Vec{bvh.Vec(first3(look.Plain()))}}
			if look.Colour != nil {
				img := radiance.Small(look.Colour, maxTexels, true)
				p.w, p.h = img.Rect.Dx(), img.Rect.Dy()
				p.pix = make([]bvh.Vec, p.w*p.h)
				for i := range p.pix {
					c := look.Texel(img.Pix[4*i:][:4])
					p.pix[i] = bvh.Vec(first3(c))
				}
			}
			t.side = max(t.side, p.w)
		}
		t.cells = append(t.cells, p)
	}
	if t.side == 1 {
		t.side = 16
	}
	if sprites == nil {
		return t
	}
	for _, o := range m.Objects {
		if !strings.HasPrefix(o.Kind, "item:") {
			continue
		}
		of := map[string]string{}
		for _, p := range o.Pairs {
			of[p[0]] = p[1]
		}
		if of[mapfile.SpriteKey] == "" {
			continue
		}
		if s, ok := sprites(of[mapfile.SpriteKey], of["state"], of["direction"]); ok {
			t.sprites = append(t.sprites, placedImage{s, [2]float64{float64(o.A[0]), float64(o.A[1])}, int32(o.A[2])})
		}
	}
	slices.SortStableFunc(t.sprites, func(a, b placedImage) int { return cmp.Compare(a.at[1], b.at[1]) })
	return t
}

// Side is how many texels a cell is wide.
func (t *Tiles) Side() int { return t.side }

// Size is how many cells a level is wide and high; ok is false when there is none.
func (t *Tiles) Size(level int) (size image.Point, ok bool) {
	g := t.grid(level)
	if g < 0 {
		return image.Point{}, false
	}
	return image.Pt(int(t.m.Grids[g].Width), int(t.m.Grids[g].Height)), true
}

func (t *Tiles) grid(level int) int {
	return slices.IndexFunc(t.m.Grids, func(g mapfile.Grid) bool { return int(g.Level) == level })
}

// Window draws a part of a level, in texels from its north-west corner, each texel scale pixels
// wide and high. What lies outside the level is black.
func (t *Tiles) Window(level int, window image.Rectangle, scale int, exposure float64, what Shown) *image.NRGBA {
	small := image.NewNRGBA(image.Rect(0, 0, window.Dx(), window.Dy()))
	draw.Draw(small, small.Rect, image.Black, image.Point{}, draw.Src)
	if g := t.grid(level); g >= 0 {
		bright := float32(math.Exp2(exposure))
		t.ground(g, small, window, bright, what)
		if what == All {
			t.stand(g, small, window, bright)
		}
	}
	if scale <= 1 {
		return small
	}
	img := image.NewNRGBA(image.Rect(0, 0, window.Dx()*scale, window.Dy()*scale))
	for y := range img.Rect.Max.Y {
		row, from := img.Pix[y*img.Stride:], small.Pix[y/scale*small.Stride:]
		for x := range img.Rect.Max.X {
			copy(row[4*x:][:4], from[x/scale*4:][:4])
		}
	}
	return img
}

// lit is the light on a cell of a grid; where the map has none it is as bright as painted.
func (t *Tiles) lit(g, cell int) bvh.Vec {
	if len(t.m.GridLight) > g && len(t.m.GridLight[g]) > cell {
		return t.m.GridLight[g][cell].Colours()
	}
	return bvh.Vec{1, 1, 1}
}

func (t *Tiles) ground(g int, img *image.NRGBA, window image.Rectangle, bright float32, what Shown) {
	grid := &t.m.Grids[g]
	whole := image.Rect(0, 0, int(grid.Width)*t.side, int(grid.Height)*t.side)
	for y := range img.Rect.Max.Y {
		for x := range img.Rect.Max.X {
			at := image.Pt(x, y).Add(window.Min)
			if !at.In(whole) {
				continue
			}
			cell := at.Y/t.side*int(grid.Width) + at.X/t.side
			c := t.lit(g, cell).Scale(bright)
			if what == OnlyPaint {
				c = bvh.Vec{1, 1, 1}
			}
			if what != OnlyLight {
				p := t.cells[grid.Cells[cell]]
				if p == nil {
					continue
				}
				c = c.Times(p.pix[at.Y%t.side*p.h/t.side*p.w+at.X%t.side*p.w/t.side])
			}
			img.SetNRGBA(x, y, screen8(c))
		}
	}
}

// stand draws the sprites that stand on a grid.
func (t *Tiles) stand(g int, img *image.NRGBA, window image.Rectangle, bright float32) {
	grid := &t.m.Grids[g]
	for _, s := range t.sprites {
		if s.level != grid.Level {
			continue
		}
		cx, cy := int(math.Floor(s.at[0])), int(math.Floor(s.at[1]))
		if cx < 0 || cy < 0 || cx >= int(grid.Width) || cy >= int(grid.Height) {
			continue
		}
		c := t.lit(g, cy*int(grid.Width)+cx).Scale(bright)
		// An object's place is a cell; it stands in its middle.
		corner := image.Pt(int(math.Floor((s.at[0]+0.5)*float64(t.side))),
			int(math.Floor((s.at[1]+0.5)*float64(t.side)))).Sub(s.Pivot).Sub(window.Min)
		b := s.Image.Bounds()
		for y := range b.Dy() {
			for x := range b.Dx() {
				at := image.Pt(x, y).Add(corner)
				p := s.Image.NRGBAAt(b.Min.X+x, b.Min.Y+y)
				if p.A == 0 || !at.In(img.Rect) {
					continue
				}
				top := screen8(c.Times(radiance.Linear(uint32(p.R)<<16 | uint32(p.G)<<8 | uint32(p.B))))
				img.SetNRGBA(at.X, at.Y, mixed(img.NRGBAAt(at.X, at.Y), top, p.A))
			}
		}
	}
}

// mixed lays a colour over another, by its alpha.
func mixed(under, over color.NRGBA, alpha uint8) color.NRGBA {
	mix := func(a, b uint8) uint8 {
		return uint8((int(a)*(255-int(alpha)) + int(b)*int(alpha) + 127) / 255)
	}
	return color.NRGBA{mix(under.R, over.R), mix(under.G, over.G), mix(under.B, over.B), 255}
}

func screen8(v bvh.Vec) color.NRGBA {
	v = shown(v)
	of := func(f float32) uint8 { return uint8(float32(imaging.SRGB(f)*255) + 0.5) }
	return color.NRGBA{of(v[0]), of(v[1]), of(v[2]), 255}
}

// TileShot says what of a tile map is drawn.
type TileShot struct {
	Level         int
	At            *[2]float64 // cells: what lies in the middle; nil: the whole level
	Scale         int         // pixels a texel; 0: as large as shows all of the level, or ten cells each way around At
	Width, Height int
	Exposure      float64 // stops
	Shown         Shown
}

// cellsInView is how many cells are seen each way at least, where no scale is given.
const cellsInView = 10

// Shoot draws a picture. A whole level that is too large for it, texel by pixel, is scaled down.
func (t *Tiles) Shoot(s TileShot) *image.NRGBA {
	size, _ := t.Size(s.Level)
	scale := s.Scale
	middle := image.Pt(size.X*t.side/2, size.Y*t.side/2)
	lowest := size
	if s.At != nil {
		middle = image.Pt(int(math.Round(s.At[0]*float64(t.side))), int(math.Round(s.At[1]*float64(t.side))))
		lowest = image.Pt(cellsInView, cellsInView)
	}
	if scale <= 0 {
		scale = min(s.Width/max(lowest.X*t.side, 1), s.Height/max(lowest.Y*t.side, 1))
	}
	if scale <= 0 { // not even a pixel a texel
		by := max(float64(lowest.X*t.side)/float64(s.Width), float64(lowest.Y*t.side)/float64(s.Height))
		w, h := int(math.Ceil(float64(s.Width)*by)), int(math.Ceil(float64(s.Height)*by))
		corner := middle.Sub(image.Pt(w/2, h/2))
		return texture.Resize(t.Window(s.Level, image.Rectangle{corner, corner.Add(image.Pt(w, h))}, 1, s.Exposure,
			s.Shown), s.Width, s.Height, true, texture.Box, texture.Clamp).(*image.NRGBA)
	}
	w, h := (s.Width+scale-1)/scale, (s.Height+scale-1)/scale
	corner := middle.Sub(image.Pt(w/2, h/2))
	img := t.Window(s.Level, image.Rectangle{corner, corner.Add(image.Pt(w, h))}, scale, s.Exposure, s.Shown)
	return img.SubImage(image.Rect(0, 0, s.Width, s.Height)).(*image.NRGBA)
}

// Levels draws all levels, one below the other, each cell of whole pixels.
func (t *Tiles) Levels(what Shown) image.Image {
	const edge, title = 16, 20
	wide, high := 1, 0
	for _, g := range t.m.Grids {
		wide, high = max(wide, int(g.Width)*t.side), high+int(g.Height)*t.side
	}
	scale := max(min((Width-2*edge)/wide, (Height-len(t.m.Grids)*title-edge)/max(high, 1)), 1)
	img := image.NewRGBA(image.Rect(0, 0, wide*scale+2*edge, max(high*scale+len(t.m.Grids)*title+edge, 1)))
	draw.Draw(img, img.Bounds(), image.NewUniform(ink), image.Point{}, draw.Src)
	top := title
	for _, g := range t.m.Grids {
		text(img, edge, top-6, faint, fmt.Sprintf("%s, level %d", t.m.Meta.Title, g.Level))
		level := t.Window(int(g.Level), image.Rect(0, 0, int(g.Width)*t.side, int(g.Height)*t.side), scale, 0, what)
		draw.Draw(img, level.Rect.Add(image.Pt(edge, top)), level, image.Point{}, draw.Src)
		top += level.Rect.Dy() + title
	}
	return img
}
