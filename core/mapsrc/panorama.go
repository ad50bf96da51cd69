package mapsrc

import (
	"fmt"
	"image"

	"vornix/core/finding"
	"vornix/core/scene"
	"vornix/core/texture"
)

// panorama reads the image of a sky, in any form that textures come in; nil when there is something to say about it.
func (b *builder) panorama(v *Value, c context) *scene.Picture {
	name, data, ok := b.open(v, c.file)
	if !ok {
		return nil
	}
	wrong := func(format string, args ...any) *scene.Picture {
		b.find(finding.MapFile, v.Place, "the image %s can't be used as a sky: %s", name, fmt.Sprintf(format, args...)).Do = "Use a picture of all around, twice as wide as high."
		return nil
	}
	info, err := texture.Probe(name, data)
	if err != nil {
		return wrong("%v", err)
	}
	if info.Width*info.Height > maxPixels || info.Width < 4 || info.Width != 2*info.Height {
		return wrong("it has %d x %d pixels", info.Width, info.Height)
	}
	img, err := texture.Decode(data)
	if err != nil {
		return wrong("%v", err)
	}
	return &scene.Picture{Name: name, Width: info.Width, Height: info.Height, Pixels: linear(img)}
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
