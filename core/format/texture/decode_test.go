package texture_test

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/texture"
	"vornix/internal/peer"
)

func TestDecodeReadsWhatPeopleHave(t *testing.T) {
	want := pictures["gradient"]
	write := func(f func(*bytes.Buffer) error) []byte {
		var b bytes.Buffer
		require.NoError(t, f(&b))
		return b.Bytes()
	}
	deep := image.NewNRGBA64(want.Rect)
	pal := image.NewPaletted(image.Rect(3, 3, 11, 11),
		color.Palette{color.NRGBA{9, 8, 7, 255}, color.NRGBA{200, 100, 0, 128}})
	pal.SetColorIndex(4, 4, 1)
	for y := range 64 {
		for x := range 64 {
			deep.Set(x, y, want.At(x, y))
		}
	}
	for name, data := range map[string][]byte{
		"png":    write(func(b *bytes.Buffer) error { return png.Encode(b, want) }),
		"png 16": write(func(b *bytes.Buffer) error { return png.Encode(b, deep) }),
	} {
		assert.Equal(t, want.Pix, decode(t, data).Pix, name)
	}
	got := decode(t, write(func(b *bytes.Buffer) error { return png.Encode(b, pal) }))
	assert.Equal(t, color.NRGBA{200, 100, 0, 128}, got.NRGBAAt(1, 1), "palette with alpha, not at the origin")
	got = decode(t, write(func(b *bytes.Buffer) error { return jpeg.Encode(b, want, &jpeg.Options{Quality: 95}) }))
	assert.Less(t, squared(want, got), 12.0)
}

// TestImagesFromAnotherProgram reads what ImageMagick writes, of every kind that artists have.
func TestImagesFromAnotherProgram(t *testing.T) {
	convert := magick(t)
	dir := t.TempDir()
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, fade))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.png"), b.Bytes(), 0o666))
	for _, c := range []struct {
		name, options string
		colours       float64 // mean squared error of colours that may be
		alpha         bool
	}{
		{"rgba.tif", "-compress LZW", 0, true},
		{"deep.tif", "-depth 16 -compress Zip", 0, true},
		{"rgb.bmp", "-alpha off", 0, false},
		{"rgba.webp", "-define webp:lossless=true -define webp:exact=true", 0, true},
		{"lossy.webp", "-alpha off -quality 95", 200, false},
		{"palette.gif", "-alpha off -colors 64", 60, false},
		{"palette.png", "-alpha off -colors 64 -type Palette", 60, false},
		{"one-bit.png", "-alpha off -colors 2 -type Palette", 6000, false},
		{"four-bit.png", "-alpha off -colors 15 -depth 4 -type Palette", 600, false},
		{"palette-alpha.png", "-type PaletteAlpha -colors 256", -1, false},
		{"grey-alpha.png", "-colorspace Gray -define png:color-type=4 -depth 16", -1, false},
		{"progressive.jpg", "-alpha off -interlace JPEG -quality 95", 250, false},
		{"cmyk.jpg", "-alpha off -colorspace CMYK -quality 95", 900, false},
	} {
		peer.Run(t, dir, convert, append(append([]string{"in.png"}, strings.Fields(c.options)...), c.name)...)
		data, err := os.ReadFile(filepath.Join(dir, c.name))
		require.NoError(t, err)
		img := decode(t, data)
		require.Equal(t, fade.Rect, img.Rect, c.name)
		info, err := texture.Probe(c.name, data)
		require.NoError(t, err, c.name)
		assert.Equal(t, []any{32, 32, false}, []any{info.Width, info.Height, info.Misnamed}, c.name)
		other, err := texture.Probe("a.tga", data)
		require.NoError(t, err)
		assert.True(t, other.Misnamed, c.name)
		_, err = texture.Decode(data[:len(data)/2])
		assert.Error(t, err, "%s cut short", c.name)
		if c.colours < 0 {
			continue // that it is read must do: the program changes colours on its own account
		}
		flat := paint(32, 32, func(x, y int) color.NRGBA { p := fade.NRGBAAt(x, y); p.A = 255; return p })
		reference := flat
		if c.alpha {
			reference = fade
			for i := 3; i < len(img.Pix); i += 4 {
				require.Equal(t, fade.Pix[i], img.Pix[i], "%s: alpha %d", c.name, i)
			}
		}
		visible := func(a *image.NRGBA) *image.NRGBA { // colours under no alpha may be anything
			return paint(32, 32, func(x, y int) color.NRGBA {
				if reference.NRGBAAt(x, y).A == 0 {
					return color.NRGBA{}
				}
				return a.NRGBAAt(x, y)
			})
		}
		assert.LessOrEqual(t, squared(visible(reference), visible(img)), c.colours+1.0, c.name)
	}
	for _, container := range []string{"ktx2", "dds"} {
		data, err := compile(t, fade, texture.Options{SRGB: true}).Encode(texture.Container{Name: container})
		require.NoError(t, err)
		assert.Equal(t, fade.Pix, decode(t, data).Pix, "a texture is an image too")
	}
}

// TestTGAFromAnotherProgram reads every kind of TGA that Pillow writes, from either end, plain and run-length.
func TestTGAFromAnotherProgram(t *testing.T) {
	python := peer.Pillow(t)
	dir := t.TempDir()
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, fade))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.png"), b.Bytes(), 0o666))
	out := peer.Run(t, dir, python, "-c", `from PIL import Image
i = Image.open('in.png')
for mode in ['RGBA', 'RGB', 'L', 'LA', 'P']:
    for up in [-1, 1]:
        for rle in [None, 'tga_rle']:
            if mode == 'P':
                j = i.convert('RGB').quantize(64)
            else:
                j = i.convert(mode)
            name = f'{mode}_{up}_{rle}'
            j.save(name + '.tga', orientation=up, **({'compression': rle} if rle else {}))
            j.convert('RGBA').save(name + '.png')
            print(name)`)
	names := strings.Fields(out)
	require.Len(t, names, 20)
	for _, name := range names {
		data, err := os.ReadFile(filepath.Join(dir, name+".tga"))
		require.NoError(t, err)
		want, err := os.ReadFile(filepath.Join(dir, name+".png"))
		require.NoError(t, err)
		assert.Equal(t, decode(t, want).Pix, decode(t, data).Pix, name)
		for cut := 1; cut < len(data)*9/10; cut += len(data) / 9 {
			_, err := texture.Decode(data[:cut])
			assert.Error(t, err, "%s cut at %d", name, cut)
		}
	}
}

func TestBrokenImagesAreRefusedInWords(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, pictures["noise"]))
	whole := b.Bytes()
	flipped := bytes.Clone(whole)
	flipped[len(flipped)/2] ^= 1
	var j bytes.Buffer
	require.NoError(t, jpeg.Encode(&j, pictures["noise"], nil))
	sized := func(w, h uint32) []byte {
		other := bytes.Clone(whole)
		binary.BigEndian.PutUint32(other[16:], w)
		binary.BigEndian.PutUint32(other[20:], h)
		binary.BigEndian.PutUint32(other[29:], crcOf(other[12:29]))
		return other
	}
	huge := sized(60000, 60000)
	for name, c := range map[string]struct {
		data []byte
		text string
	}{
		"cut png":  {whole[:len(whole)-20], "cut short"},
		"cut jpeg": {j.Bytes()[:j.Len()-10], "cut short"},
		"damaged":  {flipped, "checksum"},
		"empty":    {nil, "it is empty"},
		"text":     {[]byte("not an image at all, but long enough for a header"), "none of PNG, JPEG"},
		"huge":     {huge, "60000 x 60000"},
		"nothing":  {sized(0, 7), "non-positive"},
		"hdr huge": {[]byte("#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 60000 +X 60000\n"), "60000 x 60000"},
		"hdr form": {[]byte("#?RADIANCE\nFORMAT=32-bit_rle_xyze\n\n-Y 4 +X 4\n"), "32-bit_rle_xyze"},
		"hdr cut":  {[]byte("#?RGBE\n\n-Y 4 +X 4\n1234"), ""},
	} {
		_, err := texture.Decode(c.data)
		assert.ErrorContains(t, err, c.text, name)
		if _, err = texture.Probe("", c.data); c.text != "" { // else only decoding tells
			assert.ErrorContains(t, err, c.text, name)
		}
	}
}

func crcOf(data []byte) uint32 {
	crc := ^uint32(0)
	for _, v := range data {
		crc ^= uint32(v)
		for range 8 {
			crc = crc>>1 ^ 0xedb88320&-(crc&1)
		}
	}
	return ^crc
}

// Any bytes end in an image or an error, and what Probe says is what Decode finds.
func FuzzDecode(f *testing.F) {
	var b, j bytes.Buffer
	require.NoError(f, png.Encode(&b, pictures["flat"]))
	require.NoError(f, jpeg.Encode(&j, pictures["dot"], nil))
	f.Add(b.Bytes())
	f.Add(j.Bytes())
	f.Add(append([]byte{0, 0, 10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 4, 0, 2, 0, 32, 8}, 0x83, 1, 2, 3, 4, 0x03, 1, 2, 3, 4, 5,
		6, 7, 8, 9, 1, 2, 3, 4, 5, 6, 7))
	f.Add([]byte{1, 1, 1, 0, 0, 2, 0, 24, 0, 0, 0, 0, 2, 0, 1, 0, 8, 0, 'x', 1, 2, 3, 4, 5, 6, 0, 1})
	f.Add([]byte("BM\x3a\x00\x00\x00\x00\x00\x00\x00\x36\x00\x00\x00\x28\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x00\x01\x00\x18\x00" + strings.Repeat("\x00", 28)))
	f.Add([]byte("#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 1 +X 8\n\x02\x02\x00\x08\x88\x10\x88\x20\x88\x30\x04abcd\x84\x80"))
	f.Fuzz(func(t *testing.T, data []byte) {
		info, probeErr := texture.Probe("", data)
		if info.Width*info.Height > 1<<20 {
			return // allowed, but slow to try a thousand times a second
		}
		img, err := texture.Decode(data)
		if err == nil && (probeErr != nil || img.Bounds().Size() != image.Pt(info.Width, info.Height)) {
			t.Fatalf("Probe says %+v, %v; Decode %v", info, probeErr, img.Bounds())
		}
	})
}

// TestRadianceFromAnotherProgram reads the pictures of light that ImageMagick writes, and one written by hand.
func TestRadianceFromAnotherProgram(t *testing.T) {
	dir := t.TempDir()
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, pictures["gradient"]))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.png"), b.Bytes(), 0o666))
	peer.Run(t, dir, magick(t), "in.png", "-colorspace", "RGB", "a.hdr") // linear, as the form means it
	data, err := os.ReadFile(filepath.Join(dir, "a.hdr"))
	require.NoError(t, err)
	img, err := texture.Decode(data)
	require.NoError(t, err)
	require.IsType(t, &texture.Light{}, img)
	assert.Less(t, squared(pictures["gradient"], texture.Visible(img)), 12.0,
		"8 bits of mantissa come back near enough")
	// Flat texels: 128 with exponent 129 is 1, 64 with 131 is 2, exponent 0 is black.
	img, err = texture.Decode([]byte("#?RGBE\n# made by hand\n\n+Y 2 +X 1\n\x80\x80\x80\x81\x40\x20\x00\x83"))
	require.NoError(t, err)
	assert.Equal(t, []uint16{0x4000, 0x3c00, 0, 0x3c00, 0x3c00, 0x3c00, 0x3c00, 0x3c00}, img.(*texture.Light).Pix,
		"the lowest row comes first")
}
