// Package vcdiff makes and applies binary deltas in the VCDIFF format (RFC 3284).
//
// Encode looks for what a new file has in common with an old one in the whole of it, however large,
// through an index of blocks that keeps within a budget of memory, and writes windows that are
// decoded one at a time. Decode reads deltas of any writer: with code tables of their own, windows
// that copy from the target, sections compressed with LZMA, Adler-32 checksums and application
// headers (the last three as the common implementation writes them; the RFC leaves them open).
// Nothing that a delta says is believed before it is held against its bounds.
//
// codetable.go and address.go are chapters 5 of the RFC; match.go finds what is the same, encode.go
// and decode.go write and read windows, secondary.go compresses sections, view.go reads the old
// file.
package vcdiff
