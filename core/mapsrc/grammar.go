package mapsrc

import "slices"

// kind is what a value must be.
type kind uint8

const (
	word     kind = iota // small letters, digits, _ and -
	words                // word,word
	path                 // words joined by /
	text                 // any text; quoted where it has spaces
	number               // 1.5
	count                // whole number
	pair                 // x,y
	point                // x,y,z
	span                 // 2..8
	colour               // #ffe2b8
	flag                 // yes or no
	symbol               // one character
	rawText              // the rest of the line
	freeText             // anything: properties of the game's own
)

// expected says in words what a value of the kind looks like.
var expected = [...]string{
	word:     "a name of small letters, digits, _ and -, such as deck_2",
	words:    "names joined by commas, such as relay,dash",
	path:     "an asset's name, such as wood/plank",
	text:     `a text in quotes, such as "Cairn Station"`,
	number:   "a number, such as 1.5",
	count:    "a whole number, such as 3",
	pair:     "two numbers joined by a comma, such as 35,210",
	point:    "three numbers joined by commas, such as 4,4,0.5",
	span:     "two whole numbers with dots between, such as 2..8",
	colour:   "a colour, such as #ffe2b8",
	flag:     "yes or no",
	symbol:   "one character",
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
	settings []setting
	parent   string // the keyword it must stand under; empty: at the left margin
	free     bool   // takes further keys of the game's own
	example  string
}

var sides = []string{"top", "bottom", "north", "south", "east", "west", "all"}

// grammar is the language: every keyword with what it takes. docs/formats/map-source.md is written after it, and a test
// holds the two together.
var grammar = map[string]*rule{
	"map": {slots: []slot{{"name", word, nil}},
		settings: []setting{{"title", text, false, nil}, {"players", span, false, nil}, {"modes", words, false, nil}},
		example:  `map cairn_station title="Cairn Station" players=2..8 modes=relay,dash`},
	"sky": {slots: []slot{{"name", word, nil}},
		settings: []setting{{"sun", pair, true, nil}, {"colour", colour, false, nil}},
		example:  "sky dawn_ridge sun=35,210 colour=#ffe2b8"},
	"solid": {slots: []slot{{"name", word, nil}, {"shape", word, []string{"box"}}, {"corner", point, nil}, {"opposite corner", point, nil}},
		settings: []setting{{"material", path, true, nil}},
		example:  "solid deck box 0,0,0 24,16,0.5 material=wood/plank"},
	"face": {parent: "solid", slots: []slot{{"side", word, sides}},
		settings: []setting{{"material", path, false, nil}, {"scale", number, false, nil}, {"shift", pair, false, nil}, {"turn", number, false, nil}, {"fit", flag, false, nil}},
		example:  "face top material=rock/slab scale=0.5 turn=15"},
	"light": {slots: []slot{{"name", word, nil}, {"kind", word, nil}, {"place", point, nil}},
		settings: []setting{{"colour", colour, false, nil}, {"power", number, true, nil}},
		example:  "light lantern point 12,8,4 colour=#ffd9a0 power=40"},
	"spawn": {slots: []slot{{"name", word, nil}},
		settings: []setting{{"at", point, true, nil}, {"facing", number, false, nil}, {"team", word, false, nil}},
		example:  "spawn blue_1 at=4,4,0.5 facing=90 team=blue"},
	"volume": {slots: []slot{{"name", word, nil}, {"shape", word, []string{"box"}}, {"corner", point, nil}, {"opposite corner", point, nil}},
		settings: []setting{{"effect", word, true, nil}},
		example:  "volume pit box -40,-40,-30 80,80,-8 effect=remove"},
	"camera": {slots: []slot{{"name", word, nil}},
		settings: []setting{{"at", point, true, nil}, {"look", point, true, nil}, {"fov", number, false, nil}},
		example:  "camera postcard at=-6,-8,9 look=12,8,1 fov=60"},
	"item": {slots: []slot{{"kind", word, nil}}, free: true,
		settings: []setting{{"at", point, true, nil}, {"sprite", path, false, nil}, {"state", word, false, nil}, {"direction", word, false, nil}},
		example:  "item winch at=7,3,0.5 rank=2"},
	"sound": {slots: []slot{{"name", word, nil}},
		settings: []setting{{"at", point, true, nil}, {"file", path, true, nil}, {"volume", number, false, nil}, {"loop", flag, false, nil}},
		example:  "sound hum at=12,8,2 file=station/hum volume=0.6 loop=yes"},
	"grid": {slots: []slot{{"name", word, nil}},
		settings: []setting{{"cells", pair, true, nil}, {"level", count, false, nil}},
		example:  "grid ground cells=48,32 level=0"},
	"row": {parent: "grid", slots: []slot{{"symbols", rawText, nil}},
		example: "row ####..####"},
	"legend": {slots: []slot{{"symbol", symbol, nil}},
		settings: []setting{{"tile", path, false, nil}, {"solid", flag, false, nil}},
		example:  "legend # tile=rock/wall solid=yes"},
}

// keywords lists the keywords that may stand under parent, sorted.
func keywords(parent string) []string {
	var list []string
	for k, r := range grammar {
		if r.parent == parent {
			list = append(list, k)
		}
	}
	slices.Sort(list)
	return list
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
