package assembly

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"image"
	"io/fs"
	"maps"
	"math"
	"os"
	"path"
	"runtime"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/compile/render"
	"vornix/core/compile/stage"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/bvh"
	"vornix/core/format/imaging"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
	"vornix/core/format/sprite"
	"vornix/core/format/texture"
	"vornix/core/format/texture/bcn"
	"vornix/core/make/taskgraph"
	"vornix/core/source/assetgraph"
	"vornix/core/source/maplang"
	"vornix/core/source/scene"
	"vornix/core/source/shots"
)

// PicturesDir holds the pictures that stand beside bundles.
const PicturesDir = project.OutDir + "/pictures"

// picturesState is where is kept what is up to date there.
const picturesState = project.StateDir + "/pictures"

// pictureVersion is raised when a picture would come out otherwise of the same shot or image.
const pictureVersion = 1

// PictureStep is the step of jobs that make pictures.
const PictureStep = "picture"

// Studio keeps the scenes that pictures are being taken of, the last few of them: pictures of one
// map are mostly made one after the other, and making its scene ready takes about as long as a
// small picture. The zero value is empty.
type Studio struct {
	mu     sync.Mutex
	scenes []*set
}

type set struct {
	key   string
	once  sync.Once
	m     *mapfile.Map
	seen  string
	scene *render.Scene
	tiles *render.Tiles
	err   error
}

// maxSets is how many maps and scenes are kept.
const maxSets = 4

func (s *Studio) set(key string) *set {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.scenes, func(x *set) bool { return x.key == key })
	if i < 0 {
		if len(s.scenes) == maxSets {
			s.scenes = slices.Delete(s.scenes, 0, 1)
		}
		s.scenes = append(s.scenes, &set{key: key})
		i = len(s.scenes) - 1
	}
	return s.scenes[i]
}

// shotRule is what decides how a shot of a map looks, besides the map.
type shotRule struct {
	Version       int
	Camera        *render.Camera
	Tile          *render.TileShot
	Width, Height int
	Draft         bool
	Looks         map[string]shownRule
	Sprites       []string // their sources
}

// pictures adds the jobs of pictures, of those inside the tree or of those beside.
func (pl *planner) pictures(plan *shots.Plan, inside bool) {
	lit := pl.stages.Only == nil || slices.Contains(pl.stages.Only, stage.Lighting)
	for i := range plan.Pictures {
		x := &plan.Pictures[i]
		if x.Inside != inside || x.Image == "" && !lit && !x.Tiles {
			continue // a map without light is black: such a build is for nobody's eyes
		}
		pl.shot(x)
	}
}

// wanted says whether a picture is of one of the maps; without maps all are.
func wanted(x *shots.Picture, names []string) bool {
	return len(names) == 0 || slices.Contains(names, x.Map) || slices.Contains(names, x.From)
}

// pictureJobs are the jobs of pictures inside the tree, and of maps that are needed for the others,
// of the maps with these names.
func pictureJobs(plan *shots.Plan, names []string) []string {
	ids := []string{}
	for i := range plan.Pictures {
		x := &plan.Pictures[i]
		switch {
		case !wanted(x, names):
		case x.Inside:
			ids = append(ids, PictureStep+" "+x.ID())
		case x.Image == "":
			ids = append(ids, "map "+x.From)
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// Beside brings the pictures that stand beside bundles up to date, in out/pictures, from the
// compiled maps in out/tree; names, when given, are the only maps to look at. The error is a fault
// when some could not be made; the result is there all the same. The caller holds the project's
// lock.
func Beside(ctx context.Context, p *project.Project, g *assetgraph.Graph, plan *shots.Plan, o Options,
	names []string) (*Result, error) {
	if o.Workers <= 0 {
		o.Workers = runtime.GOMAXPROCS(0)
	}
	pl := newPlanner(p, g, o.Workers, o.Stages)
	if o.Studio != nil {
		pl.resources.scenes = o.Studio
	}
	pl.pictures(plan, false)
	if _, err := os.Stat(p.Join(PicturesDir)); err != nil && len(pl.jobs) == 0 {
		return &Result{}, nil
	}
	dir, err := safefile.MakeDir(p.Join(PicturesDir))
	if err != nil {
		return nil, err
	}
	dir.Close()
	top, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer top.Close()
	var only []string
	if len(names) > 0 {
		only = []string{}
		for i := range plan.Pictures {
			if x := &plan.Pictures[i]; !x.Inside && wanted(x, names) {
				only = append(only, PictureStep+" "+x.ID())
			}
		}
	}
	report, shares, said, sharedErr,
		err := o.run(ctx, pl, top,
		taskgraph.Options{Out: PicturesDir, State: picturesState, Only: only, KeepOld: !g.Complete()})
	if err = cmp.Or(err, sharedErr); err != nil {
		return nil, err
	}
	r := &Result{Removed: report.Removed,
		Findings: slices.Concat(finding.Accept(merge(nil, report), p.Acceptances()), said), Farm: shares}
	r.take(report)
	if err := clock(top, p, report.Results, false); err != nil {
		return r, err
	}
	if failed := r.Failed(); failed > 0 {
		return r, buildFault(report, failed)
	}
	return r, nil
}

// StaleBeside says which pictures beside bundles would have to be made now. It changes nothing.
func StaleBeside(ctx context.Context, p *project.Project, g *assetgraph.Graph) ([]string, error) {
	pl := newPlanner(p, g, 1, Stages{})
	pl.pictures(shots.NewPlan(p, g), false)
	report, err := taskgraph.Run(ctx, pl.jobs,
		taskgraph.Options{Dir: p.Dir, Out: PicturesDir, State: picturesState, Plan: true})
	if err != nil {
		return nil, err
	}
	return stale(report), nil
}

// shot adds the job of a picture.
func (pl *planner) shot(x *shots.Picture) {
	outputs := []string{x.File}
	if x.Material != "" {
		outputs = append(outputs, x.Material)
	}
	if x.Map != "" && x.Inside {
		for _, out := range outputs {
			pl.maps[out] = []string{x.Map}
		}
	}
	j := &taskgraph.Job{ID: PictureStep + " " + x.ID(), Step: PictureStep, Version: pictureVersion, Outputs: outputs}
	var rule *shotRule
	compiled, sprites := "", map[string]string{}
	if x.Image != "" {
		j.Inputs = append(j.Inputs, x.Image)
	} else {
		a := pl.g.Find(assetgraph.Map, x.From)
		compiled = pl.p.Profile.MapPath(a.Name)
		if x.Inside {
			j.After = []string{"map " + a.Name}
		} else {
			compiled = path.Join(project.TreeDir, compiled)
			j.Inputs = append(j.Inputs, compiled)
		}
		rule = pl.shotRule(x, a)
		for _, n := range assetgraph.Closure(a) {
			if n.Kind == assetgraph.Sprite {
				sprites[n.Name] = n.Source
			}
		}
		for _, file := range rule.files(a, pl.g) {
			j.Inputs = append(j.Inputs, file)
			pl.seen[j.ID+"\n"+file] = true
		}
	}
	if x.Font != "" {
		j.Inputs = append(j.Inputs, x.Font)
	}
	slices.Sort(j.Inputs)
	j.Inputs = slices.Compact(j.Inputs)
	w := &pictureWork{ID: x.ID(), Source: x.Source(), Place: x.Place, Out: x.File, Inside: x.Inside, Tiles: x.Tiles,
		Compiled: compiled, Rule: rule, Sprites: sprites, Image: x.Image, AsIs: x.AsIs, Edit: x.Edit, Font: x.Font,
		Of: *x.Of, Texture: pl.pictureTexture(x), File: pl.p.Profile.Textures.File(), Material: x.Material,
		Colour: x.Texture, Textures: pl.p.Profile.Files.Textures, Container: pl.p.Profile.Textures.Container}
	pl.work(j, w)
}

// pictureWork is what making a picture takes besides its inputs.
type pictureWork struct {
	ID, Source    string // in words
	Place         fault.Place
	Out           string
	Inside, Tiles bool
	Compiled      string // the map that it is taken of
	Rule          *shotRule
	Sprites       map[string]string // sources, by name
	Image         string
	AsIs          bool
	Edit          imaging.Recipe
	Font          string
	Of            profile.Picture
	Texture       texture.Recipe
	File          texture.Container
	// Material is the path of the material beside the picture, Colour what that shows; Textures and
	// Container say where the game has it.
	Material, Colour, Textures, Container string
}

func (w *pictureWork) decides() any {
	return struct {
		Rule     *shotRule
		Image    string
		AsIs     bool
		Edit     imaging.Recipe
		Font     string
		Of       profile.Picture
		Texture  texture.Recipe
		File     texture.Container
		Material string
	}{w.Rule, w.Image, w.AsIs, w.Edit, w.Font, w.Of, w.Texture, w.File, w.Material}
}

func (w *pictureWork) run(ctx context.Context, t *taskgraph.Task, b *resources) error {
	if w.AsIs {
		data, err := t.Input(w.Image)
		if err != nil {
			return err
		}
		return t.Write(w.Out, data)
	}
	img, err := w.drawn(ctx, t, b)
	if err != nil {
		return err
	}
	if w.Image == "" && blank(img) {
		t.Find(finding.PictureBlank.At(w.Place, "the picture %s, taken by %s, is of one colour", w.ID, w.Source))
	}
	if w.Of.Form == profile.Texture {
		return w.writeTexture(ctx, t, b, img)
	}
	data, err := w.encode(img)
	if err != nil {
		return err
	}
	return t.Write(w.Out, data)
}

// pictureTexture is how a picture becomes a texture.
func (pl *planner) pictureTexture(x *shots.Picture) texture.Recipe {
	r := texture.Recipe{Kind: texture.Interface, SRGB: true, Allowed: pl.p.Profile.Textures.FormatList(), Levels: 1,
		Size: pl.p.Profile.Textures.SizeRule()}
	r.Format, r.Forced = texture.ParseFormat(x.Of.Format)
	r.Quality, _ = bcn.ParseQuality("normal")
	if pl.stages.Draft {
		r.Quality, _ = bcn.ParseQuality("draft")
	}
	if x.Of.Mips {
		r.Levels = 0
	}
	return r
}

func (w *pictureWork) writeTexture(ctx context.Context, t *taskgraph.Task, b *resources, img *image.NRGBA) error {
	how := w.Texture
	how.Workers = b.workers
	made, err := texture.PrepareImages([]image.Image{img}, how)
	if err != nil {
		return err
	}
	tex, err := made.Compile(ctx)
	if err != nil {
		return err
	}
	parts, err := tex.Parts(w.File)
	if err != nil {
		return err
	}
	if err := t.Write(w.Out, parts...); err != nil || w.Material == "" {
		return err
	}
	m := &material.Material{Fields: material.Fields{Colour: w.Colour, Shading: "unlit",
		SeeThrough: map[bool]string{true: material.SeeThroughSoft, false: "no"}[w.Of.Alpha]}}
	game := profile.Profile{}
	game.Files.Textures, game.Textures.Container = w.Textures, w.Container
	data, err := m.Compile(game.TexturePath, material.Footing{})
	if err != nil {
		return err
	}
	return t.Write(w.Material, data)
}

// encode writes a picture in its form, of at most so many bytes.
func (w *pictureWork) encode(img *image.NRGBA) ([]byte, error) {
	heavy := func(format string, args ...any) error {
		return &finding.Failure{What: "the picture " + w.ID + " can't be made",
			Findings: []finding.Finding{finding.PictureHeavy.At(w.Place, format, args...)}}
	}
	if w.Of.Form == profile.JPEG {
		data, q, fits, err := imaging.JPEG(img, w.Of.LeastQuality, w.Of.Quality, w.Of.MostBytes)
		if err == nil && !fits {
			err = heavy("the picture %s has %d bytes as JPEG of quality %d, and may have %d", w.ID, len(data), q,
				w.Of.MostBytes)
		}
		return data, err
	}
	data, fits, err := imaging.PNG(img, w.Of.MostBytes)
	if err == nil && !fits {
		err = heavy("the picture %s has %d bytes as PNG, and may have %d", w.ID, len(data), w.Of.MostBytes)
	}
	return data, err
}

// drawn is a finished picture.
func (w *pictureWork) drawn(ctx context.Context, t *taskgraph.Task, b *resources) (*image.NRGBA, error) {
	e, rule := w.Edit, w.Rule
	if w.Font != "" && e.Text != nil {
		data, err := t.Input(w.Font)
		if err != nil {
			return nil, err
		}
		text := *e.Text
		text.Font = data
		e.Text = &text
	}
	if w.Image != "" {
		data, err := t.Input(w.Image)
		if err != nil {
			return nil, err
		}
		img, err := texture.Decode(data)
		if err != nil {
			return nil, &finding.Failure{What: "the picture " + w.ID + " can't be made",
				Findings: []finding.Finding{finding.PictureImage.At(fault.Place{File: w.Image}, "%v",
					err).Doing("Export the image again.")}}
		}
		return e.Image(img)
	}
	m, seen, err := b.scenes.mapOf(t, w)
	if err != nil {
		return nil, err
	}
	key := rule.key(t, seen, w.Compiled)
	looks := Looks{Of: rule.look(t.Input), Sprites: w.sprites(t)}
	of := b.scenes.set(key)
	if w.Tiles {
		of.once.Do(func() { of.tiles = looks.Tiles(m) })
		return e.Image(of.tiles.Shoot(*rule.Tile))
	}
	shotKey := stage.Key("shot", key, rule.Camera, rule.Width, rule.Height, rule.Draft)
	if data, ok := t.CachedPart(shotKey); ok {
		if img, ok := unpackShot(data, rule.Width, rule.Height); ok {
			return e.Shot(img)
		}
	}
	of.once.Do(func() {
		if looks.Sky, of.err = skyOf(m, t.Input); of.err == nil {
			of.scene, of.err = looks.Scene(m)
		}
	})
	if of.err != nil {
		return nil, of.err
	}
	img, err := of.scene.Shoot(ctx, *rule.Camera,
		render.Options{Width: rule.Width, Height: rule.Height, Draft: rule.Draft, Workers: b.workers,
			Progress: func(done, total int64) { t.Advance("drawing", done, total) }})
	if err != nil {
		return nil, err
	}
	if err := t.CachePart(shotKey, packShot(img)); err != nil {
		return nil, err
	}
	return e.Shot(img)
}

// sprites gives the first frames of the sprites that stand on the map.
func (w *pictureWork) sprites(t *taskgraph.Task) func(name, state, direction string) (render.Sprite, bool) {
	return firstFrames(func(name string) *sprite.Sheet {
		source, ok := w.Sprites[name]
		if !ok {
			return nil
		}
		sheet, err := sheetOf(t, source)
		if err != nil {
			return nil // its own job says why
		}
		return sheet
	}, t.Input)
}

// mapOf reads the compiled map that a picture is taken of, and names it by all of it that is seen:
// a moved spawn makes no picture again.
func (s *Studio) mapOf(t *taskgraph.Task, w *pictureWork) (m *mapfile.Map, seen string, err error) {
	of := s.set("map " + t.Sum(w.Compiled))
	of.once.Do(func() {
		read := t.Input
		if w.Inside {
			read = t.Output
		}
		var data []byte
		if data, of.err = read(w.Compiled); of.err != nil {
			return
		}
		if of.m, of.err = mapfile.Read(data); of.err != nil {
			of.err = fmt.Errorf("reading the compiled map %s: %w", w.Compiled, of.err)
			return
		}
		shown := *of.m
		shown.Meta = mapfile.Meta{Sky: of.m.Meta.Sky, Fog: of.m.Meta.Fog}
		shown.Bodies, shown.Nodes, shown.Leaves, shown.Visibility, shown.Navigation, shown.Costs, shown.Cubes = nil,
			nil, nil, nil, nil, nil, nil
		if len(of.m.Grids) == 0 { // on grids sprites stand
			shown.Objects = nil
		}
		if data, of.err = mapfile.Encode(&shown); of.err == nil {
			sum := sha256.Sum256(data)
			of.seen = hex.EncodeToString(sum[:])
		}
	})
	return of.m, of.seen, of.err
}

// skyOf is the picture all around a map, or nil.
func skyOf(m *mapfile.Map, input func(string) ([]byte, error)) (*scene.Picture, error) {
	// without an image, or a map that somebody has meddled with
	if m.Meta.Sky == nil || !fs.ValidPath(m.Meta.Sky.Image) {
		return nil, nil
	}
	name := m.Meta.Sky.Image
	data, err := input(name)
	if err != nil {
		return nil, fmt.Errorf("reading the map's sky: %w", err)
	}
	sky, err := maplang.Panorama(name, data)
	if err != nil {
		return nil, fmt.Errorf("reading the map's sky from %s: %w", name, err)
	}
	return sky, nil
}

// shotRule is that of a picture of a map.
func (pl *planner) shotRule(x *shots.Picture, a *assetgraph.Asset) *shotRule {
	r := &shotRule{Version: render.Version, Width: x.Width, Height: x.Height, Draft: pl.stages.Draft,
		Looks: map[string]shownRule{}}
	for _, n := range assetgraph.Closure(a) {
		switch n.Kind {
		case assetgraph.Material:
			r.Looks[n.Name] = pl.shownRule(n.Name)
		case assetgraph.Sprite:
			r.Sprites = append(r.Sprites, n.Source)
		}
	}
	if x.Tiles {
		r.Tile = &render.TileShot{Level: x.Level, Scale: x.Scale, Width: x.Width, Height: x.Height,
			Exposure: x.Exposure}
		if c := x.Camera; c != nil {
			r.Tile.Level, r.Tile.At = int(math.Floor(c.At.Z)), &[2]float64{c.At.X, c.At.Y}
		}
		return r
	}
	c := x.Camera
	r.Camera = &render.Camera{At: bvh.Vec{float32(c.At.X), float32(c.At.Y), float32(c.At.Z)},
		Look: bvh.Vec{float32(c.Look.X), float32(c.Look.Y), float32(c.Look.Z)},
		FOV:  c.FOV, Exposure: x.Exposure, Lens: c.Lens / 2, Focus: c.Focus}
	return r
}

// files are the sources besides the map that a shot is made of.
func (r *shotRule) files(a *assetgraph.Asset, g *assetgraph.Graph) []string {
	var list []string
	for _, name := range slices.Sorted(maps.Keys(r.Looks)) {
		l := r.Looks[name]
		list = append(list, l.files()...)
	}
	for _, source := range r.Sprites {
		list = append(list, source)
		if s := g.Named(source); len(s) == 1 {
			list = append(list, s[0].Parts...)
		}
	}
	if s := a.Scene.Sky; s != nil && s.Image != nil {
		list = append(list, s.Image.Name)
	}
	return list
}

// look gives the looks that materials have; input reads sources.
func (r *shotRule) look(input func(string) ([]byte, error)) func(name string) render.Appearance {
	return func(name string) render.Appearance {
		l := r.Looks[name]
		return l.look(input)
	}
}

// key names the scene of a shot by all that decides it: what is seen of the map, the materials and their images.
func (r *shotRule) key(t *taskgraph.Task, seen, compiled string) string {
	parts := []any{r.Version, seen, r.Looks, r.Sprites}
	for _, in := range t.Inputs() {
		if in != compiled {
			parts = append(parts, in, t.Sum(in))
		}
	}
	return stage.Key(parts...)
}

// packShot and unpackShot keep shots: three 16-bit numbers a pixel, by zstd.
func packShot(m *imaging.RGB48) []byte {
	raw := make([]byte, 2*len(m.Pix))
	for i, v := range m.Pix {
		binary.LittleEndian.PutUint16(raw[2*i:], v)
	}
	// fails only for wrong options
	w, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	return w.EncodeAll(raw, nil)
}

func unpackShot(data []byte, w, h int) (*imaging.RGB48, bool) {
	r, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(1<<31))
	if err != nil {
		return nil, false
	}
	defer r.Close()
	raw, err := r.DecodeAll(data, nil)
	if err != nil || len(raw) != 6*w*h {
		return nil, false
	}
	m := &imaging.RGB48{W: w, H: h, Pix: make([]uint16, 3*w*h)}
	for i := range m.Pix {
		m.Pix[i] = binary.LittleEndian.Uint16(raw[2*i:])
	}
	return m, true
}

// blank says whether a picture is as good as of one colour: hardly any pixel differs from their mean.
func blank(img *image.NRGBA) bool {
	var sum, squares [3]float64
	n := float64(img.Rect.Dx() * img.Rect.Dy())
	for i := 0; i < len(img.Pix); i += 4 {
		for k := range 3 {
			v := float64(img.Pix[i+k])
			sum[k] += v
			squares[k] += float64(v * v)
		}
	}
	for k := range 3 {
		if mean := sum[k] / n; squares[k]/n-float64(mean*mean) > 4 {
			return false
		}
	}
	return true
}
