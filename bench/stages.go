//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vornix/core/compile/stage"
	"vornix/internal/testmaps"
)

// stageMap is a map whose long stages are timed.
type stageMap struct {
	name   string
	source string // its file
	solids int
	grows  string // the map that this one has ten times the solids of
}

// measureStages times the long stages by themselves, draft and full, each as a whole process less
// one that runs none, and what a change costs in a project.
func measureStages(dir, exe, demo string) (string, error) {
	var b strings.Builder
	b.WriteString("\n## Long stages\n\nOne run each of `vornix map MAP OUT --stage STAGE`, less the time of one without stages (reflections: less one with light), and its peak memory. In brackets: how\nmany times as long as the map with a tenth of the solids takes.\n\n| map | solids | | " + strings.Join(stage.Names, " | ") + " |\n|---|---|---|---|---|---|---|\n")
	var maps []stageMap
	for _, name := range []string{"cairn_station", "saltpan_relay"} {
		source := filepath.Join(demo, "highline", "maps", name+".vnx")
		maps = append(maps, stageMap{name: name, source: source})
	}
	for _, m := range []stageMap{{name: "rooms", solids: 1000}, {name: "rooms x10", solids: 10000, grows: "rooms"},
		{name: "open", solids: 1000}} {
		text := testmaps.Rooms(m.solids)
		if m.name == "open" {
			text = testmaps.Open(m.solids)
		}
		m.source = filepath.Join(dir, fmt.Sprintf("made_%s_%d.vnx", m.name[:4], m.solids))
		if err := os.WriteFile(m.source, []byte(text), 0o644); err != nil {
			return "", err
		}
		maps = append(maps, m)
	}
	took := map[string]time.Duration{}
	for _, m := range maps {
		for _, how := range []string{stage.Draft, stage.Full} {
			run := func(stages ...string) (figure, error) {
				args := []string{exe, "map", m.source, filepath.Join(dir, "out.vnm"), "--quiet", "--" + how}
				for _, s := range stages {
					args = append(args, "--stage", s)
				}
				return timeOnce("", args...)
			}
			solids := ""
			if m.solids > 0 {
				solids = fmt.Sprint(m.solids)
			}
			fmt.Fprintf(&b, "| %s | %s | %s |", m.name, solids, how)
			none, err := run("none")
			if err != nil {
				return "", err
			}
			before := map[string]figure{stage.Visibility: none, stage.Lighting: none, stage.Navigation: none}
			for _, s := range stage.Names {
				stages := []string{s}
				if s == stage.Reflections {
					if m.solids > 0 { // made maps have no probes
						b.WriteString(" |")
						continue
					}
					stages = append(stages, stage.Lighting)
				}
				f, err := run(stages...)
				if err != nil {
					return "", err
				}
				if s == stage.Lighting {
					before[stage.Reflections] = f
				}
				d := max(f.wall-before[s].wall, 0)
				took[m.name+how+s] = d
				growth := ""
				if m.grows != "" {
					if limit := map[string]string{stage.Visibility: "<= 20x",
						stage.Navigation: "<= 12x"}[s]; how == stage.Full {
						hold(s+" of 10 times the solids", "itself", limit,
							fmt.Sprintf("%.1fx", float64(d)/float64(took[m.grows+how+s])))
					}
					growth = fmt.Sprintf(" (%.1fx)", float64(d)/float64(took[m.grows+how+s]))
				}
				if d < before[s].wall/20 {
					fmt.Fprintf(&b, " too short to tell, %s |", mb(f.memory))
					continue
				}
				fmt.Fprintf(&b, " %.2f s%s, %s |", d.Seconds(), growth, mb(f.memory))
			}
			b.WriteString("\n")
		}
	}
	changes, err := measureChanges(exe, demo)
	return b.String() + changes, err
}

// measureChanges builds a demo map from nothing and after changes of one line.
func measureChanges(exe, demo string) (string, error) {
	project := filepath.Join(demo, "highline")
	for _, made := range []string{"out", ".vornix"} {
		if err := os.RemoveAll(filepath.Join(project, made)); err != nil {
			return "", err
		}
	}
	var b strings.Builder
	b.WriteString("\nWhat a change costs: `vornix build cairn_station` in the demo's project, in full.\n\n| after | time |\n|---|---|\n")
	for _, change := range []struct{ what, file, old, now string }{
		{"nothing was there", "", "", ""},
		{"one lamp of six has another power", "maps/cairn_station.vnx", "power=60", "power=80"},
		{"a camera moved", "maps/cairn_station.vnx", "fov=62", "fov=58"},
		{"a material sounds otherwise underfoot", "materials/wood/plank.toml", "surface = \"wood\"",
			"surface = \"cloth\""},
		{"a probe moved", "maps/cairn_station.vnx", "probe hall at=18,10.6,2.2", "probe hall at=18,10.5,2.2"},
	} {
		if change.file != "" {
			name := filepath.Join(project, change.file)
			data, err := os.ReadFile(name)
			if err != nil {
				return "", err
			}
			if !strings.Contains(string(data), change.old) {
				return "", fmt.Errorf("%s has no %q", name, change.old)
			}
			if err := os.WriteFile(name, []byte(strings.Replace(string(data), change.old, change.now, 1)),
				0o644); err != nil {
				return "", err
			}
		}
		f, err := timeOnce("", exe, "build", "cairn_station", "--quiet", "--project", project)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&b, "| %s | %.2f s |\n", change.what, f.wall.Seconds())
	}
	return b.String(), nil
}
