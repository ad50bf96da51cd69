package maplang

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/format/geom"
	"vornix/core/source/scene"
)

// maxRecords bounds what repeats and prefabs may grow to.
const maxRecords = 1 << 18

// Options for Read.
type Options struct {
	// Open reads a file that the source names, by its path from where the source's own path begins.
	// Nil: there are none.
	Open func(name string) ([]byte, error)
	// Keep are layers to keep although a release leaves them out.
	Keep []string
}

// builder turns records into a scene and collects what doesn't fit.
type builder struct {
	o        Options
	m        *scene.Map
	files    map[string]*library
	texts    map[string]*File // for excerpts
	findings []finding.Finding
	said     map[string]bool
	names    map[string]fault.Place
	layers   map[string]bool // whether a release has it
	numbers  map[string]int  // of uses, by prefab
	records  int
	full     bool
	broken   map[string]bool
	colours  map[scene.Colour]rune // of tiles in images
	grids    []gridImage
}

// library is what a file and those it includes define.
type library struct {
	file    *File
	known   *scope
	prefabs map[string]*prefab
	lines   []line // what is placed
}

type prefab struct {
	record *Record
	in     *library
}

// line is a record with the file that it stands in, which is what paths in it are relative to.
type line struct {
	r    *Record
	file string
}

// context is where a record is placed.
type context struct {
	known  *scope
	at     geom.Transform
	prefix string // of names
	move   bool   // textures move along
	in     *library
	file   string
	uses   []use
}

// use is a prefab on the way to a record.
type use struct {
	of    *Record
	place fault.Place
}

func (b *builder) find(k *finding.Kind, place fault.Place, format string, args ...any) *finding.Finding {
	f := k.At(place, format, args...)
	if said := place.String() + f.Text; b.said[said] || len(b.findings) >= maxFindings {
		return &finding.Finding{} // said of another copy of the prefab
	} else {
		b.said[said] = true
	}
	if file := b.texts[place.File]; file != nil {
		f.Excerpt = file.excerpt(place)
	}
	b.findings = append(b.findings, f)
	return &b.findings[len(b.findings)-1]
}

// open reads a file that a value names, relative to the file the value stands in.
func (b *builder) open(v *Value, from string) (name string, data []byte, ok bool) {
	name = path.Join(path.Dir(from), strings.ReplaceAll(v.Text, `\`, "/"))
	switch {
	case strings.Contains(v.Text, `\`) || path.IsAbs(v.Text) || !fs.ValidPath(name):
		b.find(finding.RefForm, v.Place, "%q leads out of the project",
			v.Text).Do = "Name a file of the project, by its way from this file, with forward slashes."
		return "", nil, false
	case b.o.Open == nil:
		b.find(finding.MapFile, v.Place, "the file %q can't be read here", v.Text)
		return "", nil, false
	}
	data, err := b.o.Open(name)
	if err != nil {
		missing := "missing " + name
		if b.said[missing] {
			return "", nil, false
		}
		b.said[missing] = true
		b.find(finding.MapFile, v.Place, "the file %s can't be read: %s", name, reason(err))
		return "", nil, false
	}
	if !slices.Contains(b.m.Files, name) {
		b.m.Files = append(b.m.Files, name)
	}
	return name, data, true
}

// reason is an error without the path that is named anyway.
func reason(err error) string {
	if p, ok := err.(*fs.PathError); ok {
		err = p.Err
	}
	return err.Error()
}

// load parses a file of records and takes what it defines. chain are the files that include one another.
func (b *builder) load(name string, data []byte, into *library, chain []string) {
	file, findings := Parse(name, data)
	b.findings = append(b.findings, findings...)
	b.texts[name] = file
	for key := range file.broken {
		b.broken[key] = true
		if name, isConst := strings.CutPrefix(key, "const "); isConst {
			into.known.names[name] = variable{number: 1} // whoever uses it is not blamed too
		}
	}
	if into.file == nil {
		into.file = file
	}
	c := context{known: into.known, in: into, file: name}
	for _, r := range file.Records {
		switch r.Keyword {
		case "include":
			r, ok := b.resolve(r, c)
			if !ok {
				continue
			}
			included, data, ok := b.open(&r.Values[0], name)
			if !ok {
				continue
			}
			if at := slices.Index(chain, included); at >= 0 {
				b.find(finding.MapCircle, r.Place, "%s includes itself: %s", included,
					strings.Join(append(slices.Clone(chain[at:]), included), " > "))
				continue
			}
			b.load(included, data, into, append(slices.Clone(chain), included))
		case "const":
			b.constant(r, c)
		case "prefab":
			if first := into.prefabs[r.Name()]; first != nil {
				b.find(finding.MapDuplicate, r.Place, "there is another prefab %s in %s", r.Name(), first.record.Place)
				continue
			}
			into.prefabs[r.Name()] = &prefab{r, into}
		case "layer":
			if r, ok := b.resolve(r, c); ok {
				b.layers[r.Name()] = str(r, "release") != "no" || slices.Contains(b.o.Keep, r.Name())
			}
		default:
			into.lines = append(into.lines, line{r, name})
		}
	}
}

func (b *builder) constant(r *Record, c context) {
	if _, twice := c.known.names[r.Name()]; twice && !b.broken["const "+r.Name()] {
		b.find(finding.MapDuplicate, r.Place, "there is another const %s", r.Name())
		return
	}
	if v, ok := b.variable(r.Values[1], c, "the value of "+r.Name()); ok {
		c.known.names[r.Name()] = v
	} else {
		c.known.names[r.Name()] = variable{number: 1}
	}
}

// variable is the value of a constant or of a prefab's parameter.
func (b *builder) variable(v Value, c context, what string) (variable, bool) {
	v, why := readValue(constant, nil, v, c.known)
	if why != "" {
		b.unreadable(v, constant, nil, what, why)
		return variable{}, false
	}
	if v.Quoted {
		return variable{text: v.Text, isText: true}, true
	}
	return variable{number: v.Numbers[0]}, true
}

func (b *builder) unreadable(v Value, k kind, choice []string, what, why string) {
	f := b.find(finding.MapSyntax, v.Place, "expected %s for %s; found %q", want(k, choice), what, v.Text)
	f.Do = strings.TrimSpace(strings.ReplaceAll(why, forExample, ""))
}

// resolve gives every value of a record that waited for names.
func (b *builder) resolve(r *Record, c context) (*Record, bool) {
	if !r.open {
		return r, true
	}
	g, ok := ruleOf(r), true
	now := *r
	now.Values, now.Pairs = slices.Clone(r.Values), slices.Clone(r.Pairs)
	for i, v := range now.Values {
		if s := g.slotAt(i); v.open {
			var why string
			if now.Values[i], why = readValue(s.kind, s.choice, v, c.known); why != "" {
				b.unreadable(v, s.kind, s.choice, "the "+s.name, why)
				ok = false
			}
		}
	}
	for i, p := range now.Pairs {
		k, choice := freeKind(r.Keyword), []string(nil)
		if s := g.setting(p.Key); s != nil && !p.free {
			k, choice = s.kind, s.choice
		}
		if p.Value.open && k != constant {
			var why string
			if now.Pairs[i].Value, why = readValue(k, choice, p.Value, c.known); why != "" {
				b.unreadable(p.Value, k, choice, p.Key, why)
				ok = false
			}
		}
	}
	return &now, ok
}

// place gives records their meaning where they stand.
func (b *builder) place(r *Record, c context) {
	if b.full {
		return
	}
	if b.records++; b.records > maxRecords {
		b.full = true
		b.find(finding.MapHuge, r.Place, "repeats and prefabs grow the map beyond %d lines here", maxRecords)
		return
	}
	before := len(b.findings)
	if r, ok := b.resolve(r, c); ok && b.onLayer(r) {
		b.meaning(r, c)
	}
	for i := before; i < len(b.findings) && len(c.uses) > 0; i++ {
		if f := &b.findings[i]; f.Wanted == nil && f.ID != finding.MapCircle.ID {
			f.Wanted = []string{f.Place.String()}
			for _, u := range slices.Backward(c.uses) {
				f.Wanted = append(f.Wanted, u.place.String())
			}
		}
	}
}

// meaning gives one record its meaning, and those under it.
func (b *builder) meaning(r *Record, c context) {
	switch r.Keyword {
	case "const":
		b.constant(r, c)
	case "group":
		b.children(r, b.moved(r, c))
	case "use":
		b.use(r, c)
	case "repeat":
		b.repeat(r, b.moved(r, c))
	default:
		b.record(r, c)
	}
}

// onLayer says whether a record is on a layer that takes part.
func (b *builder) onLayer(r *Record) bool {
	v := r.Pair("layer")
	if v == nil {
		return true
	}
	ships, known := b.layers[v.Text]
	switch {
	case !known && b.broken["layer "+v.Text]:
		return true
	case !known:
		f := b.find(finding.MapSyntax, v.Place, "there is no layer %q", v.Text)
		f.Do = "Add a line: layer " + v.Text + " release=no"
		var names []string
		for name := range b.layers {
			names = append(names, name)
		}
		if near := suggest.Word(v.Text, names); near != "" {
			f.Do = fmt.Sprintf("Did you mean %q?", near)
		}
		return false
	case !ships:
		b.m.LeftOut++
	}
	return ships
}

// children places what stands under a record.
func (b *builder) children(r *Record, c context) {
	for _, child := range r.Children {
		b.place(child, c)
	}
}

// moved is the context of what stands under a group, use or repeat.
func (b *builder) moved(r *Record, c context) context {
	var at geom.Vec
	if v := r.Pair("at"); v != nil {
		at = vec(*v)
	}
	factor := num(r, "scale", 1)
	if factor < 1e-3 || factor > 1e3 {
		b.find(finding.MapSyntax, r.Pair("scale").Place, "a scale must be from 0.001 to 1000, and is %v", factor)
		factor = 1
	}
	scale := geom.Vec{X: factor, Y: factor, Z: factor}
	switch str(r, "mirror") {
	case "x":
		scale.X = -scale.X
	case "y":
		scale.Y = -scale.Y
	case "z":
		scale.Z = -scale.Z
	}
	c.at = c.at.After(geom.Place(at, num(r, "turn", 0), scale))
	if v := str(r, "textures"); v != "" {
		c.move = v == "move"
	}
	c.known = &scope{names: map[string]variable{}, outer: c.known}
	return c
}

func (b *builder) use(r *Record, c context) {
	in := c.in
	if from := r.Pair("from"); from != nil {
		name, data, ok := b.open(from, c.file)
		if !ok {
			return
		}
		if in = b.files[name]; in == nil {
			in = &library{known: &scope{names: map[string]variable{}}, prefabs: map[string]*prefab{}}
			b.files[name] = in
			b.load(name, data, in, []string{name})
			for _, l := range in.lines {
				b.find(finding.MapSyntax, l.r.Place,
					"a file of prefabs holds prefabs, constants and includes only").Do = "Indent the line under the prefab that it belongs to."
			}
		}
	}
	what := r.Values[0]
	p := in.prefabs[what.Text]
	if p == nil {
		if !b.broken["prefab "+what.Text] {
			var names []string
			for name := range in.prefabs {
				names = append(names, name)
			}
			f := b.find(finding.MapPrefab, what.Place, "there is no prefab %q in %s", what.Text, in.file.Name)
			if near := suggest.Word(what.Text, names); near != "" {
				f.Do = fmt.Sprintf("Did you mean %q?", near)
			}
		}
		return
	}
	if at := slices.IndexFunc(c.uses, func(u use) bool { return u.of == p.record }); at >= 0 {
		circle := "circle " + r.Place.String()
		if b.said[circle] {
			return // from another use, the same
		}
		b.said[circle] = true
		var chain []string
		for _, u := range c.uses[at:] {
			chain = append(chain, fmt.Sprintf("%s (%s)", u.of.Name(), u.place))
		}
		chain = append(chain, fmt.Sprintf("%s (%s)", what.Text, r.Place))
		b.find(finding.MapCircle, r.Place, "the prefab %s is made of itself: %s", what.Text, strings.Join(chain, " > "))
		return
	}
	if len(c.uses) >= maxDepth {
		b.find(finding.MapHuge, r.Place, "more than %d prefabs stand in one another", maxDepth)
		return
	}
	inner := b.moved(r, c)
	inner.known = &scope{names: map[string]variable{}, outer: p.in.known}
	inner.in, inner.file = p.in, p.record.Place.File
	inner.uses = append(slices.Clone(c.uses), use{p.record, r.Place})
	key := c.prefix + what.Text
	b.numbers[key]++
	inner.prefix = fmt.Sprintf("%s_%d.", key, b.numbers[key])
	b.parameters(p.record, r, c, inner)
	b.children(p.record, inner)
}

// parameters gives a prefab's names their values: those of the use, or the defaults.
func (b *builder) parameters(p, r *Record, outside, inside context) {
	var names []string
	for _, d := range p.Pairs {
		names = append(names, d.Key)
		if v := r.Pair(d.Key); v == nil {
			inside.known.names[d.Key], _ = b.variable(d.Value, context{known: inside.known.outer}, d.Key)
		}
	}
	for _, given := range r.Pairs {
		if !given.free {
			continue
		}
		if !slices.Contains(names, given.Key) {
			f := b.find(finding.MapSyntax, given.Place, "the prefab %s has no parameter %q", p.Name(), given.Key)
			f.Do = fmt.Sprintf("Its parameters are: %s.", strings.Join(names, ", "))
			if near := suggest.Word(given.Key, append(names, ruleOf(r).keys()...)); near != "" {
				f.Do = fmt.Sprintf("Did you mean %q?", near)
			}
			continue
		}
		v, _ := b.variable(given.Value, outside, given.Key)
		if d, ok := b.variable(*p.Pair(given.Key), context{known: inside.known.outer}, given.Key); ok &&
			d.isText != v.isText {
			b.find(finding.MapSyntax, given.Value.Place, "%s is %s in the prefab %s, and not here", given.Key,
				map[bool]string{true: "a text", false: "a number"}[d.isText], p.Name()).Do =
				fmt.Sprintf("Write it as there: %s=%s", given.Key, printValue(constant, *p.Pair(given.Key)))
			v = d
		}
		inside.known.names[given.Key] = v
	}
}

func (b *builder) repeat(r *Record, c context) {
	counts := [3]int{1, 1, 1}
	countOf := r.Pair("count")
	total := 1.0
	for i, n := range countOf.Numbers {
		total *= n
		if n < 1 || n != float64(int(n)) || total > maxRecords {
			b.find(finding.MapHuge, countOf.Place, "a repeat makes 1 to %d copies, and this says %s", maxRecords,
				countOf.Text).Do = "Give whole numbers from 1 on, with a smaller product."
			return
		}
		counts[i] = int(n)
	}
	var step geom.Vec
	if v := r.Pair("step"); v != nil {
		step = vec(*v)
	}
	one := func(i int, t geom.Transform, names map[string]variable) {
		inner := c
		inner.at = c.at.After(t)
		inner.prefix = fmt.Sprintf("%s%s_%d.", c.prefix, r.Name(), i+1)
		names["i"] = variable{number: float64(i)}
		inner.known = &scope{names: names, outer: c.known}
		b.children(r, inner)
	}
	switch r.Values[1].Text {
	case "line":
		for i := 0; i < counts[0] && !b.full; i++ {
			one(i, geom.Place(step.Scale(float64(i)), 0, geom.Vec{X: 1, Y: 1, Z: 1}), map[string]variable{})
		}
	case "grid":
		for i := 0; i < counts[0]*counts[1]*counts[2] && !b.full; i++ {
			x, y, z := float64(i%counts[0]), float64(i/counts[0]%counts[1]), float64(i/counts[0]/counts[1])
			at := geom.Vec{X: float64(x * step.X), Y: float64(y * step.Y), Z: float64(z * step.Z)}
			one(i, geom.Place(at, 0, geom.Vec{X: 1, Y: 1, Z: 1}),
				map[string]variable{"x": {number: x}, "y": {number: y}, "z": {number: z}})
		}
	case "circle":
		arc, gaps := num(r, "arc", 360), counts[0]
		if arc < 360 && arc > -360 {
			gaps = max(counts[0]-1, 1)
		}
		for i := 0; i < counts[0] && !b.full; i++ {
			angle := arc * float64(i) / float64(gaps)
			sin, cos := geom.Turn(angle)
			radius := num(r, "radius", 0)
			at := geom.Vec{X: float64(cos * radius), Y: float64(sin * radius)}
			turn := angle
			if str(r, "turned") == "no" {
				turn = 0
			}
			one(i, geom.Place(at, turn, geom.Vec{X: 1, Y: 1, Z: 1}), map[string]variable{"angle": {number: angle}})
		}
	}
}
