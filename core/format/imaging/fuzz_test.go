package imaging_test

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"testing"

	"vornix/core/format/imaging"
)

// FuzzInspect looks at any bytes as a finished file: it answers or refuses, and never does worse.
func FuzzInspect(f *testing.F) {
	var b bytes.Buffer
	_ = jpeg.Encode(&b, image.NewRGBA(image.Rect(0, 0, 9, 9)), nil)
	f.Add(b.Bytes())
	f.Add([]byte("\xff\xd8\xff\xff\xff\xc2\x00\x0b\x08\x00\x10\x00\x10\x01\x01\x11\x00\xff\xd9"))
	png, _, _ := imaging.PNG(even(5, 4, color.NRGBA{1, 2, 3, 255}), 0)
	f.Add(png)
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := imaging.Inspect("a.jpg", data)
		if err == nil && (r.Width < 1 || r.Height < 1 || r.Form == "") {
			t.Fatalf("%+v", r)
		}
	})
}
