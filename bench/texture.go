//go:build unix

package main

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"vornix/core/base/safefile"
	"vornix/core/format/texture"
	"vornix/core/format/texture/bcn"
)

// codec is a block format as the table shows it.
type codec struct {
	format   texture.Format
	channels int
	pack     func([]byte, *bcn.Texels, bcn.Quality) []byte
	read     func([]byte) bcn.Texels
}

var codecs = []codec{
	{texture.BC1, 3, bcn.BC1, bcn.ReadBC1}, {texture.BC3, 4, bcn.BC3, bcn.ReadBC3},
	{texture.BC4, 1, bcn.BC4, bcn.ReadBC4},
	{texture.BC5, 2, bcn.BC5, bcn.ReadBC5}, {texture.BC7, 4, bcn.BC7, bcn.ReadBC7}, {texture.BC6H, 3, nil, nil},
}

// sampledBlocks is how many blocks the exhaustive search is held against, spread evenly over the images.
const sampledBlocks = 60

// measureFormats packs twelve images in each format and quality: million texels a second on all
// processors, quality in dB over all texels, and on sampled blocks how far each is from an
// exhaustive search.
func measureFormats(dir string) (string, error) {
	names, err := bc1Images(dir)
	if err != nil {
		return "", err
	}
	var images []*image.NRGBA
	for _, n := range names {
		img, err := readImage(n)
		if err != nil {
			return "", err
		}
		images = append(images, texture.Resize(img, 512, 512, true, texture.Box, texture.Clamp).(*image.NRGBA))
	}
	var b strings.Builder
	b.WriteString("\n## Texture formats\n\nTwelve images of 512 x 512 (those of the BC1 row), the first level, on all processors: million texels a second, and the peak\nsignal-to-noise ratio over all texels. The last columns: on " + fmt.Sprint(sampledBlocks) + " blocks sampled evenly from the images, how many dB each quality lies\nbelow an exhaustive search (the mean over the images, at most 70 dB each), which tries every mode, partition and rotation from every pair of texels (in BC4 and BC5 every\npair of ends). BC6H packs the images as light over twelve stops; its error is in steps of half floats.\n\n")
	b.WriteString("| format | draft | normal | best | behind the search: draft | normal | best |\n|---|---|---|---|---|---|---|\n")
	qualities := []bcn.Quality{bcn.Draft, bcn.Normal, bcn.Best}
	for _, c := range codecs {
		fmt.Fprintf(&b, "| %s |", c.format)
		for _, q := range qualities {
			speed, quality, err := throughput(c, q, images)
			if err != nil {
				return "", err
			}
			fmt.Fprintf(&b, " %.2f Mtexel/s, %.2f dB |", speed, quality)
		}
		best := sampledError(c, bcn.Exhaustive, images)
		for _, q := range qualities {
			behind := best - sampledError(c, q, images)
			if name := fmt.Sprint(c.format); q == bcn.Best && slices.Contains([]string{"bc5", "bc7", "bc6h"}, name) {
				hold(name+", best: dB behind it", "exhaustive search", "<= 0.3 dB", fmt.Sprintf("%.2f dB", behind))
			}
			fmt.Fprintf(&b, " %.2f dB |", behind)
		}
		b.WriteString("\n")
	}
	return b.String(), nil
}

// asLight spreads an image over stops of light.
func asLight(img *image.NRGBA, stops float64) *texture.Light {
	l := texture.ToLight(img, true)
	factor := uint16(stops * 1024) // a stop is one step of the exponent
	for i := range l.Pix {
		if i&3 != 3 && l.Pix[i] > 0x400 {
			l.Pix[i] += factor
		}
	}
	return l
}

func throughput(c codec, q bcn.Quality, images []*image.NRGBA) (speed, quality float64, err error) {
	texels := 0
	var took time.Duration
	for i, img := range images {
		var src image.Image = img
		if c.pack == nil {
			src = asLight(img, float64(i-6))
		}
		start := time.Now()
		t, err := texture.Compile(context.Background(), []image.Image{src},
			texture.Options{Format: c.format, Quality: q, Levels: 1, Workers: runtime.NumCPU()})
		if err != nil {
			return 0, 0, err
		}
		took += time.Since(start)
		texels += t.Width * t.Height
		quality += min(texture.Compare(src, t.Image(0, 0), c.format).Colour, 99) / float64(len(images))
	}
	return float64(texels) / 1e6 / took.Seconds(), quality, nil
}

// sampledError is the quality in dB of blocks taken evenly from the images: of each image's blocks
// together, then the mean over the images, so that a noisy one does not drown the others. Above 70
// dB nothing is to be seen any more.
func sampledError(c codec, q bcn.Quality, images []*image.NRGBA) float64 {
	mean := 0.0
	for k, img := range images {
		sum, n := 0.0, 0
		light := asLight(img, float64(k-6))
		for i := k; i < sampledBlocks; i += len(images) {
			bx, by := (i*37%120)*4, (i*53%120)*4
			var t bcn.Texels
			var l bcn.Light
			for j := range t {
				at := (by+j/4)*img.Stride + (bx+j%4)*4
				t[j] = [4]uint8(img.Pix[at:])
				l[j] = [3]uint16(light.Pix[at:])
			}
			s, m := c.wrong(&t, &l, q)
			sum, n = sum+s, n+m
		}
		mean += min(10*math.Log10(255*255*float64(n)/max(sum, 1e-9)), 70) / float64(len(images))
	}
	return mean
}

// wrong is the summed squared error of a packed block, of light in 255ths of the largest half
// float, and of how many values.
func (c codec) wrong(t *bcn.Texels, l *bcn.Light, q bcn.Quality) (sum float64, n int) {
	if c.pack == nil {
		back := bcn.ReadBC6H(bcn.BC6H(nil, l, q))
		for j := range l {
			for k := range 3 {
				d := (float64(l[j][k]) - float64(back[j][k])) * 255 / 0x7bff
				sum += d * d
			}
		}
		return sum, 48
	}
	back := c.read(c.pack(nil, t, q))
	for j := range t {
		for k := range c.channels {
			d := float64(t[j][k]) - float64(back[j][k])
			sum += d * d
		}
	}
	return sum, 16 * c.channels
}

// measureMany builds 2,000 images from nothing, and 4096 x 4096 ones alone and two at once, for time and peak memory.
func measureMany(dir, exe string) (string, error) {
	many, large := filepath.Join(dir, "many"), filepath.Join(dir, "large")
	if err := imageProject(many, 2000, 128, ""); err != nil {
		return "", err
	}
	if err := imageProject(large, 4, 4096,
		"[[texture]]\nmatch = '**'\nformat = 'bc1'\nquality = 'draft'\n"); err != nil {
		return "", err
	}
	var b strings.Builder
	for _, row := range []struct{ work, dir string }{{"2,000 images of 128 x 128 from nothing, with materials", many},
		{"four images of 4096 x 4096 from nothing", large}} {
		f, err := timeOnce("", exe, "build", "--project", row.dir)
		if err != nil {
			return "", err
		}
		reach := ""
		if row.dir == large {
			reach = "<= 400 MB"
		}
		fmt.Fprintf(&b, "| %s | %s, %.1f processors | | | | %s | %s |\n", row.work, ms(f.wall),
			f.cpu.Seconds()/f.wall.Seconds(), reach, mb(f.memory))
	}
	return b.String(), nil
}

// imageProject writes a project of one map that shows n images, each of side by side texels, with its own material.
func imageProject(dir string, n, side int, recipes string) error {
	d, err := safefile.MakeDir(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	var m bytes.Buffer
	m.WriteString("map many title=\"Many\" players=1..2 modes=relay\nspawn a at=0.5,5.5,1\nitem station at=1,2,1\nvolume fall box -900,-900,-90 9000,900,-80 effect=remove\n")
	for i := range n {
		name := path.Join(fmt.Sprintf("f%02d", i%40), fmt.Sprintf("a%d", i))
		fmt.Fprintf(&m, "solid s%d box %d,5,0 %d,6,1 material=%s\n", i, 2*i, 2*i+1, name)
		if err := d.WriteCache("materials/"+name+".toml",
			fmt.Appendf(nil, "colour = %q\nsurface = \"rock\"\n", name)); err != nil {
			return err
		}
		data, err := noisyImage(i, side)
		if err != nil {
			return err
		}
		if err := d.WriteCache("textures/"+name+".png", data); err != nil {
			return err
		}
	}
	if err := d.WriteCache("maps/many.vnx", m.Bytes()); err != nil {
		return err
	}
	if err := d.WriteCache("profiles/large.toml",
		[]byte("[game]\nid = \"large\"\ntitle = \"Large\"\nform = \"solids\"\n[textures]\nformats = [\"bc1\", \"bc7\"]\n")); err != nil {
		return err
	}
	return d.WriteCache("vornix.toml",
		[]byte("[project]\nname = \"many\"\ntitle = \"Many\"\nversion = \"1.0.0\"\nprofile = \"large\"\ndescription = \"made\"\n"+recipes))
}

func noisyImage(seed, side int) ([]byte, error) {
	img := image.NewNRGBA(image.Rect(0, 0, side, side))
	for y := range side {
		for x := range side {
			v := uint8(x*seed/7+y*3) ^ uint8((x*x+y*seed)>>5)
			img.SetNRGBA(x, y, color.NRGBA{v, v/2 + uint8(seed), uint8(y), 255})
		}
	}
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&b, img)
	return b.Bytes(), err
}
