// Package bcn packs blocks of 4x4 texels into the BCn formats and unpacks them: BC1 to BC5 and BC7 for 8-bit texels,
// BC6H for light in half floats. The formats are those of the Khronos Data Format Specification 1.3, chapters 18 to 20.
//
// colour.go is the half block of BC1, channel.go that of one channel, bc7.go (with bc7line.go) and
// bc6h.go the formats of many modes, which share the line fitting of line.go. All arithmetic is in
// whole numbers, so the same texels give the same bytes on every processor.
package bcn
