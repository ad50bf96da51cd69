package importer

import (
	"os"
	"path/filepath"

	"vornix/core/config/project"
	"vornix/core/make/metadata"
	"vornix/core/source/assetgraph"
)

// fewest is how many values of a file must be of the profile's fields for it to be metadata.
const fewest = 2

// Metadata finds, among files of the pile, the one that most of the profile's metadata can be taken
// from. best is empty when there is none; others are files that hold some as well.
func Metadata(p *project.Project, g *assetgraph.Graph, dir string, files []string) (best string, taken []metadata.Taken,
	others []string) {
	limit := fewest - 1
	for _, f := range files {
		data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(f)))
		if err != nil {
			continue // it was listed a moment ago; what is gone has nothing to say
		}
		list, err := metadata.Import(p, g, f, data, "")
		if err != nil {
			continue
		}
		n := 0
		for _, t := range list {
			if t.State == metadata.TakenSet || t.State == metadata.TakenSame || t.State == metadata.TakenComputed ||
				t.State == metadata.TakenDiffers {
				n++
			}
		}
		if n < fewest {
			continue
		}
		if n > limit {
			if best != "" {
				others = append(others, best)
			}
			best, taken, limit = f, list, n
		} else {
			others = append(others, f)
		}
	}
	return best, taken, others
}
