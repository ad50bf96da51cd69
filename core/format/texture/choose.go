package texture

import (
	"fmt"
	"slices"
	"strings"
)

// Kind is what an image is for; it decides the usual colour space, mip levels and formats.
type Kind string

// The kinds.
const (
	Colour    Kind = "colour"    // what a surface shows
	Normal    Kind = "normal"    // directions: two or three channels
	Mask      Kind = "mask"      // data in any channel
	Height    Kind = "height"    // one channel of data
	Glow      Kind = "light"     // light, brighter than white too
	Interface Kind = "interface" // drawn on the screen as it is: no mip levels
)

// Kinds lists the names of all kinds.
func Kinds() []string {
	return []string{string(Colour), string(Normal), string(Mask), string(Height), string(Glow), string(Interface)}
}

// IsColour says whether images of the kind are in sRGB unless the recipe says otherwise.
func (k Kind) IsColour() bool { return k == Colour || k == Interface || k == Glow }

// Loss is how many texels lose something in a format, and what: alpha softer than the format keeps,
// colour where it keeps none, or light brighter than white. Block compression's small errors do not
// count.
type Loss struct {
	Alpha, Colour, Light int
}

// Sum is the number of losses.
func (l Loss) Sum() int { return l.Alpha + l.Colour + l.Light }

// LossIn counts what an image with this content would lose in a format. Of a normal map the blue
// channel follows from the others, so two channels lose nothing of it.
func (c Content) LossIn(f Format, k Kind) Loss {
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
		if c.Coloured == 0 || k == Normal {
			l.Colour = 0
		}
	case "light":
		if f == BC6H {
			l.Alpha = c.OneBit + c.Soft
		}
		return l
	}
	l.Light = c.Bright
	return l
}

// The formats from the smallest to the largest and, of equals, by how well they keep what they
// keep; at the best quality BC7 stands before the older formats for colour.
var (
	smallest = []Format{BC1, BC4, BC1A, R8, BC7, BC3, BC5, BC2, RG8, RGBA8, BC6H, RGBA16F}
	closest  = []Format{BC4, R8, BC7, BC1, BC1A, BC3, BC5, BC2, RG8, RGBA8, BC6H, RGBA16F}
)

// Choice is a format with what an image loses in it, and why it was taken.
type Choice struct {
	Format Format
	Loss   Loss
	Why    string
}

// Choose picks, of the allowed formats, the one that loses least of an image, and of those that
// lose alike the smallest. Formats for data are only taken for data, those for light only for
// light; normal maps and other data in two channels take two where they can.
func Choose(c Content, k Kind, srgb, best bool, allowed []Format) Choice {
	order := smallest
	if best {
		order = closest
	}
	isLight := c.Light || k == Glow
	switch {
	case k == Normal:
		order = []Format{BC5, RG8, BC7, RGBA8, BC3, BC1, BC1A, BC2}
	case !srgb && c.Coloured == 0: // data in one channel: a block of its own keeps it better than one for colours
		order = append([]Format{BC4, R8}, order...)
	case !srgb && c.Blue == 0: // or in two
		order = append([]Format{BC5, RG8}, order...)
	}
	if isLight {
		order = append([]Format{BC6H, RGBA16F}, order...)
	}
	found := Choice{Format: RGBA8}
	some := false
	for _, f := range order {
		if !slices.Contains(allowed, f) || f.HoldsData() && srgb && !isLight || f.HoldsLight() && !isLight {
			continue
		}
		if l := c.LossIn(f, k); !some || l.Sum() < found.Loss.Sum() {
			found, some = Choice{Format: f, Loss: l}, true
		}
	}
	found.Why = c.Holds()
	var names []string
	for _, f := range allowed {
		names = append(names, f.String())
	}
	switch {
	case !some:
		found.Why += fmt.Sprintf(": of %s none can hold it", strings.Join(names, ", "))
	case found.Loss.Sum() > 0:
		found.Why += fmt.Sprintf(": of %s, %s loses least", strings.Join(names, ", "), found.Format)
	case found.Format == BC5 || found.Format == RG8:
		found.Why += fmt.Sprintf(": %s keeps two channels apart", found.Format)
	case best && found.Format == BC7:
		found.Why += ": bc7 keeps it closest"
	default:
		found.Why += fmt.Sprintf(": %s keeps all of it in the least room", found.Format)
	}
	return found
}
