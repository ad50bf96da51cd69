package texture

import "slices"

// Format is how texels are stored.
type Format uint8

// The formats. R8, RG8, BC4 and BC5 hold data and have no sRGB form.
const (
	RGBA8 Format = iota // four bytes a texel
	RG8                 // two channels
	R8                  // one channel
	BC1                 // opaque colour, 8 bytes a block of 4x4 texels
	BC1A                // colour with one-bit alpha, 8 bytes
	BC2                 // colour with 4 bits of alpha, 16 bytes
	BC3                 // colour with soft alpha, 16 bytes
	BC4                 // one channel, 8 bytes
	BC5                 // two channels, 16 bytes
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
	channel byte
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
	channelAlpha = 15
	wholeBlock   = 0xffffffff
)

var layouts = [formatCount]layout{
	RGBA8: {"rgba8", 1, 4, "rgba", [2]uint32{37, 43}, [2]uint32{28, 29}, modelRGBSDA,
		[]sample{{0, 7, 0, 255}, {8, 7, 1, 255}, {16, 7, 2, 255}, {24, 7, channelAlpha, 255}}},
	RG8:  {"rg8", 1, 2, "rg", [2]uint32{16, 0}, [2]uint32{49, 0}, modelRGBSDA, []sample{{0, 7, 0, 255}, {8, 7, 1, 255}}},
	R8:   {"r8", 1, 1, "r", [2]uint32{9, 0}, [2]uint32{61, 0}, modelRGBSDA, []sample{{0, 7, 0, 255}}},
	BC1:  {"bc1", 4, 8, "rgb", [2]uint32{131, 132}, [2]uint32{71, 72}, modelBC1A, []sample{{0, 63, 0, wholeBlock}}},
	BC1A: {"bc1a", 4, 8, "rgb1", [2]uint32{133, 134}, [2]uint32{71, 72}, modelBC1A, []sample{{0, 63, 1, wholeBlock}}},
	BC2: {"bc2", 4, 16, "rgba", [2]uint32{135, 136}, [2]uint32{74, 75}, modelBC2,
		[]sample{{0, 63, channelAlpha, wholeBlock}, {64, 63, 0, wholeBlock}}},
	BC3: {"bc3", 4, 16, "rgba", [2]uint32{137, 138}, [2]uint32{77, 78}, modelBC3,
		[]sample{{0, 63, channelAlpha, wholeBlock}, {64, 63, 0, wholeBlock}}},
	BC4: {"bc4", 4, 8, "r", [2]uint32{139, 0}, [2]uint32{80, 0}, modelBC4, []sample{{0, 63, 0, wholeBlock}}},
	BC5: {"bc5", 4, 16, "rg", [2]uint32{141, 0}, [2]uint32{83, 0}, modelBC5, []sample{{0, 63, 0, wholeBlock}, {64, 63, 1, wholeBlock}}},
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

// HoldsData says whether the format has no sRGB form: it is for data, not for colours.
func (f Format) HoldsData() bool { return layouts[f].vulkan[1] == 0 }

// levelSize is the stored size in bytes of a level of w by h texels.
func (f Format) levelSize(w, h int) int {
	l := layouts[f]
	return (w + l.block - 1) / l.block * ((h + l.block - 1) / l.block) * l.bytes
}

// Loss is how many texels lose something in a format, and what: alpha softer than the format keeps, or colour where it
// keeps none. Block compression's small errors do not count.
type Loss struct {
	Alpha, Colour int
}

// LossIn counts what an image with this content would lose in a format.
func (c Content) LossIn(f Format) Loss {
	var l Loss
	switch layouts[f].channels {
	case "rgb":
		l.Alpha = c.OneBit + c.Soft
	case "rgb1":
		l.Alpha = c.Soft
	case "r":
		l.Alpha, l.Colour = c.OneBit+c.Soft, c.Coloured
	case "rg":
		l.Alpha, l.Colour = c.OneBit+c.Soft, c.Blue
	}
	return l
}

// smallest orders formats by how much room they take and, of equals, by how well they keep what they keep.
var smallest = []Format{BC1, BC4, BC1A, R8, BC3, BC5, BC2, RG8, RGBA8}

// Choose picks, of the allowed formats, the one that loses least of an image, and of those that lose alike the smallest.
// Formats for data are only taken for data.
func Choose(c Content, srgb bool, allowed []Format) (Format, Loss) {
	best, bestLoss, found := RGBA8, Loss{}, false
	for _, f := range smallest {
		if !slices.Contains(allowed, f) || f.HoldsData() && srgb {
			continue
		}
		l := c.LossIn(f)
		if !found || l.Alpha+l.Colour < bestLoss.Alpha+bestLoss.Colour {
			best, bestLoss, found = f, l, true
		}
	}
	return best, bestLoss
}
