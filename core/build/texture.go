package build

import (
	"context"
	"fmt"
	"image"
	"os"
	"strings"

	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/job"
	"vornix/core/needs"
	"vornix/core/project"
	"vornix/core/sprite"
	"vornix/core/texture"
)

// imageMemory is how much memory, in bytes, images being made into textures may take together; one that needs more is
// made alone.
const imageMemory = 160 << 20

// reserve waits until there is memory for images of a number of texels: read, filtered and packed, they take about eight
// bytes a texel at once.
func (pl *planner) reserve(ctx context.Context, texels int) (release func(), err error) {
	n := min(int64(texels)*8, imageMemory)
	if err := pl.memory.Acquire(ctx, n); err != nil {
		return nil, err
	}
	return func() { pl.memory.Release(n) }, nil
}

func (pl *planner) texture(a *needs.Asset) {
	p := pl.p
	how := a.Recipe(p)
	file := p.Profile.Textures.File()
	out := p.Profile.TexturePath(a.Name)
	broken := pl.partErrors(a)
	pl.add(&job.Job{
		ID: "texture " + a.Name, Step: "texture", Version: texture.Version, Inputs: a.Images, Outputs: []string{out},
		Recipe: recipe(struct {
			Recipe texture.Recipe
			File   texture.Container
			Seen   []string
			Broken []finding.Finding
		}{how, file, a.SeenThrough, broken}),
		Run: func(ctx context.Context, t *job.Task) error {
			fail := func(f ...finding.Finding) error {
				return &finding.Failure{What: "the texture " + a.Name + " can't be made", Findings: f}
			}
			if len(broken) > 0 {
				return fail(broken...)
			}
			how := how
			how.Workers = pl.workers
			place := fault.Place{File: a.Source}
			var files [][]byte
			texels := 0
			for _, name := range a.Images {
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
			release, err := pl.reserve(ctx, texels)
			if err != nil {
				return err
			}
			defer release()
			made, err := texture.Prepare(files, how)
			if err != nil {
				return fail(finding.TextureDecode.At(place, "%v", err))
			}
			files = nil // the images are in memory now, and may be large
			list := TextureFindings(made, Context{Place: place, Game: p.Profile.Game.Title, Recipe: how, Seen: a.SeenThrough})
			t.Find(list...)
			if finding.Count(list, finding.Error) > 0 {
				return fail(list...)
			}
			compiled, err := made.Compile(ctx)
			if err != nil {
				return err
			}
			parts, err := compiled.Parts(file)
			if err != nil {
				return fail(finding.TextureFormat.At(place, "%v", err))
			}
			return t.Write(out, parts...)
		},
	})
}

// partErrors are the errors about how a texture is made, which its job must fail with.
func (pl *planner) partErrors(a *needs.Asset) []finding.Finding {
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
	lose(finding.TextureAlpha, loss.Alpha, "their %s alpha (up to %d of 255 off)", content.Alpha(), content.AlphaOff(r.Format))
	lose(finding.TextureColour, loss.Colour, "their colour (channels differ by up to %d of 255)", content.Deepest)
	lose(finding.TextureLight, loss.Light, "what is brighter than white")
	if r.SRGB && r.Kind != texture.Normal && content.LooksNormal() {
		add(finding.TextureNormal, "%d of %d texels are directions of length one, as in a normal map, and are made as colour: sRGB turns them by %d degrees on average",
			content.Unit, content.Texels, texture.TurnedBySRGB(p.Images))
	}
	if p.NotUnit > 0 {
		add(finding.TextureNotUnit, "%d of %d texels of the normal map are no direction of length one: %s", p.NotUnit, p.Width*p.Height*len(p.Images), p.NotUnitWhy)
	}
	if len(c.Seen) > 0 && content.Alpha() == "no" {
		add(finding.TextureOpaque, "the material %q is seen through, and no texel has alpha", c.Seen[0])
	}
	return list
}

// imageSize is the size of a texture's first image; 0 when it can't be read, which the texture's own job says.
func (pl *planner) imageSize(t *needs.Asset) (w, h int) {
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
func spritePages(a *needs.Asset) int {
	if a.Kind != needs.Sprite || a.Sheet == nil {
		return 0
	}
	return a.Sheet.Pages()
}

func (pl *planner) sprite(a *needs.Asset) {
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
	pl.add(&job.Job{
		ID: "sprite " + a.Name, Step: "sprite", Version: spriteVersion + texture.Version<<8, Inputs: inputs, Outputs: out,
		Recipe: recipe(struct {
			Recipe  texture.Recipe
			File    texture.Container
			Rule    texture.SizeRule
			Outputs []string
			Broken  []finding.Finding
		}{how, rules.File(), rules.SizeRule(), out, broken}),
		Run: func(ctx context.Context, t *job.Task) error {
			fail := func(f ...finding.Finding) error {
				return &finding.Failure{What: "the sprite " + a.Name + " can't be made", Findings: f}
			}
			if len(broken) > 0 || a.Sheet == nil {
				return fail(broken...)
			}
			frames, list, err := a.Sheet.Frames(func(file string) (*image.NRGBA, error) {
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
			atlas, list := a.Sheet.Pack(frames, sprite.Limits{Largest: rules.Largest, PowerOfTwo: rules.PowerOfTwo}, func(n int) string { return out[1+n] })
			t.Find(list...)
			if atlas == nil {
				return fail(list...)
			}
			for n, page := range atlas.Pages {
				how := how
				how.Workers = pl.workers
				data, list, err := spritePage(ctx, page, how, rules.File(), Context{Place: fault.Place{File: a.Source}, Game: prof.Game.Title, Recipe: how})
				if err != nil {
					return err
				}
				if t.Find(list...); finding.Count(list, finding.Error) > 0 {
					return fail(list...)
				}
				if err := t.Write(out[1+n], data); err != nil {
					return err
				}
			}
			data, err := atlas.Index.JSON()
			if err != nil {
				return fmt.Errorf("writing the index of the sprite %s: %w", a.Name, err)
			}
			return t.Write(out[0], data)
		},
	})
}

// spritePage makes a texture of a page.
func spritePage(ctx context.Context, page *image.NRGBA, how texture.Recipe, file texture.Container, c Context) ([]byte, []finding.Finding, error) {
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
