// Package confedit changes settings in INI, JSON, TOML and XML where they are, without disturbing
// what it does not change: comments, order, indentation and line ends stay.
//
// keys.go reads, sets and removes keys, and carries changes of keys from one text to another; each
// format has a file of its own.
package confedit
