package shots

import (
	"errors"
	"fmt"
	"image/color"
	"math"
	"os"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/format/geom"
	"vornix/core/format/imaging"
	"vornix/core/format/material"
	"vornix/core/source/assetgraph"
	"vornix/core/source/scene"
)

// Recipe is a painting as it is applied to a picture of a size.
func Recipe(r profile.Painting, w, h int) imaging.Recipe {
	number := func(v *float64) float64 {
		if v == nil {
			return 0
		}
		return *v
	}
	e := imaging.Recipe{Width: w, Height: h, Crop: r.Crop, Focus: [2]float64{0.5, 0.5},
		Background: colour(r.Background, 0, 0, 0), Blur: number(r.Blur), Darken: number(r.Darken),
		Vignette: number(r.Vignette), FrameColour: colour(r.FrameColour, 255, 255, 255)}
	if len(r.Focus) == 2 {
		e.Focus = [2]float64(r.Focus)
	}
	e.Multiply, _ = imaging.ParseColour(r.Multiply) // without one it is see-through, and does nothing
	e.Overlay, _ = imaging.ParseColour(r.Overlay)
	if r.Frame != nil {
		e.Frame = *r.Frame
	}
	return e
}

func colour(s string, r, g, b uint8) color.NRGBA {
	if c, ok := imaging.ParseColour(s); ok {
		return c
	}
	return color.NRGBA{r, g, b, 255}
}

// textSize is how high letters are by the picture, where no recipe says it.
const textSize = 0.09

func text(r profile.Painting, line string) *imaging.Text {
	t := &imaging.Text{Line: line, At: r.TextAt, Size: textSize, Colour: colour(r.TextColour, 255, 255, 255)}
	if r.TextSize != nil {
		t.Size = *r.TextSize
	}
	return t
}

// text looks at a picture's line of text; false when its font can't be used.
func (pl *planner) text(x *Picture) bool {
	t := *x.Edit.Text
	if x.Font != "" {
		data, err := pl.read(x.Font)
		if err != nil {
			pl.add(finding.PictureImage.At(x.Place, "the font %s can't be read: %v", x.Font,
				err).Doing("Correct font under [[picture]], or add the file."))
			return false
		}
		t.Font = data
	}
	lacks, err := t.Missing()
	if err != nil {
		pl.add(finding.PictureImage.At(fault.Place{File: x.Font}, "%v", err).Doing("Name a TrueType or OpenType file."))
		return false
	}
	if lacks != "" {
		pl.add(finding.PictureText.At(x.Place,
			"the font has no letters for %q, which the text %q of the picture %s needs", lacks, t.Line, x.ID()))
	}
	return true
}

func (pl *planner) read(name string) ([]byte, error) {
	data, err := os.ReadFile(pl.p.Join(name))
	var where *os.PathError
	if errors.As(err, &where) {
		err = where.Err
	}
	return data, err
}

const (
	// maxGrowth is by how much an image may be enlarged before it looks blurred.
	maxGrowth = 1.05
	// minKept is how much of an image has to be left after it is cut to its ratio.
	minKept = 0.4
)

// image looks at the image that a picture is made of; false when it can't be used.
func (pl *planner) image(x *Picture, r profile.Painting) bool {
	place := fault.Place{File: x.Image}
	if !pl.files[x.Image] {
		f := finding.PictureImage.At(x.Place, "the image %s, of which the picture %s is made, is not there", x.Image,
			x.ID())
		var all []string
		for _, of := range pl.g.Files {
			all = append(all, of.Path)
		}
		if near := suggest.Word(x.Image, all); near != "" {
			f = f.Doing("Did you mean %q?", near)
		}
		pl.add(f)
		return false
	}
	data, err := pl.read(x.Image)
	if err != nil {
		pl.add(finding.PictureImage.At(place, "the image can't be read: %v", err).Doing("Check who may read it."))
		return false
	}
	ready, err := imaging.Inspect(x.Image, data)
	if err != nil {
		pl.add(finding.PictureImage.At(place, "%v", err).Doing("Export the image again."))
		return false
	}
	if x.AsIs {
		return pl.ready(x, ready, int64(len(data)))
	}
	e := Recipe(r, x.Width, x.Height)
	if e.Crop == "refuse" && !e.SameRatio(ready.Width, ready.Height) {
		pl.add(finding.PictureRatio.At(place, "the image has %d x %d pixels, %s; the picture %s wants %s", ready.Width,
			ready.Height, ratio(ready.Width, ready.Height), x.ID(), ratio(x.Width, x.Height)))
		return false
	}
	if _, kept := e.Window(ready.Width, ready.Height); kept < minKept && (e.Crop == "" || e.Crop == "fill") {
		pl.add(finding.PictureCropped.At(place,
			"of the image, %d x %d, %.0f %% is left when it is cut to the %d x %d of the picture %s", ready.Width,
			ready.Height, 100*kept, x.Width, x.Height, x.ID()))
	}
	if by := e.Grows(ready.Width, ready.Height); by > maxGrowth {
		pl.add(finding.PictureSmall.At(place,
			"the image has %d x %d pixels and is enlarged %.1f times for the %d x %d of the picture %s", ready.Width,
			ready.Height, by, x.Width, x.Height, x.ID()))
	}
	return true
}

// ready holds a finished file to what is asked for.
func (pl *planner) ready(x *Picture, r imaging.Ready, size int64) bool {
	place, ok := fault.Place{File: x.Image}, true
	say := func(f finding.Finding) { pl.add(f); ok = false }
	want := map[string]string{profile.PNG: "PNG", profile.JPEG: "JPEG"}[x.Of.Form]
	switch {
	case x.Of.Form == profile.Texture:
		say(finding.PictureKind.At(place,
			"the picture %s is a texture, which is made of an image and never taken as it is",
			x.ID()).Doing("Leave as_is out."))
		return false
	case r.Form != want:
		say(finding.PictureKind.At(place, "the file is a %s, and the picture %s is to be a %s", r.Form, x.ID(), want))
	case r.Progressive:
		say(finding.PictureProgressive.At(place, "the JPEG is progressive, and the picture %s is to be a baseline JPEG",
			x.ID()))
	}
	if r.Width != x.Width || r.Height != x.Height {
		if (&imaging.Recipe{Width: x.Width, Height: x.Height}).SameRatio(r.Width, r.Height) {
			say(finding.PictureSize.At(place, "the file has %d x %d pixels, and the picture %s is to have %d x %d",
				r.Width, r.Height, x.ID(), x.Width, x.Height))
		} else {
			say(finding.PictureRatio.At(place, "the file has %d x %d pixels, %s; the picture %s is to have %d x %d, %s",
				r.Width, r.Height, ratio(r.Width, r.Height), x.ID(), x.Width, x.Height, ratio(x.Width, x.Height)))
		}
	}
	if x.Of.MostBytes > 0 && size > x.Of.MostBytes {
		say(finding.PictureHeavy.At(place, "the file has %d bytes, and the picture %s may have %d", size, x.ID(),
			x.Of.MostBytes))
	}
	return ok
}

// ratio is a ratio in words: 16:9 where it is one of small numbers.
func ratio(w, h int) string {
	a, b := w, h
	for b != 0 {
		a, b = b, a%b
	}
	if w/a <= 64 && h/a <= 64 {
		return fmt.Sprintf("%d:%d", w/a, h/a)
	}
	return strings.TrimSuffix(fmt.Sprintf("%.2f", float64(w)/float64(h)), ".00") + ":1"
}

// buried finds a camera that lies in a solid, or below the ground, and says so. In water and behind glass it may.
func (pl *planner) buried(m *assetgraph.Asset, c *scene.Camera) bool {
	s := m.Scene
	in := ""
	for i := range s.Solids {
		b := &s.Solids[i]
		if !within(b.Box, c.At) || in != "" {
			continue
		}
		inside, clear := true, true
		for k := range b.Faces {
			f := &b.Faces[k]
			inside = inside && f.Plane.Distance(c.At) < -geom.Near
			a := pl.g.Find(assetgraph.Material, f.Material.Name)
			clear = clear && a != nil && a.Material != nil && a.Material.SeeThrough == material.SeeThroughSoft
		}
		if inside && !clear {
			in = fmt.Sprintf("in the solid %q", b.Name)
		}
	}
	for i := range s.Terrains {
		t := &s.Terrains[i]
		if c.At.X <= t.Box.Min.X || c.At.X >= t.Box.Max.X || c.At.Y <= t.Box.Min.Y || c.At.Y >= t.Box.Max.Y ||
			in != "" {
			continue
		}
		size := t.Box.Max.Sub(t.Box.Min)
		x := float64((c.At.X - t.Box.Min.X) / size.X * float64(t.Columns-1))
		y := float64((t.Box.Max.Y - c.At.Y) / size.Y * float64(t.Rows-1))
		i, j := min(int(x), t.Columns-2), min(int(y), t.Rows-2)
		fx, fy := x-float64(i), y-float64(j)
		a, b, d, e := t.Height(i, j).Z, t.Height(i+1, j).Z, t.Height(i, j+1).Z, t.Height(i+1, j+1).Z
		ground := a + float64((b-a)*fx) + float64((d-a)*fy) // the triangle at the upper left
		if fx+fy > 1 {
			ground = e + float64((d-e)*(1-fx)) + float64((b-e)*(1-fy))
		}
		if c.At.Z < ground-geom.Near {
			in = fmt.Sprintf("%.1f m below the terrain %q", math.Max(ground-c.At.Z, 0.1), t.Name)
		}
	}
	if in == "" {
		return false
	}
	pl.add(finding.CameraBuried.At(c.Place, "the camera %q lies %s", c.Name, in))
	return true
}

func within(b geom.Box, p geom.Vec) bool {
	return p.X > b.Min.X && p.Y > b.Min.Y && p.Z > b.Min.Z && p.X < b.Max.X && p.Y < b.Max.Y && p.Z < b.Max.Z
}
