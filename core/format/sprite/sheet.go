package sprite

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/base/tomlfile"
	"vornix/core/format/texture"
)

// File is the content of a sheet's file.
type File struct {
	Image   string           `toml:"image,omitempty" jsonschema:"description=Grid image beside this file\\, with its ending: frames from left to right\\, then from top to bottom"`
	Folder  string           `toml:"folder,omitempty" jsonschema:"description=Folder of frames beside this file: STATE/FRAME.png or STATE/DIRECTION/FRAME.png\\, in the order of the numbers in their names"`
	Frame   [2]int           `toml:"frame,omitempty" jsonschema:"description=Width and height of a frame of the grid image in texels"`
	Pivot   [2]int           `toml:"pivot,omitempty" jsonschema:"description=Texel of a frame that stands at the object's place (default: the middle of its lowest row)"`
	Rate    float64          `toml:"rate,omitempty" jsonschema:"exclusiveMinimum=0,maximum=1000,description=Frames a second (default 10)"`
	Pages   int              `toml:"pages,omitempty" jsonschema:"minimum=1,maximum=64,description=Textures that the frames are packed into (default 1)"`
	Format  string           `toml:"format,omitempty" jsonschema:"enum=auto,enum=rgba8,enum=bc1,enum=bc1a,enum=bc2,enum=bc3,enum=bc7,description=Format of the textures (default: rgba8\\, which keeps every texel\\, where the game takes it\\, else auto)"`
	Padding *int             `toml:"padding,omitempty" jsonschema:"minimum=0,maximum=64,description=Empty texels between frames in the atlas (default 2)"`
	Extrude *int             `toml:"extrude,omitempty" jsonschema:"minimum=0,maximum=16,description=How often a frame's edge is repeated around it\\, so that filtering takes in no neighbour (default 1)"`
	States  map[string]State `toml:"state,omitempty" jsonschema:"description=States by name; with folder only those that differ from the defaults"`
}

// State is a named animation.
type State struct {
	Frames     []int            `toml:"frames,omitempty" jsonschema:"description=Numbers of frames in the grid\\, from 0"`
	Directions map[string][]int `toml:"directions,omitempty" jsonschema:"description=Instead of frames: the frames of each direction"`
	Rate       float64          `toml:"rate,omitempty" jsonschema:"exclusiveMinimum=0,maximum=1000,description=Frames a second (default: the sheet's)"`
	Durations  []int            `toml:"durations,omitempty" jsonschema:"description=Milliseconds of each frame\\, instead of a rate"`
	Loop       string           `toml:"loop,omitempty" jsonschema:"enum=again,enum=back,enum=once,description=again from the first (default)\\, back and forth\\, or once"`
}

// Loops lists how a state can go on after its last frame.
var Loops = []string{"again", "back", "once"}

// Source is where a frame comes from: a cell of the grid image, or a file of its own.
type Source struct {
	File string // slash path in the project
	Cell int    // -1: the whole image
}

// Step is a frame of a state with how long it is shown.
type TimedFrame struct {
	Source       int // in Sheet.Sources
	Milliseconds int
}

// Direction is the steps of a state in one direction; its name is empty when the state has no directions.
type Direction struct {
	Name  string
	Steps []TimedFrame
}

// Animation is a state with all that is to know of it.
type Animation struct {
	Name       string
	Loop       string
	Directions []Direction
}

// Sheet is a sprite sheet, read.
type Sheet struct {
	File    File
	Name    string // the file's path in the project
	Sources []Source
	States  []Animation // by name
	Doc     *tomlfile.Document
}

// Images lists the image files that the sheet is made of.
func (s *Sheet) Images() []string {
	var list []string
	for _, f := range s.Sources {
		list = append(list, f.File)
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// Pages is how many textures the sheet is packed into.
func (s *Sheet) Pages() int { return max(s.File.Pages, 1) }

// State finds a state by name.
func (s *Sheet) State(name string) (Animation, bool) {
	for _, a := range s.States {
		if a.Name == name {
			return a, true
		}
	}
	return Animation{}, false
}

// StateNames lists the states.
func (s *Sheet) StateNames() []string {
	var names []string
	for _, a := range s.States {
		names = append(names, a.Name)
	}
	return names
}

// Parse reads a sheet. files are the paths of all files in the project, sorted.
func Parse(name string, data []byte, files []string) (*Sheet, []finding.Finding) {
	s := &Sheet{Name: name}
	doc, list := tomlfile.Decode(name, data, &s.File)
	s.Doc = doc
	if len(list) > 0 {
		return nil, list
	}
	p := &parser{s: s, files: files, sources: map[Source]int{}}
	p.head()
	if len(p.list) == 0 {
		switch {
		case s.File.Folder != "":
			p.folder()
		default:
			p.grid()
		}
	}
	if len(p.list) > 0 {
		return nil, p.list
	}
	return s, nil
}

type parser struct {
	s       *Sheet
	files   []string
	sources map[Source]int
	list    []finding.Finding
}

func (p *parser) wrong(keys []any, format string, args ...any) {
	p.list = append(p.list, p.s.Doc.Wrong(keys, format, args...))
}

func (p *parser) head() {
	f := &p.s.File
	switch {
	case f.Image == "" && f.Folder == "":
		p.wrong(nil, "the sheet names neither an image nor a folder of frames")
	case f.Image != "" && f.Folder != "":
		p.wrong([]any{"folder"}, "the sheet names both an image and a folder of frames")
	case f.Image != "" && (f.Frame[0] < 1 || f.Frame[1] < 1):
		p.wrong([]any{"frame"}, "frame must be the width and height of a frame of the grid image, such as [16, 16]")
	case f.Image != "" && len(f.States) == 0:
		p.wrong(nil, "the sheet has no state: add [state.NAME] with frames = [0, 1]")
	}
	if _, known := texture.ParseFormat(f.Format); f.Format != "" && f.Format != "auto" && !known {
		p.wrong([]any{"format"}, "format must be auto or one of %s, and is %q",
			strings.Join(texture.FormatNames(), ", "), f.Format)
	}
	for key, value := range map[string]*int{"padding": f.Padding, "extrude": f.Extrude} {
		if limit := map[string]int{"padding": 64, "extrude": 16}[key]; value != nil && (*value < 0 || *value > limit) {
			p.wrong([]any{key}, "%s must lie between 0 and %d texels, and is %d", key, limit, *value)
		}
	}
	if f.Pages < 0 || f.Pages > 64 {
		p.wrong([]any{"pages"}, "pages must lie between 1 and 64, and is %d", f.Pages)
	}
	if f.Rate < 0 || f.Rate > 1000 {
		p.wrong([]any{"rate"}, "rate must lie between 0 and 1000 frames a second, and is %v", f.Rate)
	}
	for _, name := range slices.Sorted(maps.Keys(f.States)) {
		st := f.States[name]
		if st.Loop != "" && !slices.Contains(Loops, st.Loop) {
			p.wrong([]any{"state", name, "loop"}, "loop must be one of %s, and is %q", strings.Join(Loops, ", "),
				st.Loop)
		}
		if st.Rate < 0 || st.Rate > 1000 {
			p.wrong([]any{"state", name, "rate"}, "rate must lie between 0 and 1000 frames a second, and is %v",
				st.Rate)
		}
		for _, ms := range st.Durations {
			if ms < 1 || ms > 3600000 {
				p.wrong([]any{"state", name, "durations"},
					"a duration must lie between 1 and 3,600,000 milliseconds, and is %d", ms)
			}
		}
		if f.Folder != "" && (st.Frames != nil || st.Directions != nil) {
			p.wrong([]any{"state", name},
				"with a folder the frames are its files: frames and directions do not belong here")
		}
	}
}

// at is the path in the project of something beside the sheet.
func (p *parser) at(rel string) string {
	return path.Join(path.Dir(p.s.Name), strings.ReplaceAll(rel, `\`, "/"))
}

// source numbers a frame.
func (p *parser) source(f Source) int {
	i, ok := p.sources[f]
	if !ok {
		i = len(p.s.Sources)
		p.sources[f] = i
		p.s.Sources = append(p.s.Sources, f)
	}
	return i
}

// steps gives each frame of a direction its time.
func (p *parser) steps(state string, st State, frames []Source) []TimedFrame {
	if len(st.Durations) > 0 && len(st.Durations) != len(frames) {
		p.wrong([]any{"state", state, "durations"}, "there are %d durations for %d frames", len(st.Durations),
			len(frames))
		return nil
	}
	rate := cmp.Or(st.Rate, p.s.File.Rate, 10)
	var steps []TimedFrame
	for i, f := range frames {
		step := TimedFrame{p.source(f), max(int(1000/rate+0.5), 1)}
		if len(st.Durations) > 0 {
			step.Milliseconds = st.Durations[i]
		}
		steps = append(steps, step)
	}
	return steps
}

func (p *parser) grid() {
	image := p.at(p.s.File.Image)
	if _, found := slices.BinarySearch(p.files, image); !found {
		f := finding.SpriteImage.At(p.s.Doc.At("image"), "the image %q is not there", image)
		if near := suggest.Word(image, p.files); near != "" {
			f = f.Doing("Did you mean %q?", path.Base(near))
		}
		p.list = append(p.list, f)
		return
	}
	cells := func(numbers []int) (list []Source) {
		for _, n := range numbers {
			list = append(list, Source{image, n})
		}
		return list
	}
	for _, name := range slices.Sorted(maps.Keys(p.s.File.States)) {
		st := p.s.File.States[name]
		a := Animation{Name: name, Loop: cmp.Or(st.Loop, Loops[0])}
		if (len(st.Frames) > 0) == (len(st.Directions) > 0) {
			p.wrong([]any{"state", name}, "the state %q needs frames, or directions with frames, and not both", name)
			continue
		}
		if len(st.Frames) > 0 {
			a.Directions = []Direction{{"", p.steps(name, st, cells(st.Frames))}}
		}
		for _, d := range slices.Sorted(maps.Keys(st.Directions)) {
			if len(st.Directions[d]) == 0 {
				p.wrong([]any{"state", name, "directions"}, "the direction %q of the state %q has no frames", d, name)
			}
			a.Directions = append(a.Directions, Direction{d, p.steps(name, st, cells(st.Directions[d]))})
		}
		p.s.States = append(p.s.States, a)
	}
}

// folder finds the states in the folders of frames.
func (p *parser) folder() {
	root := p.at(p.s.File.Folder) + "/"
	frames := map[string]map[string][]string{} // by state and direction
	first, _ := slices.BinarySearch(p.files, root)
	for _, f := range p.files[first:] {
		rel, ok := strings.CutPrefix(f, root)
		if !ok {
			break
		}
		parts := strings.Split(rel, "/")
		if !slices.Contains(texture.Endings, strings.ToLower(path.Ext(f))) || len(parts) < 2 || len(parts) > 3 {
			continue
		}
		direction := ""
		if len(parts) == 3 {
			direction = parts[1]
		}
		if frames[parts[0]] == nil {
			frames[parts[0]] = map[string][]string{}
		}
		frames[parts[0]][direction] = append(frames[parts[0]][direction], f)
	}
	if len(frames) == 0 {
		p.list = append(p.list,
			finding.SpriteImage.At(p.s.Doc.At("folder"), "there are no frames in %s: none such as %sSTATE/0.png", root,
				root))
		return
	}
	for _, name := range slices.Sorted(maps.Keys(p.s.File.States)) {
		if frames[name] == nil {
			f := p.s.Doc.Wrong([]any{"state", name}, "there is no folder of frames for the state %q", name)
			if near := suggest.Word(name, slices.Collect(maps.Keys(frames))); near != "" {
				f = f.Doing("Did you mean %q?", near)
			}
			p.list = append(p.list, f)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(frames)) {
		st := p.s.File.States[name]
		a := Animation{Name: name, Loop: cmp.Or(st.Loop, Loops[0])}
		if frames[name][""] != nil && len(frames[name]) > 1 {
			p.list = append(p.list,
				finding.SpriteImage.At(p.s.Doc.At("folder"),
					"the state %q has frames of its own and directions with frames in %s%s", name, root, name))
		}
		for _, d := range slices.Sorted(maps.Keys(frames[name])) {
			files := frames[name][d]
			slices.SortFunc(files, byNumber)
			var list []Source
			for _, f := range files {
				list = append(list, Source{f, -1})
			}
			a.Directions = append(a.Directions, Direction{d, p.steps(name, st, list)})
		}
		p.s.States = append(p.s.States, a)
	}
}

// byNumber orders file names by the last number in them, then by name: 2 stands before 10.
func byNumber(a, b string) int {
	number := func(s string) int {
		s = strings.TrimSuffix(path.Base(s), path.Ext(s))
		end := len(s)
		for end > 0 && (s[end-1] < '0' || s[end-1] > '9') {
			end--
		}
		start := end
		for start > 0 && s[start-1] >= '0' && s[start-1] <= '9' && end-start < 9 {
			start--
		}
		n, _ := strconv.Atoi(s[start:end])
		return n
	}
	return cmp.Or(cmp.Compare(number(a), number(b)), cmp.Compare(a, b))
}

// CheckGrid holds the frames to a grid image of w by h texels.
func (s *Sheet) CheckGrid(w, h int) []finding.Finding {
	if s.File.Image == "" {
		return nil
	}
	columns, rows := w/s.File.Frame[0], h/s.File.Frame[1]
	var list []finding.Finding
	if w%s.File.Frame[0] != 0 || h%s.File.Frame[1] != 0 {
		list = append(list,
			finding.SpriteFrame.At(s.Doc.At("frame"),
				"the image has %d x %d texels, which frames of %d x %d do not divide", w, h, s.File.Frame[0],
				s.File.Frame[1]))
	}
	for _, a := range s.States {
		for _, d := range a.Directions {
			for _, step := range d.Steps {
				if n := s.Sources[step.Source].Cell; n < 0 || n >= columns*rows {
					list = append(list,
						finding.SpriteFrame.At(s.Doc.At("state", a.Name),
							"%s: there is no frame %d: the image holds %d x %d, from 0 to %d",
							stateName(a.Name, d.Name), n, columns, rows, columns*rows-1))
				}
			}
		}
	}
	return list
}

func stateName(state, direction string) string {
	if direction == "" {
		return fmt.Sprintf("state %q", state)
	}
	return fmt.Sprintf("state %q, direction %q", state, direction)
}
