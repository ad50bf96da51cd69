package profile

import (
	"slices"
	"strings"

	"vornix/core/base/safefile"
	"vornix/core/format/imaging"
)

// Painting is how a picture is made: said by the game's profile for all its projects, by a project's recipes over that.
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

// Validate checks the values; wrong is told the key and what is wrong with it.
func (q *Painting) Validate(wrong func(key, format string, args ...any)) {
	for _, c := range []struct {
		key, value string
		alpha      bool
	}{{"background", q.Background, false}, {"multiply", q.Multiply, true}, {"overlay", q.Overlay, true},
		{"frame_colour", q.FrameColour, true}, {"text_colour", q.TextColour, true}} {
		if _, ok := imaging.ParseColour(c.value); c.value != "" && (!ok || !c.alpha && len(c.value) != 7) {
			wrong(c.key, "%s must be a colour such as #ffe2b8, and is %q", c.key, c.value)
		}
	}
	for _, w := range []struct {
		key, value string
		known      []string
	}{{"crop", q.Crop, imaging.Crops}, {"text_at", q.TextAt, imaging.Places}} {
		if w.value != "" && !slices.Contains(w.known, w.value) {
			wrong(w.key, "%s must be one of %s, and is %q", w.key, strings.Join(w.known, ", "), w.value)
		}
	}
	for _, n := range []struct {
		key         string
		value       *float64
		least, most float64
	}{{"exposure", q.Exposure, -20, 20}, {"blur", q.Blur, 0, 500}, {"darken", q.Darken, 0, 1},
		{"vignette", q.Vignette, 0, 1}, {"text_size", q.TextSize, 0.001, 1}} {
		if v := n.value; v != nil && !(*v >= n.least && *v <= n.most) {
			wrong(n.key, "%s must lie between %v and %v, and is %v", n.key, n.least, n.most, *v)
		}
	}
	for _, n := range []struct {
		key         string
		value       *int
		least, most int
	}{{"scale", q.Scale, 1, 64}, {"frame", q.Frame, 0, 1000}} {
		if v := n.value; v != nil && (*v < n.least || *v > n.most) {
			wrong(n.key, "%s must lie between %d and %d, and is %d", n.key, n.least, n.most, *v)
		}
	}
	if f := q.Focus; f != nil && (len(f) != 2 || !(f[0] >= 0 && f[0] <= 1 && f[1] >= 0 && f[1] <= 1)) {
		wrong("focus", "focus must be two numbers from 0 to 1: parts of the image's width and height")
	}
	files := [][2]string{{"image", q.Image}, {"font", q.Font}}
	for _, name := range q.Images {
		files = append(files, [2]string{"images", name})
	}
	for _, f := range files {
		if f[1] != "" && safefile.CheckPath(f[1]) != nil {
			wrong(f[0], "%q is no path inside the project with forward slashes", f[1])
		}
	}
	for _, both := range [][2]string{{"camera", "image"}, {"cameras", "images"}} {
		if q.given(both[0]) && q.given(both[1]) {
			wrong(both[1], "a picture is of %s or of %s, not of both", both[0], both[1])
		}
	}
}

// given says whether a recipe has a source of its own of a kind.
func (q *Painting) given(key string) bool {
	return map[string]bool{"camera": q.Camera != "", "cameras": len(q.Cameras) > 0, "image": q.Image != "",
		"images": len(q.Images) > 0}[key]
}

// HasSource says whether it says what a picture is made of.
func (q *Painting) HasSource() bool {
	return q.given("camera") || q.given("cameras") || q.given("image") || q.given("images")
}
