// Package tiles is the compile stage that turns a map's grids of symbols into cells.
package tiles

import (
	"vornix/core/format/mapfile"
	"vornix/core/source/scene"
)

// Compile adds the grids and their legend to out. The scene has been checked: every symbol has a legend and every row
// is as long as its grid is wide.
func Compile(m *scene.Map, out *mapfile.Map) {
	index := map[rune]uint16{}
	for i, t := range m.Legend {
		index[t.Symbol] = uint16(i)
		out.Legend = append(out.Legend, mapfile.Tile{Symbol: t.Symbol, Material: t.Material.Name, Solid: t.Solid})
	}
	for _, g := range m.Grids {
		cells := make([]uint16, 0, g.Width*g.Height)
		for _, row := range g.Rows {
			for _, s := range row.Symbols {
				cells = append(cells, index[s])
			}
		}
		out.Grids = append(out.Grids,
			mapfile.Grid{Name: g.Name, Level: int32(g.Level), Width: uint32(g.Width), Height: uint32(g.Height),
				Cells: cells})
	}
}
