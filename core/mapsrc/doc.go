// Package mapsrc reads and prints the map language (docs/formats/map-source.md) and turns it into a scene.Map.
//
// A map source is a list of records, one a line: a keyword, then positional values, then key=value pairs; records that
// belong to another stand indented under it. The work is in four files: lex.go cuts a line into tokens, grammar.go says
// what each keyword takes, parse.go builds a File and collects every mistake (a wrong line never hides the next), and
// print.go writes the one canonical form. scene.go gives the meaning.
package mapsrc
