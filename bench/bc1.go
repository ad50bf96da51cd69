//go:build unix

package main

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vornix/core/format/texture"
	"vornix/demo"
	"vornix/internal/peer"
)

// measureBC1 packs twelve images of 1024 x 1024 as BC1 with all mip levels, beside ImageMagick's
// DDS writer, plain and with its cluster fit, whole processes, file to file. Quality is the peak
// signal-to-noise ratio of the first level; ours is decoded by our own reader, which a test holds
// to ImageMagick's.
func measureBC1(dir, exe string, runs int) (string, error) {
	convert, ok := peer.ImageMagick()
	if !ok {
		return "| BC1 | left out: ImageMagick is not installed | | | | | |\n", nil
	}
	images, err := bc1Images(dir)
	if err != nil {
		return "", err
	}
	type way struct {
		name    string
		command func(in, out string) []string
	}
	magick := func(fit string) func(in, out string) []string {
		return func(in, out string) []string {
			return []string{convert, in, "-define", "dds:compression=dxt1", "-define", "dds:cluster-fit=" + fit, out}
		}
	}
	ways := []way{
		{"ours", func(in, out string) []string {
			return []string{exe, "texture", in, out, "--format", "bc1", "--quiet"}
		}},
		{"plain", magick("false")},
		{"cluster-fit", magick("true")},
	}
	quality, times := map[string]float64{}, map[string][]time.Duration{}
	var memory int64
	for _, name := range images {
		original, err := readImage(name)
		if err != nil {
			return "", err
		}
		for run := range max(runs/5, 1) {
			for i, w := range ways {
				out := filepath.Join(dir, w.name+".dds")
				f, err := timeOnce("", w.command(name, out)...)
				if err != nil {
					return "", err
				}
				if times[w.name] = append(times[w.name], f.wall); i == 0 {
					memory = max(memory, f.memory)
				}
				if run > 0 {
					continue
				}
				back := filepath.Join(dir, w.name+".png")
				command := []string{convert, out + "[0]", "PNG32:" + back}
				// ImageMagick does not read the DX10 header; our own reader has been held to its decoder by a test
				if i == 0 {
					command = []string{exe, "texture", out, back, "--quiet"}
				}
				if _, err := timeOnce("", command...); err != nil {
					return "", err
				}
				packed, err := readImage(back)
				if err != nil {
					return "", err
				}
				quality[w.name] += psnr(original, packed) / float64(len(images))
			}
		}
	}
	sum := func(name string) time.Duration {
		total := time.Duration(0)
		for _, d := range times[name] {
			total += d
		}
		return total / time.Duration(len(times[name]))
	}
	ratio := func(name string) (middle, low, high float64) {
		var list []float64
		for i, d := range times[name] {
			list = append(list, float64(times["ours"][i])/float64(d))
		}
		slices.Sort(list)
		return list[len(list)/2], list[0], list[len(list)-1]
	}
	var b strings.Builder
	for _, w := range ways[1:] {
		middle, low, high := ratio(w.name)
		reach := "<= 1x, >= 0.3 dB above plain"
		if w.name == "cluster-fit" {
			reach = "its quality"
		}
		better := quality["ours"] - quality[w.name]
		if w.name == "plain" {
			hold("BC1: time", "ImageMagick plain", "<= 1x", fmt.Sprintf("%.2fx (%.2f to %.2f)", middle, low, high))
			hold("BC1: dB above it", "ImageMagick plain", ">= 0.3 dB", fmt.Sprintf("%.2f dB", better))
		} else {
			hold("BC1: time", "ImageMagick cluster-fit", "<= 0.2x",
				fmt.Sprintf("%.2fx (%.2f to %.2f)", middle, low, high))
			hold("BC1: dB above it", "ImageMagick cluster-fit", ">= 0 dB", fmt.Sprintf("%.2f dB", better))
		}
		fmt.Fprintf(&b, "| BC1, 12 images, %.2f dB | %s | ImageMagick %s, %.2f dB | %s | %.2fx (%.2f to %.2f) | %s | %s |\n",
			quality["ours"], ms(sum("ours")), w.name, quality[w.name], ms(sum(w.name)), middle, low, high, reach,
			mb(memory))
	}
	return b.String(), nil
}

// bc1Images writes twelve varied images: the demo's painted ones enlarged, and made ones from smooth to noisy.
func bc1Images(dir string) ([]string, error) {
	const side = 1024
	work := filepath.Join(dir, "bc1")
	if _, err := demo.Write(work); err != nil {
		return nil, err
	}
	images := map[string]*image.NRGBA{}
	for _, rel := range []string{"wood/plank.png", "rock/cairn.png", "rock/slab.png", "snow/drift.jpg",
		"metal/rail.png"} {
		img, err := readImage(filepath.Join(work, "highline", "textures", rel))
		if err != nil {
			return nil, err
		}
		images[strings.ReplaceAll(rel, "/", "-")] = texture.Resize(img, side, side, true, texture.Cubic,
			texture.Wrap).(*image.NRGBA)
	}
	moss, err := readImage(filepath.Join(work, "lower-sidings", "textures", "earth", "moss.png"))
	if err != nil {
		return nil, err
	}
	wave := func(x, y, f int) int {
		return int(127 + 127*math.Sin(float64(x)/float64(f))*math.Cos(float64(y)/float64(f+3)))
	}
	random := func(x, y int) int { return int(uint32(x*73856093^y*19349663) * 2654435761 >> 24) }
	for name, paint := range map[string]func(x, y int) (r, g, b int){
		"gradient": func(x, y int) (int, int, int) { return x / 4, y / 4, (2047 - x - y) / 8 },
		"waves":    func(x, y int) (int, int, int) { return wave(x, y, 40), wave(x, y, 23), wave(y, x, 61) },
		"checks":   func(x, y int) (int, int, int) { v := (x/9 + y/13) % 3; return v * 120, 200 - v*70, 60 + v*40 },
		"moss": func(x, y int) (int, int, int) {
			c := moss.NRGBAAt(x/64, y/64)
			return int(c.R), int(c.G),
				int(c.B)
		},
		"grain": func(x, y int) (int, int, int) {
			v := wave(x, y, 90)/2 + random(x, y)/4
			return v + 60, v + 40,
				v + 20
		},
		"noise": func(x, y int) (int, int, int) { return random(x, y), random(x+7, y), random(x, y+7) },
		"grey":  func(x, y int) (int, int, int) { v := wave(x, y, 15)*3/4 + random(x/2, y/2)/8; return v, v, v },
	} {
		img := image.NewNRGBA(image.Rect(0, 0, side, side))
		for y := range side {
			for x := range side {
				r, g, b := paint(x, y)
				img.SetNRGBA(x, y, color.NRGBA{uint8(min(r, 255)), uint8(min(g, 255)), uint8(min(b, 255)), 255})
			}
		}
		images[name] = img
	}
	var names []string
	for name, img := range images {
		var b bytes.Buffer
		if err := png.Encode(&b, img); err != nil {
			return nil, err
		}
		file := filepath.Join(work, name+".in.png")
		if err := os.WriteFile(file, b.Bytes(), 0o666); err != nil {
			return nil, err
		}
		names = append(names, file)
	}
	slices.Sort(names)
	return names, nil
}

func readImage(name string) (*image.NRGBA, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	img, err := texture.Decode(data)
	if err != nil {
		return nil, err
	}
	return texture.Visible(img), nil
}

// psnr is the peak signal-to-noise ratio of the colours, in decibels.
func psnr(a, b *image.NRGBA) float64 {
	sum := 0.0
	for i := range a.Pix {
		if i&3 != 3 {
			d := float64(a.Pix[i]) - float64(b.Pix[i])
			sum += d * d
		}
	}
	return 10 * math.Log10(255*255/max(sum/float64(len(a.Pix)/4*3), 1e-9))
}
