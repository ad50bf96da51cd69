//go:build unix

package main

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"vornix/core/compile/stage"
	"vornix/internal/testmaps"
)

const gigabyte = 1 << 30

// memoryOf holds work on what is large to bounds of memory: inputs of 10 and 4 gigabytes, made on the fly.
func memoryOf(part func(*workbench, func(string, string, int, ...string) error) error) func(*workbench) (string,
	error) {
	return func(w *workbench) (string, error) {
		var b strings.Builder
		b.WriteString("The peak of the resident set of the whole process. A stand-in's and a server's memory do not count.\n\n| work | input | time | memory | bound |\n|---|---|---|---|---|\n")
		err := part(w, func(work, input string, limit int, command ...string) error {
			f, err := timeOnce(w.dir, append([]string{w.exe}, command...)...)
			if err != nil {
				return err
			}
			// it takes a while
			fmt.Fprintf(os.Stderr, "%s, %s: %.0f s, %s\n", work, input, f.wall.Seconds(), mb(f.memory))
			hold("memory: "+work, "", fmt.Sprintf("<= %d MB", limit), mb(f.memory))
			fmt.Fprintf(&b, "| %s | %s | %.0f s | %s | <= %d MB |\n", work, input, f.wall.Seconds(), mb(f.memory),
				limit)
			return nil
		})
		return b.String(), err
	}
}

// largeTree packs ten gigabytes: files of 2 GB, 200 MB and 1 MB, half noise and half text.
func largeTree(w *workbench, bound func(string, string, int, ...string) error) error {
	project := filepath.Join(w.dir, "large")
	if err := packProject(project); err != nil {
		return err
	}
	defer os.RemoveAll(project)
	n := 0
	for _, group := range []struct {
		count int
		size  int64
	}{{2, 2 * gigabyte}, {20, 200 << 20}, {2000, 1 << 20}} {
		for range group.count {
			if err := madeFile(filepath.Join(project, "files", fmt.Sprintf("%05d.bin", n)), group.size,
				int64(n)); err != nil {
				return err
			}
			n++
		}
	}
	const input = "10.6 GB in 2,022 files, the largest of 2 GB"
	if err := bound("build", input, 200, "build", "--quiet", "--project", project); err != nil {
		return err
	}
	if err := bound("pack", input, 200, "pack", "--quiet", "--project", project); err != nil {
		return err
	}
	if err := bound("read and check the bundle", input, 200, "inspect", "--quiet",
		filepath.Join(project, "out", "bundles", "bench-1.0.0.zip")); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(project, "files", "00030.bin"), []byte("changed"), 0o644); err != nil {
		return err
	}
	return bound("pack again after one change", input, 200, "pack", "--quiet", "--project", project)
}

// largeBundle takes one bundle of four gigabytes to players, a mirror and a workshop.
func largeBundle(w *workbench, bound func(string, string, int, ...string) error) error {
	dir := filepath.Join(w.dir, "heavy")
	project := filepath.Join(dir, "project")
	if err := packProject(project); err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	for i := range 4 {
		if err := noiseFile(filepath.Join(project, "files", fmt.Sprintf("%d.bin", i)), gigabyte,
			int64(100+i)); err != nil {
			return err
		}
	}
	for _, folder := range []string{"mirror", "stall"} {
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o777); err != nil {
			return err
		}
	}
	// Once to write the workshop's own file, in which the limit of a file is raised.
	s, err := openStall(w.exe, filepath.Join(dir, "stall"), "maker")
	if err != nil {
		return err
	}
	s.close()
	limits := filepath.Join(dir, "stall", "workshop.toml")
	text, err := os.ReadFile(limits)
	if err != nil {
		return err
	}
	if err := os.WriteFile(limits,
		[]byte(strings.ReplaceAll(string(text), "most_bytes = 2000000000", "most_bytes = 20000000000")),
		0o644); err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(dir, "stall", "stand-workshop.url")); err != nil && !os.IsNotExist(err) {
		return err
	}
	if s, err = openStall(w.exe, filepath.Join(dir, "stall"), "maker"); err != nil {
		return err
	}
	defer s.close()
	f, err := os.OpenFile(filepath.Join(project, "vornix.toml"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(f,
		"\n[target.mirror]\nkind = \"folder\"\nrole = \"mirror\"\npath = %q\n\n[target.stall]\nkind = \"workshop\"\nurl = %q\ntoken_file = %q\n", filepath.Join(dir, "mirror"), s.url, filepath.Join(s.dir, "tokens", "maker"))
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return err
	}
	if _, err := timeOnce("", w.exe, "pack", "--quiet", "--project", project); err != nil {
		return err
	}
	for _, made := range []string{"files", "out/tree"} { // for the room that they take
		if err := os.RemoveAll(filepath.Join(project, made)); err != nil {
			return err
		}
	}
	const input = "one bundle of 4.3 GB"
	public := filepath.Join(dir, "public")
	if err := bound("write an index, with the files beside it", input, 150, "index", "write", "--quiet", "--to", public,
		"--project", project); err != nil {
		return err
	}
	if err := bound("deploy to a mirror", input, 300, "deploy", "mirror", "--yes", "--quiet", "--project",
		project); err != nil {
		return err
	}
	if err := os.RemoveAll(filepath.Join(dir, "mirror")); err != nil {
		return err
	}
	address, stop, err := serve(dir, public, "")
	if err != nil {
		return err
	}
	defer stop()
	if err := bound("fetch over HTTP", input, 150, "fetch", address+"/", filepath.Join(dir, "player"),
		"--quiet"); err != nil {
		return err
	}
	if err := os.RemoveAll(filepath.Join(dir, "player")); err != nil {
		return err
	}
	return bound("publish", input, 300, "publish", "stall", "--yes", "--quiet", "--project", project)
}

// largePatch makes, applies and undoes a patch of a file of four gigabytes with 400 changes.
func largePatch(w *workbench, bound func(string, string, int, ...string) error) error {
	dir := filepath.Join(w.dir, "patching")
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	old, now := filepath.Join(dir, "old.bin"), filepath.Join(dir, "new.bin")
	const size = 4 * gigabyte
	for _, name := range []string{old, now} {
		if err := noiseFile(name, size, 7); err != nil {
			return err
		}
	}
	f, err := os.OpenFile(now, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	for i := range int64(400) {
		if _, err := f.WriteAt([]byte(fmt.Sprintf("change %d", i)), i*(size/400)+i*i); err != nil {
			return err
		}
	}
	if err := f.Close(); err != nil {
		return err
	}
	const input = "4.3 GB with 400 changes"
	patch := filepath.Join(dir, "p.vnp")
	if err := bound("patch make, tried", input, 250, "patch", "make", old, now, patch, "--quiet"); err != nil {
		return err
	}
	if err := os.Remove(now); err != nil {
		return err
	}
	if err := bound("patch apply", input, 150, "patch", "apply", patch, old, "--quiet"); err != nil {
		return err
	}
	return bound("patch undo", input, 150, "patch", "undo", now, "--quiet")
}

// largeLight lights the largest made map within what --memory allows.
func largeLight(w *workbench, bound func(string, string, int, ...string) error) error {
	source := filepath.Join(w.dir, "made_huge.vnx")
	if err := os.WriteFile(source, []byte(testmaps.Rooms(30000)), 0o644); err != nil {
		return err
	}
	defer os.Remove(source)
	return bound("light as a draft", "a map of 30,000 solids", 1500, "map", source, filepath.Join(w.dir, "huge.vnm"),
		"--quiet", "--draft", "--stage", stage.Lighting)
}

// noiseFile writes a file that does not shrink.
func noiseFile(name string, size, seed int64) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	_, err = io.CopyN(f, newNoise(seed), size)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	return err
}
