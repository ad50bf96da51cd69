//go:build unix

package main

import (
	"fmt"
	"image/png"
	"io"
	"io/fs"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// edited writes a file of 16 MB (a program, sources, noise) and the same with 400 edits: bytes
// changed, put in, taken out.
func edited(dir string) (old, now string, err error) {
	rng := rand.New(rand.NewSource(7))
	program, err := os.ReadFile(filepath.Join(goRoot(), "bin", "go"))
	if err != nil {
		return "", "", err
	}
	var text []byte
	err = filepath.WalkDir(filepath.Join(goRoot(), "src"), func(at string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || filepath.Ext(at) != ".go" {
			return err
		}
		data, err := os.ReadFile(at)
		if text = append(text, data...); len(text) > 12<<20 {
			return fs.SkipAll
		}
		return err
	})
	if err != nil {
		return "", "", err
	}
	noise := make([]byte, 4<<20)
	rng.Read(noise)
	a := append(append(append([]byte{}, program[:4<<20]...), text[:8<<20]...), noise...)
	var b []byte
	at := 0
	for i := range 400 {
		p := max(at, (i*len(a)+rng.Intn(len(a)))/400)
		b = append(b, a[at:p]...)
		at = p
		n := 1 << rng.Intn(11)
		switch rng.Intn(3) {
		case 0:
			part := make([]byte, n)
			rng.Read(part)
			b, at = append(b, part...), min(len(a), at+n)
		case 1:
			from := 8<<20 + rng.Intn(len(text)-8<<20-n)
			b = append(b, text[from:from+n]...)
		case 2:
			at = min(len(a), at+n)
		}
	}
	b = append(b, a[at:]...)
	old, now = filepath.Join(dir, "old.bin"), filepath.Join(dir, "new.bin")
	if err := os.WriteFile(old, a, 0o644); err != nil {
		return "", "", err
	}
	return old, now, os.WriteFile(now, b, 0o644)
}

// measureDelta times deltas and patches beside xdelta3: a file with many edits, bundles with what
// releases usually change, a gigabyte.
func measureDelta(dir, exe, _ string) (string, error) {
	if _, err := exec.LookPath("xdelta3"); err != nil {
		return "\n## Deltas and patches\n\n`xdelta3` is not here.\n", nil
	}
	const runs = 7
	var b strings.Builder
	b.WriteString("\n## Deltas and patches\n\n")
	// In a process of its own: what this one once held would be counted as its children's.
	if _, err := timeOnce("", os.Args[0], "-edited", dir); err != nil {
		return "", err
	}
	old, now := filepath.Join(dir, "old.bin"), filepath.Join(dir, "new.bin")
	size := func(name string) int64 {
		info, err := os.Stat(name)
		if err != nil {
			return 0
		}
		return info.Size()
	}
	ours, theirs, out := filepath.Join(dir, "ours.vcdiff"), filepath.Join(dir, "theirs.vcdiff"),
		filepath.Join(dir, "out.bin")
	nothing := func() error { return nil }
	b.WriteString("| work | Vornix | `xdelta3` | time (median, lowest to highest) | size | memory | reach |\n|---|---|---|---|---|---|---|\n")
	row := func(work, reach string, count int, files func() (int64, int64), mine, peer func() (figure, error)) error {
		a, x, ratio, err := pairs(count, nothing, mine, peer)
		if err != nil {
			return fmt.Errorf("%s: %w", work, err)
		}
		sizes := ""
		if files != nil {
			m, t := files()
			sizes = fmt.Sprintf("%d beside %d: %.3fx", m, t, float64(m)/float64(t))
		}
		if strings.HasPrefix(reach, "size") {
			hold(work+": time", "`xdelta3 -9`", "<= 1.0x", ratio)
			hold(work+": size", "`xdelta3 -9`", "<= 1.0x", strings.TrimSpace(sizes[strings.LastIndex(sizes, ":")+1:]))
			hold(work+": memory", "`xdelta3 -9`", "<= 1.0x", fmt.Sprintf("%.2fx", float64(a.memory)/float64(x.memory)))
		} else if reach != "" {
			hold("delta of 16 MB: "+work, "`xdelta3 -d`", reach, ratio)
		}
		fmt.Fprintf(&b, "| %s | %s, %s | %s, %s | %s | %s | %.2fx | %s |\n", work, ms(a.wall), mb(a.memory), ms(x.wall),
			mb(x.memory), ratio, sizes, float64(a.memory)/float64(x.memory), reach)
		return nil
	}
	make := func(old, now string, args ...string) func() (figure, error) {
		return func() (figure, error) {
			return timeOnce("",
				append([]string{exe, "delta", "make", old, now, ours, "--overwrite", "--quiet"}, args...)...)
		}
	}
	xmake := func(old, now string) func() (figure, error) {
		return func() (figure, error) { return timeOnce("", "xdelta3", "-9", "-e", "-f", "-s", old, now, theirs) }
	}
	both := func() (int64, int64) { return size(ours), size(theirs) }
	if err := row("delta of 16 MB with 400 edits (`-9`)", "size, time, memory <= 1.0x", runs, both, make(old, now),
		xmake(old, now)); err != nil {
		return "", err
	}
	if err := row("apply it", "<= 1.5x", runs, nil, func() (figure, error) {
		return timeOnce("", exe, "delta", "apply", old, ours, out, "--overwrite", "--quiet")
	},
		func() (figure, error) { return timeOnce("", "xdelta3", "-d", "-f", "-s", old, theirs, out) }); err != nil {
		return "", err
	}
	if _, err := timeOnce("", os.Args[0], "-bundles", dir); err != nil {
		return "", err
	}
	bundles := map[string]string{}
	for _, name := range []string{"base", "one texture", "one relit map", "a renamed folder", "all three"} {
		bundles[name] = filepath.Join(dir, strings.ReplaceAll(name, " ", "_")+".zip")
	}
	for _, change := range []string{"one texture", "one relit map", "a renamed folder", "all three"} {
		if err := row(fmt.Sprintf("bundle of %d MB, %s (`-9`)", size(bundles["base"])>>20, change), "", 3, both,
			make(bundles["base"], bundles[change]), xmake(bundles["base"], bundles[change])); err != nil {
			return "", err
		}
		if err := row("apply it", "", 3, nil, func() (figure, error) {
			return timeOnce("", exe, "delta", "apply", bundles["base"], ours, out, "--overwrite", "--quiet")
		},
			func() (figure, error) {
				return timeOnce("", "xdelta3", "-d", "-f", "-s", bundles["base"], theirs,
					out)
			}); err != nil {
			return "", err
		}
	}
	// A gigabyte that the file with the edits stands in the middle of.
	large, changed := filepath.Join(dir, "large.bin"), filepath.Join(dir, "changed.bin")
	if err := madeFile(filepath.Join(dir, "half.bin"), 512<<20, 3); err != nil {
		return "", err
	}
	for to, middle := range map[string]string{large: old, changed: now} {
		if err := joined(to, filepath.Join(dir, "half.bin"), middle, filepath.Join(dir, "half.bin")); err != nil {
			return "", err
		}
	}
	if err := row("delta of 1 GB with 400 edits (`-9`)", "", 1, both, make(large, changed),
		xmake(large, changed)); err != nil {
		return "", err
	}
	if err := row("apply it", "", 3, nil, func() (figure, error) {
		return timeOnce("", exe, "delta", "apply", large, ours, out, "--overwrite", "--quiet")
	},
		func() (figure, error) { return timeOnce("", "xdelta3", "-d", "-f", "-s", large, theirs, out) }); err != nil {
		return "", err
	}
	patch := filepath.Join(dir, "large.vnp")
	madePatch, err := timeOnce("", exe, "patch", "make", large, changed, patch, "--name", "large.bin", "--quiet")
	if err != nil {
		return "", err
	}
	applied, err := timeOnce("", exe, "patch", "apply", patch, large, "--quiet")
	if err != nil {
		return "", err
	}
	undone, err := timeOnce("", exe, "patch", "undo", dir, "--quiet")
	if err != nil {
		return "", err
	}
	fmt.Fprintf(&b, "\nThe same gigabyte as a patch file: make it and try it %.1f s with %s, apply it (hash the base, make the result beside, hash it, keep the original, swap) %.1f s with %s, undo %.1f s with %s.\n",
		madePatch.wall.Seconds(), mb(madePatch.memory), applied.wall.Seconds(), mb(applied.memory),
		undone.wall.Seconds(), mb(undone.memory))
	return b.String(), nil
}

func joined(to string, parts ...string) error {
	w, err := os.Create(to)
	if err != nil {
		return err
	}
	defer w.Close()
	for _, p := range parts {
		r, err := os.Open(p)
		if err != nil {
			return err
		}
		_, err = io.Copy(w, r)
		_ = r.Close() // it was only read
		if err != nil {
			return err
		}
	}
	return w.Close()
}

// changedBundles packs a mod of real textures, lit maps and other files, and the same with what
// releases usually change.
func changedBundles(dir, exe, demo string) (map[string]string, error) {
	project := filepath.Join(dir, "mod")
	if err := packProject(project); err != nil {
		return nil, err
	}
	files := filepath.Join(project, "files")
	images, err := bc1Images(dir)
	if err != nil {
		return nil, err
	}
	texture := func(image, name string) error {
		for _, format := range []string{"bc7", "bc1"} {
			to := filepath.Join(files, "textures", format, name+".ktx2")
			if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
				return err
			}
			if _, err := timeOnce("", exe, "texture", image, to, "--format", format, "--quality", "draft"); err != nil {
				return err
			}
		}
		return nil
	}
	for i, image := range images {
		if err := texture(image, fmt.Sprintf("image_%02d", i)); err != nil {
			return nil, err
		}
	}
	if err := os.CopyFS(filepath.Join(files, "demo"),
		os.DirFS(filepath.Join(demo, "highline", "out", "tree"))); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Join(files, "other"), 0o755); err != nil {
		return nil, err
	}
	if _, err := realFiles(filepath.Join(files, "other"), 2000); err != nil {
		return nil, err
	}
	bundles := map[string]string{}
	pack := func(name string) error {
		if _, err := timeOnce("", exe, "build", "--quiet", "--project", project); err != nil {
			return err
		}
		if _, err := timeOnce("", exe, "pack", "--quiet", "--project", project); err != nil {
			return err
		}
		data, err := os.ReadFile(filepath.Join(project, "out", "bundles", "bench-1.0.0.zip"))
		if err != nil {
			return err
		}
		bundles[name] = filepath.Join(dir, strings.ReplaceAll(name, " ", "_")+".zip")
		return os.WriteFile(bundles[name], data, 0o644)
	}
	if err := pack("base"); err != nil {
		return nil, err
	}
	// A red square on one image.
	img, err := readImage(images[3])
	if err != nil {
		return nil, err
	}
	for y := 300; y < 420; y++ {
		for x := 500; x < 700; x++ {
			i := img.PixOffset(x, y)
			img.Pix[i], img.Pix[i+1], img.Pix[i+2] = 200, 30, 20
		}
	}
	painted := filepath.Join(dir, "painted.png")
	w, err := os.Create(painted)
	if err != nil {
		return nil, err
	}
	if err := png.Encode(w, img); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	changes := map[string]struct{ do, undo func() error }{
		"one texture": {func() error { return texture(painted, "image_03") },
			func() error { return texture(images[3], "image_03") }},
		"one relit map": {func() error {
			at := filepath.Join(demo, "highline", "maps", "saltpan_relay.vnx")
			data, err := os.ReadFile(at)
			if err != nil {
				return err
			}
			if err := os.WriteFile(at, []byte(strings.Replace(string(data), "sun=38,205", "sun=36,210", 1)),
				0o644); err != nil {
				return err
			}
			if _, err := timeOnce("", exe, "build", "--quiet", "--project",
				filepath.Join(demo, "highline")); err != nil {
				return err
			}
			return os.CopyFS(filepath.Join(files, "relit"),
				os.DirFS(filepath.Join(demo, "highline", "out", "tree", "maps")))
		}, nil},
		"a renamed folder": {func() error {
			return os.Rename(filepath.Join(files, "textures"),
				filepath.Join(files, "images"))
		},
			func() error { return os.Rename(filepath.Join(files, "images"), filepath.Join(files, "textures")) }},
	}
	relit := filepath.Join(files, "demo", "maps", "saltpan_relay.vnm")
	before, err := os.ReadFile(relit)
	if err != nil {
		return nil, err
	}
	light := changes["one relit map"].do
	changes["one relit map"] = struct{ do, undo func() error }{func() error {
		if err := light(); err != nil {
			return err
		}
		defer os.RemoveAll(filepath.Join(files, "relit"))
		data, err := os.ReadFile(filepath.Join(files, "relit", "saltpan_relay.vnm"))
		if err != nil {
			return err
		}
		return os.WriteFile(relit, data, 0o644)
	}, func() error { return os.WriteFile(relit, before, 0o644) }}
	for _, name := range []string{"one texture", "one relit map", "a renamed folder"} {
		if err := changes[name].do(); err != nil {
			return nil, err
		}
		if err := pack(name); err != nil {
			return nil, err
		}
		if err := changes[name].undo(); err != nil {
			return nil, err
		}
	}
	for _, name := range []string{"one texture", "one relit map", "a renamed folder"} {
		if err := changes[name].do(); err != nil {
			return nil, err
		}
	}
	return bundles, pack("all three")
}

// goRoot is where Go is installed, by its own word.
func goRoot() string {
	out, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}
