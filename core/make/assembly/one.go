package assembly

import (
	"context"
	"fmt"
	"image"
	"os"
	"path/filepath"

	"vornix/core/base/finding"
	"vornix/core/compile"
	"vornix/core/compile/radiance"
	"vornix/core/compile/render"
	"vornix/core/compile/stage"
	"vornix/core/config/project"
	"vornix/core/format/gltf"
	"vornix/core/format/mapfile"
	"vornix/core/format/model"
	"vornix/core/format/texture"
	"vornix/core/source/assetgraph"
	"vornix/core/source/maplang"
	"vornix/core/source/scene"
)

// One is a map that was compiled by itself.
type One struct {
	Scene    *scene.Map
	Compiled *compile.Result
	Findings []finding.Finding
	// Looks are how the map's materials and its sky look to light.
	Looks Looks
	pl    *planner // nil without a project
}

// Looks say how a map looks. The zero value is plain.
type Looks struct {
	Of  func(material string) render.Appearance // nil: all are plain
	Sky *scene.Picture                          // nil: as the map says
	// Sprites gives a sprite's first frame in a state and a direction; nil: there are none.
	Sprites func(name, state, direction string) (render.Sprite, bool)
}

// sideOfShots is the most texels of textures along a side in pictures.
const sideOfShots = 1024

// Scene makes a compiled map ready for pictures.
func (l Looks) Scene(m *mapfile.Map) (*render.Scene, error) {
	sky, err := radiance.Load(l.Sky)
	if err != nil {
		return nil, fmt.Errorf("reading the map's sky from %s: %w", l.Sky.Name, err)
	}
	return render.NewScene(m, l.Look, sky, sideOfShots), nil
}

// Tiles makes a map of grids ready for pictures.
func (l Looks) Tiles(m *mapfile.Map) *render.Tiles { return render.NewTiles(m, l.Look, l.Sprites) }

// Look is how a material looks.
func (l Looks) Look(material string) render.Appearance {
	if l.Of == nil {
		return render.Appearance{}
	}
	return l.Of(material)
}

// plainSize is the metres that a repeat covers where no project says it: as where a material says nothing.
const plainSize = 2

// CompileOne compiles one map source. dir is the folder that source is a path in; p is the project
// there, or nil, and then materials are of plain size and props are left out. keep names layers to
// keep although a release leaves them out. One.Compiled is nil when there are findings of severity
// error in the source. long says how the long stages run; nil: not at all.
func CompileOne(ctx context.Context, p *project.Project, dir, source string, keep []string, long *stage.Env) (*One,
	error) {
	open := func(name string) ([]byte, error) { return os.ReadFile(filepath.Join(dir, filepath.FromSlash(name))) }
	data, err := open(source)
	if err != nil {
		return nil, err
	}
	o := &One{}
	o.Scene, o.Findings = maplang.Read(source, data, maplang.Options{Open: open, Keep: keep})
	if o.Scene == nil {
		return o, nil
	}
	if o.Scene.Sky != nil {
		o.Looks.Sky = o.Scene.Sky.Image
	}
	options := compile.Options{MaterialSize: func(string) float64 { return plainSize }}
	if p != nil {
		files, err := p.List()
		if err != nil {
			return nil, err
		}
		g, err := assetgraph.Scan(ctx, p, files)
		if err != nil {
			return nil, err
		}
		o.pl = newPlanner(p, g, 1, Stages{})
		models := map[string]*model.Model{}
		for _, m := range g.Of(assetgraph.Model) {
			models[m.Name] = m.Model
		}
		rules := o.pl.rules(append(g.Of(assetgraph.Material), &assetgraph.Asset{Kind: assetgraph.Map, Scene: o.Scene}))
		options = rules.options(models)
		o.Looks.Of, o.Looks.Sprites = o.pl.shown(o.pl.fileOf), o.pl.sprites(o.pl.fileOf)
		if long != nil {
			options.Long = rules.long(o.pl.fileOf, *long)
		}
	}
	if p == nil && long != nil {
		options.Long = &compile.Long{Env: *long}
	}
	for _, prop := range o.Scene.Props {
		if prop.Shape == nil && options.Models[prop.Model.Name] == nil {
			f := finding.ModelMissing.At(prop.Model.Place, "the model %q is not there", prop.Model.Name)
			if p == nil { // nobody said where models are
				f.Severity = finding.Warning
			}
			o.Findings = append(o.Findings, f)
		}
	}
	if o.Compiled, err = compile.Compile(ctx, o.Scene, options); err != nil {
		return nil, err
	}
	o.Findings = append(o.Findings, o.Compiled.Findings...)
	finding.Sort(o.Findings)
	return o, nil
}

// Surface says how a material of the project looks; one that is missing or broken is plain.
func (o *One) Surface(name string) gltf.Surface {
	if o.pl == nil {
		return gltf.Surface{}
	}
	return o.pl.surface(name)
}

// Surfaces says how a project's materials look.
func Surfaces(ctx context.Context, p *project.Project) (func(name string) gltf.Surface, error) {
	files, err := p.List()
	if err != nil {
		return nil, err
	}
	g, err := assetgraph.Scan(ctx, p, files)
	if err != nil {
		return nil, err
	}
	return newPlanner(p, g, 1, Stages{}).surface, nil
}

// LooksOf says how a compiled map of a project looks.
func LooksOf(ctx context.Context, p *project.Project, m *mapfile.Map) (l Looks, err error) {
	files, err := p.List()
	if err != nil {
		return l, err
	}
	g, err := assetgraph.Scan(ctx, p, files)
	if err != nil {
		return l, err
	}
	return looksOf(newPlanner(p, g, 1, Stages{}), m)
}

func looksOf(pl *planner, m *mapfile.Map) (l Looks, err error) {
	l.Of, l.Sprites = pl.shown(pl.fileOf), pl.sprites(pl.fileOf)
	l.Sky, err = skyOf(m, pl.fileOf)
	return l, err
}

func (pl *planner) surface(name string) (s gltf.Surface) {
	a := pl.g.Find(assetgraph.Material, name)
	if a == nil || a.Material == nil {
		return s
	}
	m := a.Material
	s.SeeThrough, s.Unlit, s.DoubleSided = m.SeeThrough, m.Shading == "unlit", m.DoubleSided != nil && *m.DoubleSided
	if n, ok := gltf.Hex(m.Tint); ok {
		s.Tint = gltf.Linear(n)
	}
	for _, t := range []struct {
		name string
		to   *image.Image
	}{{m.Colour, &s.Colour}, {m.Normal, &s.Normal}, {m.Emission, &s.Emission}} {
		if texture := pl.g.Find(assetgraph.Texture, t.name); texture != nil {
			*t.to = pl.picture(texture)
		}
	}
	return s
}

// pictureSide is the longest side of images in an exported scene, in texels.
const pictureSide = 2048

// picture is a texture's first image as its recipe makes it; nil when it can't be read, which its own job says.
func (pl *planner) picture(a *assetgraph.Asset) image.Image {
	how := a.Recipe(pl.p)
	how.GreenOut = texture.Up
	how.Size.Largest, how.Size.How = pictureSide, "nearest"
	var files [][]byte
	for _, name := range a.Images {
		data, err := os.ReadFile(pl.p.Join(name))
		if err != nil {
			return nil
		}
		files = append(files, data)
	}
	made, err := texture.Prepare(files, how)
	if err != nil || len(made.Images) == 0 {
		return nil
	}
	return made.Images[0]
}
