package texture

import "image"

// Content is what the pixels of an image hold, as numbers of texels.
type Content struct {
	Texels   int
	OneBit   int // wholly see-through
	Soft     int // neither opaque nor wholly see-through
	Coloured int // visible ones whose channels differ
	Blue     int // visible ones with something in the blue channel
}

// Analyse looks at every texel.
func Analyse(img *image.NRGBA) Content {
	c := Content{Texels: img.Rect.Dx() * img.Rect.Dy()}
	w := img.Rect.Dx() * 4
	for y := range img.Rect.Dy() {
		row := img.Pix[y*img.Stride : y*img.Stride+w]
		for i := 0; i < len(row); i += 4 {
			switch row[i+3] {
			case 255:
			case 0:
				c.OneBit++
				continue
			default:
				c.Soft++
			}
			if row[i] != row[i+1] || row[i] != row[i+2] {
				c.Coloured++
			}
			if row[i+2] != 0 {
				c.Blue++
			}
		}
	}
	return c
}

// Alpha names the kind of alpha: "no", "one bit" or "soft".
func (c Content) Alpha() string {
	switch {
	case c.Soft > 0:
		return "soft"
	case c.OneBit > 0:
		return "one bit"
	}
	return "no"
}
