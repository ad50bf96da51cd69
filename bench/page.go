//go:build unix

package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"vornix/core/base/safefile"
)

// resultsFile keeps what was measured last of each section; docs/performance.md is made of it, and
// of the remarks that people wrote beside.
const resultsFile = "results.json"

// measured is what a section gave when it ran last.
type measured struct {
	Date    string    `json:"date"`
	Machine string    `json:"machine"`
	Text    string    `json:"text"`
	Reached []reached `json:"reached,omitempty"`
}

// reached is a row of the measures that Vornix is held to.
type reached struct {
	Work  string `json:"work"`
	Peer  string `json:"peer"`
	Reach string `json:"reach"` // such as "<= 0.4x"
	Got   string `json:"got"`   // begins with the number that counts
}

// state is what became of a row.
func (r reached) state() string {
	var sign string
	var want, got float64
	if n, _ := fmt.Sscanf(strings.ReplaceAll(r.Reach, "x", " "), "%s %f", &sign, &want); n != 2 {
		return "?"
	}
	if n, _ := fmt.Sscanf(strings.ReplaceAll(r.Got, "x", " "), "%f", &got); n != 1 {
		return "not measured"
	}
	if strings.HasPrefix(sign, "<") && got <= want || strings.HasPrefix(sign, ">") && got >= want {
		return "reached"
	}
	return "**falls short**"
}

// held collects the rows of the section that is being measured: its functions return the texts of their tables.
var held []reached

func hold(work, peer, reach, got string) {
	if reach != "" {
		held = append(held, reached{work, peer, reach, got})
	}
}

func benchDir() string {
	if _, err := os.Stat("bench"); err == nil {
		return "bench"
	}
	return "."
}

func readResults() (map[string]measured, error) {
	all := map[string]measured{}
	data, err := os.ReadFile(filepath.Join(benchDir(), resultsFile))
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err != nil {
		return nil, err
	}
	return all, json.Unmarshal(data, &all)
}

// machine says what is measured on, and how busy it is with other things.
func machine() string {
	// elsewhere it stays unsaid
	cpu, _ := exec.Command("sh", "-c", "sed -n 's/^model name[^:]*: //p' /proc/cpuinfo | head -1").Output()
	load, _ := os.ReadFile("/proc/loadavg")
	first, _, _ := strings.Cut(string(load), " ")
	return fmt.Sprintf("%d processors (%s), %s, load before it %s", runtime.NumCPU(), strings.TrimSpace(string(cpu)),
		runtime.Version(), first)
}

// keep writes what a section gave into the results, and the page anew.
func keep(name string, m measured) error {
	all, err := readResults()
	if err != nil {
		return err
	}
	all[name] = m
	data, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	d, err := safefile.OpenDir(benchDir())
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.WriteFile(resultsFile, append(data, '\n')); err != nil {
		return err
	}
	return writePage(all)
}

func today() string { return time.Now().Format(time.DateOnly) }

// writePage makes docs/performance.md.
func writePage(all map[string]measured) error {
	var b strings.Builder
	b.WriteString("# Performance\n\nWritten by `go run ./bench -write`, section by section, each with the day and the machine it was measured on. Times are wall times of whole processes, ratios are of\n" +
		"neighbouring runs of Vornix and its peer in turn (median, lowest to highest), memory is the peak of the resident set. What is fed to each row stands in [bench/README.md](../bench/README.md).\n\n## What Vornix is held to\n\n")
	b.WriteString("| work | beside | to reach | measured | |\n|---|---|---|---|---|\n")
	for _, s := range sections {
		for _, r := range all[s.name].Reached {
			fmt.Fprintf(&b, "| %s | %s | %s | %s | %s |\n", r.Work, r.Peer, r.Reach, r.Got, r.state())
		}
	}
	for _, s := range sections {
		m, ok := all[s.name]
		if !ok {
			continue
		}
		fmt.Fprintf(&b, "\n## %s\n\n*`go run ./bench %s`, %s; %s.*\n\n%s\n", s.title, s.name, m.Date, m.Machine,
			strings.TrimSpace(m.Text))
		// most need none
		if remark, err := os.ReadFile(filepath.Join(benchDir(), "remarks", s.name+".md")); err == nil {
			b.WriteString("\n" + strings.TrimSpace(string(remark)) + "\n")
		}
	}
	d, err := safefile.OpenDir(filepath.Join(benchDir(), "..", "docs"))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.WriteFile("performance.md", []byte(b.String()))
}
