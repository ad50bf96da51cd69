package picture

import (
	"fmt"
	"image"
	"image/color"
	"image/draw"

	"vornix/core/geom/ray"
	"vornix/core/light"
	"vornix/core/mapfile"
)

// Tiles draws the levels of a tile map from above, one below the other, each cell of whole pixels, in the light that lies on it; where
// the map has none it is as bright as painted. looks says how materials look. Sprites are not drawn.
func Tiles(m *mapfile.Map, looks func(material string) *light.Painted, what Shown) image.Image {
	const edge, title = 16, 20
	wide, high := uint32(1), uint32(0)
	for _, g := range m.Grids {
		wide, high = max(wide, g.Width), high+g.Height
	}
	room := Height - len(m.Grids)*title - edge
	cell := max(min((Width-2*edge)/int(wide), room/max(int(high), 1), 64), 1)
	img := image.NewRGBA(image.Rect(0, 0, max(int(wide)*cell+2*edge, 1), max(int(high)*cell+len(m.Grids)*title+edge, 1)))
	draw.Draw(img, img.Bounds(), image.NewUniform(ink), image.Point{}, draw.Src)
	top := title
	for i := range m.Grids {
		g := &m.Grids[i]
		text(img, edge, top-6, faint, fmt.Sprintf("%s, level %d", m.Meta.Title, g.Level))
		for k, c := range g.Cells {
			lit := ray.Vec{1, 1, 1}
			if len(m.GridLight) > i && len(m.GridLight[i]) > k {
				lit = m.GridLight[i][k].Colours()
			}
			var p *light.Painted
			if name := m.Legend[c].Material; name != "" && what == All {
				p = looks(name)
			}
			left, upper := edge+k%int(g.Width)*cell, top+k/int(g.Width)*cell
			for y := range cell {
				for x := range cell {
					v := lit
					if p != nil {
						v = lit.Times(p.Colour((float32(x)+0.5)/float32(cell), (float32(y)+0.5)/float32(cell)))
					} else if what == All {
						v = ray.Vec{}
					}
					v = shown(v)
					img.SetRGBA(left+x, upper+y, color.RGBA{screen(v[0]), screen(v[1]), screen(v[2]), 255})
				}
			}
		}
		top += int(g.Height)*cell + title
	}
	return img
}
