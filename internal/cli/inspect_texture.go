package cli

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/format/texture"
	"vornix/core/release"
	"vornix/core/source/assetgraph"
	"vornix/demo"
)

// textureAnswer is what inspect says of a texture or an image.
type textureAnswer struct {
	Kind   string `json:"kind"`
	Format string `json:"format,omitempty"`
	Shape  string `json:"shape,omitempty"` // flat, cube or array
	SRGB   bool   `json:"srgb"`
	Untold bool   `json:"space_untold,omitempty"` // the file can't say whether colours are sRGB
	Width  int    `json:"width"`
	Height int    `json:"height"`
	Images int    `json:"images"`
	Levels int    `json:"levels,omitempty"`
	Bytes  int    `json:"bytes"`
	Alpha  string `json:"alpha"`           // no, one bit or soft
	Holds  string `json:"holds,omitempty"` // such as "opaque colour"
	// Source is the image that a texture was made of, and Difference how far it is from it.
	Source     string              `json:"source,omitempty"`
	Difference *texture.Difference `json:"difference,omitempty"`
	Why        string              `json:"why,omitempty"` // why the project chose the format
	// Becomes says what a project makes of an image, and why.
	Becomes string `json:"becomes,omitempty"`
}

func (a *app) inspectTexture(ctx context.Context, name string, o look) (any, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	t, err := texture.Read(data)
	if err != nil {
		return nil, err
	}
	content := texture.Analyse(t.Image(0, 0))
	answer := textureAnswer{Kind: "texture", Format: t.Format.String(), Shape: texture.ShapeNames[t.Shape],
		SRGB: t.SRGB, Untold: t.SpaceUntold, Width: t.Width, Height: t.Height,
		Images: t.Images, Levels: len(t.Levels), Bytes: len(data), Alpha: content.Alpha(), Holds: content.Holds()}
	space := "linear"
	switch {
	case t.SRGB:
		space = "sRGB"
	case t.SpaceUntold:
		space = "sRGB or linear (the plain header does not say)"
	}
	what := "texture"
	if t.Shape != texture.Flat {
		what = fmt.Sprintf("%s of %d images, each", answer.Shape, t.Images)
	}
	a.out.Say("%s %d x %d, %s, %s, %s, %s alpha, %s", what, t.Width, t.Height, t.Format, space,
		release.Count(len(t.Levels), "level"), answer.Alpha, release.Bytes(int64(len(data))))
	source, label, why, err := a.sourceOf(ctx, name, t, o)
	if err != nil {
		return nil, err
	}
	if source != nil {
		d := texture.Compare(source, t.Image(0, 0), t.Format)
		answer.Source, answer.Difference = label, &d
		alpha := ""
		if content.Alpha() != "no" {
			alpha = ", alpha " + decibels(d.Alpha)
		}
		a.out.Say("from %s: %s%s, worst %d", label, decibels(d.Colour), alpha, d.Worst)
	}
	if answer.Why = why; why != "" {
		a.out.Say("%s", why)
	}
	var rows [][]string
	for i, l := range t.Levels {
		w, h := t.LevelBounds(i)
		rows = append(rows, []string{strconv.Itoa(i), fmt.Sprintf("%d x %d", w, h), release.Bytes(int64(len(l)))})
	}
	a.out.Table([]string{"level", "texels", "size"}, rows)
	return answer, a.picture(o.picture, texture.Sheet(t, source))
}

// decibels is a quality in words.
func decibels(db float64) string {
	if db >= 99 {
		return "exact"
	}
	return fmt.Sprintf("%.2f dB", db)
}

// picture writes a drawing where one is asked for.
func (a *app) picture(name string, img image.Image) error {
	if name == "" {
		return nil
	}
	if !strings.EqualFold(filepath.Ext(name), ".png") {
		return &fault.Fault{Kind: fault.Usage,
			What: fmt.Sprintf("%s: pictures are drawn as PNG", filepath.ToSlash(name)), Do: "End it in .png."}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		return err
	}
	d, err := safefile.OpenDir(filepath.Dir(name))
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.WriteFile(filepath.Base(name), b.Bytes()); err != nil {
		return err
	}
	a.out.Say("drawn into %s", filepath.ToSlash(name))
	return nil
}

// sourceOf is what a texture was made of, as its job saw it: the image that was named, or, for a texture in a project's
// tree, the project's, with why its format was chosen. It is nil when there is none of the texture's size.
func (a *app) sourceOf(ctx context.Context, name string, t *texture.Texture, o look) (img image.Image, label,
	why string, err error) {
	if o.source != "" {
		data, err := os.ReadFile(o.source)
		if err != nil {
			return nil, "", "",
				&fault.Fault{Kind: fault.Usage, What: "could not read the source",
					Place: fault.Place{File: filepath.ToSlash(o.source)}, Err: err, Do: "Check the path."}
		}
		img, err := texture.Decode(data)
		if err != nil {
			return nil, "", "",
				&fault.Fault{What: "the source can't be read", Place: fault.Place{File: filepath.ToSlash(o.source)},
					Err: err, Do: "Name another image."}
		}
		if img.Bounds().Size() != image.Pt(t.Width, t.Height) {
			img = texture.Resize(img, t.Width, t.Height, t.SRGB, texture.Box, texture.Clamp)
		}
		return img, filepath.ToSlash(o.source), "", nil
	}
	p, rel := projectOf(name)
	inTree, ok := strings.CutPrefix(rel, project.TreeDir+"/")
	if p == nil || !ok {
		return nil, "", "", nil
	}
	g, err := assetgraph.ScanProject(ctx, p)
	if err != nil {
		return nil, "", "", nil // the texture can be looked at without its source
	}
	for _, x := range g.Of(assetgraph.Texture) {
		if assetgraph.GamePath(p, x) == inTree {
			if made := prepared(p, x); made != nil && !made.Refused &&
				made.Images[0].Bounds().Size() == image.Pt(t.Width, t.Height) {
				return made.Images[0], x.Source, fmt.Sprintf("of the kind %s; %s", made.Recipe.Kind, made.Choice.Why),
					nil
			}
		}
	}
	return nil, "", "", nil
}

// projectOf finds the project that a file lies in, and its slash path there; nil outside of one.
func projectOf(name string) (*project.Project, string) {
	abs, err := filepath.Abs(name)
	if err != nil {
		return nil, ""
	}
	dir, err := project.Find(filepath.Dir(abs))
	if err != nil {
		return nil, ""
	}
	p, err := project.Load(dir, demo.Profiles())
	if err != nil {
		return nil, ""
	}
	rel, err := filepath.Rel(dir, abs)
	if err != nil {
		return nil, ""
	}
	return p, filepath.ToSlash(rel)
}

// prepared is a texture's images as its job prepares them; nil when that fails.
func prepared(p *project.Project, x *assetgraph.Asset) *texture.Prepared {
	var files [][]byte
	for _, f := range x.Images {
		data, err := os.ReadFile(p.Join(f))
		if err != nil {
			return nil
		}
		files = append(files, data)
	}
	made, err := texture.Prepare(files, x.Recipe(p))
	if err != nil {
		return nil
	}
	return made
}

func (a *app) inspectImage(ctx context.Context, name string, o look) (any, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	info, err := texture.Probe(name, data)
	if err != nil {
		return nil, err
	}
	img, err := texture.Decode(data)
	if err != nil {
		return nil, err
	}
	content := texture.Analyse(img)
	answer := textureAnswer{Kind: "image", SRGB: true, Width: info.Width, Height: info.Height, Images: 1,
		Bytes: len(data), Alpha: content.Alpha(), Holds: content.Holds()}
	a.out.Say("%s %d x %d, %s, %s", info.Form, info.Width, info.Height, content.Holds(),
		release.Bytes(int64(len(data))))
	if info.Misnamed {
		a.out.Say("its name ends in %s, and it is a %s", filepath.Ext(name), info.Form)
	}
	answer.Becomes = becomes(ctx, name)
	if answer.Becomes != "" {
		a.out.Say("becomes %s", answer.Becomes)
	}
	if o.picture != "" {
		t, err := texture.Compile(ctx, []image.Image{texture.Visible(img)},
			texture.Options{Format: texture.RGBA8, SRGB: true})
		if err != nil {
			return nil, err
		}
		return answer, a.picture(o.picture, texture.Sheet(t, nil))
	}
	return answer, nil
}

// becomes says what a project makes of an image, and why; empty outside of one.
func becomes(ctx context.Context, name string) string {
	p, rel := projectOf(name)
	if p == nil {
		return ""
	}
	g, err := assetgraph.ScanProject(ctx, p)
	if err != nil {
		return ""
	}
	for _, x := range g.Of(assetgraph.Texture) {
		if x.Source != rel {
			continue
		}
		made := prepared(p, x)
		if made == nil {
			return ""
		}
		if made.Refused {
			return fmt.Sprintf("nothing: %s does not take %d x %d texels", p.Profile.Game.Title, made.Width,
				made.Height)
		}
		b := made.Images[0].Bounds()
		return fmt.Sprintf("%s: %d x %d, %s, of the kind %s (%s)", assetgraph.GamePath(p, x), b.Dx(), b.Dy(),
			made.Recipe.Format, made.Recipe.Kind, made.Choice.Why)
	}
	return ""
}
