package texture

import (
	"context"
	"errors"
	"fmt"
	"image"
	"slices"

	"vornix/core/format/texture/bcn"
)

// Recipe is how image files become a texture.
type Recipe struct {
	Kind Kind // empty is Colour
	// Format is only taken when Forced; else one is chosen of Allowed (nil: of all).
	Format  Format
	Forced  bool
	Allowed []Format
	SRGB    bool
	Shape   Shape
	Size    SizeRule
	Quality bcn.Quality
	Levels  int // at most; 0 is all
	Filter  Filter
	Edge    Edge
	// Coverage keeps the drawn part of cut-outs in all levels; nil does so where a colour image's alpha has one bit.
	Coverage *bool
	// FromHeight makes a normal map of heights; Strength is how many texels high white stands over
	// black, in hundredths.
	FromHeight bool
	Strength   int
	// Green says which way green grows in the source's normals, GreenOut in the texture's; empty
	// for either leaves it alone.
	Green, GreenOut string
	Workers         int
}

// Prepared are images ready to be compiled, with what was found and done on the way.
type Prepared struct {
	Recipe  Recipe // with the format that was chosen
	Images  []image.Image
	Width   int // of the source
	Height  int
	Refused bool // the size breaks the rule, and the recipe refuses to resize
	Content Content
	Choice  Choice
	// NotUnit texels of a normal map are no direction of length one; NotUnitWhy says how that looks.
	NotUnit    int
	NotUnitWhy string
}

// Prepare decodes the files and does all that comes before compiling.
func Prepare(files [][]byte, r Recipe) (*Prepared, error) {
	if r.Kind == "" {
		r.Kind = Colour
	}
	p := &Prepared{Recipe: r}
	for _, data := range files {
		images, shape, err := p.read(data)
		if err != nil {
			return nil, err
		}
		if shape != Flat && r.Shape == Flat && len(files) == 1 {
			p.Recipe.Shape = shape
		}
		p.Images = append(p.Images, images...)
	}
	return p.finish()
}

// PrepareImages is Prepare of images that are in memory already.
func PrepareImages(images []image.Image, r Recipe) (*Prepared, error) {
	if r.Kind == "" {
		r.Kind = Colour
	}
	p := &Prepared{Recipe: r, Images: images}
	return p.finish()
}

func (p *Prepared) finish() (*Prepared, error) {
	r := p.Recipe
	if err := p.shape(); err != nil {
		return nil, err
	}
	b := p.Images[0].Bounds()
	p.Width, p.Height = b.Dx(), b.Dy()
	if p.Refused = !r.Size.Takes(p.Width, p.Height) && (r.Size.How == "refuse" || r.Size.How == ""); p.Refused {
		return p, nil
	}
	p.Content.Clearest = 255
	for i, img := range p.Images {
		c := Analyse(img)
		if n, ok := img.(*image.NRGBA); ok && r.Kind == Normal {
			off, why := c.NormalFault()
			if p.NotUnit += off; why != "" {
				p.NotUnitWhy = why
			}
			img = p.normals(n, c)
			c = Analyse(img)
		}
		if !r.Size.Takes(p.Width, p.Height) {
			img = r.Size.apply(img, r.SRGB, r.Filter, r.Edge)
			p.Straighten(img)
			c = Analyse(img)
		}
		p.Images[i] = img
		p.Content.add(c)
	}
	p.choose()
	return p, nil
}

// read decodes a file, or makes a normal map of it.
func (p *Prepared) read(data []byte) ([]image.Image, Shape, error) {
	r := p.Recipe
	if !r.FromHeight {
		return DecodeAll(data)
	}
	h, err := DecodeHeights(data)
	if err != nil {
		return nil, Flat, err
	}
	green := r.GreenOut
	if green == "" {
		green = Up
	}
	return []image.Image{h.Normals(r.Strength, green, r.Edge)}, Flat, nil
}

// shape makes the number of images fit the shape.
func (p *Prepared) shape() error {
	switch {
	case p.Recipe.Shape == Cube && len(p.Images) == 1:
		faces, err := cutCube(p.Images[0])
		p.Images = faces
		return err
	case p.Recipe.Shape == Cube && len(p.Images) != 6:
		return fmt.Errorf("a cube is made of six images, right, left, up, down, front and back, or of one strip or cross of them; there are %d", len(p.Images))
	case p.Recipe.Shape == Flat && len(p.Images) > 1:
		return fmt.Errorf("%d images make a cube or an array, and the recipe says neither", len(p.Images))
	case len(p.Images) == 0:
		return errors.New("there is no image")
	}
	first := p.Images[0].Bounds()
	for i, img := range p.Images {
		if b := img.Bounds(); b.Dx() != first.Dx() || b.Dy() != first.Dy() {
			return fmt.Errorf("image %d has %d x %d texels, and the first %d x %d", i+1, b.Dx(), b.Dy(), first.Dx(),
				first.Dy())
		}
	}
	if slices.ContainsFunc(p.Images, isLight) { // then all are
		for i, img := range p.Images {
			if n, ok := img.(*image.NRGBA); ok {
				p.Images[i] = ToLight(n, p.Recipe.SRGB)
			}
		}
	}
	if p.Recipe.Shape == Cube && first.Dx() != first.Dy() {
		return fmt.Errorf("the faces of a cube must be square, and have %d x %d texels", first.Dx(), first.Dy())
	}
	return nil
}

func isLight(img image.Image) bool {
	_, ok := img.(*Light)
	return ok
}

// cubeCrosses are where the faces lie in a cross, 4 by 3 or 3 by 4 squares, in the order right,
// left, up, down, front, back.
var cubeCrosses = map[image.Point][6]image.Point{
	{X: 6, Y: 1}: {{X: 0}, {X: 1}, {X: 2}, {X: 3}, {X: 4}, {X: 5}},
	{X: 1, Y: 6}: {{Y: 0}, {Y: 1}, {Y: 2}, {Y: 3}, {Y: 4}, {Y: 5}},
	{X: 4, Y: 3}: {{X: 2, Y: 1}, {X: 0, Y: 1}, {X: 1, Y: 0}, {X: 1, Y: 2}, {X: 1, Y: 1}, {X: 3, Y: 1}},
	{X: 3, Y: 4}: {{X: 2, Y: 1}, {X: 0, Y: 1}, {X: 1, Y: 0}, {X: 1, Y: 2}, {X: 1, Y: 1}, {X: 1, Y: 3}},
}

// cutCube cuts the six faces of a cube out of a strip or a cross.
func cutCube(img image.Image) ([]image.Image, error) {
	b := img.Bounds()
	for squares, places := range cubeCrosses {
		side := b.Dx() / squares.X
		if side == 0 || side*squares.X != b.Dx() || side*squares.Y != b.Dy() {
			continue
		}
		var faces []image.Image
		for i, at := range places {
			turned := squares == image.Pt(3, 4) && i == 5 // the back hangs upside down below the others
			faces = append(faces, cut(img, image.Rect(at.X*side, at.Y*side, (at.X+1)*side, (at.Y+1)*side), turned))
		}
		return faces, nil
	}
	return nil, fmt.Errorf("an image of %d x %d texels is no cube: a strip of six squares, or a cross of 4 x 3 or 3 x 4, is", b.Dx(), b.Dy())
}

// cut copies a part of an image, turned by half where that is asked.
func cut(img image.Image, part image.Rectangle, turned bool) image.Image {
	w, h := part.Dx(), part.Dy()
	from := func(x, y int) (int, int) {
		if turned {
			x, y = w-1-x, h-1-y
		}
		return part.Min.X + x, part.Min.Y + y
	}
	if l, ok := img.(*Light); ok {
		out := NewLight(w, h)
		for i := range w * h {
			x, y := from(i%w, i/w)
			copy(out.Pix[4*i:][:4], l.Pix[4*(y*l.Rect.Dx()+x):])
		}
		return out
	}
	n, out := img.(*image.NRGBA), image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := range w * h {
		x, y := from(i%w, i/w)
		copy(out.Pix[4*i:][:4], n.Pix[y*n.Stride+4*x:])
	}
	return out
}

// normals brings a normal map into the convention that is wanted, with all three channels, of length one.
func (p *Prepared) normals(img *image.NRGBA, c Content) image.Image {
	r := p.Recipe
	if c.Blue == 0 {
		img = fillBlue(img)
	}
	if !r.FromHeight && r.Green != "" && r.GreenOut != "" && r.Green != r.GreenOut {
		img = flipGreen(img)
	}
	return img
}

// Straighten gives the directions of a normal map that was resized length one again; other images it leaves alone.
func (p *Prepared) Straighten(img image.Image) {
	if n, ok := img.(*image.NRGBA); ok && p.Recipe.Kind == Normal {
		renormalise(n)
	}
}

// add joins what two images hold.
func (c *Content) add(o Content) {
	c.Texels += o.Texels
	c.OneBit += o.OneBit
	c.Soft += o.Soft
	c.Coloured += o.Coloured
	c.Blue += o.Blue
	c.Unit += o.Unit
	c.Bright += o.Bright
	c.Light = c.Light || o.Light
	c.Deepest, c.Halfway = max(c.Deepest, o.Deepest), max(c.Halfway, o.Halfway)
	c.Clearest = min(c.Clearest, o.Clearest)
}

// choose settles the format.
func (p *Prepared) choose() {
	r := &p.Recipe
	allowed := r.Allowed
	if allowed == nil {
		for f := range formatCount {
			allowed = append(allowed, f)
		}
	}
	if !r.Forced {
		p.Choice = Choose(p.Content, r.Kind, r.SRGB, r.Quality == bcn.Best, allowed)
		r.Format = p.Choice.Format
		return
	}
	p.Choice = Choice{Format: r.Format, Loss: p.Content.LossIn(r.Format, r.Kind),
		Why: p.Content.Holds() + ": the recipe says " + r.Format.String()}
}

// Allows says whether the game takes the format that was settled.
func (p *Prepared) Allows() bool {
	return p.Recipe.Allowed == nil || slices.Contains(p.Recipe.Allowed, p.Recipe.Format)
}

// Compile makes the texture. It uses the images up, so that large ones need not be in memory any longer.
func (p *Prepared) Compile(ctx context.Context) (*Texture, error) {
	r := p.Recipe
	images := p.Images
	p.Images = nil
	for i, img := range images {
		images[i] = suited(img, r.Format, r.SRGB)
	}
	cover := r.Kind == Colour && p.Content.Alpha() == "one bit"
	if r.Coverage != nil {
		cover = *r.Coverage
	}
	return Compile(ctx, images,
		Options{Format: r.Format, SRGB: r.SRGB, Shape: r.Shape, Quality: r.Quality, Levels: r.Levels, Filter: r.Filter,
			Edge:    r.Edge,
			Normals: r.Kind == Normal, Coverage: cover, Workers: r.Workers})
}
