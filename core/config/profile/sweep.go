package profile

import (
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Sweep names files that the game's own tools leave behind in a project.
type Sweep struct {
	Match string `toml:"match" jsonschema:"required,description=Pattern on the path in the project; ** crosses folders\\, a / at the end means folders"`
	What  string `toml:"what" jsonschema:"required,description=What it is\\, as in: the tool's light cache"`
}

func (p *Profile) sweeps(wrong func(path []any, format string, args ...any)) {
	for i, s := range p.Sweeps {
		if !doublestar.ValidatePattern(s.Match) || strings.Trim(s.Match, "*/") == "" {
			wrong([]any{"sweep", i, "match"}, "%q is no pattern, or one of everything", s.Match)
		}
		if s.What == "" {
			wrong([]any{"sweep", i, "what"}, "what is missing: the reason that people read")
		}
	}
}

// Install says where an installer finds the game on a player's machine.
type Install struct {
	Folders []string `toml:"folders" jsonschema:"description=Folders in which the game may lie; ~ is the home folder\\, ${NAME} an environment variable"`
	Marker  string   `toml:"marker" jsonschema:"description=A file that lies in the game's folder and shows that it is the game's"`
	To      string   `toml:"to" jsonschema:"description=Folder in the game's that bundles go to (default: as on a server)"`
	Overlay string   `toml:"overlay" jsonschema:"description=Folder in the game's whose files take the place of the game's own of the same path; without it they can only be swapped"`
}

func (p *Profile) installing(wrong func(path []any, format string, args ...any)) {
	for _, x := range []struct{ key, value string }{{"marker", p.Install.Marker}, {"to", p.Install.To},
		{"overlay", p.Install.Overlay}} {
		if strings.HasPrefix(x.value, "/") || strings.Contains(x.value, "..") || strings.Contains(x.value, "\\") {
			wrong([]any{"install", x.key}, "%s must be a path inside the game's folder with forward slashes, and is %q",
				x.key, x.value)
		}
	}
}
