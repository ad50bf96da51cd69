package sweep

import (
	"context"
	"path"
	"time"

	"vornix/core/base/quarantine"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
)

// expired returns the batches that are older than the project keeps them.
func expired(p *project.Project, now time.Time) ([]quarantine.Batch, error) {
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	all, err := quarantine.List(d, project.QuarantineDir)
	list := []quarantine.Batch{}
	for _, place := range all {
		if days := p.File.Sweep.KeepDays; days > 0 && now.Sub(place.Time) > time.Duration(days)*24*time.Hour {
			list = append(list, place)
		}
	}
	return list, err
}

// Run does what a plan says: stray files are quarantined, expired batches deleted.
func Run(ctx context.Context, p *project.Project, plan *Plan, now time.Time) (*quarantine.Batch, error) {
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	var place *quarantine.Batch
	if len(plan.Go) > 0 {
		if place, err = quarantine.Add(ctx, d, project.QuarantineDir, now, plan.items()); err != nil {
			return place, err
		}
	}
	for _, old := range plan.Expired {
		if err := d.RemoveTree(path.Join(project.QuarantineDir, old.Name)); err != nil {
			return place, err
		}
	}
	return place, nil
}

func (p *Plan) items() (list []quarantine.Item) {
	for _, i := range p.Go {
		list = append(list, quarantine.Item{Path: i.Path, Size: i.Size, Why: i.Why, Folder: i.Folder})
	}
	return list
}
