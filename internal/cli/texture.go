package cli

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/fault"
	"vornix/core/nearest"
	"vornix/core/release"
	"vornix/core/safefile"
	"vornix/core/texture"
	"vornix/internal/cli/show"
)

// oneTexture are the options of the texture command.
type oneTexture struct {
	format, space, mips string
}

func (a *app) textureCommand() *cobra.Command {
	var o oneTexture
	cmd := &cobra.Command{
		Use:   "texture IN OUT",
		Short: "Convert one image or texture; the ending of OUT says into what",
		Long: `Texture converts one file, no project needed. IN is an image (PNG, JPEG, TGA, TIFF, BMP, WebP, GIF) or a texture (KTX2,
DDS); OUT ends in .ktx2, .dds or .png. With --format auto it looks at the pixels and takes the smallest format that loses
nothing; a format that loses something says how many texels lose what.`,
		Example: `  vornix texture plank.png plank.ktx2
  vornix texture heights.tga heights.dds --format bc4 --colour-space linear
  vornix texture plank.ktx2 plank.png`,
		Args: between(2, 2, "two files: from what, into what"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			data, err := os.ReadFile(args[0])
			if err != nil {
				return &fault.Fault{Kind: fault.Usage, What: "could not read the image", Place: fault.Place{File: filepath.ToSlash(args[0])}, Err: err, Do: "Check the path."}
			}
			out, made, err := o.convert(ctx, args[0], args[1], data, a.jobs)
			if err != nil {
				return err
			}
			d, err := safefile.OpenDir(filepath.Dir(args[1]))
			if err != nil {
				return err
			}
			defer d.Close()
			if err := d.WriteFile(filepath.Base(args[1]), out); err != nil {
				return err
			}
			answer.Result = made
			made.Bytes = len(out)
			a.out.Say("%s: %d x %d, %s, %d levels, %s", filepath.ToSlash(args[1]), made.Width, made.Height, orWord(made.Format, "png"), max(made.Levels, 1), release.Bytes(int64(len(out))))
			if n := made.LostAlpha; n > 0 {
				a.out.Say("  %d of %d texels lose their %s alpha in %s", n, made.Width*made.Height, made.Alpha, made.Format)
			}
			if n := made.LostColour; n > 0 {
				a.out.Say("  %d of %d texels lose their colour in %s", n, made.Width*made.Height, made.Format)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&o.format, "format", "auto", "`name` of the format: auto, "+strings.Join(texture.FormatNames(), ", "))
	cmd.Flags().StringVar(&o.space, "colour-space", "srgb", "srgb for colours, linear for `data`")
	cmd.Flags().StringVar(&o.mips, "mips", "full", "`levels`: full or none")
	return cmd
}

// textureMade is what the texture command made.
type textureMade struct {
	textureAnswer
	LostAlpha  int `json:"lost_alpha"`  // texels whose alpha the format can't keep
	LostColour int `json:"lost_colour"` // texels whose colour the format can't keep
}

// convert makes the bytes of OUT.
func (o *oneTexture) convert(ctx context.Context, in, out string, data []byte, jobs int) ([]byte, *textureMade, error) {
	format, known := texture.ParseFormat(o.format)
	if !known && o.format != "auto" {
		f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("there is no texture format %q", o.format), Do: "Use auto, " + strings.Join(texture.FormatNames(), ", ") + "."}
		if near := nearest.Word(o.format, texture.FormatNames()); near != "" {
			f.Do = fmt.Sprintf("Did you mean %q?", near)
		}
		return nil, nil, f
	}
	if o.space != "srgb" && o.space != "linear" || o.mips != "full" && o.mips != "none" {
		return nil, nil, &fault.Fault{Kind: fault.Usage, What: "--colour-space is srgb or linear, --mips full or none", Do: "See: vornix texture --help"}
	}
	container := strings.TrimPrefix(strings.ToLower(filepath.Ext(out)), ".")
	if container != "ktx2" && container != "dds" && container != "png" {
		return nil, nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%s: nothing is written with that ending", filepath.ToSlash(out)), Do: "End it in .ktx2, .dds or .png."}
	}
	img, err := texture.Decode(data)
	if err != nil {
		return nil, nil, &fault.Fault{What: "the image can't be read", Place: fault.Place{File: filepath.ToSlash(in)}, Err: err, Do: "Export it again."}
	}
	content := texture.Analyse(img)
	made := &textureMade{textureAnswer: textureAnswer{Kind: "texture", SRGB: o.space == "srgb", Width: img.Rect.Dx(), Height: img.Rect.Dy(), Alpha: content.Alpha()}}
	if container == "png" {
		made.Kind = "image"
		var b bytes.Buffer
		err := png.Encode(&b, img)
		return b.Bytes(), made, err
	}
	if o.format == "auto" {
		all := []texture.Format{}
		for _, name := range texture.FormatNames() {
			f, _ := texture.ParseFormat(name)
			all = append(all, f)
		}
		format, _ = texture.Choose(content, made.SRGB, all)
	}
	if format.HoldsData() && made.SRGB {
		return nil, nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("the format %s holds data, not colours", format), Do: "Add --colour-space linear if it is data, or choose another format."}
	}
	loss := content.LossIn(format)
	made.LostAlpha, made.LostColour = loss.Alpha, loss.Colour
	tex, err := texture.Compile(ctx, img, texture.Options{Format: format, SRGB: made.SRGB, Mips: o.mips == "full", Workers: cmp.Or(jobs, runtime.GOMAXPROCS(0))})
	if err != nil {
		return nil, nil, err
	}
	made.Format, made.Levels = format.String(), len(tex.Levels)
	file, err := tex.Encode(container)
	return file, made, err
}
