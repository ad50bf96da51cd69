package adopt

import (
	"os"
	"path/filepath"

	"vornix/core/addon"
	"vornix/core/needs"
	"vornix/core/project"
)

// fewest is how many values of a file must be of the profile's fields for it to be metadata.
const fewest = 2

// Metadata finds, among files of the pile, the one that most of the profile's metadata can be taken from. best is empty when there is none; others are
// files that hold some as well.
func Metadata(p *project.Project, g *needs.Graph, dir string, files []string) (best string, taken []addon.Taken, others []string) {
	most := fewest - 1
	for _, f := range files {
		data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(f)))
		if err != nil {
			continue // it was listed a moment ago; what is gone has nothing to say
		}
		list, err := addon.Import(p, g, f, data, "")
		if err != nil {
			continue
		}
		n := 0
		for _, t := range list {
			if t.State == addon.TakenSet || t.State == addon.TakenSame || t.State == addon.TakenComputed || t.State == addon.TakenDiffers {
				n++
			}
		}
		if n < fewest {
			continue
		}
		if n > most {
			if best != "" {
				others = append(others, best)
			}
			best, taken, most = f, list, n
		} else {
			others = append(others, f)
		}
	}
	return best, taken, others
}
