// Package zipdelta makes and applies deltas between archives that see through their packing.
//
// A change of one texel changes all that follows in a packed entry, so a delta of packed bytes is
// nearly as large as the entry. Encode takes entries apart instead: what is the same is copied as
// it is packed, wherever it went and whatever it is called now; what changed is compared unpacked,
// with the old entry of the same name or, failing that, the one that is most like it; and Decode
// packs it again, to the same bytes. An entry that can't be packed again to the same bytes, since
// another program packed it, is compared as it is.
//
// The delta is a VCDIFF file (package vcdiff) with an application header that says what it was made
// from (docs/formats/delta.md); files that are no archives, and whatever would not become smaller,
// get a plain one. make.go takes apart, apply.go puts together.
package zipdelta
