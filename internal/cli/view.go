package cli

import (
	"context"
	"fmt"
	"image"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/suggest"
	"vornix/core/compile/render"
	"vornix/core/compile/stage"
	"vornix/core/format/geom"
	"vornix/core/format/mapfile"
	"vornix/core/make/assembly"
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
	needs := map[string]string{viewLit: stage.Lighting, viewLight: stage.Lighting, viewCells: stage.Visibility,
		viewGround: stage.Navigation}[o.view]
	if o.picture == "" && o.shot == "" || needs == "" {
		return nil
	}
	return &stage.Env{Draft: needs == stage.Lighting, Workers: workers, Only: []string{needs}, Grows: grow}
}

// checkView refuses views that there are not, and options that would do nothing. A shot is the lit view of a camera.
func (o *look) checkView(terminal bool) error {
	usage := func(what, do string) error { return &fault.Fault{Kind: fault.Usage, What: what, Do: do} }
	if o.shot != "" {
		switch {
		case o.view != "" || o.camera != "":
			return usage("--shot is a view and a camera at once", "Leave --view and --camera out.")
		case o.picture == "" && !terminal:
			return usage("there is no terminal to draw the shot on", "Name a file for it with --picture.")
		}
		o.view, o.camera = viewLit, o.shot
		return nil
	}
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

// viewMap draws a compiled map as it was asked for. way is that of a leak; looks gives how the map looks.
func (a *app) viewMap(ctx context.Context, o look, m *mapfile.Map, way []geom.Vec,
	looks func() (assembly.Looks, error)) error {
	if o.picture == "" && o.shot == "" {
		return nil
	}
	var img image.Image
	var err error
	missing := func(what, stage string) error {
		return &fault.Fault{What: "the map has no " + what,
			Why: "It was compiled without the stage " + stage + ", or has nothing that it is for.",
			Do:  "Build it with that stage."}
	}
	switch o.view {
	case viewCells:
		if m.Visibility == nil {
			return missing("cells of visibility", stage.Visibility)
		}
		img = render.Cells(m)
	case viewGround:
		if len(m.Navigation) == 0 && len(m.Costs) == 0 {
			return missing("ground that one walks on", stage.Navigation)
		}
		img = render.Ground(m)
	case viewLit, viewLight:
		if img, err = a.litView(ctx, o, m, looks); err != nil {
			return err
		}
		if img == nil {
			return missing("light", stage.Lighting)
		}
	default:
		img = render.Plan(m, way)
	}
	if o.picture == "" { // a quick look
		return a.out.Picture(img)
	}
	return a.picture(o.picture, img)
}

// litView draws a map in its light; nil when it has none.
func (a *app) litView(ctx context.Context, o look, m *mapfile.Map, looks func() (assembly.Looks, error)) (image.Image,
	error) {
	of, err := looks()
	if err != nil {
		return nil, err
	}
	what := render.All
	if o.view == viewLight {
		what = render.OnlyLight
	}
	c, named := render.CameraOf(m, o.camera)
	if o.camera != "" && !named {
		return nil, noCamera(m, o.camera)
	}
	w, h := render.Width, render.Height
	if o.picture == "" {
		w, h = a.out.PictureSize(w, h)
	}
	if len(m.Grids) > 0 && len(m.Faces) == 0 {
		t := of.Tiles(m)
		if o.camera == "" {
			return t.Levels(what), nil
		}
		return t.Shoot(render.TileShot{Level: int(c.At[2]), At: &[2]float64{float64(c.At[0]), float64(c.At[1])},
			Width: w, Height: h, Shown: what}), nil
	}
	s, err := of.Scene(m)
	if err != nil || !s.Lit() {
		return nil, err
	}
	if !named {
		if c, named = s.Overview(); !named {
			return nil, nil
		}
	}
	img, err := s.Shoot(ctx, c, render.Options{Width: w, Height: h, Shown: what, Workers: a.jobs})
	if err != nil {
		return nil, err
	}
	return img.NRGBA(), nil
}

// noCamera says which cameras a map has.
func noCamera(m *mapfile.Map, name string) error {
	f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("the map has no camera %q", name),
		Do: "It has none at all: add a camera line to it."}
	var names []string
	for _, o := range m.Objects {
		if o.Kind == "camera" {
			names = append(names, o.Name)
		}
	}
	if near := suggest.Word(name, names); near != "" {
		f.Do = fmt.Sprintf("Did you mean %q?", near)
	} else if len(names) > 0 {
		f.Do = "It has " + strings.Join(names, ", ") + "."
	}
	return f
}
