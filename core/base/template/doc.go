// Package template fills the templates of game profiles, so that what a text brings along can't
// break out of its place; and reads lines back that were filled from one.
//
// A line has {name} where a value goes (line.go). A whole file is a template of the standard
// library's text/template (file.go). In both, every value is escaped as the form around it needs
// (escape.go).
package template
