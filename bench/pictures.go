//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// pictureProfile asks for a set of nine pictures for a map.
const pictureProfile = `
[[picture]]
name = "set"
file = "set/{map}_{n}_{variant}.jpg"
place = "beside"
form = "jpeg"
count = 3
least = 1

[picture.variants]
card = { width = 480, height = 480 }
page = { width = 1280, height = 720 }
wide = { width = 1920, height = 480 }
`

// measurePictures times shots of the demo's maps, draft and full, and a set of nine pictures for a map.
func measurePictures(dir, exe, demo string) (string, error) {
	var b strings.Builder
	b.WriteString("\n## Pictures\n\nShots of 1280 x 720 of the demo's maps on all processors, as whole processes that read the map, its materials and their images, and write\na JPEG; and those less one of 16 x 9, in megapixels a second.\n\n| map, camera | draft | full | memory |\n|---|---|---|---|\n")
	project := filepath.Join(demo, "highline")
	// Each with a profile of its own, whose one picture is beside the bundle, so that nothing else is made.
	head, err := os.ReadFile("demo/profiles/kestrel-post.toml")
	if err != nil {
		return "", err
	}
	before, _, _ := strings.Cut(string(head), "# What players see before they play")
	_, after, _ := strings.Cut(string(head), "[pack]")
	write := func(pictures, recipes string) error {
		if err := os.MkdirAll(filepath.Join(project, "profiles"), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(project, "profiles", "kestrel-post.toml"),
			[]byte(before+pictures+"\n[pack]"+after), 0o644); err != nil {
			return err
		}
		file, err := os.ReadFile("demo/projects/highline/vornix.toml")
		if err != nil {
			return err
		}
		start, rest, _ := strings.Cut(string(file), "# Pictures are taken")
		_, end, _ := strings.Cut(rest, "[addon]")
		return os.WriteFile(filepath.Join(project, "vornix.toml"), []byte(start+recipes+"\n[addon]"+end), 0o644)
	}
	one := func(name, camera, how string, w, h int) (figure, error) {
		err := write(fmt.Sprintf("[[picture]]\nname = \"one\"\nfile = \"{map}.jpg\"\nform = \"jpeg\"\nplace = \"beside\"\nwidth = %d\nheight = %d\n", w, h), fmt.Sprintf("[[picture]]\nfor = \"one\"\ncamera = \"%s\"\n", camera))
		if err != nil {
			return figure{}, err
		}
		// The map is built first, and only the shot is timed.
		args := []string{exe, "shoot", name, "--project", project, "--quiet"}
		if how == "draft" {
			args = append(args, "--draft")
		}
		if _, err := timeOnce("", args...); err != nil {
			return figure{}, err
		}
		if err := os.RemoveAll(filepath.Join(project, ".vornix", "pictures")); err != nil {
			return figure{}, err
		}
		return timeOnce("", args...)
	}
	for _, c := range [][2]string{{"cairn_station", "postcard"}, {"cairn_station", "hall"},
		{"saltpan_relay", "postcard"}, {"saltpan_relay", "shore"}} {
		if err := os.Rename(filepath.Join(project, "maps", other(c[0])+".vnx"),
			filepath.Join(dir, other(c[0])+".vnx")); err != nil {
			return "", err
		}
		fmt.Fprintf(&b, "| %s, %s |", c[0], c[1])
		memory := int64(0)
		for _, how := range []string{"draft", "full"} {
			small, err := one(c[0], c[1], how, 16, 9)
			if err != nil {
				return "", err
			}
			large, err := one(c[0], c[1], how, 1280, 720)
			if err != nil {
				return "", err
			}
			fmt.Fprintf(&b, " %.2f s, %.2f Mpixel/s |", large.wall.Seconds(), 0.9216/(large.wall-small.wall).Seconds())
			memory = max(memory, large.memory)
		}
		fmt.Fprintf(&b, " %.0f MB |\n", float64(memory)/1e6)
		if err := os.Rename(filepath.Join(dir, other(c[0])+".vnx"),
			filepath.Join(project, "maps", other(c[0])+".vnx")); err != nil {
			return "", err
		}
	}
	if err := write(pictureProfile, ""); err != nil {
		return "", err
	}
	args := []string{exe, "shoot", "cairn_station", "--project", project, "--quiet"}
	if _, err := timeOnce("", args...); err != nil {
		return "", err
	}
	if err := os.RemoveAll(filepath.Join(project, ".vornix", "pictures")); err != nil {
		return "", err
	}
	set, err := timeOnce("", args...)
	if err != nil {
		return "", err
	}
	again, err := timeOnce("", args...)
	if err != nil {
		return "", err
	}
	fmt.Fprintf(&b, "\nA set of nine pictures for Cairn Station (three cameras, each 480 x 480, 1280 x 720 and 1920 x 480; %.1f megapixels): %.1f s, %.0f MB; again %.2f s.\n",
		3*(480*480+1280*720+1920*480)/1e6, set.wall.Seconds(), float64(set.memory)/1e6, again.wall.Seconds())
	return b.String(), nil
}

// other is the demo's other map, which is put away while one is measured.
func other(name string) string {
	if name == "cairn_station" {
		return "saltpan_relay"
	}
	return "cairn_station"
}
