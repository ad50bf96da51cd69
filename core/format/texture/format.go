package texture

import "slices"

// Format is how texels are stored.
type Format uint8

// The formats. R8, RG8, BC4 and BC5 hold data and have no sRGB form; BC6H and RGBA16F hold light, which is linear.
const (
	RGBA8   Format = iota // four bytes a texel
	RG8                   // two channels
	R8                    // one channel
	BC1                   // opaque colour, 8 bytes a block of 4x4 texels
	BC1A                  // colour with one-bit alpha, 8 bytes
	BC2                   // colour with 4 bits of alpha, 16 bytes
	BC3                   // colour with soft alpha, 16 bytes
	BC4                   // one channel, 8 bytes
	BC5                   // two channels, 16 bytes
	BC6H                  // light, 16 bytes
	BC7                   // colour with alpha, 16 bytes, the closest
	RGBA16F               // light in half floats, eight bytes a texel
	formatCount
)

// layout is what the containers and the encoder need to know of a format.
type layout struct {
	name     string
	block    int    // texels a side of a block; 1 for plain texels
	bytes    int    // of a block or texel
	channels string // that it keeps
	vulkan   [2]uint32
	dxgi     [2]uint32 // linear and sRGB; 0: there is none
	model    byte      // colour model of the data format descriptor
	samples  []sample
}

// sample is a sample of a data format descriptor (Khronos Data Format 1.3, chapter 5): where a channel's bits lie.
type sample struct {
	offset  uint16
	length  byte // in bits, less one
	channel byte // with qualifiers
	lower   uint32
	upper   uint32
}

// Colour models and channels of the data format descriptor.
const (
	modelRGBSDA  = 1
	modelBC1A    = 128
	modelBC2     = 129
	modelBC3     = 130
	modelBC4     = 131
	modelBC5     = 132
	modelBC6H    = 133
	modelBC7     = 134
	channelAlpha = 15
	qualifyFloat = 0x80
	qualifySign  = 0x40
	floatOne     = 0x3f800000 // of 32 bits
	floatLess    = 0xbf800000 // -1
	wholeBlock   = 0xffffffff
)

var layouts = [formatCount]layout{
	RGBA8: {"rgba8", 1, 4, "rgba", [2]uint32{37, 43}, [2]uint32{28, 29}, modelRGBSDA,
		[]sample{{0, 7, 0, 0, 255}, {8, 7, 1, 0, 255}, {16, 7, 2, 0, 255}, {24, 7, channelAlpha, 0, 255}}},
	RG8: {"rg8", 1, 2, "rg", [2]uint32{16, 0}, [2]uint32{49, 0}, modelRGBSDA,
		[]sample{{0, 7, 0, 0, 255}, {8, 7, 1, 0, 255}}},
	R8:  {"r8", 1, 1, "r", [2]uint32{9, 0}, [2]uint32{61, 0}, modelRGBSDA, []sample{{0, 7, 0, 0, 255}}},
	BC1: {"bc1", 4, 8, "rgb", [2]uint32{131, 132}, [2]uint32{71, 72}, modelBC1A, []sample{{0, 63, 0, 0, wholeBlock}}},
	BC1A: {"bc1a", 4, 8, "rgb1", [2]uint32{133, 134}, [2]uint32{71, 72}, modelBC1A,
		[]sample{{0, 63, 1, 0, wholeBlock}}},
	BC2: {"bc2", 4, 16, "rgba", [2]uint32{135, 136}, [2]uint32{74, 75}, modelBC2,
		[]sample{{0, 63, channelAlpha, 0, wholeBlock}, {64, 63, 0, 0, wholeBlock}}},
	BC3: {"bc3", 4, 16, "rgba", [2]uint32{137, 138}, [2]uint32{77, 78}, modelBC3,
		[]sample{{0, 63, channelAlpha, 0, wholeBlock}, {64, 63, 0, 0, wholeBlock}}},
	BC4: {"bc4", 4, 8, "r", [2]uint32{139, 0}, [2]uint32{80, 0}, modelBC4, []sample{{0, 63, 0, 0, wholeBlock}}},
	BC5: {"bc5", 4, 16, "rg", [2]uint32{141, 0}, [2]uint32{83, 0}, modelBC5,
		[]sample{{0, 63, 0, 0, wholeBlock}, {64, 63, 1, 0, wholeBlock}}},
	BC6H: {"bc6h", 4, 16, "light", [2]uint32{143, 0}, [2]uint32{95, 0}, modelBC6H,
		[]sample{{0, 127, qualifyFloat, 0, floatOne}}},
	BC7: {"bc7", 4, 16, "rgba", [2]uint32{145, 146}, [2]uint32{98, 99}, modelBC7,
		[]sample{{0, 127, 0, 0, wholeBlock}}},
	RGBA16F: {"rgba16f", 1, 8, "light", [2]uint32{97, 0}, [2]uint32{10, 0}, modelRGBSDA, []sample{
		{0, 15, 0 | qualifyFloat | qualifySign, floatLess, floatOne},
		{16, 15, 1 | qualifyFloat | qualifySign, floatLess, floatOne},
		{32, 15, 2 | qualifyFloat | qualifySign, floatLess, floatOne},
		{48, 15, channelAlpha | qualifyFloat | qualifySign, floatLess, floatOne}}},
}

func (f Format) String() string { return layouts[f].name }

// FormatNames lists the names of all formats.
func FormatNames() []string {
	var names []string
	for _, l := range layouts {
		names = append(names, l.name)
	}
	return names
}

// ParseFormat is the format of a name.
func ParseFormat(name string) (Format, bool) {
	i := slices.Index(FormatNames(), name)
	return Format(max(i, 0)), i >= 0
}

// HoldsData says whether the format has no sRGB form because it is for data, not for colours.
func (f Format) HoldsData() bool { return layouts[f].vulkan[1] == 0 && !f.HoldsLight() }

// HoldsLight says whether the format holds light: linear, and brighter than a screen's white.
func (f Format) HoldsLight() bool { return layouts[f].channels == "light" }

// levelSize is the stored size in bytes of one image of w by h texels.
func (f Format) levelSize(w, h int) int {
	l := layouts[f]
	return (w + l.block - 1) / l.block * ((h + l.block - 1) / l.block) * l.bytes
}
