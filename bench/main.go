//go:build unix

// Command bench times Vornix beside general-purpose programs. See README.md.
package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"log"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"runtime/pprof"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"vornix/core/safefile"
)

// row is a line of the table.
type row struct {
	work, reach string
	ours, peer  []string // peer may be empty
	dir         string
}

// figure is what one command took.
type figure struct {
	wall   time.Duration
	cpu    time.Duration
	memory int64 // peak resident size in bytes
}

func main() {
	runs := flag.Int("runs", 15, "counted runs of each command")
	files := flag.Int("files", 10000, "sources in the made project")
	write := flag.Bool("write", false, "write docs/performance.md")
	maps := flag.Bool("maps", false, "only the table of maps")
	rays := flag.Bool("rays", false, "only shadow rays beside Embree")
	stages := flag.Bool("stages", false, "only the long stages of maps")
	pictures := flag.Bool("pictures", false, "only pictures of the demo's maps")
	packing := flag.Bool("packing", false, "only packing, hashing, unpacking, and an archive of 10 GB")
	deltas := flag.Bool("deltas", false, "only deltas and patches beside xdelta3")
	indexes := flag.Bool("index", false, "only the version index, fetch, and many players at once from nginx")
	workshops := flag.Bool("workshop", false, "only publishing to a workshop")
	deploys := flag.Bool("deploy", false, "only deployments over SFTP beside rsync and scp")
	cpu := flag.String("cpuprofile", "", "with -maps or -rays: write a profile of the processors to this file")
	edits := flag.String("edited", "", "only make the files that deltas are measured on, in this folder")
	bundles := flag.String("bundles", "", "only make the bundles that deltas are measured on, in this folder")
	flag.Parse()
	if *edits != "" || *bundles != "" {
		var err error
		if *edits != "" {
			_, _, err = edited(*edits)
		} else {
			_, err = changedBundles(*bundles, filepath.Join(*bundles, "vornix"), filepath.Join(*bundles, "demo"))
		}
		if err != nil {
			log.Fatal(err)
		}
		return
	}
	if *maps || *rays || *stages || *pictures || *packing || *deltas || *indexes || *deploys || *workshops {
		measure := measureMaps
		switch {
		case *rays:
			measure = func() (string, error) { return measureRays(5) }
		case *stages:
			measure = func() (string, error) { return alone(measureStages) }
		case *deltas:
			measure = func() (string, error) { return alone(measureDelta) }
		case *indexes:
			measure = func() (string, error) { return alone(measureIndex) }
		case *workshops:
			measure = func() (string, error) { return alone(measureWorkshop) }
		case *deploys:
			measure = func() (string, error) { return alone(measureDeploy) }
		case *packing:
			measure = func() (string, error) { return alone(measurePack) }
		case *pictures:
			measure = func() (string, error) { return alone(measurePictures) }
		}
		if err := only(measure, *cpu); err != nil {
			log.Fatal(err)
		}
		return
	}
	if err := bench(*runs, *files, *write); err != nil {
		log.Fatal(err)
	}
}

func only(measure func() (string, error), profile string) error {
	if profile != "" {
		f, err := os.Create(profile)
		if err != nil {
			return err
		}
		defer f.Close()
		if err := pprof.StartCPUProfile(f); err != nil {
			return err
		}
		defer pprof.StopCPUProfile()
	}
	table, err := measure()
	fmt.Print(table)
	return err
}

func bench(runs, files int, write bool) error {
	dir, err := os.MkdirTemp("", "vornix-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	exe := filepath.Join(dir, "vornix")
	if out, err := exec.Command("go", "build", "-o", exe, "./cmd/vornix").CombinedOutput(); err != nil {
		return fmt.Errorf("building: %w\n%s", err, out)
	}
	demo, made := filepath.Join(dir, "demo"), filepath.Join(dir, "made")
	if err := makeProject(made, files); err != nil {
		return err
	}
	first, err := timeOnce("", exe, "demo", demo)
	if err != nil {
		return err
	}
	full, err := timeOnce("", exe, "build", "--project", made)
	if err != nil {
		return err
	}
	time.Sleep(2500 * time.Millisecond) // until file times are old enough to be believed
	if _, err := timeOnce("", exe, "build", "--project", made); err != nil {
		return err
	}
	rows := []row{
		{work: "start-up (`--version`)", reach: "<= 4x", ours: []string{exe, "--version"}, peer: []string{"git", "--version"}},
		{work: "demo release again", reach: "< 2 s", ours: []string{exe, "demo", demo}},
		{work: fmt.Sprintf("nothing changed, %d sources", files), reach: "<= 5x", ours: []string{exe, "build"}, dir: made,
			peer: []string{"find", ".", "(", "-path", "./.vornix", "-o", "-path", "./out", ")", "-prune", "-o", "-type", "f", "-printf", "%T@ %p\n"}},
	}
	var out strings.Builder
	fmt.Fprintf(&out, "| work | Vornix | peer | peer's time | ratio (median, lowest to highest) | reach | Vornix's memory |\n|---|---|---|---|---|---|---|\n")
	fmt.Fprintf(&out, "| demo release from nothing | %s | | | | < 60 s | %s |\n", ms(first.wall), mb(first.memory))
	fmt.Fprintf(&out, "| first build of %d sources | %s | | | | | %s |\n", files, ms(full.wall), mb(full.memory))
	for _, r := range rows {
		line, err := r.measure(runs)
		if err != nil {
			return err
		}
		out.WriteString(line)
	}
	line, err := measureBC1(dir, exe, runs)
	if err != nil {
		return err
	}
	out.WriteString(line)
	if line, err = measureMany(dir, exe); err != nil {
		return err
	}
	out.WriteString(line)
	if line, err = measureFormats(dir); err != nil {
		return err
	}
	out.WriteString(line)
	for _, measure := range []func() (string, error){measureMaps, func() (string, error) { return measureStages(dir, exe, demo) }, func() (string, error) { return measurePictures(dir, exe, demo) }, func() (string, error) { return measurePack(dir, exe, demo) }, func() (string, error) { return measureDelta(dir, exe, demo) }, func() (string, error) { return measureRays(5) }} {
		if line, err = measure(); err != nil {
			return err
		}
		out.WriteString(line)
	}
	fmt.Print(out.String())
	if !write {
		return nil
	}
	return writePage(out.String(), runs)
}

// measure runs the row's commands in turn.
func (r row) measure(runs int) (string, error) {
	if len(r.peer) > 0 {
		if _, err := exec.LookPath(r.peer[0]); err != nil {
			return fmt.Sprintf("| %s | left out: %s is not installed | | | | %s | |\n", r.work, r.peer[0], r.reach), nil
		}
	}
	var ours, peers []time.Duration
	var ratios []float64
	var memory int64
	for i := range runs + 1 {
		f, err := timeOnce(r.dir, r.ours...)
		if err != nil {
			return "", err
		}
		g := figure{}
		if len(r.peer) > 0 {
			if g, err = timeOnce(r.dir, r.peer...); err != nil {
				return "", err
			}
		}
		if i == 0 {
			continue // the first warms up
		}
		ours, peers, memory = append(ours, f.wall), append(peers, g.wall), max(memory, f.memory)
		if g.wall > 0 {
			ratios = append(ratios, float64(f.wall)/float64(g.wall))
		}
	}
	if len(ratios) == 0 {
		return fmt.Sprintf("| %s | %s | | | | %s | %s |\n", r.work, ms(median(ours)), r.reach, mb(memory)), nil
	}
	slices.Sort(ratios)
	return fmt.Sprintf("| %s | %s | `%s` | %s | %.2fx (%.2f to %.2f) | %s | %s |\n", r.work, ms(median(ours)), r.peer[0], ms(median(peers)),
		ratios[len(ratios)/2], ratios[0], ratios[len(ratios)-1], r.reach, mb(memory)), nil
}

func timeOnce(dir string, command ...string) (figure, error) {
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Dir = dir
	var errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = io.Discard, &errs
	start := time.Now()
	err := cmd.Run()
	f := figure{wall: time.Since(start)}
	if err != nil {
		return f, fmt.Errorf("%s: %w\n%s", strings.Join(command, " "), err, errs.String())
	}
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		f.memory = int64(usage.Maxrss)
		f.cpu = time.Duration(usage.Utime.Nano() + usage.Stime.Nano())
		if runtime.GOOS != "darwin" { // which counts in bytes, others in kilobytes
			f.memory *= 1024
		}
	}
	return f, nil
}

func median(list []time.Duration) time.Duration {
	slices.Sort(list)
	return list[len(list)/2]
}

func ms(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }

func mb(n int64) string { return fmt.Sprintf("%.0f MB", float64(n)/1e6) }

// makeProject writes a project of about n sources: for every ten, one map, three materials, three images, three sounds.
func makeProject(dir string, n int) error {
	d, err := safefile.MakeDir(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	var failed error
	put := func(rel string, data []byte) { failed = errors.Join(failed, d.WriteCache(rel, data)) }
	put("vornix.toml", []byte("[project]\nname = \"made\"\ntitle = \"Made\"\nversion = \"1.0.0\"\nprofile = \"burrow-tramways\"\ndescription = \"made\"\n"))
	for i := range n / 10 {
		folder := fmt.Sprintf("f%02d", i%100)
		var m bytes.Buffer
		name := "made_" + letters(i)
		fmt.Fprintf(&m, "map %s title=\"Made %d\" players=1..2 modes=shift\n", name, i)
		for k, symbol := range "#.," {
			asset := path.Join(folder, fmt.Sprintf("a%d_%d", i, k))
			fmt.Fprintf(&m, "legend %c tile=%s\nsound s%d at=1,1,0 file=%s\n", symbol, asset, k, asset)
			put("materials/"+asset+".toml", fmt.Appendf(nil, "colour = %q\nsurface = \"rock\"\n", asset))
			put("textures/"+asset+".png", smallImage(i*3+k))
			put("sounds/"+asset+".wav", bytes.Repeat([]byte(asset), 40))
		}
		fmt.Fprintf(&m, "grid g cells=8,2\n  row ########\n  row #..,,..#\nspawn a at=2,1,0\nspawn b at=3,1,0\nitem depot at=4,1,0 name=made\n")
		put(fmt.Sprintf("maps/%s/%s.vnx", folder, name), m.Bytes())
	}
	return failed
}

// letters writes a number with the letters a to j for its digits.
func letters(n int) string {
	digits := []byte(strconv.Itoa(n))
	for i := range digits {
		digits[i] += 'a' - '0'
	}
	return string(digits)
}

func smallImage(seed int) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, 16, 16))
	for i := range 256 {
		v := uint8(seed*31 + i*7)
		img.SetNRGBA(i%16, i/16, color.NRGBA{v, v ^ uint8(seed), 90, 255})
	}
	var b bytes.Buffer
	_ = png.Encode(&b, img) // into memory, of a valid image
	return b.Bytes()
}

func writePage(table string, runs int) error {
	d, err := safefile.OpenDir("docs")
	if err != nil {
		return err
	}
	defer d.Close()
	cpu, _ := exec.CommandContext(context.Background(), "sh", "-c", "sed -n 's/^model name[^:]*: //p' /proc/cpuinfo | head -1").Output()
	text := fmt.Sprintf(`# Performance

Written by `+"`go run ./bench -write`"+` on %s: %d processors (%s), %s, %d counted runs of each command, Vornix and
its peer in turn. Times are wall times of whole processes; ratios are of neighbouring runs. What each row does and what
it is fed stands in [bench/README.md](../bench/README.md).

%s`, time.Now().Format("2006-01-02"), runtime.NumCPU(), strings.TrimSpace(string(cpu)), runtime.Version(), runs, table)
	return d.WriteFile("performance.md", []byte(text))
}
