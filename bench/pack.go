//go:build unix

package main

import (
	"fmt"
	"io"
	"io/fs"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// plainProfile is a game that takes everything.
const plainProfile = "[game]\nid = \"plain\"\ntitle = \"Plain\"\nform = \"solids\"\n"

// packProject makes a project that ships all that lies in its folder files.
func packProject(dir string) error {
	for _, folder := range []string{"files", "profiles", "maps"} {
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "profiles", "plain.toml"), []byte(plainProfile), 0o644); err != nil {
		return err
	}
	// What the guard finds in others' files is no matter here; it looks all the same.
	return os.WriteFile(filepath.Join(dir, "vornix.toml"),
		[]byte("[project]\nname = \"bench\"\ntitle = \"Bench\"\nversion = \"1.0.0\"\nprofile = \"plain\"\n[pack]\ninclude = [\"files/**\"]\n"+
			"[[pack.exception]]\nfile = \"**\"\nallow = [\"source\", \"backup\", \"secret\", \"home\"]\nreason = \"a benchmark\"\n"), 0o644)
}

// realFiles copies files of Go's own installation: sources, programs, images, archives.
func realFiles(to string, count int) (int64, error) {
	var total int64
	n := 0
	err := filepath.WalkDir(goRoot(), func(at string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() || info.Size() == 0 || info.Size() > 20<<20 {
			return err
		}
		data, err := os.ReadFile(at)
		if err != nil {
			return err
		}
		total += info.Size()
		if err := os.WriteFile(filepath.Join(to, fmt.Sprintf("%04d_%s", n, strings.ToLower(e.Name()))), data,
			0o644); err != nil {
			return err
		}
		if n++; n == count {
			return fs.SkipAll
		}
		return nil
	})
	if err == nil && n < count {
		err = fmt.Errorf("the installation of Go has only %d files", n)
	}
	return total, err
}

// pairs times ours and a peer in turn, each from the same beginning, and gives the medians and the
// ratio with its spread.
func pairs(runs int, before func() error, ours, peer func() (figure, error)) (mine, theirs figure, ratio string,
	err error) {
	var a, b []figure
	var ratios []float64
	for range runs {
		for i, f := range []func() (figure, error){ours, peer} {
			if f == nil {
				continue
			}
			if err := before(); err != nil {
				return mine, theirs, "", err
			}
			x, err := f()
			if err != nil {
				return mine, theirs, "", err
			}
			if i == 0 {
				a = append(a, x)
			} else {
				b = append(b, x)
				ratios = append(ratios, a[len(a)-1].wall.Seconds()/x.wall.Seconds())
			}
		}
	}
	median := func(list []figure) figure {
		slices.SortFunc(list, func(x, y figure) int { return int(x.wall - y.wall) })
		return list[len(list)/2]
	}
	mine = median(a)
	if len(ratios) > 0 {
		theirs = median(b)
		slices.Sort(ratios)
		ratio = fmt.Sprintf("%.2fx (%.2f to %.2f)", ratios[len(ratios)/2], ratios[0], ratios[len(ratios)-1])
	}
	return mine, theirs, ratio, nil
}

// measurePack times packing, hashing, unpacking beside general-purpose programs, and the memory of a large archive.
func measurePack(dir, exe, demo string) (string, error) {
	const runs = 5
	var b strings.Builder
	b.WriteString("\n## Packing\n\n")
	project := filepath.Join(dir, "packing")
	if err := packProject(project); err != nil {
		return "", err
	}
	total, err := realFiles(filepath.Join(project, "files"), 5000)
	if err != nil {
		return "", err
	}
	if _, err := timeOnce("", exe, "build", "--quiet", "--project", project); err != nil {
		return "", err
	}
	time.Sleep(2500 * time.Millisecond)
	if _, err := timeOnce("", exe, "build", "--quiet", "--project", project); err != nil {
		return "", err
	}
	fmt.Fprintf(&b, "5,000 files of Go's own installation, %d MB, as they come: sources, programs, images, archives. Medians of %d pairs in turn, everything in the system's memory.\n\n", total>>20, runs)
	b.WriteString("| work | Vornix | peer | peer's time | ratio (median, lowest to highest) | reach | Vornix's memory |\n|---|---|---|---|---|---|---|\n")
	tree, bundle := filepath.Join(project, "out", "tree"), filepath.Join(project, "out", "bundles", "bench-1.0.0.zip")
	other := filepath.Join(dir, "other.zip")
	clear := func() error {
		_ = os.Remove(other)
		_ = os.RemoveAll(filepath.Join(dir, "unpacked"))
		for _, f := range []string{"pack.json", "pack-entries.json"} {
			_ = os.Remove(filepath.Join(project, ".vornix", f))
		}
		return os.RemoveAll(filepath.Join(project, "out", "bundles"))
	}
	pack := func() (figure, error) { return timeOnce("", exe, "pack", "--quiet", "--project", project) }
	size := func(name string) int64 {
		info, err := os.Stat(name)
		if err != nil {
			return 0
		}
		return info.Size()
	}
	row := func(work, peerName, reach string, before func() error, ours, peer func() (figure, error)) error {
		mine, theirs, ratio, err := pairs(runs, before, ours, peer)
		if err != nil {
			return fmt.Errorf("%s: %w", work, err)
		}
		peerTime := ""
		if ratio != "" {
			peerTime = ms(theirs.wall)
		}
		hold(work, peerName, reach, ratio)
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s | %s | %s |\n", work, ms(mine.wall), peerName, peerTime, ratio, reach,
			mb(mine.memory))
		return nil
	}
	sizes := map[string]int64{}
	for _, p := range []struct {
		name, reach string
		args        []string
	}{{"zip", "<= 0.4x", []string{"zip", "-6", "-q", "-r", other, "."}},
		{"7z", "<= 0.6x", []string{"7z", "a", "-tzip", "-mx=5", "-bso0", "-bsp0", other, "."}}} {
		if _, err := exec.LookPath(p.name); err != nil {
			fmt.Fprintf(&b, "| pack | | `%s` is not here | | | %s | |\n", p.name, p.reach)
			continue
		}
		err := row("pack, deflate", "`"+strings.Join(p.args[:len(p.args)-2], " ")+"`", p.reach, clear, pack,
			func() (figure, error) {
				f, err := timeOnce(tree, p.args...)
				sizes[p.name] = size(other)
				return f, err
			})
		if err != nil {
			return "", err
		}
	}
	if _, err := pack(); err != nil {
		return "", err
	}
	sizes["ours"] = size(bundle)
	nothing := func() error { return nil }
	n := 0
	change := func() error {
		n++
		return os.WriteFile(filepath.Join(project, "files", "0000_changed"), []byte(fmt.Sprint("change ", n)), 0o644)
	}
	if err := row("build and pack again after one change", "", "", change, pack, nil); err != nil {
		return "", err
	}
	if err := row("hash all files of a folder (`inspect out/tree`)", "`sha256sum`", "<= 0.6x", nothing,
		func() (figure, error) { return timeOnce("", exe, "inspect", "--quiet", tree) },
		func() (figure, error) {
			return timeOnce(tree, "find", ".", "-type", "f", "-exec", "sha256sum", "{}", "+")
		}); err != nil {
		return "", err
	}
	if _, err := exec.LookPath("unzip"); err == nil {
		if err := row("read and check a bundle (`inspect`)", "`unzip -tqq`", "", nothing,
			func() (figure, error) { return timeOnce("", exe, "inspect", "--quiet", bundle) },
			func() (figure, error) { return timeOnce("", "unzip", "-tqq", bundle) }); err != nil {
			return "", err
		}
		fresh := func() error { return os.RemoveAll(filepath.Join(dir, "unpacked")) }
		if err := row("unpack a bundle (`extract`)", "`unzip -q`", "", fresh, func() (figure, error) {
			return timeOnce("", exe, "extract", "--quiet", bundle, "--to", filepath.Join(dir, "unpacked"))
		},
			func() (figure, error) {
				return timeOnce("", "unzip", "-q", bundle, "-d", filepath.Join(dir, "unpacked"))
			}); err != nil {
			return "", err
		}
	}
	for _, name := range []string{"zip", "7z"} {
		if sizes[name] > 0 {
			if name == "zip" {
				hold("size of what is packed", "`zip -6`", "<= 1.01x",
					fmt.Sprintf("%.4fx", float64(sizes["ours"])/float64(sizes[name])))
			}
			fmt.Fprintf(&b, "\nSize beside `%s`: %.4fx (%d bytes).", name, float64(sizes["ours"])/float64(sizes[name]),
				sizes["ours"])
		}
	}
	if err := clear(); err != nil {
		return "", err
	}
	// The demo's own tree says how close deflate comes on what mods are made of.
	_ = os.Remove(other)
	if _, err := exec.LookPath("zip"); err == nil {
		if _, err := timeOnce(filepath.Join(demo, "highline", "out", "tree"), "zip", "-6", "-q", "-r", other,
			"."); err != nil {
			return "", err
		}
		fmt.Fprintf(&b, " The demo's parcel (compiled maps, KTX2, a stored sound) beside `zip -6` of the same tree: %.4fx.", float64(size(filepath.Join(demo, "highline", "out", "bundles", "highline-1.0.0.parcel")))/float64(size(other)))
	}
	if err := os.RemoveAll(project); err != nil {
		return "", err
	}
	return b.String() + "\n", nil
}

// madeFile writes a file of that size: a megabyte of noise, a megabyte of text, and so on.
func madeFile(name string, size, seed int64) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	defer f.Close()
	rng := rand.New(rand.NewSource(seed))
	noise := make([]byte, 1<<20)
	var text strings.Builder
	for i := 0; text.Len() < 1<<20; i++ {
		fmt.Fprintf(&text, "face %d material=rock/%d shift=%d,%d\n", rng.Intn(100000), i%17, i*7%31, i*i%101)
	}
	for at := int64(0); at < size; at += 1 << 20 {
		if at>>20%2 == 0 {
			rng.Read(noise)
			_, err = f.Write(noise)
		} else {
			_, err = io.WriteString(f, text.String()[:1<<20])
		}
		if err != nil {
			return err
		}
	}
	return f.Close()
}
