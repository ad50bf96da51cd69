//go:build unix

package main

import (
	"archive/zip"
	"context"
	"encoding/json"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/format/cdc"
	"vornix/core/pack/bundle"
	"vornix/core/ship/workshop"
	"vornix/demo"
)

const (
	publishedOf = 500 << 20 // bytes of the large item
	publishers  = 50        // at once
	eachOf      = 4 << 20   // bytes of what each of them has
)

// stall is a workshop's stand-in, as a process.
type stall struct {
	dir, url string
	cmd      *exec.Cmd
}

func openStall(exe, dir string, accounts ...string) (*stall, error) {
	args := []string{"stand", "workshop", dir, "--quiet"}
	for _, name := range accounts {
		args = append(args, "--account", name)
	}
	s := &stall{dir: dir, cmd: exec.Command(exe, args...)}
	s.cmd.Dir = filepath.Dir(dir)
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	for range 500 {
		if data, err := os.ReadFile(filepath.Join(dir, "stand-workshop.url")); err == nil {
			s.url = strings.TrimSpace(string(data))
			return s, nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	s.close()
	return nil, fmt.Errorf("the workshop does not start")
}

func (s *stall) close() {
	_ = s.cmd.Process.Signal(os.Interrupt)
	_ = s.cmd.Wait()
}

// memory is the most that the stand-in had in memory so far.
func (s *stall) memory() string {
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	for line := range strings.SplitSeq(string(data), "\n") {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			return strings.TrimSpace(rest)
		}
	}
	return "unknown"
}

// seller is a project whose one bundle is made up, and is published.
type seller struct {
	dir, exe string
	p        *project.Project
	account  string
	stall    *stall
	version  int
}

func newSeller(dir, exe, account string, s *stall) (*seller, error) {
	if err := packProject(dir); err != nil {
		return nil, err
	}
	x := &seller{dir: dir, exe: exe, account: account, stall: s}
	return x, x.next()
}

// next raises the version.
func (x *seller) next() error {
	text, err := os.ReadFile(filepath.Join(x.dir, "vornix.toml"))
	if err != nil {
		return err
	}
	head, _, _ := strings.Cut(string(text), "\n[target.")
	head = strings.Replace(head, fmt.Sprintf(`version = "1.%d.0"`, x.version),
		fmt.Sprintf(`version = "1.%d.0"`, x.version+1), 1)
	x.version++
	head += fmt.Sprintf("\n[target.stall]\nkind = \"workshop\"\nurl = %q\ntoken_file = %q\n", x.stall.url,
		filepath.Join(x.stall.dir, "tokens", x.account))
	if err := os.WriteFile(filepath.Join(x.dir, "vornix.toml"), []byte(head), 0o644); err != nil {
		return err
	}
	x.p, err = project.Load(x.dir, demo.Profiles())
	return err
}

// pack takes a file for the project's bundle, as if it had been packed.
func (x *seller) pack(file string) error {
	d, err := safefile.OpenDir(x.dir)
	if err != nil {
		return err
	}
	defer d.Close()
	sum, size, err := d.CopyFrom(context.Background(), file, bundle.Dir+"/bench.zip")
	if err != nil {
		return err
	}
	info, err := d.Stat(bundle.Dir + "/bench.zip")
	if err != nil {
		return err
	}
	data, err := json.Marshal([]any{struct {
		bundle.Bundle
		Key     string
		ModTime int64
	}{bundle.Bundle{Name: "bench.zip", SHA256: sum, Size: size}, "made up", info.ModTime().UnixNano()}})
	if err != nil {
		return err
	}
	return d.WriteFile(project.StateDir+"/pack.json", data)
}

// publish publishes, and says what it took and how many bytes went over the line.
func (x *seller) publish() (figure, int64, error) {
	out := filepath.Join(x.dir, "answer.json")
	f, err := timeOnce("", "sh", "-c",
		fmt.Sprintf("exec %q publish stall --yes --json --project %q > %q", x.exe, x.dir, out))
	if err != nil {
		return f, 0, err
	}
	data, err := os.ReadFile(out)
	if err != nil {
		return f, 0, err
	}
	var answer struct {
		Result struct{ Results []struct{ Sent int64 } }
	}
	if err := json.Unmarshal(data, &answer); err != nil {
		return f, 0, err
	}
	return f, answer.Result.Results[0].Sent, nil
}

// largeZip is an archive of about size bytes, half of whose content shrinks.
func largeZip(name string, size int, r *rand.Rand, changed int) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	defer f.Close()
	z := zip.NewWriter(f)
	for i := 0; size > 0; i++ {
		one := rand.New(rand.NewPCG(uint64(i), 7))
		if i == changed {
			one = r
		}
		data := noise(one, 150_000)
		if i%2 == 0 { // shrinks to a half
			for k := range data {
				data[k] &= 15
			}
		}
		w, err := z.Create(fmt.Sprintf("textures/%05d.ktx2", i))
		if err != nil {
			return err
		}
		if _, err := w.Write(data); err != nil {
			return err
		}
		size -= map[bool]int{true: 85_000, false: 150_000}[i%2 == 0]
	}
	return z.Close()
}

// measureWorkshop measures chunks, first and later publishings, and many publishers at once.
func measureWorkshop(dir, exe, demoDir string) (string, error) {
	var b strings.Builder
	b.WriteString("\n## Workshops\n\n| work | time | peer | bytes sent | memory |\n|---|---|---|---|---|\n")
	row := func(work, took, peer, bytes, memory string) {
		log.Print(work)
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s |\n", work, took, peer, bytes, memory)
	}
	r := rand.New(rand.NewPCG(8, 9))
	large := filepath.Join(dir, "large.zip")
	if err := largeZip(large, publishedOf, r, -1); err != nil {
		return "", err
	}
	info, err := os.Stat(large)
	if err != nil {
		return "", err
	}
	// Chunks and their hashes, beside one hash of it all.
	var ours, peers []time.Duration
	count := 0
	for range 3 {
		f, err := os.Open(large)
		if err != nil {
			return "", err
		}
		start := time.Now()
		list, err := cdc.Cut(context.Background(), f, info.Size(), cdc.Bounds(f, info.Size()), nil)
		ours = append(ours, time.Since(start))
		f.Close()
		if err != nil {
			return "", err
		}
		count = len(list)
		p, err := timeOnce("", "sha256sum", large)
		if err != nil {
			return "", err
		}
		peers = append(peers, p.wall)
	}
	row(fmt.Sprintf("%.0f MB cut into %d chunks, with their hashes", float64(info.Size())/1e6, count), ms(median(ours)),
		fmt.Sprintf("`sha256sum` %s, %.2fx", ms(median(peers)), median(ours).Seconds()/median(peers).Seconds()), "", "")

	accounts := []string{"maker"}
	for i := range publishers {
		accounts = append(accounts, fmt.Sprintf("maker-%d", i))
	}
	s, err := openStall(exe, filepath.Join(dir, "stall"), accounts...)
	if err != nil {
		return "", err
	}
	defer s.close()
	x, err := newSeller(filepath.Join(dir, "large"), exe, "maker", s)
	if err != nil {
		return "", err
	}
	if err := x.pack(large); err != nil {
		return "", err
	}
	share := func(sent, of int64) string {
		return fmt.Sprintf("%.2f MB, %.2f%%", float64(sent)/1e6, 100*float64(sent)/float64(of))
	}
	first, sent, err := x.publish()
	if err != nil {
		return "", err
	}
	row(fmt.Sprintf("first publishing of %.0f MB, checked on both sides", float64(info.Size())/1e6), ms(first.wall), "",
		share(sent, info.Size()), mb(first.memory)+"; the workshop "+s.memory())
	if err := largeZip(large, publishedOf, r, 1001); err != nil {
		return "", err
	}
	if err := x.next(); err != nil {
		return "", err
	}
	if err := x.pack(large); err != nil {
		return "", err
	}
	second, sent, err := x.publish()
	if err != nil {
		return "", err
	}
	row("the next version, one texture of 150 kB changed", ms(second.wall),
		fmt.Sprintf("%.2fx of the first", second.wall.Seconds()/first.wall.Seconds()), share(sent, info.Size()),
		mb(second.memory))
	if second, sent, err = x.publish(); err != nil {
		return "", err
	}
	row("again, nothing changed", ms(second.wall), "", share(sent, info.Size()), mb(second.memory))

	// What releases usually change.
	mods := filepath.Join(dir, "mods")
	if err := os.MkdirAll(mods, 0o755); err != nil {
		return "", err
	}
	bundles, err := changedBundles(mods, exe, demoDir)
	if err != nil {
		return "", err
	}
	x, err = newSeller(filepath.Join(dir, "usual"), exe, "maker-0", s)
	if err != nil {
		return "", err
	}
	for _, name := range []string{"base", "one texture", "one relit map", "a renamed folder"} {
		if name != "base" {
			if err := x.next(); err != nil {
				return "", err
			}
		}
		if err := x.pack(bundles[name]); err != nil {
			return "", err
		}
		f, sent, err := x.publish()
		if err != nil {
			return "", err
		}
		info, err := os.Stat(bundles[name])
		if err != nil {
			return "", err
		}
		if name == "base" {
			name = fmt.Sprintf("a mod of %.1f MB, first", float64(info.Size())/1e6)
		}
		row(name, ms(f.wall), "", share(sent, info.Size()), mb(f.memory))
	}
	line, err := crowd(dir, exe, s, accounts[1:])
	if err != nil {
		return "", err
	}
	b.WriteString("\n" + line + "\n")
	return b.String(), nil
}

// crowd lets many publish at once, each something of its own, and gets it all back.
func crowd(dir, exe string, s *stall, accounts []string) (string, error) {
	sellers := make([]*seller, len(accounts))
	for i, account := range accounts {
		x, err := newSeller(filepath.Join(dir, "crowd", account), exe, account, s)
		if err != nil {
			return "", err
		}
		x.p = nil
		file := filepath.Join(dir, "one.bin")
		if err := os.WriteFile(file, noise(rand.New(rand.NewPCG(uint64(i), 3)), eachOf), 0o644); err != nil {
			return "", err
		}
		if err := x.pack(file); err != nil {
			return "", err
		}
		// Another project than that of the other measurements, whose account this may be.
		text, err := os.ReadFile(filepath.Join(x.dir, "vornix.toml"))
		if err != nil {
			return "", err
		}
		if err := os.WriteFile(filepath.Join(x.dir, "vornix.toml"),
			[]byte(strings.Replace(string(text), `name = "bench"`, `name = "crowd"`, 1)), 0o644); err != nil {
			return "", err
		}
		sellers[i] = x
	}
	errs := make([]error, len(sellers))
	start := time.Now()
	var wg sync.WaitGroup
	for i, x := range sellers {
		wg.Go(func() { _, _, errs[i] = x.publish() })
	}
	wg.Wait()
	took := time.Since(start)
	wrong := 0
	for i, x := range sellers {
		if errs[i] != nil {
			return "", errs[i]
		}
		token, err := os.ReadFile(filepath.Join(s.dir, "tokens", x.account))
		if err != nil {
			return "", err
		}
		c, err := workshop.Dial(s.url, workshop.Options{Token: strings.TrimSpace(string(token))})
		if err != nil {
			return "", err
		}
		items, err := c.Mine(context.Background(), "crowd")
		if err != nil {
			return "", err
		}
		want, _, err := safefile.HashFile(filepath.Join(x.dir, "out", "bundles", "bench.zip"))
		if err != nil {
			return "", err
		}
		scratch, err := safefile.NewScratchDir(dir)
		if err != nil {
			return "", err
		}
		part, err := scratch.Resume("got")
		if err == nil && len(items) == 1 {
			var v *workshop.Version
			if v, err = c.Version(context.Background(), items[0].ID, 1); err == nil {
				if err = c.Download(context.Background(), items[0].ID, 1, v.Files[0], part); err == nil {
					var sum string
					if sum, err = part.SHA256(context.Background()); sum != want {
						wrong++
					}
				}
			}
		} else {
			wrong++
		}
		if part != nil {
			part.Close()
		}
		scratch.Close()
		c.Close()
		if err != nil {
			return "", err
		}
	}
	total := float64(len(sellers)) * eachOf / 1e6
	return fmt.Sprintf("%d publishers at once, each with a process of its own and %.1f MB that do not shrink: %.1f s for all, %.0f MB/s, %d items mixed up; the workshop had %s in memory at most.",
		len(sellers), eachOf/1e6, took.Seconds(), total/took.Seconds(), wrong, s.memory()), nil
}
