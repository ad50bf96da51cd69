package cli

import (
	"context"
	"fmt"
	"image"
	"slices"
	"strings"

	"vornix/core/compile/stage"
	"vornix/core/fault"
	"vornix/core/geom"
	"vornix/core/light"
	"vornix/core/mapfile"
	"vornix/core/picture"
)

// What a picture of a map can show.
const (
	viewPlan  = "plan"
	viewLit   = "lit"
	viewLight = "light"
)

var views = []string{viewPlan, viewLit, viewLight}

// viewNeeds are the stages whose results a view shows; a source is compiled with them, as a draft.
var viewNeeds = map[string][]string{viewLit: {stage.Lighting}, viewLight: {stage.Lighting}}

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

// viewMap draws a compiled map as it was asked for. way is that of a leak; looks gives how materials look.
func (a *app) viewMap(ctx context.Context, o look, m *mapfile.Map, way []geom.Vec, looks func() (func(string) light.Look, error)) error {
	if o.picture == "" {
		return nil
	}
	var img image.Image
	switch o.view {
	case "", viewPlan:
		img = picture.Plan(m, way)
	case viewLit, viewLight:
		of, err := looks()
		if err != nil {
			return err
		}
		s := light.New(m, func(name string) *light.Painted {
			if of == nil {
				return light.Paint(light.Look{}, 1)
			}
			return light.Paint(of(name), texelsOfView)
		}, nil)
		if s.Lit = light.LitOf(m); s.Lit == nil {
			return &fault.Fault{What: "the map has no light", Why: "It was compiled without the stage lighting, or has no surfaces.", Do: "Build it with that stage."}
		}
		c, ok := picture.CameraOf(m, s, o.camera)
		if !ok {
			return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("the map has no camera %q", o.camera), Do: "Name one of its cameras; 'vornix inspect' lists them."}
		}
		what := picture.All
		if o.view == viewLight {
			what = picture.OnlyLight
		}
		if img, err = picture.Lit(ctx, s, c, picture.Width, picture.Height, 3, what); err != nil {
			return err
		}
	}
	return a.picture(o.picture, img)
}
