package maplang

import (
	"crypto/sha256"
	"fmt"
	"image"

	"vornix/core/base/finding"
	"vornix/core/format/texture"
	"vornix/core/source/scene"
)

// panorama reads the image of a sky; nil when there is something to say about it.
func (b *builder) panorama(v *Value, c context) *scene.Picture {
	name, data, ok := b.open(v, c.file)
	if !ok {
		return nil
	}
	p, err := Panorama(name, data)
	if err != nil {
		b.find(finding.MapFile, v.Place, "the image %s can't be used as a sky: %v", name,
			err).Do = "Use a picture of all around, twice as wide as high."
	}
	return p
}

// Panorama makes a picture of all around, twice as wide as high, of a file in any form that textures come in.
func Panorama(name string, data []byte) (*scene.Picture, error) {
	info, err := texture.Probe(name, data)
	if err != nil {
		return nil, err
	}
	if info.Width*info.Height > maxPixels || info.Width < 4 || info.Width != 2*info.Height {
		return nil, fmt.Errorf("it has %d x %d pixels", info.Width, info.Height)
	}
	return &scene.Picture{Name: name, Width: info.Width, Height: info.Height, Sum: sha256.Sum256(data),
		Pixels: func() ([][3]float32, error) {
			img, err := texture.Decode(data)
			if err != nil {
				return nil, err
			}
			return linear(img), nil
		}}, nil
}

// linear is an image's light, pixel by pixel, row by row.
func linear(img image.Image) [][3]float32 {
	light, ok := img.(*texture.Light)
	if !ok {
		light = texture.ToLight(texture.Visible(img), true)
	}
	list := make([][3]float32, len(light.Pix)/4)
	for i := range list {
		list[i] = light.Colours(i)
	}
	return list
}
