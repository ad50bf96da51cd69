package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/format/material"
	"vornix/core/format/texture"
	"vornix/internal/cli/show"
)

func (a *app) scaleCommand() *cobra.Command {
	var density float64
	cmd := &cobra.Command{
		Use:   "scale SURFACE IMAGE",
		Short: "Which scale fits an image to a surface at a wanted sharpness",
		Long: `Scale answers: a surface so wide (and high, in metres), an image so large, so many texels a metre wanted: how large should a
repeat be so that a whole number of them fits? SURFACE is a width or a width and a height, such as 6x3; IMAGE an image file, or
its size in texels, such as 512x512. In a map 'face ... fit=yes' does the same by itself.`,
		Example: `  vornix scale 6x3 textures/rock/slab.png
  vornix scale 7.5 512x512 --density 200`,
		Args: between(2, 2, "a surface in metres and an image"),
		RunE: a.run(func(_ context.Context, answer *show.Answer, args []string) error {
			width, height, both := twoNumbers(args[0])
			if !both {
				var err error
				if width, err = strconv.ParseFloat(args[0], 64); err != nil {
					return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no size of a surface", args[0]),
						Do: "Give metres: a width such as 6, or a width and a height such as 6x3."}
				}
			}
			if width <= 0 || both && height <= 0 || width > 1e6 || height > 1e6 || density <= 0 || density > 1e6 {
				return &fault.Fault{Kind: fault.Usage, What: "sizes and the density must lie between 0 and 1,000,000",
					Do: "See: vornix scale --help"}
			}
			w, h, err := imageSize(args[1])
			if err != nil {
				return err
			}
			result := []material.Scale{material.Fit(width, w, density)}
			if both {
				result = append(result, material.Fit(height, h, density))
			}
			answer.Result = result
			var rows [][]string
			for i, s := range result {
				rows = append(rows,
					[]string{[]string{"across", "down"}[i], fmt.Sprintf("%g m", s.Length), strconv.Itoa(s.Texels),
						fmt.Sprintf("%.4g m", s.Exact),
						strconv.Itoa(s.Repeats), fmt.Sprintf("%.4g m", s.Repeat), fmt.Sprintf("%.4g", s.Density)})
			}
			a.out.Table([]string{"", "surface", "texels", fmt.Sprintf("repeat at %g texels/m", density),
				"whole repeats", "size of each", "texels/m"}, rows)
			a.out.Say("\nsize = %.4g in the material, or fit=yes on the face", result[0].Repeat)
			return nil
		}),
	}
	cmd.Flags().Float64Var(&density, "density", 128, "wanted `texels` a metre")
	return cmd
}

// imageSize is the size of an image file, or one that is given in numbers.
func imageSize(arg string) (w, h int, err error) {
	if x, y, ok := twoNumbers(arg); ok && x >= 1 && y >= 1 && x == float64(int(x)) && y == float64(int(y)) {
		return int(x), int(y), nil
	}
	data, err := os.ReadFile(arg)
	if err != nil {
		return 0, 0, &fault.Fault{Kind: fault.Usage, What: "could not read the image",
			Place: fault.Place{File: filepath.ToSlash(arg)}, Err: err,
			Do: "Check the path, or give a size such as 512x512."}
	}
	info, err := texture.Probe(arg, data)
	if err != nil {
		return 0, 0, &fault.Fault{What: "the image can't be read", Place: fault.Place{File: filepath.ToSlash(arg)},
			Err: err, Do: "Export it again."}
	}
	return info.Width, info.Height, nil
}
