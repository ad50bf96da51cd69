package texture_test

import (
	"context"
	"image"
	"testing"

	"vornix/core/format/texture"
)

// BenchmarkCompile compiles a noisy image of 512 x 512 with its mip levels; bytes are those of the image.
func BenchmarkCompile(b *testing.B) {
	img := image.NewNRGBA(image.Rect(0, 0, 512, 512))
	for i := range img.Pix {
		img.Pix[i] = uint8(scramble(i, i>>9))
		if i%4 == 3 {
			img.Pix[i] = 255
		}
	}
	for _, f := range []texture.Format{texture.RGBA8, texture.BC1} {
		b.Run(f.String(), func(b *testing.B) {
			b.SetBytes(int64(len(img.Pix)))
			for b.Loop() {
				if _, err := texture.Compile(context.Background(), []image.Image{img},
					texture.Options{Format: f, SRGB: true}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
