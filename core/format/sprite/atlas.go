package sprite

import (
	"cmp"
	"encoding/json"
	"fmt"
	"image"
	"math/bits"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/format/texture"
)

// Index is the documented form in which a sprite ships, beside the pages of its atlas.
type Index struct {
	Version int                   `json:"version" jsonschema:"required"`
	Pages   []string              `json:"pages" jsonschema:"required,description=Textures of the atlas\\, as the game sees them"`
	Size    [2]int                `json:"size" jsonschema:"required,description=Width and height of a page in texels"`
	Pivot   [2]int                `json:"pivot" jsonschema:"required,description=Texel of a whole frame that stands at the object's place"`
	Frames  []Frame               `json:"frames" jsonschema:"required,description=Each picture once\\, however many steps show it"`
	States  map[string]IndexState `json:"states" jsonschema:"required"`
}

// Frame is a picture in the atlas.
type Frame struct {
	Page   int    `json:"page" jsonschema:"required,description=Number in pages"`
	At     [2]int `json:"at" jsonschema:"required,description=Its upper left texel in the page"`
	Size   [2]int `json:"size" jsonschema:"required,description=Its width and height; see-through borders are cut off"`
	Offset [2]int `json:"offset" jsonschema:"required,description=Where it lies in the whole frame"`
	Whole  [2]int `json:"whole" jsonschema:"required,description=Width and height of the whole frame"`
}

// IndexState is a state in the index.
type IndexState struct {
	Loop       string                 `json:"loop" jsonschema:"required,enum=again,enum=back,enum=once"`
	Directions map[string][]IndexStep `json:"directions" jsonschema:"required,description=Steps by direction; a state without directions has them under the empty name"`
}

// IndexStep is a step in the index.
type IndexStep struct {
	Frame        int `json:"frame" jsonschema:"required,description=Number in frames"`
	Milliseconds int `json:"ms" jsonschema:"required"`
}

// Atlas is a packed sheet.
type Atlas struct {
	Pages []*image.NRGBA
	Index Index
}

// Limits are what sizes the atlas may have.
type Limits struct {
	Largest    int // longest side in texels; 0: 4096
	PowerOfTwo bool
}

// Frames cuts or loads every frame of the sheet, by Sheet.Sources. read gives an image of the project.
func (s *Sheet) Frames(read func(file string) (*image.NRGBA, error)) ([]*image.NRGBA, []finding.Finding, error) {
	loaded := map[string]*image.NRGBA{}
	frames := make([]*image.NRGBA, len(s.Sources))
	for i, src := range s.Sources {
		img := loaded[src.File]
		if img == nil {
			var err error
			if img, err = read(src.File); err != nil {
				return nil, nil, err
			}
			loaded[src.File] = img
			if src.Cell >= 0 {
				if list := s.CheckGrid(img.Rect.Dx(), img.Rect.Dy()); finding.Count(list, finding.Error) > 0 {
					return nil, list, nil
				}
			}
		}
		frames[i] = img
		if src.Cell >= 0 {
			w, h := s.File.Frame[0], s.File.Frame[1]
			columns := img.Rect.Dx() / w
			frames[i] = crop(img, image.Rect(0, 0, w, h).Add(image.Pt(src.Cell%columns*w, src.Cell/columns*h)))
		}
	}
	return frames, nil, nil
}

func crop(img *image.NRGBA, part image.Rectangle) *image.NRGBA {
	out := image.NewNRGBA(image.Rect(0, 0, part.Dx(), part.Dy()))
	for y := range part.Dy() {
		copy(out.Pix[y*out.Stride:][:4*part.Dx()], img.Pix[(part.Min.Y+y)*img.Stride+4*part.Min.X:])
	}
	return out
}

// seen is the smallest rectangle with everything that is not see-through; empty for a blank frame.
func seen(img *image.NRGBA) image.Rectangle {
	r := image.Rectangle{}
	for y := range img.Rect.Dy() {
		for x := range img.Rect.Dx() {
			if img.Pix[y*img.Stride+4*x+3] != 0 {
				r = r.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	return r
}

// Pack packs frames, as Frames gives them, into an atlas; pages is what the game calls page n.
func (s *Sheet) Pack(frames []*image.NRGBA, l Limits, page func(n int) string) (*Atlas, []finding.Finding) {
	var list []finding.Finding
	var pictures []*image.NRGBA
	index := Index{Version: 1, Frames: []Frame{}, States: map[string]IndexState{}}
	number := make([]int, len(frames)) // of each source in the index
	known := map[string]int{}
	for i, f := range frames {
		part := seen(f)
		if part.Empty() {
			list = append(list, finding.SpriteBlank.At(s.placeOf(i), "%s is see-through all over", s.describe(i)))
			part = image.Rect(0, 0, 1, 1)
		}
		picture := crop(f, part)
		key := fmt.Sprint(part, f.Rect.Size(), picture.Rect) + string(picture.Pix)
		n, again := known[key]
		if !again {
			n = len(pictures)
			known[key] = n
			pictures = append(pictures, picture)
			index.Frames = append(index.Frames,
				Frame{Size: [2]int{part.Dx(), part.Dy()}, Offset: [2]int{part.Min.X, part.Min.Y},
					Whole: [2]int{f.Rect.Dx(), f.Rect.Dy()}})
		}
		number[i] = n
	}
	whole := index.Frames[0].Whole
	if index.Pivot = s.File.Pivot; index.Pivot == [2]int{} {
		index.Pivot = [2]int{whole[0] / 2, whole[1] - 1}
	}
	padding, extrude := 2, 1
	if s.File.Padding != nil {
		padding = *s.File.Padding
	}
	if s.File.Extrude != nil {
		extrude = *s.File.Extrude
	}
	places, size, pages, ok := place(pictures, 2*extrude+padding, l)
	if !ok {
		return nil, append(list,
			finding.SpriteFrame.At(s.Doc.At("frame"), "a frame is larger than the %d texels a side that the game takes",
				cmp.Or(l.Largest, 4096)))
	}
	if pages != s.Pages() {
		f := finding.SpritePages.At(s.Doc.At("pages"),
			"the frames take %d pages of %d x %d texels, and the sheet says %d", pages, size.X, size.Y, s.Pages())
		return nil, append(list, f.Doing("Write pages = %d, or divide the sheet.", pages))
	}
	a := &Atlas{}
	for n := range pages {
		a.Pages = append(a.Pages, image.NewNRGBA(image.Rectangle{Max: size}))
		index.Pages = append(index.Pages, page(n))
	}
	for i, p := range places {
		at := p.at.Add(image.Pt(extrude, extrude))
		index.Frames[i].Page, index.Frames[i].At = p.page, [2]int{at.X, at.Y}
		stamp(a.Pages[p.page], pictures[i], at, extrude)
	}
	for _, st := range s.States {
		state := IndexState{Loop: st.Loop, Directions: map[string][]IndexStep{}}
		for _, d := range st.Directions {
			for _, step := range d.Steps {
				state.Directions[d.Name] = append(state.Directions[d.Name],
					IndexStep{number[step.Source], step.Milliseconds})
			}
		}
		index.States[st.Name] = state
	}
	index.Size = [2]int{size.X, size.Y}
	a.Index = index
	return a, list
}

// placeOf is where a frame is asked for: the first state that shows it.
func (s *Sheet) placeOf(source int) fault.Place {
	for _, a := range s.States {
		for _, d := range a.Directions {
			if slices.ContainsFunc(d.Steps, func(step TimedFrame) bool { return step.Source == source }) {
				return s.Doc.At("state", a.Name)
			}
		}
	}
	return s.Doc.At()
}

func (s *Sheet) describe(source int) string {
	if c := s.Sources[source].Cell; c >= 0 {
		return fmt.Sprintf("frame %d of %s", c, s.Sources[source].File)
	}
	return s.Sources[source].File
}

// JSON is the index as it ships.
func (i *Index) JSON() ([]byte, error) {
	data, err := json.MarshalIndent(i, "", " ")
	return append(data, '\n'), err
}

// stamp copies a picture into a page and repeats its edge around it.
func stamp(page, picture *image.NRGBA, at image.Point, extrude int) {
	w, h := picture.Rect.Dx(), picture.Rect.Dy()
	for y := -extrude; y < h+extrude; y++ {
		for x := -extrude; x < w+extrude; x++ {
			sx, sy := min(max(x, 0), w-1), min(max(y, 0), h-1)
			copy(page.Pix[(at.Y+y)*page.Stride+4*(at.X+x):][:4], picture.Pix[sy*picture.Stride+4*sx:])
		}
	}
}

// placed is where a picture lies, its border included.
type placed struct {
	page int
	at   image.Point
}

// place packs rectangles of the pictures' sizes and a border: into one page of the smallest area,
// or, where that would be too large, into as many of the largest size as it takes.
func place(pictures []*image.NRGBA, border int, l Limits) (places []placed, size image.Point, pages int, ok bool) {
	largest := cmp.Or(l.Largest, 4096)
	order := make([]int, len(pictures))
	widest, highest := 0, 0
	for i, p := range pictures {
		order[i] = i
		widest, highest = max(widest, p.Rect.Dx()+border), max(highest, p.Rect.Dy()+border)
	}
	if widest > largest || highest > largest {
		return nil, size, 0, false
	}
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := pictures[a].Rect, pictures[b].Rect
		return cmp.Or(cmp.Compare(y.Dy(), x.Dy()), cmp.Compare(y.Dx(), x.Dx()))
	})
	round := func(n int) int {
		if l.PowerOfTwo {
			return 1 << bits.Len(uint(n-1))
		}
		return (n + 3) / 4 * 4 // whole blocks
	}
	best := 0
	for width := round(widest); width <= largest; width = round(width + max(width/4, 1)) {
		s := newSkyline(width, largest)
		trial, high := make([]placed, len(pictures)), 0
		fits := true
		for _, i := range order {
			at, found := s.put(pictures[i].Rect.Dx()+border, pictures[i].Rect.Dy()+border)
			if fits = found; !fits {
				break
			}
			trial[i] = placed{0, at}
			high = max(high, at.Y+pictures[i].Rect.Dy()+border)
		}
		if height := round(max(high, 1)); fits && height <= largest && (best == 0 || width*height < best) {
			places, size, pages, best = trial, image.Pt(width, height), 1, width*height
		}
	}
	if best > 0 {
		return places, size, pages, true
	}
	side := largest
	if l.PowerOfTwo {
		side = 1 << (bits.Len(uint(largest)) - 1)
	}
	if widest > side || highest > side {
		return nil, size, 0, false
	}
	places = make([]placed, len(pictures))
	var open []*skyline
	for _, i := range order {
		for n := 0; ; n++ {
			if n == len(open) {
				open = append(open, newSkyline(side, side))
			}
			if at, found := open[n].put(pictures[i].Rect.Dx()+border, pictures[i].Rect.Dy()+border); found {
				places[i] = placed{n, at}
				break
			}
		}
	}
	return places, image.Pt(side, side), len(open), true
}

// skyline packs rectangles from the top: it knows how far down each stretch of the width is taken.
type skyline struct {
	width, height int
	steps         []skylineStep
}

type skylineStep struct{ x, y, w int }

func newSkyline(width, height int) *skyline {
	return &skyline{width, height, []skylineStep{{0, 0, width}}}
}

// put finds the highest place, and of those the leftmost, for a rectangle.
func (s *skyline) put(w, h int) (at image.Point, ok bool) {
	best := -1
	for i, step := range s.steps {
		if step.x+w > s.width {
			break
		}
		y := 0
		for j := i; j < len(s.steps) && s.steps[j].x < step.x+w; j++ {
			y = max(y, s.steps[j].y)
		}
		if y+h <= s.height && (best < 0 || y < at.Y) {
			best, at = i, image.Pt(step.x, y)
		}
	}
	if best < 0 {
		return at, false
	}
	next := slices.Clone(s.steps[:best])
	next = append(next, skylineStep{at.X, at.Y + h, w})
	for _, step := range s.steps[best:] {
		if end := step.x + step.w; end > at.X+w {
			x := max(step.x, at.X+w)
			next = append(next, skylineStep{x, step.y, end - x})
		}
	}
	s.steps = next
	return at, true
}

// PageName is the name of a sprite's page: NAME, then NAME_1 and so on.
func PageName(name string, n int) string {
	if n == 0 {
		return name
	}
	return fmt.Sprintf("%s_%d", name, n)
}

// ReadIndex reads an index and checks that its parts fit together.
func ReadIndex(data []byte) (*Index, error) {
	var i Index
	d := json.NewDecoder(strings.NewReader(string(data)))
	if err := d.Decode(&i); err != nil {
		return nil, fmt.Errorf("the sprite index can't be read: %w", err)
	}
	if i.Version != 1 {
		return nil, fmt.Errorf("the sprite index is of version %d, and this Vornix reads version 1", i.Version)
	}
	for n, f := range i.Frames {
		if f.Page < 0 || f.Page >= len(i.Pages) || min(f.At[0], f.At[1]) < 0 || min(f.Size[0], f.Size[1]) < 1 ||
			f.At[0]+f.Size[0] > i.Size[0] || f.At[1]+f.Size[1] > i.Size[1] {
			return nil, fmt.Errorf("frame %d of the sprite index lies outside its page", n)
		}
	}
	for name, st := range i.States {
		for _, steps := range st.Directions {
			for _, step := range steps {
				if step.Frame < 0 || step.Frame >= len(i.Frames) {
					return nil, fmt.Errorf("state %q of the sprite index shows frame %d, which is not there", name,
						step.Frame)
				}
			}
		}
	}
	return &i, nil
}

// Recipe is how the sheet's pages become textures: as they are drawn, without mip levels.
func (s *Sheet) Recipe(allowed []texture.Format) texture.Recipe {
	r := texture.Recipe{Kind: texture.Interface, Allowed: allowed, SRGB: true, Levels: 1}
	r.Format, r.Forced = texture.ParseFormat(s.File.Format)
	if s.File.Format == "" && slices.Contains(allowed, texture.RGBA8) {
		r.Format, r.Forced = texture.RGBA8, true
	}
	return r
}
