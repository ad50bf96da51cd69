package render

import (
	"cmp"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"math"
	"slices"
	"strings"

	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
)

// cut takes all of a map away that lies above a height, so that one sees into it.
type cut struct {
	height  float32
	section bvh.Vec // the colour of solids where they are cut open
	paper   bvh.Vec // that of where nothing is
}

// headroom is how far above the highest spawn a map is cut, in metres: over the players' heads.
const headroom = 2.2

// cutOf cuts a map over its players' heads; where nobody plays nothing is cut.
func cutOf(m *mapfile.Map) *cut {
	c := &cut{height: far, section: bvh.Vec{0.16, 0.045, 0.03}, paper: bvh.Vec{0.92, 0.9, 0.85}}
	top := float32(math.Inf(-1))
	for _, o := range m.Objects {
		if o.Kind == "spawn" {
			top = max(top, o.A[2])
		}
	}
	if top > -far {
		c.height = top + headroom
	}
	return c
}

// ortho looks at a map from far away, along a direction, so that what is of one size looks of one size.
type ortho struct {
	middle, ahead, right, up bvh.Vec
	scale                    float32 // pixels a metre
	area                     image.Rectangle
	labels                   []image.Rectangle
	left                     int // names for which there was no room
}

func newOrtho(m *mapfile.Map, ahead bvh.Vec, area image.Rectangle, top float32) *ortho {
	v := &ortho{ahead: ahead.Unit(), area: area}
	v.right, v.up = axes(v.ahead)
	low, high := bounds(m, nil)
	high[2] = min(high[2], max(float64(top), low[2]+1))
	box := [2]bvh.Vec{{float32(low[0]), float32(low[1]), float32(low[2])},
		{float32(high[0]), float32(high[1]), float32(high[2])}}
	v.middle = box[0].Add(box[1]).Scale(0.5)
	var wide, tall float32
	for corner := range 8 {
		p := bvh.Vec{box[corner&1][0], box[corner>>1&1][1], box[corner>>2&1][2]}.Sub(v.middle)
		wide, tall = max(wide, p.Dot(v.right)), max(tall, p.Dot(v.up))
	}
	const edge = 12
	v.scale = min(float32(area.Dx()/2-edge)/max(wide, 0.1), float32(area.Dy()/2-edge)/max(tall, 0.1))
	return v
}

// at is where a point lies in the picture.
func (v *ortho) at(p [3]float32) (x, y float64) {
	d := bvh.Vec(p).Sub(v.middle)
	clamp := func(f float32) float64 { return min(max(float64(f*v.scale), -1e6), 1e6) }
	return float64(v.area.Min.X+v.area.Dx()/2) + clamp(d.Dot(v.right)),
		float64(v.area.Min.Y+v.area.Dy()/2) - clamp(d.Dot(v.up))
}

// Above draws a map from above, cut open over the players' heads, with names of what is placed in it.
func (s *Scene) Above(ctx context.Context, workers int) (image.Image, error) {
	return s.plans(ctx, bvh.Vec{0, 0, -1}, "from above", workers)
}

// Isometric draws a map from a corner, in an isometric projection, cut open over the players' heads, with names.
func (s *Scene) Isometric(ctx context.Context, workers int) (image.Image, error) {
	return s.plans(ctx, bvh.Vec{1, 1, -float32(math.Sqrt2 * math.Tan(35.264*math.Pi/180))}, "from the south-west",
		workers)
}

func (s *Scene) plans(ctx context.Context, ahead bvh.Vec, from string, workers int) (image.Image, error) {
	c := cutOf(s.Map)
	area := image.Rect(16, 40, Width-16, Height-16)
	v := newOrtho(s.Map, ahead, area, c.height)
	const reach = 1e5
	size := 1 / v.scale
	w, h := float32(area.Dx())/v.scale, float32(area.Dy())/v.scale
	shot, err := s.expose(ctx, Options{Width: area.Dx(), Height: area.Dy(), Workers: workers, Draft: true},
		func(e *eye, x, y, _, _ float32) bvh.Vec {
			from := v.middle.Add(v.right.Scale((x - 0.5) * w)).Add(v.up.Scale((0.5 - y) * h))
			// Rays begin at the cut, or high above all.
			back := float32(reach)
			if c.height < far {
				back = (c.height - from[2]) / -v.ahead[2]
			} else {
				_, high, _ := s.Box()
				back = (high[2] + 1 - from[2]) / -v.ahead[2]
			}
			from = from.Sub(v.ahead.Scale(back))
			if s.underground(from) {
				return c.section
			}
			return shown(e.see(from, v.ahead, 0, size, 0))
		}, false, c)
	if err != nil {
		return nil, err
	}
	img := page(s.Map, from)
	draw.Draw(img, area, shot.NRGBA(), image.Point{}, draw.Src)
	box(img, area, frame)
	if c.height < far {
		text(img, area.Min.X+6, area.Max.Y-8, ink, fmt.Sprintf("cut open at %.1f m", c.height))
	}
	v.objects(img, s.Map)
	return img, nil
}

// underground says whether a place lies below a terrain, which has no other sides than its upper one.
func (s *Scene) underground(p bvh.Vec) bool {
	for i := range s.Map.Terrains {
		t := &s.Map.Terrains[i]
		x := float32((p[0] - t.Min[0]) / (t.Max[0] - t.Min[0]) * float32(t.Columns-1))
		y := float32((t.Max[1] - p[1]) / (t.Max[1] - t.Min[1]) * float32(t.Rows-1))
		if !(x >= 0 && y >= 0 && x < float32(t.Columns-1) && y < float32(t.Rows-1)) || p[2] < t.Min[2] {
			continue
		}
		i, j := uint32(x), uint32(y)
		fx, fy := x-float32(i), y-float32(j)
		a, b, c, d := t.Point(i, j)[2], t.Point(i+1, j)[2], t.Point(i, j+1)[2], t.Point(i+1, j+1)[2]
		height := a + float32((b-a)*fx) + float32((c-a)*fy)
		if fx+fy > 1 {
			height = d + float32((c-d)*(1-fx)) + float32((b-d)*(1-fy))
		}
		if p[2] < height {
			return true
		}
	}
	return false
}

// page is an empty drawing of a map with its title and legend.
func page(m *mapfile.Map, from string) *image.RGBA {
	img := image.NewRGBA(image.Rect(0, 0, Width, Height))
	draw.Draw(img, img.Bounds(), image.NewUniform(paper), image.Point{}, draw.Src)
	text(img, 16, 24, ink, strings.TrimSpace(m.Meta.Title+"   "+m.Meta.Name+"   "+from))
	legend(img, m, false, nil)
	return img
}

// objects marks and names what is placed in a map: spawns first, whose names are most asked for.
func (v *ortho) objects(img *image.RGBA, m *mapfile.Map) {
	order := map[string]int{"spawn": 0, "item": 1, "volume": 2, "area": 2, "camera": 3, "light": 4, "probe": 5,
		"sound": 6}
	list := slices.Clone(m.Objects)
	kindOf := func(o *mapfile.Object) string { kind, _, _ := strings.Cut(o.Kind, ":"); return kind }
	slices.SortStableFunc(list,
		func(a, b mapfile.Object) int { return cmp.Compare(order[kindOf(&a)], order[kindOf(&b)]) })
	view := &view{area: v.area}
	type named struct {
		x, y float64
		name string
		c    color.RGBA
	}
	var names []named
	for i := range list {
		o := &list[i]
		kind := kindOf(o)
		c, known := colour[kind]
		if !known {
			c = colour["volume"]
		}
		x, y := v.at(o.A)
		switch kind {
		case "volume", "area":
			v.wires(img, view, o, c)
			x, y = v.at([3]float32{(o.A[0] + o.B[0]) / 2, (o.A[1] + o.B[1]) / 2, (o.A[2] + o.B[2]) / 2})
		case "spawn":
			turn := float64(o.Angle) * math.Pi / 180
			tip := [3]float32{o.A[0] + float32(1.2*math.Sin(turn)), o.A[1] + float32(1.2*math.Cos(turn)), o.A[2]}
			tx, ty := v.at(tip)
			view.stroke(img, x, y, tx, ty, c, 2)
			view.disc(img, x, y, c, 4)
		case "camera":
			tx, ty := v.at(o.B)
			reach := math.Hypot(tx-x, ty-y)
			if reach > 0 {
				view.stroke(img, x, y, x+float64((tx-x)/reach*16), y+float64((ty-y)/reach*16), c, 2)
			}
			view.disc(img, x, y, c, 3)
		default:
			view.disc(img, x, y, c, 3)
		}
		if kind != "volume" && kind != "area" { // no name lies over a mark
			v.labels = append(v.labels, image.Rect(int(x)-5, int(y)-5, int(x)+6, int(y)+6))
		}
		name := o.Name
		if name == "" {
			_, name, _ = strings.Cut(o.Kind, ":")
		}
		names = append(names, named{x, y, name, c})
	}
	for _, n := range names {
		v.name(img, n.x, n.y, n.name, n.c)
	}
	if v.left > 0 {
		text(img, v.area.Max.X-260, v.area.Max.Y-8, ink, fmt.Sprintf("no room for %d more names", v.left))
	}
}

// wires draws the edges of a box.
func (v *ortho) wires(img *image.RGBA, view *view, o *mapfile.Object, c color.RGBA) {
	corner := func(i int) [3]float32 {
		p := o.A
		for k := range 3 {
			if i>>k&1 == 1 {
				p[k] = o.B[k]
			}
		}
		return p
	}
	for i := range 8 {
		for k := range 3 {
			if j := i | 1<<k; j != i {
				x0, y0 := v.at(corner(i))
				x1, y1 := v.at(corner(j))
				view.stroke(img, x0, y0, x1, y1, c, 1)
			}
		}
	}
}

// name writes a name beside a place, where there is room: to its right, its left, above or below.
func (v *ortho) name(img *image.RGBA, x, y float64, name string, c color.RGBA) {
	at := image.Pt(int(x), int(y))
	if name == "" || !at.In(v.area) {
		return
	}
	w := 7*len(name) + 4
	for _, corner := range []image.Point{{at.X + 7, at.Y - 7}, {at.X - 7 - w, at.Y - 7}, {at.X - w/2, at.Y - 22},
		{at.X - w/2, at.Y + 8}} {
		r := image.Rectangle{corner, corner.Add(image.Pt(w, 14))}
		if !r.In(v.area.Inset(2)) || slices.ContainsFunc(v.labels, r.Overlaps) {
			continue
		}
		v.labels = append(v.labels, r)
		for py := r.Min.Y; py < r.Max.Y; py++ {
			for px := r.Min.X; px < r.Max.X; px++ {
				img.SetRGBA(px, py, blend(img.RGBAAt(px, py), paper, 0.78))
			}
		}
		text(img, r.Min.X+2, r.Max.Y-3, darker(c), name)
		return
	}
	v.left++
}

func darker(c color.RGBA) color.RGBA { return blend(c, color.RGBA{0, 0, 0, 255}, 0.35) }

// disc and stroke draw in pixels.
func (v *view) disc(img *image.RGBA, x, y float64, c color.RGBA, radius int) {
	for dy := -radius - 1; dy <= radius+1; dy++ {
		for dx := -radius - 1; dx <= radius+1; dx++ {
			switch d := dx*dx + dy*dy; {
			case d <= radius*radius+1:
				v.dot(img, int(x)+dx, int(y)+dy, c)
			case d <= (radius+1)*(radius+1)+1:
				v.dot(img, int(x)+dx, int(y)+dy, paper)
			}
		}
	}
}

// Plan draws a map of grids for those who build it: every level as painted, in no light, with names
// of what is placed on it.
func (t *Tiles) Plan() image.Image {
	const title = 20
	img := page(t.m, "from above")
	if len(t.m.Grids) == 0 {
		return img
	}
	wide, high := 1, 0
	for _, g := range t.m.Grids {
		wide, high = max(wide, int(g.Width)*t.side), high+int(g.Height)*t.side
	}
	room := Height - 56 - title*len(t.m.Grids)
	by := min(float64(Width-32)/float64(wide), float64(room)/float64(max(high, 1)))
	top := 40
	for _, g := range t.m.Grids {
		w, h := max(int(float64(int(g.Width)*t.side)*by), 1), max(int(float64(int(g.Height)*t.side)*by), 1)
		text(img, 16, top+14, ink, fmt.Sprintf("level %d", g.Level))
		area := image.Rect(16, top+title, 16+w, top+title+h)
		level := t.Window(int(g.Level), image.Rect(0, 0, int(g.Width)*t.side, int(g.Height)*t.side), 1, 0, OnlyPaint)
		for y := range h {
			for x := range w {
				c := level.NRGBAAt(x*level.Rect.Dx()/w, y*level.Rect.Dy()/h)
				img.SetRGBA(area.Min.X+x, area.Min.Y+y, blend(color.RGBA{c.R, c.G, c.B, 255}, paper, 0.35))
			}
		}
		cell := float64(t.side) * by
		v := &ortho{area: area, ahead: bvh.Vec{0, 0, -1}, right: bvh.Vec{1, 0, 0}, up: bvh.Vec{0, -1, 0},
			scale: float32(cell), middle: bvh.Vec{float32(g.Width) / 2, float32(g.Height) / 2, 0}}
		here := *t.m
		here.Objects = nil
		for _, o := range t.m.Objects {
			if int32(math.Floor(float64(o.A[2]))) != g.Level {
				continue
			}
			switch {
			case o.Kind == "area": // to the far edge of its last cell
				o.B = [3]float32{o.B[0] + 1, o.B[1] + 1, o.B[2]}
			case o.Kind == "spawn" || strings.HasPrefix(o.Kind, "item:"): // its place is a cell
				o.A[0], o.A[1] = o.A[0]+0.5, o.A[1]+0.5
			}
			o.A[2], o.B[2] = 0, 0
			here.Objects = append(here.Objects, o)
		}
		v.objects(img, &here)
		top += title + h
	}
	return img
}
