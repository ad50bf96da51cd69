package render

import (
	"image"
	"image/color"
	"image/draw"
	"math"
	"slices"
	"strings"

	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"

	"vornix/core/format/geom"
	"vornix/core/format/mapfile"
)

// Size of a drawing, in pixels.
const (
	Width  = 1280
	Height = 800
)

var (
	paper  = color.RGBA{0xf6, 0xf4, 0xee, 255}
	frame  = color.RGBA{0xc9, 0xc3, 0xb6, 255}
	ink    = color.RGBA{0x30, 0x33, 0x38, 255}
	faint  = color.RGBA{0xa9, 0xa6, 0x9e, 255}
	leak   = color.RGBA{0xd0, 0x21, 0x21, 255}
	colour = map[string]color.RGBA{"spawn": {0x1f, 0x6f, 0xb5, 255}, "light": {0xc9, 0x8a, 0x00, 255},
		"camera": {0x6a, 0x3f, 0xa0, 255},
		"sound":  {0x2c, 0x8c, 0x5a, 255}, "probe": {0x19, 0x8a, 0x8a, 255}, "volume": {0x9a, 0x5b, 0x2e, 255},
		"item": {0x8a, 0x2c, 0x5e, 255}}
)

// view is one projection: which coordinates run to the right and up, from which side one looks, and where it is drawn.
type view struct {
	title       string
	right, up   int
	area        image.Rectangle
	scale       float64
	left, under float64 // the map's coordinates at the lower left corner of area
	labels      []image.Rectangle
}

// Plan draws a map from above, from the south and from the east. way are the points of a leak, or nil.
func Plan(m *mapfile.Map, way []geom.Vec) image.Image { return plan(m, way, nil, nil) }

// plan draws a map's plan with what under draws below its lines, and keys in the legend that say what that is.
func plan(m *mapfile.Map, way []geom.Vec, under func(v *view, img *image.RGBA), keys []key) image.Image {
	img := image.NewRGBA(image.Rect(0, 0, Width, Height))
	draw.Draw(img, img.Bounds(), image.NewUniform(paper), image.Point{}, draw.Src)
	low, high := bounds(m, way)
	views := []view{{title: "from above", right: 0, up: 1, area: image.Rect(16, 40, 836, 784)},
		{title: "from the south", right: 0, up: 2, area: image.Rect(852, 40, 1264, 400)},
		{title: "from the east", right: 1, up: 2, area: image.Rect(852, 424, 1264, 784)}}
	text(img, 16, 24, ink, strings.TrimSpace(m.Meta.Title+"   "+m.Meta.Name))
	legend(img, m, len(way) > 0, keys)
	for i := range views {
		v := &views[i]
		v.fit(low, high)
		box(img, v.area, frame)
		text(img, v.area.Min.X+6, v.area.Min.Y+16, faint, v.title)
		for k := range m.Terrains {
			v.terrain(img, &m.Terrains[k])
		}
		if under != nil {
			under(v, img)
		}
		v.surface(img, m)
		for _, o := range m.Objects {
			if kind, _, _ := strings.Cut(o.Kind, ":"); keys == nil || kind == "spawn" || kind == "item" {
				v.object(img, o, i == 0)
			}
		}
		for k := 1; k < len(way); k++ {
			v.line(img, point(way[k-1]), point(way[k]), leak, 3)
		}
		if len(way) > 0 {
			v.mark(img, point(way[0]), leak, 4)
			v.mark(img, point(way[len(way)-1]), leak, 6)
		}
	}
	return img
}

func point(p geom.Vec) [3]float64 { return [3]float64{p.X, p.Y, p.Z} }

func wide(p [3]float32) [3]float64 {
	return [3]float64{float64(p[0]), float64(p[1]), float64(p[2])}
}

// bounds is the box that is drawn: the surface and what is placed near it. Volumes may reach far, and are cut off.
func bounds(m *mapfile.Map, way []geom.Vec) (low, high [3]float64) {
	low, high = [3]float64{math.Inf(1), math.Inf(1), math.Inf(1)}, [3]float64{math.Inf(-1), math.Inf(-1), math.Inf(-1)}
	add := func(p [3]float64) {
		for k := range 3 {
			low[k], high[k] = min(low[k], p[k]), max(high[k], p[k])
		}
	}
	for _, f := range m.Faces {
		for _, v := range m.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices] {
			add(wide(v.Position))
		}
	}
	for _, t := range m.Terrains {
		add(wide(t.Min))
		add(wide(t.Max))
	}
	for _, g := range m.Grids {
		add([3]float64{0, 0, float64(g.Level)})
		add([3]float64{float64(g.Width), float64(g.Height), float64(g.Level) + 1})
	}
	for _, o := range m.Objects {
		if o.Kind != "volume" {
			add(wide(o.A))
		}
	}
	for _, p := range way {
		add(point(p))
	}
	if low[0] > high[0] {
		return [3]float64{}, [3]float64{1, 1, 1}
	}
	return low, high
}

func (v *view) fit(low, high [3]float64) {
	const edge = 28
	w, h := max(high[v.right]-low[v.right], 0.1), max(high[v.up]-low[v.up], 0.1)
	v.scale = min(float64(v.area.Dx()-2*edge)/w, float64(v.area.Dy()-2*edge)/h)
	v.left = float64((low[v.right]+high[v.right])/2) - float64(v.area.Dx())/2/v.scale
	v.under = float64((low[v.up]+high[v.up])/2) - float64(v.area.Dy())/2/v.scale
}

func (v *view) at(p [3]float64) (x, y float64) {
	return float64(v.area.Min.X) + float64((p[v.right]-v.left)*v.scale),
		float64(v.area.Max.Y) - float64((p[v.up]-v.under)*v.scale)
}

// surface draws the edges of faces, those that look this way darker, and the rims of tiles.
func (v *view) surface(img *image.RGBA, m *mapfile.Map) {
	depth := 3 - v.right - v.up
	for _, toward := range []bool{false, true} {
		for _, f := range m.Faces {
			list := m.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices]
			n := list[0].Normal[depth]
			if v.up == 2 && v.right == 0 {
				n = -n // from the south one sees what looks to the south
			}
			if (n > 0.05) != toward {
				continue
			}
			c := frame
			if toward {
				c = ink
			}
			for i := range list {
				v.line(img, wide(list[i].Position), wide(list[(i+1)%len(list)].Position), c, 1)
			}
		}
	}
	for _, p := range m.Props {
		d := m.Models[p.Model]
		var corners [8][3]float64
		for i := range corners {
			q := wide(d.Min)
			for k := range 3 {
				if i>>k&1 == 1 {
					q[k] = float64(d.Max[k])
				}
			}
			for k, row := range p.Rows {
				corners[i][k] = float64(float64(row[0])*q[0]) + float64(float64(row[1])*q[1]) +
					float64(float64(row[2])*q[2]) + float64(row[3])
			}
		}
		for i := range corners {
			for k := range 3 {
				if j := i | 1<<k; j != i {
					v.line(img, corners[i], corners[j], faint, 1)
				}
			}
		}
	}
	for _, g := range m.Grids {
		for i, c := range g.Cells {
			if m.Legend[c].Solid {
				x, y := float64(uint32(i)%g.Width), float64(uint32(i)/g.Width)
				v.box(img, [3]float64{x, y, float64(g.Level)}, [3]float64{x + 1, y + 1, float64(g.Level) + 1}, ink)
			}
		}
	}
}

// terrain shades the ground from above, as if lit from the north-west, and draws profiles of it from the sides.
func (v *view) terrain(img *image.RGBA, t *mapfile.Terrain) {
	if v.up == 2 {
		for k := range uint32(9) {
			for i := uint32(1); i < max(t.Columns, t.Rows); i++ {
				row, column := k*(t.Rows-1)/8, k*(t.Columns-1)/8
				if v.right == 0 && i < t.Columns {
					v.line(img, wide(t.Point(i-1, row)), wide(t.Point(i, row)), faint, 1)
				}
				if v.right == 1 && i < t.Rows {
					v.line(img, wide(t.Point(column, i-1)), wide(t.Point(column, i)), faint, 1)
				}
			}
		}
		return
	}
	for y := v.area.Min.Y + 1; y < v.area.Max.Y-1; y++ {
		for x := v.area.Min.X + 1; x < v.area.Max.X-1; x++ {
			east := v.left + float64(x-v.area.Min.X)/v.scale
			north := v.under + float64(v.area.Max.Y-y)/v.scale
			column := float64((east - float64(t.Min[0])) / float64(t.Max[0]-t.Min[0]) * float64(t.Columns-1))
			row := float64((float64(t.Max[1]) - north) / float64(t.Max[1]-t.Min[1]) * float64(t.Rows-1))
			if column < 0 || row < 0 || column > float64(t.Columns-1) || row > float64(t.Rows-1) {
				continue
			}
			at := uint32(row+0.5)*t.Columns + uint32(column+0.5)
			n := t.Normal(uint32(column+0.5), uint32(row+0.5))
			bright := 205 + int(70*(n[1]-n[0])) + int(t.Heights[at])/2600
			shade := uint8(min(max(bright, 120), 244))
			img.SetRGBA(x, y, color.RGBA{shade, shade, uint8(max(int(shade)-8, 0)), 255})
		}
	}
}

func (v *view) box(img *image.RGBA, low, high [3]float64, c color.RGBA) {
	a, b, d := low, high, high
	a[v.right], b[v.up] = high[v.right], low[v.up]
	d[v.right] = low[v.right]
	v.line(img, low, a, c, 1)
	v.line(img, a, high, c, 1)
	v.line(img, high, d, c, 1)
	v.line(img, d, low, c, 1)
}

func (v *view) object(img *image.RGBA, o mapfile.Object, named bool) {
	kind, _, _ := strings.Cut(o.Kind, ":")
	c, known := colour[kind]
	if !known {
		c = colour["item"]
	}
	if kind == "volume" || kind == "area" {
		v.box(img, wide(o.A), wide(o.B), c)
		return
	}
	v.mark(img, wide(o.A), c, 3)
	if kind == "camera" {
		v.line(img, wide(o.A), wide(o.B), c, 1)
	}
	if named {
		x, y := v.at(wide(o.A))
		label := o.Name
		if label == "" {
			_, label, _ = strings.Cut(o.Kind, ":")
		}
		at := image.Rect(int(x)+6, int(y)-8, int(x)+6+7*len(label), int(y)+6)
		for _, other := range v.labels {
			if other.Overlaps(at) {
				return // a name over a name is none
			}
		}
		v.labels = append(v.labels, at)
		text(img.SubImage(v.area).(*image.RGBA), at.Min.X, int(y)+4, c, label)
	}
}

func (v *view) mark(img *image.RGBA, p [3]float64, c color.RGBA, radius int) {
	x, y := v.at(p)
	for dy := -radius; dy <= radius; dy++ {
		for dx := -radius; dx <= radius; dx++ {
			if dx*dx+dy*dy <= radius*radius+1 {
				v.dot(img, int(x)+dx, int(y)+dy, c)
			}
		}
	}
}

func (v *view) dot(img *image.RGBA, x, y int, c color.RGBA) {
	if (image.Point{X: x, Y: y}).In(v.area.Inset(1)) {
		img.SetRGBA(x, y, c)
	}
}

// line draws a straight line, clipped to the view's area.
func (v *view) line(img *image.RGBA, a, b [3]float64, c color.RGBA, thick int) {
	x0, y0 := v.at(a)
	x1, y1 := v.at(b)
	v.stroke(img, x0, y0, x1, y1, c, thick)
}

// stroke is line between places of the picture.
func (v *view) stroke(img *image.RGBA, x0, y0, x1, y1 float64, c color.RGBA, thick int) {
	low, high := 0.0, 1.0
	for _, s := range [2][4]float64{{x0, x1 - x0, float64(v.area.Min.X), float64(v.area.Max.X)},
		{y0, y1 - y0, float64(v.area.Min.Y), float64(v.area.Max.Y)}} {
		if s[1] == 0 {
			if s[0] < s[2] || s[0] > s[3] {
				return
			}
			continue
		}
		t, u := (s[2]-s[0])/s[1], (s[3]-s[0])/s[1]
		low, high = max(low, min(t, u)), min(high, max(t, u))
	}
	if low > high {
		return
	}
	steps := int(math.Ceil(max(math.Abs(x1-x0), math.Abs(y1-y0))*(high-low))) + 1
	for i := 0; i <= steps; i++ {
		t := low + (high-low)*float64(i)/float64(steps)
		x, y := int(math.Round(x0+float64((x1-x0)*t))), int(math.Round(y0+float64((y1-y0)*t)))
		for dy := range thick {
			for dx := range thick {
				v.dot(img, x+dx-thick/2, y+dy-thick/2, c)
			}
		}
	}
}

// key is an entry of the legend.
type key struct {
	name string
	c    color.RGBA
}

// legend says which colours are which, of those that the map has.
func legend(img *image.RGBA, m *mapfile.Map, leaks bool, keys []key) {
	x := Width - 16
	entry := func(name string, c color.RGBA) {
		x -= 7*len(name) + 22
		for dy := range 8 {
			for dx := range 8 {
				img.SetRGBA(x+dx, 14+dy, c)
			}
		}
		text(img, x+12, 22, c, name)
	}
	if leaks {
		entry("way out", leak)
	}
	if keys != nil {
		for _, k := range slices.Backward(keys) {
			entry(k.name, k.c)
		}
		return
	}
	var kinds []string
	for _, o := range m.Objects {
		kind, _, _ := strings.Cut(o.Kind, ":")
		if _, known := colour[kind]; known && !slices.Contains(kinds, kind) {
			kinds = append(kinds, kind)
		}
	}
	slices.Sort(kinds)
	for _, k := range slices.Backward(kinds) {
		entry(k, colour[k])
	}
}

func box(img *image.RGBA, r image.Rectangle, c color.RGBA) {
	for x := r.Min.X; x < r.Max.X; x++ {
		img.SetRGBA(x, r.Min.Y, c)
		img.SetRGBA(x, r.Max.Y-1, c)
	}
	for y := r.Min.Y; y < r.Max.Y; y++ {
		img.SetRGBA(r.Min.X, y, c)
		img.SetRGBA(r.Max.X-1, y, c)
	}
}

func text(img draw.Image, x, y int, c color.RGBA, s string) {
	d := font.Drawer{Dst: img, Src: image.NewUniform(c), Face: basicfont.Face7x13, Dot: fixed.P(x, y)}
	d.DrawString(s)
}
