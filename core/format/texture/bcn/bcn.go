package bcn

// Texels are the sixteen texels of a block, row by row: red, green, blue, alpha.
type Texels [16][4]uint8

// Light is a block of light, row by row: red, green, blue as the bits of half floats (IEEE 754 binary16). Below zero is
// taken as zero; what is no finite number as the largest.
type Light [16][3]uint16

// Quality is how long to search for the best block.
type Quality uint8

// The qualities.
const (
	Normal Quality = iota
	Draft
	Best
	// Exhaustive is for measuring the others. It tries every mode, partition and rotation, each
	// from every pair of texels; in BC4 and BC5 every pair of ends. It takes thousands of times as
	// long, and is not offered by name.
	Exhaustive
)

var qualityNames = []string{Normal: "normal", Draft: "draft", Best: "best"}

func (q Quality) String() string {
	if q == Exhaustive {
		return "exhaustive"
	}
	return qualityNames[q]
}

// Qualities lists the names, fastest first.
func Qualities() []string { return []string{"draft", "normal", "best"} }

// ParseQuality is the quality of a name.
func ParseQuality(name string) (Quality, bool) {
	for q, n := range qualityNames {
		if n == name {
			return Quality(q), true
		}
	}
	return Normal, false
}

// alphaOf takes one channel of a block.
func (t *Texels) channel(k int) (v [16]uint8) {
	for i := range t {
		v[i] = t[i][k]
	}
	return v
}

// colours takes the three colour channels.
func (t *Texels) colours() (c [16]rgb) {
	for i := range t {
		c[i] = rgb{int32(t[i][0]), int32(t[i][1]), int32(t[i][2])}
	}
	return c
}

// BC1 appends an opaque block of colours: 8 bytes.
func BC1(out []byte, t *Texels, q Quality) []byte {
	c := t.colours()
	return colourBlock(out, &c, q)
}

// BC1A appends a block whose texels are see-through where alpha is below 128: 8 bytes.
func BC1A(out []byte, t *Texels, q Quality) []byte {
	seen := uint16(0)
	for i := range t {
		if t[i][3] >= 128 {
			seen |= 1 << i
		}
	}
	c := t.colours()
	if seen == 0xffff {
		return colourBlock(out, &c, q)
	}
	return cutOutBlock(out, &c, seen, q)
}

// BC2 appends colours with alpha in 4 bits a texel: 16 bytes.
func BC2(out []byte, t *Texels, q Quality) []byte {
	a := t.channel(3)
	return BC1(alphaBlock(out, &a), t, q)
}

// BC3 appends colours with alpha in a block of its own: 16 bytes.
func BC3(out []byte, t *Texels, q Quality) []byte {
	a := t.channel(3)
	return BC1(channelBlock(out, &a, q), t, q)
}

// BC4 appends the red channel: 8 bytes.
func BC4(out []byte, t *Texels, q Quality) []byte {
	r := t.channel(0)
	return channelBlock(out, &r, q)
}

// BC5 appends the red and the green channel: 16 bytes.
func BC5(out []byte, t *Texels, q Quality) []byte {
	g := t.channel(1)
	return channelBlock(BC4(out, t, q), &g, q)
}

// ReadBC1 unpacks 8 bytes of colours, with one bit of alpha where the block has it.
func ReadBC1(data []byte) Texels { return readColours(data, true) }

// ReadBC2 unpacks 16 bytes.
func ReadBC2(data []byte) Texels { return withAlpha(readColours(data[8:], false), readAlpha(data)) }

// ReadBC3 unpacks 16 bytes.
func ReadBC3(data []byte) Texels { return withAlpha(readColours(data[8:], false), readChannel(data)) }

func withAlpha(t Texels, alpha [16]uint8) Texels {
	for i, a := range alpha {
		t[i][3] = a
	}
	return t
}

// ReadBC4 unpacks 8 bytes; the channel comes back as grey.
func ReadBC4(data []byte) (t Texels) {
	for i, v := range readChannel(data) {
		t[i] = [4]uint8{v, v, v, 255}
	}
	return t
}

// ReadBC5 unpacks 16 bytes; the channels come back as red and green.
func ReadBC5(data []byte) (t Texels) {
	r, g := readChannel(data), readChannel(data[8:])
	for i := range t {
		t[i] = [4]uint8{r[i], g[i], 0, 255}
	}
	return t
}
