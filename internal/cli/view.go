package cli

import (
	"context"
	"fmt"
	"image"
	"slices"
	"strings"

	"vornix/core/build"
	"vornix/core/compile/stage"
	"vornix/core/fault"
	"vornix/core/geom"
	"vornix/core/light"
	"vornix/core/mapfile"
	"vornix/core/picture"
)

// What a picture of a map can show.
const (
	viewPlan   = "plan"
	viewLit    = "lit"
	viewLight  = "light"
	viewCells  = "cells"
	viewGround = "ground"
)

var views = []string{viewPlan, viewLit, viewLight, viewCells, viewGround}

// env is how the long stages run for a picture of a map source: the one whose result it shows; light as a draft.
func (o look) env(workers int) *stage.Env {
	needs := map[string]string{viewLit: stage.Lighting, viewLight: stage.Lighting, viewCells: stage.Visibility, viewGround: stage.Navigation}[o.view]
	if o.picture == "" || needs == "" {
		return nil
	}
	return &stage.Env{Draft: needs == stage.Lighting, Workers: workers, Only: []string{needs}, Grows: grow}
}

// checkView refuses views that there are not, and options that would do nothing.
func (o look) checkView() error {
	usage := func(what, do string) error { return &fault.Fault{Kind: fault.Usage, What: what, Do: do} }
	switch {
	case o.view != "" && !slices.Contains(views, o.view):
		return usage(fmt.Sprintf("there is no view %q", o.view), "Choose one of "+strings.Join(views, ", ")+".")
	case o.view != "" && o.picture == "":
		return usage("--view is for a picture", "Name its file with --picture.")
	case o.camera != "" && o.view != viewLit && o.view != viewLight:
		return usage("--camera is for the views lit and light", "Add --view lit.")
	}
	return nil
}

// texelsOfView is the most of a material's image, along a side, that a picture shows.
const texelsOfView = 1024

// viewMap draws a compiled map as it was asked for. way is that of a leak; looks gives how the map looks.
func (a *app) viewMap(ctx context.Context, o look, m *mapfile.Map, way []geom.Vec, looks func() (build.Looks, error)) error {
	if o.picture == "" {
		return nil
	}
	var img image.Image
	var err error
	missing := func(what, stage string) error {
		return &fault.Fault{What: "the map has no " + what, Why: "It was compiled without the stage " + stage + ", or has nothing that it is for.", Do: "Build it with that stage."}
	}
	switch o.view {
	case viewCells:
		if m.Visibility == nil {
			return missing("cells of visibility", stage.Visibility)
		}
		img = picture.Cells(m)
	case viewGround:
		if len(m.Navigation) == 0 && len(m.Costs) == 0 {
			return missing("ground that one walks on", stage.Navigation)
		}
		img = picture.Ground(m)
	case viewLit, viewLight:
		if img, err = litView(ctx, o, m, looks); err != nil {
			return err
		}
		if img == nil {
			return missing("light", stage.Lighting)
		}
	default:
		img = picture.Plan(m, way)
	}
	return a.picture(o.picture, img)
}

// litView draws a map in its light; nil when it has none.
func litView(ctx context.Context, o look, m *mapfile.Map, looks func() (build.Looks, error)) (image.Image, error) {
	of, err := looks()
	if err != nil {
		return nil, err
	}
	what := picture.All
	if o.view == viewLight {
		what = picture.OnlyLight
	}
	if len(m.GridLight) > 0 {
		if o.camera != "" {
			return nil, &fault.Fault{Kind: fault.Usage, What: "a tile map is drawn from above, whole", Do: "Leave --camera out."}
		}
		painted := map[string]*light.Painted{}
		return picture.Tiles(m, func(name string) *light.Painted {
			if painted[name] == nil {
				painted[name] = of.Paint(name, texelsOfView)
			}
			return painted[name]
		}, what), nil
	}
	s, err := of.Scene(m, texelsOfView)
	if err != nil || s.Lit == nil {
		return nil, err
	}
	c, ok := picture.CameraOf(m, s, o.camera)
	if !ok {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("the map has no camera %q", o.camera), Do: "Name one of its cameras; 'vornix inspect' lists them."}
	}
	return picture.Lit(ctx, s, c, picture.Width, picture.Height, 3, what)
}
