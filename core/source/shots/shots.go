package shots

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/imaging"
	"vornix/core/source/assetgraph"
	"vornix/core/source/scene"
)

// Picture is one picture that will be made.
type Picture struct {
	Name          string // as the profile calls it
	Map           string // empty: it is of the whole project
	Number        int    // from 1
	Variant       string
	Width, Height int
	File          string // in the tree, or below the folder of pictures
	Material      string // path in the tree of the material beside it; empty: none
	Texture       string // of a texture: its name
	Inside        bool   // it ships

	// What it is made of: a camera of a map, a whole level of a tile map (no camera and no image), or an image.
	From   string // the map's name
	Camera *scene.Camera
	Tiles  bool
	Level  int
	Scale  int
	Image  string
	AsIs   bool

	Exposure float64 // stops, the camera's and the recipe's
	Edit     imaging.Recipe
	Font     string
	Of       *profile.Picture
	Place    fault.Place // where it says what it is made of
}

// ID tells pictures apart, in words.
func (p *Picture) ID() string {
	parts := []string{p.Name}
	if p.Map != "" {
		parts = append(parts, p.Map)
	}
	if p.Of.Count > 1 {
		parts = append(parts, strconv.Itoa(p.Number))
	}
	if p.Variant != "" {
		parts = append(parts, p.Variant)
	}
	return strings.Join(parts, " ")
}

// Source says in words what it is made of.
func (p *Picture) Source() string {
	switch {
	case p.Image != "":
		return p.Image
	case p.Camera != nil && p.Map == "":
		return p.From + ", camera " + p.Camera.Name
	case p.Camera != nil:
		return "camera " + p.Camera.Name
	}
	return fmt.Sprintf("level %d", p.Level)
}

// Left is a picture that the profile has room for and nobody asked for.
type Left struct {
	Picture string `json:"picture"`
	Why     string `json:"why"`
}

// Plan is what pictures a project has.
type Plan struct {
	Pictures []Picture // by name, map, number and variant, as the profile has them
	Left     []Left
	Findings []finding.Finding
}

// Images lists the images that pictures are made of.
func (p *Plan) Images() []string {
	var list []string
	for i := range p.Pictures {
		if p.Pictures[i].Image != "" {
			list = append(list, p.Pictures[i].Image)
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}

type planner struct {
	p     *project.Project
	g     *assetgraph.Graph
	plan  Plan
	files map[string]bool
	said  map[string]bool // findings about one image or camera are said once
}

// NewPlan finds the pictures of a project.
func NewPlan(p *project.Project, g *assetgraph.Graph) *Plan {
	pl := &planner{p: p, g: g, files: map[string]bool{}, said: map[string]bool{}}
	for _, f := range g.Files {
		pl.files[f.Path] = true
	}
	for i := range p.Profile.Pictures {
		of := &p.Profile.Pictures[i]
		if of.Each == "mod" {
			pl.each(of, nil)
			continue
		}
		for _, m := range g.Of(assetgraph.Map) {
			if m.Scene != nil { // what is wrong with it is said elsewhere
				pl.each(of, m)
			}
		}
	}
	pl.recipes()
	finding.Sort(pl.plan.Findings)
	return &pl.plan
}

func (pl *planner) add(f finding.Finding) {
	if key := f.ID + " " + f.Text + " " + f.Place.String(); !pl.said[key] {
		pl.said[key] = true
		pl.plan.Findings = append(pl.plan.Findings, f)
	}
}

// each plans a picture in all its numbers and variants, of a map or of the whole project.
func (pl *planner) each(of *profile.Picture, m *assetgraph.Asset) {
	names, sizes := of.Sizes()
	missing := ""
	for n := 1; n <= of.Count; n++ {
		for k, variant := range names {
			x := Picture{Name: of.Name, Number: n, Variant: variant, Width: sizes[k].Width, Height: sizes[k].Height,
				Inside: of.Place == profile.Inside, Of: of}
			if m != nil {
				x.Map = m.Name
			}
			why, wrong := pl.source(&x, m)
			switch {
			case wrong: // and said
			case why == "":
				if pl.paint(&x, m) {
					pl.plan.Pictures = append(pl.plan.Pictures, x)
				}
			case n > of.Least || of.Optional:
				pl.plan.Left = append(pl.plan.Left, Left{x.ID(), why})
			case missing == "":
				missing = why
				pl.missing(&x, m, why)
			}
		}
	}
}

func (pl *planner) missing(x *Picture, m *assetgraph.Asset, why string) {
	place := fault.Place{File: project.FileName}
	whose := "of the project"
	if m != nil {
		place, whose = m.Scene.Place, "of "+m.Name
	}
	f := finding.PictureMissing.At(place, "the picture %s %s can't be made: %s", x.Of.String(), whose, why)
	if x.Of.Count > 1 {
		f.Text = fmt.Sprintf("the picture %s %s can't be made: number %d of at least %d; %s", x.Of.String(), whose,
			x.Number, x.Of.Least, why)
	}
	pl.add(f)
}

// source finds what a picture is made of. why says why there is nothing; wrong that this has been said.
func (pl *planner) source(x *Picture, m *assetgraph.Asset) (why string, wrong bool) {
	r, i := pl.p.Painting(x.Of, x.Map, x.Variant, x.Number)
	x.Place = fault.Place{File: project.FileName}
	at := func(key string) fault.Place {
		if i >= 0 {
			return pl.p.Doc.At("picture", i, key)
		}
		return x.Place
	}
	single := i >= 0 && pl.p.File.Pictures[i].Number != 0 // a recipe for this one of several
	values := map[string]string{"map": x.Map, "n": strconv.Itoa(x.Number)}
	switch {
	case x.Number <= len(r.Images):
		x.Image, x.Place = profile.Fill(r.Images[x.Number-1], values), at("images")
	case len(r.Images) > 0:
		return fmt.Sprintf("its recipe names %d images", len(r.Images)), false
	case r.Image != "" && (x.Number == 1 || single || strings.Contains(r.Image, "{n}")):
		x.Image, x.Place = profile.Fill(r.Image, values), at("image")
	case r.Image != "":
		return "its recipe names one image", false
	}
	x.AsIs = r.AsIs != nil && *r.AsIs
	if x.Image != "" {
		return "", !pl.image(x, r)
	}
	if m == nil {
		if m = pl.mapOf(r.Map); m == nil {
			if r.Map != "" {
				said := slices.IndexFunc(pl.p.File.Pictures, func(p project.Picture) bool { return p.Map == r.Map })
				f := finding.PictureMissing.At(pl.p.Doc.At("picture", said, "map"),
					"the picture %s is to be of the map %q, which is not there", x.Of.String(), r.Map)
				pl.add(f)
				return "", true
			}
			return "no map has a camera, and no recipe names an image", false
		}
	}
	x.From = m.Name
	s := m.Scene
	x.Tiles = len(s.Grids) > 0 && len(s.Solids)+len(s.Terrains) == 0
	name, key := "", "camera"
	switch {
	case x.Number <= len(r.Cameras):
		name, key = r.Cameras[x.Number-1], "cameras"
	case len(r.Cameras) > 0:
		return fmt.Sprintf("its recipe names %d cameras", len(r.Cameras)), false
	case r.Camera != "" && (x.Number == 1 || single):
		name = r.Camera
	case r.Camera != "":
		return "its recipe names one camera", false
	}
	if name != "" {
		if x.Camera = camera(s, name); x.Camera == nil {
			f := finding.PictureCamera.At(at(key),
				"the picture %s of %s is to be taken by the camera %q, which the map does not have", x.Of.Name, m.Name,
				name)
			if near := suggest.Word(name, cameras(s)); near != "" {
				f = f.Doing("Did you mean %q?", near)
			} else if list := cameras(s); len(list) > 0 {
				f = f.Doing("Choose one of %s, or add it to the map.", strings.Join(list, ", "))
			}
			pl.add(f)
			return "", true
		}
		x.Place = at(key)
	} else if why := pl.usual(x, s, r); why != "" {
		return why, false
	}
	return "", x.Camera != nil && !x.Tiles && pl.buried(m, x.Camera)
}

// usual finds the camera that a picture is taken by where no recipe names one.
func (pl *planner) usual(x *Picture, s *scene.Map, r profile.Painting) (why string) {
	name := strings.ReplaceAll(x.Name, "-", "_")
	if x.Of.Count > 1 {
		name += "_" + strconv.Itoa(x.Number)
	}
	whole := x.Tiles && r.Level != nil && x.Number == 1
	if x.Camera = camera(s, name); whole {
		x.Camera = nil
	} else if x.Camera == nil && x.Number <= len(s.Cameras) {
		x.Camera = &s.Cameras[x.Number-1]
	}
	switch {
	case x.Camera != nil:
		x.Place = x.Camera.Place
	case x.Tiles && x.Number == 1:
		x.Place = s.Place
		if r.Level != nil {
			x.Level = *r.Level
		}
		if !slices.ContainsFunc(s.Grids, func(g scene.Grid) bool { return g.Level == x.Level }) {
			return fmt.Sprintf("the map has no level %d", x.Level)
		}
	case len(s.Cameras) == 0:
		return "the map has no camera"
	default:
		return fmt.Sprintf("the map has %d of the cameras", len(s.Cameras))
	}
	return ""
}

func camera(s *scene.Map, name string) *scene.Camera {
	for i := range s.Cameras {
		if s.Cameras[i].Name == name {
			return &s.Cameras[i]
		}
	}
	return nil
}

func cameras(s *scene.Map) (names []string) {
	for _, c := range s.Cameras {
		names = append(names, c.Name)
	}
	return names
}

// mapOf is the map of a name, or the first that has a camera or is of tiles.
func (pl *planner) mapOf(name string) *assetgraph.Asset {
	if name != "" {
		if a := pl.g.Find(assetgraph.Map, name); a != nil && a.Scene != nil {
			return a
		}
		return nil
	}
	for _, a := range pl.g.Of(assetgraph.Map) {
		if a.Scene != nil && (len(a.Scene.Cameras) > 0 || len(a.Scene.Grids) > 0) {
			return a
		}
	}
	return nil
}

// paint settles how a picture is made; false when that can't be.
func (pl *planner) paint(x *Picture, m *assetgraph.Asset) bool {
	r, _ := pl.p.Painting(x.Of, x.Map, x.Variant, x.Number)
	head := pl.p.File.Project
	values := map[string]string{"map": x.Map, "name": head.Name, "version": head.Version, "variant": x.Variant,
		"n": strconv.Itoa(x.Number)}
	x.File = path.Clean(profile.Fill(x.Of.File, values))
	if x.Of.Form == profile.Texture {
		x.Texture = x.File
		x.File = pl.p.Profile.TexturePath(x.Texture)
		if x.Of.Material != "" {
			x.Material = pl.p.Profile.MaterialPath(profile.Fill(x.Of.Material, values))
		}
	}
	if x.Inside {
		for _, file := range []string{x.File, x.Material} {
			if file != "" {
				for _, f := range pl.p.Profile.CheckPath(project.FileName, file) {
					pl.add(f)
				}
			}
		}
	}
	x.Edit = Recipe(r, x.Width, x.Height)
	x.Edit.KeepAlpha = x.Of.Alpha
	if r.Exposure != nil {
		x.Exposure = *r.Exposure
	}
	if x.Camera != nil {
		x.Exposure += x.Camera.Exposure
	}
	if r.Scale != nil {
		x.Scale = *r.Scale
	}
	if r.Text == nil || *r.Text == "" || x.AsIs {
		return true
	}
	values["title"], values["project"] = head.Title, head.Title
	if m != nil {
		values["title"] = m.Scene.Title
	}
	x.Edit.Text = text(r, profile.Fill(*r.Text, values))
	x.Font = r.Font
	return pl.text(x)
}

// recipes finds recipes that are for nothing.
func (pl *planner) recipes() {
	var names, maps []string
	for _, of := range pl.p.Profile.Pictures {
		names = append(names, of.Name)
	}
	for _, m := range pl.g.Of(assetgraph.Map) {
		maps = append(maps, m.Name)
	}
	for i := range pl.p.File.Pictures {
		r := &pl.p.File.Pictures[i]
		matches := func(pattern string, list []string) bool {
			return slices.ContainsFunc(list,
				func(name string) bool { ok, _ := doublestar.Match(pattern, name); return ok })
		}
		unknown := func(key, what, name string, list []string) {
			f := finding.PictureUnknown.At(pl.p.Doc.At("picture", i, key), "%s %s", what, strconv.Quote(name))
			if near := suggest.Word(name, list); near != "" {
				f = f.Doing("Did you mean %q?", near)
			} else if len(list) > 0 {
				f = f.Doing("There are: %s.", strings.Join(list, ", "))
			}
			pl.add(f)
		}
		var variants []string
		for _, of := range pl.p.Profile.Pictures {
			if ok, _ := doublestar.Match(r.For, of.Name); ok {
				more, _ := of.Sizes()
				variants = append(variants, more...)
			}
		}
		switch {
		case !matches(r.For, names):
			unknown("for", "the game wants no picture", r.For, names)
		case r.Maps != "" && !matches(r.Maps, maps) && pl.g.Complete():
			unknown("maps", "there is no map", r.Maps, maps)
		case r.Variant != "" && !slices.Contains(variants, r.Variant):
			unknown("variant", "those pictures have no variant", r.Variant,
				slices.DeleteFunc(variants, func(v string) bool { return v == "" }))
		}
	}
}
