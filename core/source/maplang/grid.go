package maplang

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"

	"vornix/core/base/finding"
	"vornix/core/format/geom"
	"vornix/core/source/scene"
)

// maxPixels bounds a grey image or a painted grid before it is decoded.
const maxPixels = 1 << 24

// gridImage is a grid that is drawn as an image; its cells are known when all legends are.
type gridImage struct {
	grid  int // in the scene
	r     *Record
	image image.Image
	file  string
}

func (b *builder) legend(r *Record) scene.Tile {
	t := scene.Tile{Symbol: []rune(r.Name())[0], Solid: str(r, "solid") == "yes", Cost: b.within(r, "cost", 0, 0.1, 25),
		Material: b.ref(r.Pair("tile")), Place: r.Place}
	if r.Pair("colour") != nil {
		c := b.colour(r)
		if other, twice := b.colours[c]; twice {
			b.find(finding.MapDuplicate, r.Pair("colour").Place, "the colour %s stands for %q too",
				r.Pair("colour").Text, string(other))
		}
		b.colours[c] = t.Symbol
	}
	return t
}

func (b *builder) grid(r *Record, c context) {
	g := scene.Grid{Name: r.Name(), Level: int(num(r, "level", 0)), Place: r.Place}
	cells := r.Pair("cells")
	if from := r.Pair("from"); from != nil {
		if picture, name, ok := b.image(from, c.file); ok {
			g.Width, g.Height = picture.Bounds().Dx(), picture.Bounds().Dy()
			if cells != nil && (cells.Numbers[0] != float64(g.Width) || cells.Numbers[1] != float64(g.Height)) {
				b.find(finding.GridRow, cells.Place, "the image %s has %d x %d pixels; cells= says %s", name, g.Width,
					g.Height, cells.Text).Do = "Leave cells= out, or resize the image without smoothing."
			}
			if len(r.Children) > 0 {
				b.find(finding.MapSyntax, r.Children[0].Place, "grid %q is drawn as an image, and has rows too",
					g.Name).Do = "Keep one of them."
			}
			b.grids = append(b.grids, gridImage{len(b.m.Grids), r, picture, name})
			b.m.Grids = append(b.m.Grids, g)
		} else {
			b.broken["grid "+g.Name] = true
		}
		return
	}
	if cells == nil {
		b.find(finding.MapSyntax, r.Place, "grid %q has neither cells= nor from=", g.Name).Do = "For example: " +
			grammar["grid"].example
		return
	}
	n := cells.Numbers
	g.Width, g.Height = int(n[0]), int(n[1])
	if n[0] != float64(g.Width) || n[1] != float64(g.Height) || g.Width < 1 || g.Height < 1 || g.Width > maxCells ||
		g.Height > maxCells || g.Width*g.Height > maxCells {
		b.broken["grid "+g.Name] = true
		b.find(finding.MapSyntax, cells.Place,
			"cells must be two whole numbers from 1, with a product of at most %d, and is %s", maxCells, cells.Text)
		return
	}
	for _, row := range r.Children {
		g.Rows = append(g.Rows, scene.Row{Symbols: []rune(row.Name()), Place: row.Values[0].Place})
	}
	if len(g.Rows) != g.Height {
		b.find(finding.GridRow, r.Place, "grid %q has %d rows; cells= says %d", g.Name, len(g.Rows), g.Height)
	}
	for i, row := range g.Rows {
		if len(row.Symbols) != g.Width {
			b.find(finding.GridRow, row.Place, "row %d of grid %q has %d cells; cells= says %d", i+1, g.Name,
				len(row.Symbols), g.Width)
		}
	}
	b.m.Grids = append(b.m.Grids, g)
}

// image reads a PNG that a value names; its size is believed only within bounds.
func (b *builder) image(v *Value, from string) (image.Image, string, bool) {
	name, data, ok := b.open(v, from)
	if !ok {
		return nil, name, false
	}
	head, err := png.DecodeConfig(bytes.NewReader(data))
	if err == nil && head.Width*head.Height > maxPixels {
		err = fmt.Errorf("it has %d x %d pixels; at most %d are taken", head.Width, head.Height, maxPixels)
	}
	var picture image.Image
	if err == nil {
		picture, err = png.Decode(bytes.NewReader(data))
	}
	if err != nil {
		b.find(finding.MapFile, v.Place, "the image %s can't be read: %v", name, err).Do = "Export it again, as PNG."
		return nil, name, false
	}
	return picture, name, true
}

// cellsOf turns an image into rows of symbols, by the colours of the legends. A colour that none has is said once.
func (b *builder) cellsOf(g gridImage) {
	grid, at := &b.m.Grids[g.grid], g.image.Bounds()
	unknown := map[scene.Colour]bool{}
	for y := range grid.Height {
		row := scene.Row{Symbols: make([]rune, grid.Width), Place: g.r.Pair("from").Place}
		for x := range grid.Width {
			p := color.NRGBAModel.Convert(g.image.At(at.Min.X+x, at.Min.Y+y)).(color.NRGBA)
			c := scene.Colour{R: p.R, G: p.G, B: p.B}
			symbol, ok := b.colours[c]
			if !ok && !unknown[c] {
				unknown[c] = true
				b.find(finding.GridSymbol, row.Place, "no legend has the colour #%02x%02x%02x of the pixel %d,%d of %s",
					c.R, c.G, c.B, x, y, g.file).Do =
					fmt.Sprintf("Add colour=#%02x%02x%02x to a legend line, or correct the image.", c.R, c.G, c.B)
			}
			row.Symbols[x] = symbol
		}
		grid.Rows = append(grid.Rows, row)
	}
}

// symbols finds cells that no legend explains; each symbol is reported once.
func (b *builder) symbols(m *scene.Map) {
	known := map[rune]bool{0: true} // a colour that was reported
	for _, t := range m.Legend {
		known[t.Symbol] = true
	}
	for _, g := range m.Grids {
		for _, row := range g.Rows {
			for i, s := range row.Symbols {
				if !known[s] {
					known[s] = true
					place := row.Place
					place.Column += i
					b.find(finding.GridSymbol, place, "no legend says what %q is", fmt.Sprintf("%c", s))
				}
			}
		}
	}
}

// areas holds areas to the grid of their level.
func (b *builder) areas() {
	for _, a := range b.m.Areas {
		on := false
		for _, g := range b.m.Grids {
			on = on || g.Level == a.Level && a.From[0] >= 0 && a.From[1] >= 0 && a.To[0] < g.Width && a.To[1] < g.Height
		}
		if !on {
			b.find(finding.AreaOutside, a.Place, "area %s, from cell %d,%d to %d,%d, lies on no grid of level %d",
				a.Name, a.From[0], a.From[1], a.To[0], a.To[1], a.Level)
		}
	}
}

// terrain reads the heights and the painted layers.
func (b *builder) terrain(r *Record, c context) {
	size := vec(*r.Pair("size"))
	t := scene.Terrain{Name: c.prefix + r.Name(), Material: b.ref(r.Pair("material")), Place: r.Place}
	if !(size.X > 0 && size.Y > 0 && size.Z >= 0) {
		b.find(finding.MapSyntax, r.Pair("size").Place, "the size of a terrain must be positive, and is %s",
			r.Pair("size").Text)
		return
	}
	if c.at.M != geom.Identity.M {
		b.find(finding.MapSyntax, r.Place,
			"a terrain can be moved by its group or prefab, and neither turned, mirrored nor scaled").Do = "Place the terrain by itself."
		return
	}
	at := b.point(*r.Pair("at"), c)
	t.Box = geom.Box{Min: at, Max: at.Add(size)}
	picture, name, ok := b.image(r.Pair("from"), c.file)
	if !ok {
		return
	}
	in := picture.Bounds()
	t.Columns, t.Rows = in.Dx(), in.Dy()
	if t.Columns < 2 || t.Rows < 2 {
		b.find(finding.MapFile, r.Pair("from").Place,
			"the image %s has %d x %d pixels; a terrain wants two each way at least", name, t.Columns, t.Rows)
		return
	}
	t.Heights = make([]uint16, 0, t.Columns*t.Rows)
	for y := in.Min.Y; y < in.Max.Y; y++ {
		for x := in.Min.X; x < in.Max.X; x++ {
			t.Heights = append(t.Heights, color.Gray16Model.Convert(picture.At(x, y)).(color.Gray16).Y)
		}
	}
	for _, child := range r.Children {
		child, ok := b.resolve(child, c)
		if !ok {
			continue
		}
		mask, name, ok := b.image(child.Pair("from"), c.file)
		if !ok {
			continue
		}
		over := mask.Bounds()
		if over.Dx() != t.Columns || over.Dy() != t.Rows {
			b.find(finding.MapFile, child.Pair("from").Place,
				"the layer %s has %d x %d pixels, and the heights %d x %d", name, over.Dx(), over.Dy(), t.Columns,
				t.Rows).Do = "Give both the same size."
			continue
		}
		p := scene.Paint{Material: b.ref(&child.Values[0]), Weights: make([]uint8, 0, t.Columns*t.Rows)}
		for y := over.Min.Y; y < over.Max.Y; y++ {
			for x := over.Min.X; x < over.Max.X; x++ {
				p.Weights = append(p.Weights, color.GrayModel.Convert(mask.At(x, y)).(color.Gray).Y)
			}
		}
		t.Layers = append(t.Layers, p)
	}
	b.m.Terrains = append(b.m.Terrains, t)
}
