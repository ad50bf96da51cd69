package render

import (
	"cmp"
	"fmt"
	"image"
	"image/color"
	"maps"
	"math"
	"slices"

	"vornix/core/compile/pathfind"
	"vornix/core/format/mapfile"
)

// few and much are the colours of cells that see nothing else and that see all of the map.
var few, much = color.RGBA{0x9c, 0xc4, 0xe4, 255}, color.RGBA{0xd8, 0x4a, 0x2c, 255}

func blend(a, b color.RGBA, t float64) color.RGBA {
	of := func(x, y uint8) uint8 { return uint8(math.Round(float64(x) + float64((float64(y)-float64(x))*t))) }
	return color.RGBA{of(a.R, b.R), of(a.G, b.G), of(a.B, b.B), 255}
}

// Cells draws the cells of a map's visibility, each in the colour of how much of the map's surface is drawn from it.
func Cells(m *mapfile.Map) image.Image {
	var list []mapfile.CellSight
	if m.Visibility != nil {
		list = m.Visibility.Sights()
	}
	under := func(v *view, img *image.RGBA) {
		depth := 3 - v.right - v.up
		order := make([]int, len(list))
		for i := range order {
			order[i] = i
		}
		slices.SortStableFunc(order, func(a, b int) int { // what lies further from who looks comes first
			p, q := &m.Visibility.Cells[a], &m.Visibility.Cells[b]
			if v.up == 2 && v.right == 0 {
				return cmp.Compare(q.Min[depth], p.Min[depth])
			}
			return cmp.Compare(p.Max[depth], q.Max[depth])
		})
		for _, i := range order {
			c := &m.Visibility.Cells[i]
			part := float64(list[i].Faces) / float64(max(len(m.Faces), 1))
			v.fill(img, wide(c.Min), wide(c.Max), blend(few, much, part), 0.75)
			v.box(img, wide(c.Min), wide(c.Max), paper)
			if depth != 2 {
				continue
			}
			x0, y0 := v.at(wide(c.Min))
			x1, y1 := v.at(wide(c.Max))
			if name := fmt.Sprintf("%d", i); x1-x0 > float64(7*len(name)+6) && y0-y1 > 14 {
				text(img, int(x0)+3, int(y1)+13, ink, name)
			}
		}
	}
	return plan(m, nil, under,
		[]key{{"sees no other face", few}, {"half of them", blend(few, much, 0.5)}, {"all of them", much}})
}

// islandColours are those of ground, by island; the last stands for all further ones.
var islandColours = []color.RGBA{{0x8c, 0xc0, 0x82, 255}, {0xe8, 0xa8, 0x5c, 255}, {0xc8, 0x8c, 0xc8, 255},
	{0xd8, 0x70, 0x70, 255}}

// linkColours are those of ways that are no walking.
var linkColours = map[mapfile.LinkKind]color.RGBA{mapfile.Drop: {0x1f, 0x6f, 0xb5, 255},
	mapfile.Jump: {0x8a, 0x2c, 0x9e, 255}, mapfile.Ladder: {0x7a, 0x4a, 0x20, 255},
	mapfile.Door: {0x0e, 0x7c, 0x7c, 255}}

// Ground draws where the first kind of agent can walk: ground that hangs together in one colour,
// and the links. On grids cells are the darker, the more a step onto them costs.
func Ground(m *mapfile.Map) image.Image {
	keys := []key{{"ground", islandColours[0]}}
	var rank map[uint32]int
	if len(m.Navigation) > 0 {
		rank = rankIslands(m)
	}
	under := func(v *view, img *image.RGBA) {
		for i, costs := range m.Costs {
			g := &m.Grids[i]
			for k, c := range costs {
				if c == 0 || v.up == 2 && v.right == 1 {
					continue
				}
				x, y := float64(uint32(k)%g.Width), float64(uint32(k)/g.Width)
				v.fill(img, [3]float64{x, y, float64(g.Level)}, [3]float64{x + 1, y + 1, float64(g.Level)},
					blend(islandColours[0], leak, float64(c-min(c, 10))/120), 0.8)
			}
		}
		if len(m.Navigation) == 0 {
			return
		}
		n := &m.Navigation[0]
		for _, p := range n.Polygons {
			low, high := p.Heights[0], p.Heights[0]
			for _, h := range p.Heights {
				low, high = min(low, h), max(high, h)
			}
			v.fill(img, [3]float64{float64(p.Low[0]), float64(p.Low[1]), float64(low)},
				[3]float64{float64(p.High[0]), float64(p.High[1]), float64(high) + 0.1}, islandColours[rank[p.Island]],
				0.8)
		}
		for _, l := range n.Links {
			if c, shown := linkColours[l.Kind]; shown {
				v.line(img, wide(l.A), wide(l.B), c, 1)
			}
		}
	}
	if len(m.Navigation) > 0 {
		n := &m.Navigation[0]
		names := []string{"", "second island", "third island", "further islands"}
		for i := 1; i < len(names); i++ {
			if slices.ContainsFunc(n.Polygons, func(p mapfile.Ground) bool { return rank[p.Island] == i }) {
				keys = append(keys, key{names[i], islandColours[i]})
			}
		}
		for kind := mapfile.Drop; kind <= mapfile.Door; kind++ {
			if slices.ContainsFunc(n.Links, func(l mapfile.Link) bool { return l.Kind == kind }) {
				keys = append(keys, key{mapfile.LinkKinds[kind], linkColours[kind]})
			}
		}
	}
	return plan(m, nil, under, keys)
}

// rankIslands says which colour each island of the first agent's ground has: the first is where most spawns are.
func rankIslands(m *mapfile.Map) map[uint32]int {
	n := &m.Navigation[0]
	net := pathfind.New(n)
	spawns := map[uint32]int{}
	for _, p := range n.Polygons {
		spawns[p.Island] += 0
	}
	for _, o := range m.Objects {
		if o.Kind != "spawn" {
			continue
		}
		if i := net.Polygon(pathfind.Point(wide(o.A))); i >= 0 {
			spawns[n.Polygons[i].Island]++
		}
	}
	order := slices.Sorted(maps.Keys(spawns)) // larger islands have smaller numbers
	slices.SortStableFunc(order, func(a, b uint32) int { return spawns[b] - spawns[a] })
	rank := map[uint32]int{}
	for i, island := range order {
		rank[island] = min(i, len(islandColours)-1)
	}
	return rank
}

// fill lays a colour over the rectangle that a box is in the view.
func (v *view) fill(img *image.RGBA, low, high [3]float64, c color.RGBA, weight float64) {
	left, bottom := v.at(low)
	right, top := v.at(high)
	inside := v.area.Inset(1)
	clip := func(f float64, low, high int) int { return int(math.Round(min(max(f, float64(low)), float64(high)))) }
	area := image.Rect(clip(left, inside.Min.X, inside.Max.X), clip(top, inside.Min.Y, inside.Max.Y),
		clip(right, inside.Min.X, inside.Max.X), clip(bottom, inside.Min.Y, inside.Max.Y))
	if area.Dy() == 0 { // ground seen from the side is a line
		area.Max.Y = min(area.Min.Y+1, inside.Max.Y)
	}
	for y := area.Min.Y; y < area.Max.Y; y++ {
		for x := area.Min.X; x < area.Max.X; x++ {
			img.SetRGBA(x, y, blend(img.RGBAAt(x, y), c, weight))
		}
	}
}
