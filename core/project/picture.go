package project

import (
	"reflect"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/finding"
	"vornix/core/picture/edit"
	"vornix/core/safefile"
)

// Picture is a recipe for pictures that the game's profile asks for. What it leaves out comes from an earlier one that matches.
type Picture struct {
	For     string `toml:"for" jsonschema:"required,description=Pattern on the name of pictures in the game's profile\\, such as thumbnail or *"`
	Maps    string `toml:"maps" jsonschema:"description=Pattern on maps (default: all)"`
	Variant string `toml:"variant" jsonschema:"description=Only this variant (default: all)"`
	Number  int    `toml:"number" jsonschema:"minimum=1,maximum=99,description=Only this one of several (default: all)"`
	Painting
}

// Painting is how a picture is made.
type Painting struct {
	Map     string   `toml:"map,omitempty" jsonschema:"description=For pictures of the whole project: the map whose camera it is (default: the first)"`
	Camera  string   `toml:"camera,omitempty" jsonschema:"description=Camera in the map (default: that with the picture's name\\, else the map's cameras in their order)"`
	Cameras []string `toml:"cameras,omitempty" jsonschema:"description=Cameras for several pictures\\, in order"`
	Image   string   `toml:"image,omitempty" jsonschema:"description=Image that it is made of\\, as a path in the project; {map} and {n} are filled in"`
	Images  []string `toml:"images,omitempty" jsonschema:"description=Images for several pictures\\, in order"`
	AsIs    *bool    `toml:"as_is,omitempty" jsonschema:"description=The image is the finished file: it is held to what is asked for\\, and not touched"`

	Exposure *float64 `toml:"exposure,omitempty" jsonschema:"minimum=-20,maximum=20,description=Stops brighter or darker than the camera says"`
	Level    *int     `toml:"level,omitempty" jsonschema:"description=Of a tile map: the level that is drawn whole\\, where no recipe names a camera (default: as the map's cameras see it\\; without any level 0)"`
	Scale    *int     `toml:"scale,omitempty" jsonschema:"minimum=1,maximum=64,description=Of a tile map: pixels that a texel is wide (default: as large as shows the whole level\\, or ten cells around a camera)"`

	Crop        string    `toml:"crop,omitempty" jsonschema:"enum=fill,enum=whole,enum=stretch,enum=refuse,description=What to do with an image of another ratio: cut off what sticks out (fill\\, the default)\\, leave bars (whole)\\, stretch it\\, or refuse it"`
	Focus       []float64 `toml:"focus,omitempty" jsonschema:"minItems=2,maxItems=2,description=Point of interest that stays in the picture: parts of the image's width and height from its upper left corner (default 0.5\\, 0.5)"`
	Background  string    `toml:"background,omitempty" jsonschema:"pattern=^#[0-9a-f]{6}$,description=Colour of bars and behind see-through images (default #000000)"`
	Blur        *float64  `toml:"blur,omitempty" jsonschema:"minimum=0,maximum=500,description=Radius in pixels of the finished picture"`
	Multiply    string    `toml:"multiply,omitempty" jsonschema:"pattern=^#[0-9a-f]{6}([0-9a-f]{2})?$,description=Colour to multiply with; a fourth pair of digits says how strongly"`
	Overlay     string    `toml:"overlay,omitempty" jsonschema:"pattern=^#[0-9a-f]{6}([0-9a-f]{2})?$,description=Colour to lay over\\, which keeps dark dark and bright bright"`
	Darken      *float64  `toml:"darken,omitempty" jsonschema:"minimum=0,maximum=1,description=Part of the light that is taken away"`
	Vignette    *float64  `toml:"vignette,omitempty" jsonschema:"minimum=0,maximum=1,description=Part of the light that is taken away in the corners"`
	Frame       *int      `toml:"frame,omitempty" jsonschema:"minimum=0,maximum=1000,description=Width of a frame in pixels"`
	FrameColour string    `toml:"frame_colour,omitempty" jsonschema:"pattern=^#[0-9a-f]{6}([0-9a-f]{2})?$,description=Its colour (default #ffffff)"`
	Text        *string   `toml:"text,omitempty" jsonschema:"description=Line of text; {title} {map} {name} {project} {version} and {n} are filled in"`
	TextAt      string    `toml:"text_at,omitempty" jsonschema:"enum=top-left,enum=top,enum=top-right,enum=left,enum=middle,enum=right,enum=bottom-left,enum=bottom,enum=bottom-right,description=Where it stands (default bottom-left)"`
	TextSize    *float64  `toml:"text_size,omitempty" jsonschema:"exclusiveMinimum=0,maximum=1,description=Size of its letters by the picture's height (default 0.09)"`
	TextColour  string    `toml:"text_colour,omitempty" jsonschema:"pattern=^#[0-9a-f]{6}([0-9a-f]{2})?$,description=Its colour (default #ffffff)"`
	Font        string    `toml:"font,omitempty" jsonschema:"description=TrueType or OpenType file in the project (default: a bold sans serif that comes with Vornix)"`
}

// validatePicture checks the values of a recipe.
func (p *Project) validatePicture(i int) (list []finding.Finding) {
	r := &p.File.Pictures[i]
	wrong := func(key, format string, args ...any) {
		list = append(list, p.Doc.Wrong([]any{"picture", i, key}, format, args...))
	}
	if r.For == "" || !doublestar.ValidatePattern(r.For) {
		wrong("for", "%q is no pattern on the names of pictures", r.For)
	}
	if !doublestar.ValidatePattern(r.Maps) {
		wrong("maps", "%q is no pattern", r.Maps)
	}
	for _, c := range []struct {
		key, value string
		alpha      bool
	}{{"background", r.Background, false}, {"multiply", r.Multiply, true}, {"overlay", r.Overlay, true}, {"frame_colour", r.FrameColour, true}, {"text_colour", r.TextColour, true}} {
		if _, ok := edit.ParseColour(c.value); c.value != "" && (!ok || !c.alpha && len(c.value) != 7) {
			wrong(c.key, "%s must be a colour such as #ffe2b8, and is %q", c.key, c.value)
		}
	}
	for _, w := range []struct {
		key, value string
		known      []string
	}{{"crop", r.Crop, edit.Crops}, {"text_at", r.TextAt, edit.Places}} {
		if w.value != "" && !slices.Contains(w.known, w.value) {
			wrong(w.key, "%s must be one of %s, and is %q", w.key, strings.Join(w.known, ", "), w.value)
		}
	}
	for _, n := range []struct {
		key         string
		value       *float64
		least, most float64
	}{{"exposure", r.Exposure, -20, 20}, {"blur", r.Blur, 0, 500}, {"darken", r.Darken, 0, 1}, {"vignette", r.Vignette, 0, 1}, {"text_size", r.TextSize, 0.001, 1}} {
		if v := n.value; v != nil && !(*v >= n.least && *v <= n.most) {
			wrong(n.key, "%s must lie between %v and %v, and is %v", n.key, n.least, n.most, *v)
		}
	}
	for _, n := range []struct {
		key         string
		value       *int
		least, most int
	}{{"scale", r.Scale, 1, 64}, {"frame", r.Frame, 0, 1000}, {"number", &r.Number, 0, 99}} {
		if v := n.value; v != nil && (*v < n.least || *v > n.most) {
			wrong(n.key, "%s must lie between %d and %d, and is %d", n.key, n.least, n.most, *v)
		}
	}
	if f := r.Focus; f != nil && (len(f) != 2 || !(f[0] >= 0 && f[0] <= 1 && f[1] >= 0 && f[1] <= 1)) {
		wrong("focus", "focus must be two numbers from 0 to 1: parts of the image's width and height")
	}
	for _, f := range append(append([]string{r.Image, r.Font}, r.Images...), r.Map) {
		if f != "" && safefile.CheckPath(f) != nil {
			wrong("image", "%q is no path inside the project with forward slashes", f)
		}
	}
	for _, both := range [][2]string{{"camera", "image"}, {"cameras", "images"}} {
		if given(r, both[0]) && given(r, both[1]) {
			wrong(both[1], "a picture is of %s or of %s, not of both", both[0], both[1])
		}
	}
	return list
}

// given says whether a recipe has a source of its own of a kind.
func given(r *Picture, key string) bool {
	return map[string]bool{"camera": r.Camera != "", "cameras": len(r.Cameras) > 0, "image": r.Image != "", "images": len(r.Images) > 0}[key]
}

// Painting is what the project's recipes say of a picture, and which of them spoke of what it is made of; -1: none.
func (p *Project) Painting(picture, mapName, variant string, number int) (out Painting, source int) {
	source = -1
	to := reflect.ValueOf(&out).Elem()
	for i := range p.File.Pictures {
		r := &p.File.Pictures[i]
		if ok, _ := doublestar.Match(r.For, picture); !ok || r.Variant != "" && r.Variant != variant || r.Number != 0 && r.Number != number {
			continue
		}
		if ok, _ := doublestar.Match(r.Maps, mapName); r.Maps != "" && !ok {
			continue
		}
		if r.Camera != "" || len(r.Cameras) > 0 || r.Image != "" || len(r.Images) > 0 { // another source takes the place of an earlier one
			out.Camera, out.Cameras, out.Image, out.Images, out.AsIs = "", nil, "", nil, nil
			source = i
		}
		from := reflect.ValueOf(&r.Painting).Elem()
		for k := range to.NumField() {
			if !from.Field(k).IsZero() {
				to.Field(k).Set(from.Field(k))
			}
		}
	}
	return out, source
}
