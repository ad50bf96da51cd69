// Package maplang reads map sources: the map language (docs/formats/map-source.md), which it also
// prints, and glTF scenes (docs/formats/gltf.md). Read turns either into a scene.Map.
//
// A source in the language is a list of records, one a line: a keyword, then positional values,
// then key=value pairs; records that belong to another stand indented under it. The work goes from
// file to file: lex.go cuts a line into tokens, grammar.go says what each keyword takes, expr.go
// evaluates sums and fills braces, parse.go builds a File and collects every mistake (a wrong line
// never hides the next), print.go writes the one canonical form. expand.go resolves includes,
// constants, prefabs, repeats, groups and layers, so that scene.go (objects), solid.go (shapes) and
// grid.go (tiles, terrain, images) give one record after the other its meaning. gltf.go makes
// records of nodes and solids of meshes.
package maplang
