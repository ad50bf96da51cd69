//go:build unix

// Command bench times Vornix beside general-purpose programs. See README.md.
package main

import (
	"bytes"
	"encoding/binary"
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

	"vornix/core/base/safefile"
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

// workbench is what sections measure with: the program, a demo that was released, a folder for what is made.
type workbench struct {
	dir, exe, demo string
	runs, files    int
}

// section is a part of the page, and of the measuring.
type section struct {
	name, title string
	measure     func(*workbench) (string, error)
}

// named says whether a word means the section: its name, or the first part of it.
func (s section) named(word string) bool {
	return s.name == word || strings.HasPrefix(s.name, word+"-")
}

// sections stand in the order of the page. It is filled by init, since the page is written by what
// they are measured with.
var sections []section

func init() {
	with := func(f func(dir, exe, demo string) (string, error)) func(*workbench) (string, error) {
		return func(w *workbench) (string, error) { return f(w.dir, w.exe, w.demo) }
	}
	sections = []section{
		{"basics", "Start-up, nothing to do, BC1", measureBasics},
		{"formats", "Texture formats", func(w *workbench) (string, error) { return measureFormats(w.dir) }},
		{"maps", "Maps", func(*workbench) (string, error) { return measureMaps() }},
		{"stages", "Long stages", with(measureStages)},
		{"pictures", "Pictures", with(measurePictures)},
		{"packing", "Packing", with(measurePack)},
		{"deltas", "Deltas and patches", with(measureDelta)},
		{"index", "Index and fetch", with(measureIndex)},
		{"deploy", "Deploy", with(measureDeploy)},
		{"workshop", "Workshops", with(measureWorkshop)},
		{"shared", "Shared results", measureShared},
		{"farm", "A farm", measureFarm},
		{"rays", "Shadow rays", func(*workbench) (string, error) { return measureRays(5) }},
		{"growth", "Growth", measureGrowth},
		{"memory-tree", "Memory: packing ten gigabytes", memoryOf(largeTree)},
		{"memory-bundle", "Memory: one bundle of four gigabytes", memoryOf(largeBundle)},
		{"memory-patch", "Memory: a patch of four gigabytes", memoryOf(largePatch)},
		{"memory-light", "Memory: light on a large map", memoryOf(largeLight)},
	}
}

func main() {
	runs := flag.Int("runs", 15, "counted runs of each command of the basics")
	files := flag.Int("files", 10000, "sources in the made project of the basics")
	write := flag.Bool("write", false, "write what was measured into docs/performance.md")
	page := flag.Bool("page", false,
		"write docs/performance.md anew from what was measured before, and measure nothing")
	cpu := flag.String("cpuprofile", "",
		"write a profile of this process to this file: of maps, formats and rays, which run in it; for the others the program has --cpu-profile and --memory-profile")
	edits := flag.String("edited", "", "only make the files that deltas are measured on, in this folder")
	bundles := flag.String("bundles", "", "only make the bundles that deltas are measured on, in this folder")
	flag.Usage = func() {
		fmt.Fprint(flag.CommandLine.Output(),
			"go run ./bench [flags] [SECTION...]\n\nMeasures all sections, or those named: ")
		for i, s := range sections {
			if i > 0 {
				fmt.Fprint(flag.CommandLine.Output(), ", ")
			}
			fmt.Fprint(flag.CommandLine.Output(), s.name)
		}
		fmt.Fprint(flag.CommandLine.Output(), "\n\n")
		flag.PrintDefaults()
	}
	flag.Parse()
	if err := do(*runs, *files, *write, *page, *cpu, *edits, *bundles, flag.Args()); err != nil {
		log.Fatal(err)
	}
}

func do(runs, files int, write, page bool, cpu, edits, bundles string, names []string) error {
	switch {
	case edits != "":
		_, _, err := edited(edits)
		return err
	case bundles != "":
		_, err := changedBundles(bundles, filepath.Join(bundles, "vornix"), filepath.Join(bundles, "demo"))
		return err
	case page:
		all, err := readResults()
		if err != nil {
			return err
		}
		return writePage(all)
	}
	for _, n := range names {
		if !slices.ContainsFunc(sections, func(s section) bool { return s.named(n) }) {
			return fmt.Errorf("there is no section %q", n)
		}
	}
	if cpu != "" {
		f, err := os.Create(cpu)
		if err != nil {
			return err
		}
		defer f.Close()
		if err := pprof.StartCPUProfile(f); err != nil {
			return err
		}
		defer pprof.StopCPUProfile()
	}
	w := &workbench{runs: runs, files: files}
	var err error
	if w.dir, err = os.MkdirTemp("", "vornix-bench-"); err != nil {
		return err
	}
	defer os.RemoveAll(w.dir)
	w.exe, w.demo = filepath.Join(w.dir, "vornix"), filepath.Join(w.dir, "demo")
	build := exec.Command("go", "build", "-o", w.exe, "vornix/cmd/vornix")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("building: %w\n%s", err, out)
	}
	first, err := timeOnce("", w.exe, "demo", w.demo)
	if err != nil {
		return err
	}
	failed := false
	for _, s := range sections {
		if len(names) > 0 && !slices.ContainsFunc(names, s.named) {
			continue
		}
		m := measured{Date: today(), Machine: machine()}
		held = nil
		if s.name == "basics" {
			hold("demo release from nothing", "", "< 60 s",
				fmt.Sprintf("%.1f s, %s", first.wall.Seconds(), mb(first.memory)))
		}
		text, err := s.measure(w)
		if err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		_, body, headed := strings.Cut(strings.TrimLeft(text, "\n"), "\n")
		if headed && strings.HasPrefix(strings.TrimLeft(text, "\n"), "## ") {
			text = body
		}
		m.Text, m.Reached = strings.TrimSpace(text), held
		fmt.Printf("## %s\n\n%s\n\n", s.title, m.Text)
		for _, r := range m.Reached {
			fmt.Printf("%-16s %s %s: %s (to reach %s)\n", r.state(), r.Work, r.Peer, r.Got, r.Reach)
			failed = failed || r.state() == "**falls short**"
		}
		if write {
			if err := keep(s.name, m); err != nil {
				return err
			}
		}
	}
	if failed {
		fmt.Println("\nSome rows fall short.")
	}
	return nil
}

// measureBasics times what everybody waits for: start-up, nothing to do, the demo, and textures beside ImageMagick.
func measureBasics(w *workbench) (string, error) {
	made := filepath.Join(w.dir, "made")
	if err := makeProject(made, w.files); err != nil {
		return "", err
	}
	full, err := timeOnce("", w.exe, "build", "--project", made)
	if err != nil {
		return "", err
	}
	time.Sleep(2500 * time.Millisecond) // until file times are old enough to be believed
	if _, err := timeOnce("", w.exe, "build", "--project", made); err != nil {
		return "", err
	}
	rows := []row{
		{work: "start-up (`--version`)", reach: "<= 4x", ours: []string{w.exe, "--version"},
			peer: []string{"git", "--version"}},
		{work: "demo release again", reach: "< 2 s", ours: []string{w.exe, "demo", w.demo}},
		{work: fmt.Sprintf("nothing changed, %d sources", w.files), reach: "<= 5x", ours: []string{w.exe, "build"},
			dir: made,
			peer: []string{"find", ".", "(", "-path", "./.vornix", "-o", "-path", "./out", ")", "-prune", "-o", "-type",
				"f", "-printf", "%T@ %p\n"}},
	}
	var out strings.Builder
	fmt.Fprintf(&out, "%d counted runs of each command, of the start-up six times as many.\n\n", w.runs)
	fmt.Fprintf(&out,
		"| work | Vornix | peer | peer's time | ratio (median, lowest to highest) | reach | Vornix's memory |\n|---|---|---|---|---|---|---|\n")
	fmt.Fprintf(&out, "| first build of %d sources | %s | | | | | %s |\n", w.files, ms(full.wall), mb(full.memory))
	for _, r := range rows {
		runs := w.runs
		if r.work == rows[0].work {
			runs *= 6 // it is over in no time, in which anything else that happens shows
		}
		line, err := r.measure(runs)
		if err != nil {
			return "", err
		}
		out.WriteString(line)
	}
	line, err := measureBC1(w.dir, w.exe, w.runs)
	if err != nil {
		return "", err
	}
	out.WriteString(line)
	if line, err = measureMany(w.dir, w.exe); err != nil {
		return "", err
	}
	out.WriteString(line)
	return out.String(), nil
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
		hold(r.work, "", r.reach, fmt.Sprintf("%.2f s", median(ours).Seconds()))
		return fmt.Sprintf("| %s | %s | | | | %s | %s |\n", r.work, ms(median(ours)), r.reach, mb(memory)), nil
	}
	slices.Sort(ratios)
	hold(r.work, "`"+r.peer[0]+"`", r.reach,
		fmt.Sprintf("%.2fx (%.2f to %.2f)", ratios[len(ratios)/2], ratios[0], ratios[len(ratios)-1]))
	return fmt.Sprintf("| %s | %s | `%s` | %s | %.2fx (%.2f to %.2f) | %s | %s |\n", r.work, ms(median(ours)),
		r.peer[0], ms(median(peers)),
		ratios[len(ratios)/2], ratios[0], ratios[len(ratios)-1], r.reach, mb(memory)), nil
}

func timeOnce(dir string, command ...string) (figure, error) {
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Dir = dir
	var errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = io.Discard, &errs
	start := time.Now()
	err := cmd.Start()
	if err != nil {
		return figure{}, err
	}
	watch := watchPeak(cmd.Process.Pid)
	err = cmd.Wait()
	f := figure{wall: time.Since(start)}
	peak := watch()
	if err != nil {
		return f, fmt.Errorf("%s: %w\n%s", strings.Join(command, " "), err, errs.String())
	}
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		f.memory = int64(usage.Maxrss)
		f.cpu = time.Duration(usage.Utime.Nano() + usage.Stime.Nano())
		if runtime.GOOS != "darwin" { // which counts in bytes, others in kilobytes
			f.memory *= 1024
		}
		if peak > 0 {
			f.memory = peak
		}
	}
	return f, nil
}

// watchPeak looks, on Linux, again and again how much memory a process has had at most: what the
// system says of it at its end begins with what this process had when it started it, which may be
// more. The function that it gives ends that, and gives the bytes, or 0 where nothing was seen.
func watchPeak(pid int) (end func() int64) {
	stop, seen := make(chan struct{}), make(chan int64)
	go func() {
		var limit int64
		name := fmt.Sprintf("/proc/%d/status", pid)
		for {
			data, _ := os.ReadFile(name) // elsewhere there is none, and none of one that has ended
			if _, rest, found := strings.Cut(string(data), "VmHWM:"); found {
				var kilobytes int64
				if _, err := fmt.Sscan(rest, &kilobytes); err == nil {
					limit = max(limit, kilobytes<<10)
				}
			}
			select {
			case <-stop:
				seen <- limit
				return
			case <-time.After(3 * time.Millisecond):
			}
		}
	}()
	return func() int64 { close(stop); return <-seen }
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
	put("vornix.toml",
		[]byte("[project]\nname = \"made\"\ntitle = \"Made\"\nversion = \"1.0.0\"\nprofile = \"burrow-tramways\"\ndescription = \"made\"\n"))
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
			put("sounds/"+asset+".wav", smallSound(asset))
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

// smallSound is a WAV file of that many samples as its name needs, again and again (RIFF, PCM, 8
// bits, one channel, 8 kHz).
func smallSound(name string) []byte {
	samples := bytes.Repeat([]byte(name+" "), 80)
	if len(samples)%2 == 1 {
		samples = samples[1:]
	}
	b := []byte("RIFF")
	b = binary.LittleEndian.AppendUint32(b, uint32(36+len(samples)))
	b = append(b, "WAVEfmt \x10\x00\x00\x00\x01\x00\x01\x00"...)
	b = binary.LittleEndian.AppendUint32(b, 8000)
	b = binary.LittleEndian.AppendUint32(b, 8000)
	b = append(b, "\x01\x00\x08\x00data"...)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(samples)))
	return append(b, samples...)
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
