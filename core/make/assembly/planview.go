package assembly

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"os"
	"path"

	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/format/mapfile"
	"vornix/core/source/assetgraph"
)

// PlanView is a drawing of a map for those who build it.
type PlanView struct{ Name, File string }

// PlanViews draws a compiled map of out/tree from above and cut open, with names, into out/pictures/plans.
func PlanViews(ctx context.Context, p *project.Project, g *assetgraph.Graph, name string, workers int) (list []PlanView,
	err error) {
	data, err := os.ReadFile(p.Join(project.TreeDir, p.Profile.MapPath(name)))
	if err != nil {
		return nil, err
	}
	m, err := mapfile.Read(data)
	if err != nil {
		return nil, fmt.Errorf("reading the compiled map %s: %w", name, err)
	}
	l, err := looksOf(newPlanner(p, g, workers, Stages{}), m)
	if err != nil {
		return nil, err
	}
	d, err := safefile.MakeDir(p.Join(PicturesDir, "plans"))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	put := func(view string, img image.Image) error {
		var b bytes.Buffer
		if err := png.Encode(&b, img); err != nil {
			return err
		}
		file := name + "-" + view + ".png"
		list = append(list, PlanView{view, path.Join(PicturesDir, "plans", file)})
		return d.WriteFile(file, b.Bytes())
	}
	if len(m.Grids) > 0 {
		return list, put("levels", l.Tiles(m).Plan())
	}
	s, err := l.Scene(m)
	if err != nil {
		return nil, err
	}
	above, err := s.Above(ctx, workers)
	if err == nil {
		err = put("above", above)
	}
	if err != nil {
		return nil, err
	}
	corner, err := s.Isometric(ctx, workers)
	if err == nil {
		err = put("isometric", corner)
	}
	return list, err
}
