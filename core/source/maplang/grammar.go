package maplang

import (
	"maps"
	"slices"
)

// kind is what a value must be.
type kind uint8

const (
	word     kind = iota // small letters, digits, _ and -
	name                 // of a constant: small letters, digits and _
	words                // word,word
	asset                // words joined by /
	file                 // a file beside the source
	text                 // any text; quoted where it has spaces
	number               // 1.5
	count                // whole number
	pair                 // x,y
	point                // x,y,z
	span                 // 2..8
	colour               // #ffe2b8
	flag                 // yes or no
	symbol               // one character
	outline              // x,y;x,y;x,y
	constant             // a number, or a text in quotes
	rawText              // the rest of the line
	freeText             // anything: properties of the game's own
)

// expected says in words what a value of the kind looks like.
var expected = [...]string{
	word:     "a name of small letters, digits, _ and -, such as deck_2",
	name:     "a name of small letters, digits and _, such as wall_height",
	words:    "names joined by commas, such as relay,dash",
	asset:    "an asset's name, such as wood/plank",
	file:     "a file beside this one, such as prefabs/pylon.vnx",
	text:     `a text in quotes, such as "Cairn Station"`,
	number:   "a number, such as 1.5",
	count:    "a whole number, such as 3",
	pair:     "two numbers joined by a comma, such as 35,210",
	point:    "three numbers joined by commas, such as 4,4,0.5",
	span:     "two whole numbers with dots between, such as 2..8",
	colour:   "a colour, such as #ffe2b8",
	flag:     "yes or no",
	symbol:   "one character",
	outline:  "pairs of numbers with semicolons between, such as -1,0;1,0;0,2",
	constant: `a number, such as 0.5, or a text in quotes, such as "rock/slab"`,
	rawText:  "a row of symbols, such as #..#",
	freeText: "a value",
}

// slot is a positional value.
type slot struct {
	name   string
	kind   kind
	choice []string // for a word: the only ones allowed
}

// setting is a key=value pair.
type setting struct {
	key      string
	kind     kind
	required bool
	choice   []string
}

// rule is what a keyword takes. Settings stand in canonical order.
type rule struct {
	slots    []slot
	rest     *slot // further values of one kind, at least least of them
	least    int
	settings []setting
	variants map[string]*rule // by the last of slots: what comes in addition
	parents  []string         // the keywords it may stand under; "" is the left margin
	free     bool             // takes further keys
	example  string
}

var (
	sides   = []string{"top", "bottom", "north", "south", "east", "west", "sides", "all"}
	margin  = []string{""}
	placed  = []string{"", "group", "prefab", "repeat"}
	layered = setting{"layer", word, false, nil}
	moved   = []setting{{"at", point, false, nil}, {"turn", number, false, nil},
		{"mirror", word, false, []string{"x", "y", "z"}},
		{"scale", number, false, nil}, {"textures", word, false, []string{"stay", "move"}}, layered}
	corners = []slot{{"corner", point, nil}, {"opposite corner", point, nil}}
)

// shapes are the forms of a solid.
var shapes = map[string]*rule{
	"box": {slots: corners, example: "solid deck box 0,0,0 24,16,0.5 material=wood/plank"},
	"wedge": {slots: corners, settings: []setting{{"rise", word, true, []string{"north", "south", "east", "west"}}},
		example: "solid ramp wedge 4,0,0 8,3,2 rise=east material=rock/slab"},
	"cylinder": {slots: []slot{{"middle of the base", point, nil}},
		settings: []setting{{"radius", number, true, nil}, {"height", number, true, nil}, {"top", number, false, nil},
			{"sides", count, false, nil}},
		example: "solid drum cylinder 3,3,0 radius=1.5 height=2 sides=24 material=metal/rail"},
	"prism": {rest: &slot{"corner of the outline", pair, nil}, least: 3,
		settings: []setting{{"base", number, false, nil}, {"height", number, true, nil}},
		example:  "solid porch prism 0,0 6,0 6,4 3,6 0,4 base=0.5 height=3 material=wood/plank"},
	"hull": {rest: &slot{"corner", point, nil}, least: 4,
		example: "solid crag hull 30,2,0 34,2,0 32,7,0 32,4,6 material=rock/cairn"},
	"extrude": {rest: &slot{"point of the path", point, nil}, least: 2,
		settings: []setting{{"width", number, false, nil}, {"height", number, false, nil},
			{"section", outline, false, nil}},
		example: "solid kerb extrude 0,0,0 12,0,0 16,4,0 width=0.4 height=0.6 material=rock/slab"},
}

// patterns are the ways to repeat.
var patterns = map[string]*rule{
	"line": {settings: []setting{{"count", count, true, nil}, {"step", point, true, nil}},
		example: "repeat posts line count=6 step=4,0,0"},
	"grid": {settings: []setting{{"count", point, true, nil}, {"step", point, true, nil}},
		example: "repeat crates grid count=4,3,1 step=2,2,0"},
	"circle": {settings: []setting{{"count", count, true, nil}, {"radius", number, true, nil},
		{"arc", number, false, nil}, {"turned", flag, false, nil}},
		example: "repeat pillars circle count=8 radius=6 at=12,8,0"},
}

// grammar is the language: every keyword with what it takes. docs/formats/map-source.md is written after it, and a test
// holds the two together.
var grammar = map[string]*rule{
	"map": {parents: margin, slots: []slot{{"name", word, nil}},
		settings: []setting{{"title", text, false, nil}, {"players", span, false, nil}, {"modes", words, false, nil},
			{"purpose", word, false, []string{"play", "menu"}}, {"sealed", flag, false, nil},
			{"luxels", number, false, nil}},
		example: `map cairn_station title="Cairn Station" players=2..8 modes=relay,dash`},
	"include": {parents: margin, slots: []slot{{"file", file, nil}}, example: "include shared/heights.vnx"},
	"const": {parents: []string{"", "prefab"}, slots: []slot{{"name", name, nil}, {"value", constant, nil}},
		example: "const wall_height 3.5"},
	"layer": {parents: margin, slots: []slot{{"name", word, nil}}, settings: []setting{{"release", flag, false, nil}},
		example: "layer helpers release=no"},
	"sky": {parents: margin, slots: []slot{{"name", word, nil}},
		settings: []setting{{"sun", pair, true, nil}, {"colour", colour, false, nil}, {"power", number, false, nil},
			{"disc", number, false, nil},
			{"dome", colour, false, nil}, {"horizon", colour, false, nil}, {"glow", number, false, nil},
			{"image", file, false, nil}},
		example: "sky dawn_ridge sun=35,210 colour=#ffe2b8"},
	"fog": {parents: margin, slots: []slot{{"name", word, nil}},
		settings: []setting{{"range", number, true, nil}, {"colour", colour, false, nil}, {"from", number, false, nil},
			{"sky", number, false, nil}},
		example: "fog haze range=400 colour=#c8d4e0"},
	"solid": {parents: placed, slots: []slot{{"name", word, nil}, {"shape", word, nil}}, variants: shapes,
		settings: []setting{{"material", asset, true, nil}, {"detail", flag, false, nil}, layered},
		example:  "solid deck box 0,0,0 24,16,0.5 material=wood/plank"},
	"face": {parents: []string{"solid"}, slots: []slot{{"side", word, sides}},
		settings: []setting{{"material", asset, false, nil}, {"scale", number, false, nil}, {"shift", pair, false, nil},
			{"turn", number, false, nil}, {"fit", flag, false, nil}, {"luxels", number, false, nil}},
		example: "face top material=rock/slab scale=0.5 turn=15"},
	"terrain": {parents: placed, slots: []slot{{"name", word, nil}},
		settings: []setting{{"at", point, true, nil}, {"size", point, true, nil}, {"from", file, true, nil},
			{"material", asset, true, nil}, layered},
		example: "terrain slope at=-64,-64,-20 size=128,128,24 from=slope.png material=snow/drift"},
	"paint": {parents: []string{"terrain"}, slots: []slot{{"material", asset, nil}},
		settings: []setting{{"from", file, true, nil}},
		example:  "paint rock/cairn from=slope_rock.png"},
	"prop": {parents: placed, slots: []slot{{"name", word, nil}},
		settings: []setting{{"model", asset, true, nil}, {"at", point, true, nil}, {"turn", number, false, nil},
			{"scale", number, false, nil}, {"solid", flag, false, nil}, layered},
		example: "prop bench_1 model=props/bench at=4,6,0.5 turn=90"},
	"light": {parents: placed, slots: []slot{{"name", word, nil}, {"kind", word, nil}, {"place", point, nil}},
		settings: []setting{{"look", point, false, nil}, {"cone", number, false, nil}, {"radius", number, false, nil},
			{"colour", colour, false, nil}, {"power", number, true, nil}, layered},
		example: "light lantern point 12,8,4 colour=#ffd9a0 power=40"},
	"spawn": {parents: placed, slots: []slot{{"name", word, nil}},
		settings: []setting{{"at", point, true, nil}, {"facing", number, false, nil}, {"team", word, false, nil},
			layered},
		example: "spawn blue_1 at=4,4,0.5 facing=90 team=blue"},
	"volume": {parents: placed,
		slots: append([]slot{{"name", word, nil}, {"shape", word, []string{"box"}}}, corners...),
		settings: []setting{{"effect", word, true, nil}, {"enter", freeText, false, nil},
			{"leave", freeText, false, nil}, layered},
		example: "volume pit box -40,-40,-30 80,80,-8 effect=remove"},
	"cut": {parents: placed, slots: append([]slot{{"name", word, nil}, {"shape", word, []string{"box"}}}, corners...),
		settings: []setting{layered},
		example:  "cut doorway box 17,8,0.5 19,8.4,3"},
	"probe": {parents: placed, slots: []slot{{"name", word, nil}},
		settings: []setting{{"at", point, true, nil}, {"reach", number, true, nil}, layered},
		example:  "probe hall at=12,8,3 reach=20"},
	"camera": {parents: placed, slots: []slot{{"name", word, nil}},
		settings: []setting{{"at", point, true, nil}, {"look", point, false, nil}, {"fov", number, false, nil},
			{"exposure", number, false, nil}, {"lens", number, false, nil}, {"focus", number, false, nil}, layered},
		example: "camera postcard at=-6,-8,9 look=12,8,1 fov=60"},
	"item": {parents: placed, slots: []slot{{"kind", word, nil}}, free: true,
		settings: []setting{{"at", point, true, nil}, {"facing", number, false, nil}, {"model", asset, false, nil},
			{"sprite", asset, false, nil}, {"state", word, false, nil}, {"direction", word, false, nil}, layered},
		example: "item winch at=7,3,0.5 rank=2"},
	"sound": {parents: placed, slots: []slot{{"name", word, nil}},
		settings: []setting{{"at", point, true, nil}, {"file", asset, true, nil}, {"volume", number, false, nil},
			{"loop", flag, false, nil}, layered},
		example: "sound hum at=12,8,2 file=station/hum volume=0.6 loop=yes"},
	"group": {parents: placed, slots: []slot{{"name", word, nil}}, settings: moved,
		example: "group lookout at=1,14,0.5 turn=90"},
	"prefab": {parents: margin, slots: []slot{{"name", word, nil}}, free: true,
		example: `prefab pylon height=6 stone="rock/cairn"`},
	"use": {parents: placed, slots: []slot{{"prefab", word, nil}}, free: true,
		settings: append([]setting{{"from", file, false, nil}}, moved...),
		example:  "use pylon from=prefabs/pylon.vnx at=20,4,0 turn=45 height=8"},
	"repeat": {parents: placed, slots: []slot{{"name", word, nil}, {"pattern", word, nil}}, variants: patterns,
		settings: moved,
		example:  "repeat posts line count=6 step=4,0,0"},
	"grid": {parents: margin, slots: []slot{{"name", word, nil}},
		settings: []setting{{"cells", pair, false, nil}, {"level", count, false, nil}, {"from", file, false, nil},
			layered},
		example: "grid ground cells=48,32 level=0"},
	"row": {parents: []string{"grid"}, slots: []slot{{"symbols", rawText, nil}},
		example: "row ####..####"},
	"area": {parents: margin, slots: []slot{{"name", word, nil}, {"first cell", pair, nil}, {"last cell", pair, nil}},
		free: true,
		settings: []setting{{"level", count, false, nil}, {"enter", freeText, false, nil},
			{"leave", freeText, false, nil}, layered},
		example: "area platform 3,2 9,3 enter=ring_bell leave=hush"},
	"legend": {parents: margin, slots: []slot{{"symbol", symbol, nil}},
		settings: []setting{{"tile", asset, false, nil}, {"solid", flag, false, nil}, {"cost", number, false, nil},
			{"colour", colour, false, nil}},
		example: "legend # tile=rock/wall solid=yes"},
}

func init() {
	for keyword, variants := range map[string]map[string]*rule{"solid": shapes, "repeat": patterns} {
		base := grammar[keyword]
		last := &base.slots[len(base.slots)-1]
		last.choice = slices.Sorted(maps.Keys(variants))
		for _, v := range variants {
			v.slots = append(slices.Clone(base.slots), v.slots...)
			v.settings = append(v.settings, base.settings...)
			v.parents = base.parents
		}
	}
}

// isRaw says whether the rest of a line after the keyword is one value.
func isRaw(keyword string) bool { return keyword == "row" }

// keywords lists the keywords that may stand under parent, sorted.
func keywords(parent string) []string {
	var list []string
	for k, r := range grammar {
		if slices.Contains(r.parents, parent) {
			list = append(list, k)
		}
	}
	slices.Sort(list)
	return list
}

// slotAt is what the n-th value must be; nil when there are no more.
func (r *rule) slotAt(n int) *slot {
	if n < len(r.slots) {
		return &r.slots[n]
	}
	return r.rest
}

func (r *rule) setting(key string) *setting {
	for i := range r.settings {
		if r.settings[i].key == key {
			return &r.settings[i]
		}
	}
	return nil
}

func (r *rule) keys() []string {
	var list []string
	for _, s := range r.settings {
		list = append(list, s.key)
	}
	return list
}

// ruleOf is the rule of a record that was read: that of its variant, where the keyword has several.
func ruleOf(r *Record) *rule {
	g := grammar[r.Keyword]
	if n := len(g.slots); g.variants != nil && len(r.Values) >= n {
		if v := g.variants[r.Values[n-1].Text]; v != nil {
			return v
		}
	}
	return g
}
