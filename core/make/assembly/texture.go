package assembly

import (
	"context"
	"fmt"
	"image"
	"os"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/config/project"
	"vornix/core/format/sprite"
	"vornix/core/format/texture"
	"vornix/core/make/taskgraph"
	"vornix/core/source/assetgraph"
)

func (pl *planner) texture(a *assetgraph.Asset) {
	p := pl.p
	how := a.Recipe(p)
	file := p.Profile.Textures.File()
	out := p.Profile.TexturePath(a.Name)
	broken := pl.partErrors(a)
	w := &textureWork{Name: a.Name, Place: fault.Place{File: a.Source}, Game: p.Profile.Game.Title, Images: a.Images,
		Out: out, Recipe: how, File: file, Seen: a.SeenThrough, Broken: broken}
	pl.work(&taskgraph.Job{ID: "texture " + a.Name, Step: "texture", Version: texture.Version, Inputs: a.Images,
		Outputs: []string{out}}, w)
}

// textureWork is what making a texture takes besides its images.
type textureWork struct {
	Name   string
	Place  fault.Place
	Game   string
	Images []string
	Out    string
	Recipe texture.Recipe
	File   texture.Container
	Seen   []string
	Broken []finding.Finding
}

func (w *textureWork) decides() any {
	return struct {
		Recipe texture.Recipe
		File   texture.Container
		Seen   []string
		Broken []finding.Finding
	}{w.Recipe, w.File, w.Seen, w.Broken}
}

func (w *textureWork) run(ctx context.Context, t *taskgraph.Task, b *resources) error {
	fail := func(f ...finding.Finding) error {
		return &finding.Failure{What: "the texture " + w.Name + " can't be made", Findings: f}
	}
	if len(w.Broken) > 0 {
		return fail(w.Broken...)
	}
	how := w.Recipe
	how.Workers = b.workers
	var files [][]byte
	texels := 0
	for _, name := range w.Images {
		data, err := t.Input(name)
		if err != nil {
			return err
		}
		info, err := texture.Probe(name, data)
		if err != nil {
			return fail(finding.TextureDecode.At(fault.Place{File: name}, "%v", err))
		}
		files, texels = append(files, data), texels+info.Width*info.Height
	}
	release, err := b.reserve(ctx, texels)
	if err != nil {
		return err
	}
	defer release()
	made, err := texture.Prepare(files, how)
	if err != nil {
		return fail(finding.TextureDecode.At(w.Place, "%v", err))
	}
	files = nil // the images are in memory now, and may be large
	list := TextureFindings(made, Context{Place: w.Place, Game: w.Game, Recipe: how, Seen: w.Seen})
	t.Find(list...)
	if finding.Count(list, finding.Error) > 0 {
		return fail(list...)
	}
	compiled, err := made.Compile(ctx)
	if err != nil {
		return err
	}
	parts, err := compiled.Parts(w.File)
	if err != nil {
		return fail(finding.TextureFormat.At(w.Place, "%v", err))
	}
	return t.Write(w.Out, parts...)
}

// partErrors are the errors about how a texture is made, which its job must fail with.
func (pl *planner) partErrors(a *assetgraph.Asset) []finding.Finding {
	var list []finding.Finding
	for _, part := range a.Parts {
		if strings.HasSuffix(part, project.SidecarEnding) {
			list = append(list, pl.about(part)...)
		}
	}
	if len(list) == 0 && len(a.Images) == 0 {
		list = append(list, finding.TextureSidecar.At(fault.Place{File: a.Source}, "it is made of no image"))
	}
	return list
}

// Context is what findings about a texture tell of beside the pixels.
type Context struct {
	Place  fault.Place
	Game   string // empty outside a project
	Recipe texture.Recipe
	Seen   []string // materials that use its alpha
}

// TextureFindings says what is lost or doubtful in a texture that is about to be made.
func TextureFindings(p *texture.Prepared, c Context) []finding.Finding {
	var list []finding.Finding
	add := func(k *finding.Kind, format string, args ...any) *finding.Finding {
		list = append(list, k.At(c.Place, format, args...))
		return &list[len(list)-1]
	}
	var allowed []string
	for _, f := range c.Recipe.Allowed {
		allowed = append(allowed, f.String())
	}
	takes := strings.Join(allowed, ", ")
	r, content, loss := p.Recipe, p.Content, p.Choice.Loss
	switch {
	case p.Refused:
		size, _ := c.Recipe.Size.Fit(p.Width, p.Height)
		f := add(finding.TextureSize, "the image has %d x %d texels, which %s does not take", p.Width, p.Height, c.Game)
		*f = f.Doing("Resize it to %d x %d, or add size = \"nearest\" to its recipe under [[texture]].", size.X, size.Y)
		return list
	case !p.Allows():
		add(finding.TextureFormat, "%s does not take the format %s; it takes %s", c.Game, r.Format, takes)
		return list
	case r.Format.HoldsData() && r.SRGB:
		f := add(finding.TextureFormat, "the format %s holds data, and the recipe says colours", r.Format)
		*f = f.Doing("Add colour_space = \"linear\" to the recipe if it is data, or choose another format.")
		return list
	}
	lose := func(k *finding.Kind, n int, format string, args ...any) {
		if n == 0 {
			return
		}
		f := add(k, "%d of %d texels lose %s in %s", n, content.Texels, fmt.Sprintf(format, args...), r.Format)
		if !c.Recipe.Forced && c.Game != "" {
			*f = f.Doing("%s takes no format that keeps it (%s): change the image.", c.Game, takes)
		}
	}
	lose(finding.TextureAlpha, loss.Alpha, "their %s alpha (up to %d of 255 off)", content.Alpha(),
		content.AlphaOff(r.Format))
	lose(finding.TextureColour, loss.Colour, "their colour (channels differ by up to %d of 255)", content.Deepest)
	lose(finding.TextureLight, loss.Light, "what is brighter than white")
	if r.SRGB && r.Kind != texture.Normal && content.LooksNormal() {
		add(finding.TextureNormal,
			"%d of %d texels are directions of length one, as in a normal map, and are made as colour: sRGB turns them by %d degrees on average",
			content.Unit, content.Texels, texture.TurnedBySRGB(p.Images))
	}
	if p.NotUnit > 0 {
		add(finding.TextureNotUnit, "%d of %d texels of the normal map are no direction of length one: %s", p.NotUnit,
			p.Width*p.Height*len(p.Images), p.NotUnitWhy)
	}
	if len(c.Seen) > 0 && content.Alpha() == "no" {
		add(finding.TextureOpaque, "the material %q is seen through, and no texel has alpha", c.Seen[0])
	}
	return list
}

// imageSize is the size of a texture's first image; 0 when it can't be read, which the texture's own job says.
func (pl *planner) imageSize(t *assetgraph.Asset) (w, h int) {
	if size, known := pl.sizes[t]; known {
		return size[0], size[1]
	}
	data, err := os.ReadFile(pl.p.Join(t.Images[0]))
	if err == nil {
		if info, err := texture.Probe(t.Images[0], data); err == nil {
			w, h = info.Width, info.Height
		}
	}
	pl.sizes[t] = [2]int{w, h}
	return w, h
}

// spritePages is how many pages a sprite's atlas has; 0 for another asset.
func spritePages(a *assetgraph.Asset) int {
	if a.Kind != assetgraph.Sprite || a.Sheet == nil {
		return 0
	}
	return a.Sheet.Pages()
}

func (pl *planner) sprite(a *assetgraph.Asset) {
	prof := pl.p.Profile
	out := []string{prof.SpritePath(a.Name)}
	for n := range spritePages(a) {
		out = append(out, prof.SpritePagePath(sprite.PageName(a.Name, n)))
	}
	inputs := []string{a.Source}
	if a.Sheet != nil {
		inputs = append(inputs, a.Sheet.Images()...)
	}
	rules := prof.Textures
	var how texture.Recipe
	if a.Sheet != nil {
		how = a.Sheet.Recipe(rules.FormatList())
	}
	broken := pl.about(a.Source)
	w := &spriteWork{Name: a.Name, Source: a.Source, Sheet: a.Sheet != nil, Game: prof.Game.Title, Recipe: how,
		File: rules.File(), Rule: rules.SizeRule(),
		Limits: sprite.Limits{Largest: rules.Largest, PowerOfTwo: rules.PowerOfTwo}, Outputs: out, Broken: broken}
	pl.work(&taskgraph.Job{ID: "sprite " + a.Name, Step: "sprite", Version: spriteVersion + texture.Version<<8,
		Inputs: inputs, Outputs: out}, w)
}

// spriteWork is what making a sprite takes besides its sheet and images.
type spriteWork struct {
	Name, Source string
	Sheet        bool // whether the sheet can be read at all
	Game         string
	Recipe       texture.Recipe
	File         texture.Container
	Rule         texture.SizeRule
	Limits       sprite.Limits
	Outputs      []string // the index, then the pages
	Broken       []finding.Finding
}

func (w *spriteWork) decides() any {
	return struct {
		Recipe  texture.Recipe
		File    texture.Container
		Rule    texture.SizeRule
		Outputs []string
		Broken  []finding.Finding
	}{w.Recipe, w.File, w.Rule, w.Outputs, w.Broken}
}

func (w *spriteWork) run(ctx context.Context, t *taskgraph.Task, b *resources) error {
	fail := func(f ...finding.Finding) error {
		return &finding.Failure{What: "the sprite " + w.Name + " can't be made", Findings: f}
	}
	if len(w.Broken) > 0 || !w.Sheet {
		return fail(w.Broken...)
	}
	sheet, err := sheetOf(t, w.Source)
	if err != nil {
		return err
	}
	frames, list, err := sheet.Frames(func(file string) (*image.NRGBA, error) {
		data, err := t.Input(file)
		if err != nil {
			return nil, err
		}
		img, err := sprite.Visible(data)
		if err != nil {
			return nil, fail(finding.TextureDecode.At(fault.Place{File: file}, "%v", err))
		}
		return img, nil
	})
	if err != nil {
		return err
	}
	if len(list) > 0 {
		return fail(list...)
	}
	atlas, list := sheet.Pack(frames, w.Limits, func(n int) string { return w.Outputs[1+n] })
	t.Find(list...)
	if atlas == nil {
		return fail(list...)
	}
	for n, page := range atlas.Pages {
		how := w.Recipe
		how.Workers = b.workers
		data, list, err := spritePage(ctx, page, how, w.File,
			Context{Place: fault.Place{File: w.Source}, Game: w.Game, Recipe: how})
		if err != nil {
			return err
		}
		if t.Find(list...); finding.Count(list, finding.Error) > 0 {
			return fail(list...)
		}
		if err := t.Write(w.Outputs[1+n], data); err != nil {
			return err
		}
	}
	data, err := atlas.Index.JSON()
	if err != nil {
		return fmt.Errorf("writing the index of the sprite %s: %w", w.Name, err)
	}
	return t.Write(w.Outputs[0], data)
}

// sheetOf reads a sprite's sheet, whose images are among the job's inputs.
func sheetOf(t *taskgraph.Task, source string) (*sprite.Sheet, error) {
	data, err := t.Input(source)
	if err != nil {
		return nil, err
	}
	sheet, list := sprite.Parse(source, data, t.Inputs())
	if sheet == nil {
		return nil, &finding.Failure{What: source + " is no sheet of a sprite", Findings: list}
	}
	return sheet, nil
}

// spritePage makes a texture of a page.
func spritePage(ctx context.Context, page *image.NRGBA, how texture.Recipe, file texture.Container, c Context) ([]byte,
	[]finding.Finding, error) {
	made, err := texture.PrepareImages([]image.Image{page}, how)
	if err != nil {
		return nil, nil, err
	}
	list := TextureFindings(made, c)
	if finding.Count(list, finding.Error) > 0 {
		return nil, list, nil
	}
	compiled, err := made.Compile(ctx)
	if err != nil {
		return nil, nil, err
	}
	data, err := compiled.Encode(file)
	return data, list, err
}
