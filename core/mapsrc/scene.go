package mapsrc

import (
	"fmt"
	"strconv"
	"strings"

	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/geom"
	"vornix/core/material"
	"vornix/core/scene"
)

// maxCells bounds a grid's size before it is believed.
const maxCells = 1 << 24

// ReadScene parses a map source and gives its meaning. The map is nil when there are findings of severity error.
func ReadScene(name string, data []byte) (*scene.Map, []finding.Finding) {
	file, findings := Parse(name, data)
	if len(findings) > 0 {
		return nil, findings
	}
	b := &builder{file: file, names: map[string]fault.Place{}}
	m := b.build()
	if finding.Count(b.findings, finding.Error) > 0 {
		return nil, b.findings
	}
	return m, b.findings
}

// builder turns records into a scene and collects what doesn't fit.
type builder struct {
	file     *File
	findings []finding.Finding
	names    map[string]fault.Place
}

func (b *builder) find(k *finding.Kind, place fault.Place, format string, args ...any) {
	f := k.At(place, format, args...)
	if place.Line > 0 && place.Line <= len(b.file.lines) {
		f.Excerpt = strings.TrimRight(b.file.lines[place.Line-1], "\r")
	}
	b.findings = append(b.findings, f)
}

func (b *builder) build() *scene.Map {
	m := &scene.Map{Keys: map[string]fault.Place{}}
	for _, r := range b.file.Records {
		b.unique(r)
		switch r.Keyword {
		case "map":
			b.mapLine(m, r)
		case "sky":
			m.Sky = &scene.Sky{Name: r.Values[0].Text, Azimuth: r.Pair("sun").Numbers[1], Elevation: r.Pair("sun").Numbers[0], Colour: b.colour(r), Place: r.Place}
		case "solid":
			m.Solids = append(m.Solids, b.solid(r))
		case "light":
			m.Lights = append(m.Lights, scene.Light{Name: r.Values[0].Text, Kind: r.Values[1].Text, At: vec(r.Values[2]), Colour: b.colour(r), Power: r.Pair("power").Numbers[0], Place: r.Place})
		case "spawn":
			m.Spawns = append(m.Spawns, scene.Spawn{Name: r.Values[0].Text, At: vec(*r.Pair("at")), Facing: num(r, "facing", 0), Team: str(r, "team"), Place: r.Place})
		case "volume":
			m.Volumes = append(m.Volumes, scene.Volume{Name: r.Values[0].Text, Box: b.box(r), Effect: str(r, "effect"), Place: r.Place})
		case "camera":
			m.Cameras = append(m.Cameras, scene.Camera{Name: r.Values[0].Text, At: vec(*r.Pair("at")), Look: vec(*r.Pair("look")), FOV: num(r, "fov", 75), Place: r.Place})
		case "item":
			it := scene.Item{Kind: r.Values[0].Text, At: vec(*r.Pair("at")), Place: r.Place}
			if v := r.Pair("sprite"); v != nil {
				it.Sprite = b.ref(v)
			}
			for key, to := range map[string]*scene.Ref{"state": &it.State, "direction": &it.Direction} {
				if v := r.Pair(key); v != nil {
					*to = scene.Ref{Name: v.Text, Place: v.Place}
				}
			}
			for _, p := range r.Pairs {
				if p.free {
					it.Pairs = append(it.Pairs, scene.Pair{Key: p.Key, Value: p.Value.Text})
				}
			}
			m.Items = append(m.Items, it)
		case "sound":
			m.Sounds = append(m.Sounds, scene.Sound{Name: r.Values[0].Text, At: vec(*r.Pair("at")), File: b.ref(r.Pair("file")), Volume: num(r, "volume", 1), Loop: str(r, "loop") == "yes", Place: r.Place})
		case "grid":
			m.Grids = append(m.Grids, b.grid(r))
		case "legend":
			m.Legend = append(m.Legend, b.legend(m, r))
		}
	}
	if m.Name == "" && len(b.findings) == 0 {
		b.find(finding.MapSyntax, fault.Place{File: b.file.Name, Line: 1}, "there is no map line: expected, for example: %s", grammar["map"].example)
	}
	b.symbols(m)
	return m
}

func (b *builder) mapLine(m *scene.Map, r *Record) {
	if m.Name != "" {
		b.find(finding.MapDuplicate, r.Place, "this is a second map line; the first is on line %d", m.Place.Line)
		return
	}
	m.Name, m.Title, m.Place = r.Values[0].Text, str(r, "title"), r.Place
	if v := r.Pair("players"); v != nil {
		m.Players = [2]int{int(v.Numbers[0]), int(v.Numbers[1])}
	}
	if v := r.Pair("modes"); v != nil {
		m.Modes = strings.Split(v.Text, ",")
	}
	for _, p := range r.Pairs {
		m.Keys[p.Key] = p.Place
	}
}

// unique holds names apart within each keyword. Items name their kind, legends their symbol, so only the latter counts.
func (b *builder) unique(r *Record) {
	if r.Keyword == "item" || r.Keyword == "map" {
		return
	}
	key := r.Keyword + " " + r.Values[0].Text
	if first, ok := b.names[key]; ok {
		b.find(finding.MapDuplicate, r.Values[0].Place, "there is another %s on line %d", key, first.Line)
		return
	}
	b.names[key] = r.Place
}

func (b *builder) box(r *Record) geom.Box {
	box := geom.NewBox(vec(r.Values[2]), vec(r.Values[3]))
	if box.Empty() {
		b.find(finding.MapSyntax, r.Values[3].Place, "the box of %s %q has no volume: its corners agree in a coordinate", r.Keyword, r.Values[0].Text)
	}
	return box
}

func (b *builder) solid(r *Record) scene.Solid {
	s := scene.Solid{Name: r.Values[0].Text, Box: b.box(r), Material: b.ref(r.Pair("material")), Faces: map[scene.Side]scene.Face{}, Place: r.Place}
	for _, c := range r.Children {
		f := scene.Face{Scale: num(c, "scale", 1), Turn: num(c, "turn", 0), Fit: str(c, "fit") == "yes"}
		if v := c.Pair("material"); v != nil {
			f.Material = b.ref(v)
		}
		if v := c.Pair("shift"); v != nil {
			f.ShiftU, f.ShiftV = v.Numbers[0], v.Numbers[1]
		}
		if f.Scale < 1e-3 || f.Scale > 1e3 {
			b.find(finding.MapSyntax, c.Pair("scale").Place, "a scale must be from 0.001 to 1000, and is %v", f.Scale)
		}
		for side, name := range scene.SideNames {
			if c.Values[0].Text == name || c.Values[0].Text == "all" {
				s.Faces[scene.Side(side)] = f
			}
		}
	}
	return s
}

func (b *builder) ref(v *Value) scene.Ref {
	if k, why, meant := material.BadReference(v.Text); k != nil {
		b.find(k, v.Place, "%q %s", v.Text, why)
		last := &b.findings[len(b.findings)-1]
		*last = last.Doing("Write %s.", meant)
	}
	return scene.Ref{Name: v.Text, Place: v.Place}
}

func (b *builder) colour(r *Record) scene.Colour {
	v := r.Pair("colour")
	if v == nil {
		return scene.Colour{R: 255, G: 255, B: 255}
	}
	n, _ := strconv.ParseUint(v.Text[1:], 16, 32) // the parser has read it as a colour
	return scene.Colour{R: uint8(n >> 16), G: uint8(n >> 8), B: uint8(n)}
}

func (b *builder) grid(r *Record) scene.Grid {
	cells := r.Pair("cells").Numbers
	g := scene.Grid{Name: r.Values[0].Text, Width: int(cells[0]), Height: int(cells[1]), Level: int(num(r, "level", 0)), Place: r.Place}
	if cells[0] != float64(g.Width) || cells[1] != float64(g.Height) || g.Width < 1 || g.Height < 1 || g.Width*g.Height > maxCells {
		b.find(finding.MapSyntax, r.Pair("cells").Place, "cells must be two whole numbers from 1, with a product of at most %d, and is %s", maxCells, r.Pair("cells").Text)
		return g
	}
	for _, c := range r.Children {
		g.Rows = append(g.Rows, scene.Row{Symbols: []rune(c.Values[0].Text), Place: c.Values[0].Place})
	}
	if len(g.Rows) != g.Height {
		b.find(finding.GridRow, r.Place, "grid %q has %d rows; cells= says %d", g.Name, len(g.Rows), g.Height)
	}
	for i, row := range g.Rows {
		if len(row.Symbols) != g.Width {
			b.find(finding.GridRow, row.Place, "row %d of grid %q has %d cells; cells= says %d", i+1, g.Name, len(row.Symbols), g.Width)
		}
	}
	return g
}

func (b *builder) legend(m *scene.Map, r *Record) scene.Tile {
	t := scene.Tile{Symbol: []rune(r.Values[0].Text)[0], Solid: str(r, "solid") == "yes", Place: r.Place}
	if v := r.Pair("tile"); v != nil {
		t.Material = b.ref(v)
	}
	return t
}

// symbols finds cells that no legend explains; each symbol is reported once.
func (b *builder) symbols(m *scene.Map) {
	known := map[rune]bool{}
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

func vec(v Value) geom.Vec { return geom.Vec{X: v.Numbers[0], Y: v.Numbers[1], Z: v.Numbers[2]} }

func num(r *Record, key string, otherwise float64) float64 {
	if v := r.Pair(key); v != nil {
		return v.Numbers[0]
	}
	return otherwise
}

func str(r *Record, key string) string {
	if v := r.Pair(key); v != nil {
		return v.Text
	}
	return ""
}
