package demo

import (
	"context"
	_ "embed" // of the script
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"

	"vornix/core/config/profile"
)

// What 'vornix new' writes for Git. releases/ and published.toml are committed, since every clone needs them.
const (
	GitIgnore     = "# built from the sources, or only for this machine\n/out/\n/.vornix/\n"
	GitAttributes = "# No line ends are changed: what ships is the same on every system.\n* -text\n"
)

// Pipeline is a script for continuous integration: check, build, try, rehearse, and release on a tag.
//
//go:embed ci.sh
var Pipeline []byte

// Starter is a small project that checks clean, builds and packs with a profile: its files by slash path. name is the
// project's short name and title what players read.
func Starter(p *profile.Profile, name, title string) (map[string][]byte, error) {
	surface := ""
	if len(p.Materials.Surfaces) > 0 {
		surface = "surface = " + strconv.Quote(p.Materials.Surfaces[0]) + "\n"
	}
	files := map[string][]byte{
		"vornix.toml": fmt.Appendf(nil, `[project]
name = %q
title = %q
version = "0.1.0"
authors = []
description = "A first map, to build on."
profile = %q

# Where players get the files, for the version index:
# [index]
# base = "https://downloads.example/%s"

# A server to deploy to, with: vornix deploy practice
# [target.practice]
# kind = "folder"
# path = "../server"

# A workshop to publish to, with: vornix publish exchange
# [page]
# description = "page.md"
# tags = []
# [target.exchange]
# kind = "workshop"
# url = "https://workshop.example"
`, name, title, p.Game.ID, name),
		"materials/first/floor.toml": []byte("colour = \"first/floor\"\n" + surface + "size = 2\n"),
		"materials/first/wall.toml":  []byte("colour = \"first/wall\"\n" + surface + "size = 2\n"),
		".gitignore":                 []byte(GitIgnore),
		".gitattributes":             []byte(GitAttributes),
	}
	side := 128
	floor, wall := painter(opaque(slab)), painter(opaque(plank))
	if p.Game.Form == "tiles" {
		side, floor, wall = 16, opaque(tileFloor), opaque(tileWall)
	}
	for _, pic := range []picture{{"textures/first/floor.png", side, side, floor},
		{"textures/first/wall.png", side, side, wall}} {
		data, err := pic.encode(context.Background())
		if err != nil {
			return nil, err
		}
		files[pic.file] = data
	}
	m := starterSolids
	if p.Game.Form == "tiles" {
		m = starterTiles
	}
	head := `map first_map title="First Map" players=1..2`
	if len(p.Map.Modes) > 0 {
		head += " modes=" + p.Map.Modes[0]
	}
	text := head + "\n" + m
	for i := range 2 {
		team := ""
		if len(p.Map.Teams) > 0 {
			team = " team=" + p.Map.Teams[i%len(p.Map.Teams)]
		}
		at := fmt.Sprintf("%d,3,0.2", 3+2*i)
		if p.Game.Form == "tiles" {
			at = fmt.Sprintf("%d,3,0", 3+2*i)
		}
		text += fmt.Sprintf("spawn start_%d at=%s%s\n", i+1, at, team)
	}
	for i := 2; i < len(p.Map.Teams); i++ {
		text += fmt.Sprintf("spawn start_%d at=%d,3,0.2 team=%s\n", i+1, 3+2*i, p.Map.Teams[i])
	}
	for i, kind := range p.Map.Required {
		z := "0.2"
		if p.Game.Form == "tiles" {
			z = "0"
		}
		text += fmt.Sprintf("item %s at=%d,6,%s%s\n", kind, 3+i, z, properties(p.Map.Items[kind]))
	}
	if p.Game.Form == "solids" && p.Map.Probes {
		text += "probe middle at=8,6,3 reach=14\n"
	}
	if p.Game.Form == "solids" && len(p.Map.Lights) > 0 {
		text += fmt.Sprintf("light lamp %s 8,6,4 power=60\n", p.Map.Lights[0])
	}
	files[path.Join("maps", "first_map.vnx")] = []byte(text)
	return files, nil
}

// properties are those that an item must have, each with the simplest value that it may have.
func properties(rules map[string]profile.Property) string {
	text := ""
	for _, key := range slices.Sorted(maps.Keys(rules)) {
		rule := rules[key]
		value := map[string]string{"number": "0", "whole": "0", "flag": "no", "colour": "#ffffff",
			"point": "0,0,0"}[rule.Type]
		switch {
		case len(rule.Allowed) > 0:
			value = rule.Allowed[0]
		case rule.Least != nil:
			value = strconv.FormatFloat(*rule.Least, 'f', -1, 64)
		case rule.Type == "text":
			value = "first"
		}
		if rule.Required && value != "" {
			text += " " + key + "=" + value
		}
	}
	return text
}

const starterSolids = `sky noon sun=50,160 colour=#fff4e0
solid floor box 0,0,0 16,12,0.2 material=first/floor
solid wall_north box 0,11.8,0.2 16,12,3 material=first/wall
solid wall_south box 0,0,0.2 16,0.2,3 material=first/wall
solid wall_west box 0,0.2,0.2 0.2,11.8,3 material=first/wall
solid wall_east box 15.8,0.2,0.2 16,11.8,3 material=first/wall
volume fall box -40,-40,-20 60,60,-10 effect=remove
camera overview at=-6,-8,9 look=8,6,0 fov=65
`

const starterTiles = `legend # tile=first/wall solid=yes
legend . tile=first/floor
grid ground cells=16,9 level=0
  row ################
  row #..............#
  row #..............#
  row #..............#
  row #..............#
  row #..............#
  row #..............#
  row #..............#
  row ################
`
