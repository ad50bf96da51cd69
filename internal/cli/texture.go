package cli

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"image"
	"image/draw"
	"image/png"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/texture"
	"vornix/core/format/texture/bcn"
	"vornix/core/make/assembly"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

// oneTexture are the options of the texture command: a recipe, the rules that a profile would give, and the file form.
type oneTexture struct {
	project.Making
	mips, coverage, resize, header string
	fromHeight, zstd               bool
	rules                          profile.Textures
	level                          int
}

func (a *app) textureCommand() *cobra.Command {
	o := oneTexture{}
	var cmd *cobra.Command
	cmd = &cobra.Command{
		Use:   "texture IN... OUT",
		Short: "Convert one image or texture; the ending of OUT says into what",
		Long: `Texture converts one file, no project needed. IN is an image (PNG, JPEG, TGA, TIFF, BMP, WebP, GIF, Radiance) or a
texture (KTX2, DDS); OUT ends in .ktx2, .dds or .png. Several INs make a cube (right left up down front back) or an array.
With --format auto it looks at the pixels and takes the smallest format that loses nothing, and says why; a format that
loses something says how many texels lose what.`,
		Example: `  vornix texture plank.png plank.ktx2 --quality best
  vornix texture heights.tga stone_normal.dds --from-height --strength 6 --edge wrap --format bc5
  vornix texture sky.hdr sky.ktx2 --shape cube --format bc6h --zstd
  vornix texture plank.ktx2 plank.png`,
		Args: between(2, 2049, "files: from what (one or more), into what"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			in, out := args[:len(args)-1], args[len(args)-1]
			if err := o.effective(cmd.Flags(), out); err != nil {
				return err
			}
			var files [][]byte
			for _, name := range in {
				data, err := os.ReadFile(name)
				if err != nil {
					return &fault.Fault{Kind: fault.Usage, What: "could not read the image",
						Place: fault.Place{File: filepath.ToSlash(name)}, Err: err, Do: "Check the path."}
				}
				files = append(files, data)
			}
			recipe, err := o.recipe()
			if err != nil {
				return err
			}
			recipe.Workers = cmp.Or(a.jobs, runtime.GOMAXPROCS(0))
			parts, made, err := o.convert(ctx, recipe, in[0], out, files)
			if err != nil {
				return err
			}
			d, err := safefile.OpenDir(filepath.Dir(out))
			if err != nil {
				return err
			}
			defer d.Close()
			if err := d.WriteFile(filepath.Base(out), parts...); err != nil {
				return err
			}
			answer.Result = made
			for _, p := range parts {
				made.Bytes += len(p)
			}
			a.out.Say("%s: %d x %d, %s, %s, %s", filepath.ToSlash(out), made.Width, made.Height,
				orWord(made.Format, "png"), release.Count(max(made.Levels, 1), "level"),
				release.Bytes(int64(made.Bytes)))
			if made.Why != "" {
				a.out.Say("  %s", made.Why)
			}
			for _, f := range made.Findings {
				a.out.Say("  %s", f.Text)
			}
			return nil
		}),
	}
	f := cmd.Flags()
	f.StringVar(&o.Format, "format", "auto", "`name` of the format: auto, "+strings.Join(texture.FormatNames(), ", "))
	f.StringVar(&o.Kind, "kind", "colour", "`kind` of image: "+strings.Join(texture.Kinds(), ", "))
	f.StringVar(&o.ColourSpace, "colour-space", "", "colour `space`: srgb or linear (default: by kind)")
	f.StringVar(&o.Quality, "quality", "normal",
		"`quality`, by the time taken to search for the best blocks: "+strings.Join(bcn.Qualities(), ", "))
	f.StringVar(&o.mips, "mips", "", "`levels`: full, none or the most there may be (default: by kind)")
	f.StringVar(&o.Filter, "filter", "box",
		"`filter` of levels and of resizing: "+strings.Join(texture.FilterNames, ", "))
	f.StringVar(&o.Edge, "edge", "clamp", "what lies beyond the image's `edge`: clamp or wrap")
	f.StringVar(&o.coverage, "coverage", "auto",
		"`choice` whether the drawn part of cut-outs is kept in smaller levels: yes, no, auto")
	f.StringVar(&o.resize, "resize", "", "exact `size`, such as 512x256")
	f.StringVar(&o.Size, "size", "", "make sides powers of two by this `rule`: nearest, up, down")
	f.StringVar(&o.Aspect, "aspect", "stretch",
		"with --size: stretch, or keep the `aspect` and repeat the edge over the rest")
	f.IntVar(&o.rules.Largest, "largest", 0, "longest side in `texels`; larger images are made smaller")
	f.BoolVar(&o.fromHeight, "from-height", false, "make a normal map of the image's brightness")
	f.Float64Var(&o.Strength, "strength", 4, "with --from-height: how many `texels` high white stands over black")
	f.StringVar(&o.Green, "green", "", "`way` in which green grows in IN's normals: up or down (default: as in OUT)")
	f.StringVar(&o.rules.Green, "green-out", "up", "`way` in which green grows in OUT's normals: up or down")
	f.StringVar(&o.Shape, "shape", "", "`shape`: flat, cube or array (default: as IN, or flat)")
	f.BoolVar(&o.zstd, "zstd", false, "pack the levels of a KTX2 file with zstd")
	f.StringVar(&o.header, "dds-header", "dx10", "`header` of a DDS file: dx10 or plain")
	f.IntVar(&o.level, "level", 0, "with a texture as IN and a PNG as OUT: which `level`")
	return cmd
}

// textureMade is what the texture command made.
type textureMade struct {
	textureAnswer
	Why        string            `json:"why,omitempty"` // why the format was taken
	LostAlpha  int               `json:"lost_alpha"`    // texels whose alpha the format can't keep
	LostColour int               `json:"lost_colour"`   // texels whose colour the format can't keep
	LostLight  int               `json:"lost_light"`    // texels brighter than the format keeps
	Findings   []finding.Finding `json:"findings"`
}

// usage refuses a value of an option.
func usage(format string, args ...any) *fault.Fault {
	return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf(format, args...), Do: "See: vornix texture --help"}
}

// effective refuses options that would do nothing: whoever gives one believes that it does.
func (o *oneTexture) effective(flags *pflag.FlagSet, out string) error {
	ending := strings.ToLower(filepath.Ext(out))
	normal := o.fromHeight || o.Kind == string(texture.Normal)
	for _, c := range []struct {
		names string
		does  bool
		needs string
	}{
		{"format quality mips coverage", ending != ".png", "a texture as OUT (.ktx2 or .dds)"},
		{"zstd", ending == ".ktx2", "OUT to end in .ktx2"},
		{"dds-header", ending == ".dds", "OUT to end in .dds"},
		{"level", ending == ".png", "OUT to end in .png"},
		{"strength", o.fromHeight, "--from-height"},
		{"green green-out", normal, "--kind normal or --from-height"},
		{"aspect", o.Size != "" || o.rules.Largest > 0, "--size"},
	} {
		for name := range strings.FieldsSeq(c.names) {
			if flags.Changed(name) && !c.does {
				f := usage("--%s does nothing here", name)
				f.Do = fmt.Sprintf("It needs %s; leave it out otherwise.", c.needs)
				return f
			}
		}
	}
	return nil
}

// recipe turns the options into a recipe.
func (o *oneTexture) recipe() (texture.Recipe, error) {
	for _, w := range []struct {
		option, value string
		known         []string
	}{
		{"format", o.Format, append([]string{"auto"}, texture.FormatNames()...)}, {"kind", o.Kind, texture.Kinds()},
		{"colour-space", o.ColourSpace, []string{"srgb", "linear"}},
		{"quality", o.Quality, bcn.Qualities()}, {"filter", o.Filter, texture.FilterNames},
		{"edge", o.Edge, texture.EdgeNames},
		{"coverage", o.coverage, []string{"auto", "yes", "no"}}, {"size", o.Size, []string{"nearest", "up", "down"}},
		{"aspect", o.Aspect, []string{"stretch", "keep"}},
		{"green", o.Green, []string{texture.Up, texture.Down}},
		{"green-out", o.rules.Green, []string{texture.Up, texture.Down}}, {"shape", o.Shape, texture.ShapeNames},
		{"dds-header", o.header, []string{"dx10", "plain"}},
	} {
		if w.value == "" || slices.Contains(w.known, w.value) {
			continue
		}
		f := usage("there is no --%s %q", w.option, w.value)
		f.Do = "Use " + strings.Join(w.known, ", ") + "."
		if near := suggest.Word(w.value, w.known); near != "" {
			f.Do = fmt.Sprintf("Did you mean %q?", near)
		}
		return texture.Recipe{}, f
	}
	m := o.Making
	switch o.mips {
	case "":
	case "full", "none":
		full := o.mips == "full"
		m.Mips = &full
	default:
		n, err := strconv.Atoi(o.mips)
		if err != nil || n < 1 {
			return texture.Recipe{}, usage("--mips is full, none or a number from 1, and not %q", o.mips)
		}
		m.Levels = n
	}
	if o.coverage != "auto" {
		keep := o.coverage == "yes"
		m.Coverage = &keep
	}
	if o.fromHeight {
		m.FromHeight, m.Kind = &o.fromHeight, string(texture.Normal)
	}
	if o.Strength <= 0 || o.Strength > 1000 {
		return texture.Recipe{}, usage("--strength lies between 0 and 1000 texels, and not at %v", o.Strength)
	}
	if o.rules.Largest < 0 {
		return texture.Recipe{}, usage("--largest is a number of texels, and not %d", o.rules.Largest)
	}
	rules := o.rules
	rules.PowerOfTwo = o.Size != ""
	if m.Size == "" && rules.Largest > 0 {
		m.Size = "nearest"
	}
	r := m.Recipe(rules, "")
	r.Allowed = nil // every format
	if r.Forced && r.Format.HoldsData() && r.SRGB {
		f := usage("the format %s holds data, not colours", r.Format)
		f.Do = "Add --colour-space linear if it is data, or choose another format."
		return r, f
	}
	return r, nil
}

// convert makes the bytes of OUT.
func (o *oneTexture) convert(ctx context.Context, r texture.Recipe, in, out string, files [][]byte) ([][]byte,
	*textureMade, error) {
	container := texture.Container{Name: strings.TrimPrefix(strings.ToLower(filepath.Ext(out)), "."), Zstd: o.zstd,
		Plain: o.header == "plain"}
	if container.Name != "png" && !slices.Contains(texture.Containers, container.Name) {
		f := usage("%s: nothing is written with that ending", filepath.ToSlash(out))
		f.Do = "End it in .ktx2, .dds or .png."
		return nil, nil, f
	}
	place := fault.Place{File: filepath.ToSlash(in)}
	if container.Name == "png" && o.level > 0 {
		return oneLevel(files[0], in, o.level)
	}
	p, err := texture.Prepare(files, r)
	clear(files) // they are decoded, and may be large
	if err != nil {
		return nil, nil, &fault.Fault{What: "the image can't be read", Place: place, Err: err, Do: "Export it again."}
	}
	if err := o.exactSize(p); err != nil {
		return nil, nil, err
	}
	b := p.Images[0].Bounds()
	made := &textureMade{textureAnswer: textureAnswer{Kind: "texture", SRGB: p.Recipe.SRGB, Width: b.Dx(),
		Height: b.Dy(), Images: len(p.Images), Alpha: p.Content.Alpha()}, Findings: []finding.Finding{}}
	if container.Name == "png" {
		made.Kind = "image"
		data, err := pictures(p.Images)
		return [][]byte{data}, made, err
	}
	made.Findings = append(made.Findings,
		assembly.TextureFindings(p, assembly.Context{Place: place, Recipe: p.Recipe})...)
	if finding.Count(made.Findings, finding.Error) > 0 {
		return nil, nil, &finding.Failure{What: "the texture can't be made", Findings: made.Findings}
	}
	made.Why = p.Choice.Why
	made.LostAlpha, made.LostColour, made.LostLight = p.Choice.Loss.Alpha, p.Choice.Loss.Colour, p.Choice.Loss.Light
	tex, err := p.Compile(ctx)
	if err != nil {
		return nil, nil, err
	}
	made.Format, made.Levels, made.Shape, made.SRGB = tex.Format.String(), len(tex.Levels),
		texture.ShapeNames[tex.Shape], tex.SRGB
	parts, err := tex.Parts(container)
	if err != nil {
		f := usage("%v", err)
		f.Do = "Leave --dds-header plain out, or choose another format."
		return nil, nil, f
	}
	return parts, made, nil
}

// oneLevel draws a mip level of a texture.
func oneLevel(data []byte, in string, level int) ([][]byte, *textureMade, error) {
	t, err := texture.Read(data)
	if err != nil || level >= len(t.Levels) {
		return nil, nil, usage("%s has no level %d", filepath.ToSlash(in), level)
	}
	var images []image.Image
	for i := range t.Images {
		images = append(images, t.Image(level, i))
	}
	w, h := t.LevelBounds(level)
	out, err := pictures(images)
	return [][]byte{out},
		&textureMade{textureAnswer: textureAnswer{Kind: "image", SRGB: t.SRGB, Width: w, Height: h, Images: t.Images,
			Alpha: texture.Analyse(images[0]).Alpha()}, Findings: []finding.Finding{}}, err
}

// exactSize resizes as --resize says.
func (o *oneTexture) exactSize(p *texture.Prepared) error {
	if o.resize == "" {
		return nil
	}
	w, h, ok := twoNumbers(o.resize)
	if !ok || min(w, h) < 1 || max(w, h) > 16384 {
		return usage("--resize is a width and a height from 1 to 16384, such as 512x256, and not %q", o.resize)
	}
	for i, img := range p.Images {
		p.Images[i] = texture.Resize(img, int(w), int(h), p.Recipe.SRGB, p.Recipe.Filter, p.Recipe.Edge)
		p.Straighten(p.Images[i])
	}
	return nil
}

// twoNumbers reads a size such as 512x256.
func twoNumbers(s string) (a, b float64, ok bool) {
	x, y, two := strings.Cut(s, "x")
	a, errA := strconv.ParseFloat(x, 64)
	b, errB := strconv.ParseFloat(y, 64)
	return a, b, two && errA == nil && errB == nil
}

// pictures writes images, side by side, as a PNG.
func pictures(images []image.Image) ([]byte, error) {
	size := images[0].Bounds().Size()
	out := texture.Visible(images[0])
	if len(images) > 1 {
		out = image.NewNRGBA(image.Rect(0, 0, size.X*len(images), size.Y))
		for i, img := range images {
			draw.Draw(out, image.Rect(i*size.X, 0, (i+1)*size.X, size.Y), texture.Visible(img), image.Point{}, draw.Src)
		}
	}
	var b bytes.Buffer
	err := png.Encode(&b, out)
	return b.Bytes(), err
}
