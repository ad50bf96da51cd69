package assembly

import (
	"image"
	"os"
	"slices"
	"sync"

	"vornix/core/compile"
	"vornix/core/compile/radiance"
	"vornix/core/compile/render"
	"vornix/core/compile/stage"
	"vornix/core/format/gltf"
	"vornix/core/format/material"
	"vornix/core/format/sprite"
	"vornix/core/format/texture"
	"vornix/core/source/assetgraph"
)

// Stages says which of a map's long stages are run, and how. The zero value runs all in full.
type Stages struct {
	Only   []string // nil: all
	Draft  bool
	Memory int64 // bytes that a stage may take; 0: as many as is usual
	// Grows is told, before memory is taken, about how many bytes it will be; nil: nobody wants to know.
	Grows func(bytes int64)
}

// lookRule is what of a material decides how light meets it.
type lookRule struct {
	Look             radiance.Appearance
	Colour, Emission *lookTexture // nil: none
}

// lookTexture is how the image of a look is made.
type lookTexture struct {
	Files  []string
	Recipe texture.Recipe
}

func (pl *planner) lookRule(a *assetgraph.Asset) lookRule {
	m := a.Material
	return lookRule{Look: lookOf(m), Colour: pl.lookTexture(m.Colour), Emission: pl.lookTexture(m.Emission)}
}

// lookOf is a material's look without its images.
func lookOf(m *material.Material) radiance.Appearance {
	l := radiance.Appearance{SeeThrough: m.SeeThrough, Unlit: m.Shading == "unlit", DoubleSided: m.DoubleSided != nil &&
		*m.DoubleSided, EmissionPower: 1}
	if n, ok := gltf.Hex(m.Tint); ok {
		l.Tint = gltf.Linear(n)
	}
	if m.EmissionPower != nil {
		l.EmissionPower = *m.EmissionPower
	}
	if m.Contrast != nil {
		l.Contrast = *m.Contrast
		if l.Contrast == 0 {
			l.Contrast = 1e-9 // none at all; 0 is what nobody set
		}
	}
	if m.Saturation != nil {
		l.Saturation = *m.Saturation
		if l.Saturation == 0 {
			l.Saturation = -1
		}
	}
	return l
}

func (pl *planner) lookTexture(name string) *lookTexture {
	a := pl.g.Find(assetgraph.Texture, name)
	if a == nil || slices.ContainsFunc(a.Images, func(file string) bool { return !pl.opens(file) }) {
		return nil // its own job says why, and that is no reason to leave the map out
	}
	how := a.Recipe(pl.p)
	how.Size.Largest, how.Size.How = pictureSide, "nearest"
	// What only the file's form is about must not make a map again.
	how.Workers, how.Levels, how.Format, how.Forced, how.Allowed, how.Quality, how.Coverage = 0, 0, 0, false, nil, 0,
		nil
	return &lookTexture{Files: a.Images, Recipe: how}
}

// image makes the look's image; nil when it can't be read, which its own job says.
func (t *lookTexture) image(input func(string) ([]byte, error)) image.Image {
	if t == nil {
		return nil
	}
	var files [][]byte
	for _, name := range t.Files {
		data, err := input(name)
		if err != nil {
			return nil
		}
		files = append(files, data)
	}
	made, err := texture.Prepare(files, t.Recipe)
	if err != nil || len(made.Images) == 0 {
		return nil
	}
	return made.Images[0]
}

// shownRule is what of a material decides how it looks in pictures.
type shownRule struct {
	lookRule
	Normal, Detail, Mask *lookTexture
	More                 render.Appearance // without its images
}

// shownRule is that of a material of the project; one that is missing or broken is plain.
func (pl *planner) shownRule(name string) (r shownRule) {
	a := pl.g.Find(assetgraph.Material, name)
	if a == nil || a.Material == nil {
		return r
	}
	m := a.Material
	value := func(f *float64, otherwise float64) float64 {
		if f == nil {
			return otherwise
		}
		return *f
	}
	r = shownRule{lookRule: pl.lookRule(a), Normal: pl.lookTexture(m.Normal), Detail: pl.lookTexture(m.Detail),
		Mask: pl.lookTexture(m.Mask)}
	r.More = render.Appearance{DetailRepeat: value(m.DetailRepeat, 0), DetailStrength: value(m.DetailStrength, 0.5),
		Reflection: value(m.Reflection, 0),
		Roughness:  value(m.Roughness, material.DefaultRoughness), Murk: value(m.Murk, 0)}
	if r.Normal != nil {
		r.Normal.Recipe.GreenOut = texture.Up
	}
	return r
}

// files are the images that a material looks like.
func (r *shownRule) files() (list []string) {
	for _, t := range []*lookTexture{r.Colour, r.Emission, r.Normal, r.Detail, r.Mask} {
		if t != nil {
			list = append(list, t.Files...)
		}
	}
	return list
}

func (r *shownRule) look(input func(string) ([]byte, error)) render.Appearance {
	l := r.More
	l.Appearance = r.Look
	l.Colour, l.Emission = r.Colour.image(input), r.Emission.image(input)
	l.Normal, l.Detail, l.Mask = r.Normal.image(input), r.Detail.image(input), r.Mask.image(input)
	return l
}

// shown gives the looks that materials have in pictures; input reads sources.
func (pl *planner) shown(input func(string) ([]byte, error)) func(name string) render.Appearance {
	return func(name string) render.Appearance {
		r := pl.shownRule(name)
		return r.look(input)
	}
}

// sprites gives the first frames of the project's sprites; input reads sources.
func (pl *planner) sprites(input func(string) ([]byte, error)) func(name, state, direction string) (render.Sprite,
	bool) {
	return firstFrames(func(name string) *sprite.Sheet {
		if a := pl.g.Find(assetgraph.Sprite, name); a != nil {
			return a.Sheet
		}
		return nil
	}, input)
}

// firstFrames gives sprites' first frames in a state, or the first, and a direction, or the first; input reads sources.
func firstFrames(sheet func(name string) *sprite.Sheet, input func(string) ([]byte, error)) func(name, state,
	direction string) (render.Sprite, bool) {
	return func(name, state, direction string) (s render.Sprite, ok bool) {
		a := sheet(name)
		if a == nil || len(a.States) == 0 {
			return s, false
		}
		frames, _, err := a.Frames(func(file string) (*image.NRGBA, error) {
			data, err := input(file)
			if err != nil {
				return nil, err
			}
			return sprite.Visible(data)
		})
		if err != nil || len(frames) == 0 {
			return s, false // its own job says why
		}
		of := a.States[0]
		if found, ok := a.State(state); ok {
			of = found
		}
		for _, d := range of.Directions {
			if len(d.Steps) > 0 && (s.Image == nil || d.Name == direction) {
				s.Image = frames[d.Steps[0].Source]
			}
		}
		if s.Image == nil {
			return s, false
		}
		s.Pivot = image.Pt(s.Image.Rect.Dx()/2, s.Image.Rect.Dy()-1)
		if p := a.File.Pivot; len(p) == 2 {
			s.Pivot = image.Pt(p[0], p[1])
		}
		return s, true
	}
}

// looks gives the looks of materials, each made when it is first asked for.
func (r *mapRules) looks(input func(string) ([]byte, error)) func(name string) radiance.Appearance {
	var mu sync.Mutex
	made := map[string]radiance.Appearance{}
	return func(name string) radiance.Appearance {
		mu.Lock()
		defer mu.Unlock()
		l, ok := made[name]
		if !ok {
			rule := r.Looks[name]
			l = rule.Look
			l.Colour, l.Emission = rule.Colour.image(input), rule.Emission.image(input)
			made[name] = l
		}
		return l
	}
}

// long says how the long stages run; input reads sources.
func (r *mapRules) long(input func(string) ([]byte, error), env stage.Env) *compile.Long {
	return &compile.Long{Env: env, Looks: r.looks(input), Luxels: func(name string) float64 { return r.Luxels[name] },
		Cubes: r.Cubes, Agents: r.Agents, Targets: r.Targets,
		Passes: func(name string) bool { return slices.Contains(r.Passing, name) }}
}

// opens says whether a source can be opened.
func (pl *planner) opens(name string) bool {
	f, err := os.Open(pl.p.Join(name))
	if err == nil {
		f.Close()
	}
	return err == nil
}

// fileOf reads a source of the project.
func (pl *planner) fileOf(name string) ([]byte, error) { return os.ReadFile(pl.p.Join(name)) }
