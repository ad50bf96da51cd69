// Package sprite reads sprite sheets, packs their frames into atlases and shows their states.
//
// A sheet is a TOML file beside a grid image, or beside a folder of frames: named states, each with
// frames, how long they last, directions and a loop. sheet.go reads it, atlas.go packs the frames
// and writes the index that ships (docs/formats/sprite.md), preview.go plays a state as GIF (89a)
// or animated PNG (PNG third edition, chapter 11.3.4).
package sprite
