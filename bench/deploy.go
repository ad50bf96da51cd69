//go:build unix

package main

import (
	"cmp"
	"encoding/json"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vornix/core/config/project"
	"vornix/core/pack/bundle"
	"vornix/demo"
	"vornix/internal/peer"
)

const (
	deployed    = 5_000  // files of a deployment
	deployedBig = 10_000 // files of a plan
	deployedOf  = 20_000 // bytes of each
	deployRuns  = 5      // counted runs of each
	fleetOf     = 8      // servers at once
)

// port is the port of an address.
func port(address string) string { return address[strings.LastIndexByte(address, ':')+1:] }

// deployment is a project whose packed bundles are made up, and a server to bring them to.
type deployment struct {
	dir, exe string
	p        *project.Project
	r        *rand.Rand
	sshd     *peer.SSHD
	meter    *peer.Line
	list     []bundle.Bundle
}

// pack makes bundles up as if they had been packed: those for which changed says so are written anew.
func (d *deployment) pack(count int, changed func(i int) bool) error {
	var err error
	if d.list, err = shelf(d.p, d.r, count, deployedOf, changed); err != nil {
		return err
	}
	return d.packed()
}

// packed writes down what is there as packed, in the form in which pack does.
func (d *deployment) packed() error {
	type kept struct {
		bundle.Bundle
		Key     string
		ModTime int64
	}
	var list []kept
	for _, b := range d.list {
		info, err := os.Stat(d.p.Join(bundle.Dir, b.Name))
		if err != nil {
			return err
		}
		list = append(list, kept{b, "made up", info.ModTime().UnixNano()})
	}
	data, err := json.Marshal(list)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(d.p.State(), "pack.json"), data, 0o666)
}

// targets writes the project file: the server, reached at an address, and folders.
func (d *deployment) targets(at string) error {
	name := filepath.Join(d.p.Dir, "vornix.toml")
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	text, _, _ := strings.Cut(string(data), "\n[target.")
	add := func(target, port, path string) {
		text += fmt.Sprintf("\n[target.%s]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = %s\nuser = %q\nkey = %q\nhost_key = [%q]\npath = %q\n",
			target, port, d.sshd.User, d.sshd.Key, d.sshd.Fingerprint, filepath.Join(d.dir, path))
	}
	add("server", port(at), "server")
	for i := range fleetOf {
		add(fmt.Sprintf("fleet%d", i), port(d.sshd.Address), fmt.Sprintf("fleet%d", i))
		if err := os.MkdirAll(filepath.Join(d.dir, fmt.Sprintf("fleet%d", i)), 0o777); err != nil {
			return err
		}
	}
	text += fmt.Sprintf("\n[target.folder]\nkind = \"folder\"\npath = %q\n", filepath.Join(d.dir, "folder"))
	if err := os.MkdirAll(filepath.Join(d.dir, "folder"), 0o777); err != nil {
		return err
	}
	return os.WriteFile(name, []byte(text), 0o666)
}

// ssh is the command by which rsync reaches the server through a port.
func (d *deployment) ssh(port string) string {
	return fmt.Sprintf("ssh -F none -p %s -i %s -o IdentitiesOnly=yes -o UserKnownHostsFile=%s -o HostKeyAlias=[127.0.0.1]:%d -o BatchMode=yes", port, d.sshd.Key, filepath.Join(d.sshd.Home, ".ssh", "known_hosts"), d.sshd.Port)
}

func (d *deployment) rsync(port string, more ...string) []string {
	return append(append([]string{"rsync", "-a", "--delete", "-e", d.ssh(port)}, more...), d.p.Join(bundle.Dir)+"/",
		d.sshd.User+"@127.0.0.1:"+filepath.Join(d.dir, "peer")+"/levels/")
}

func (d *deployment) deploy(target string, more ...string) []string {
	return append([]string{d.exe, "deploy", target, "--without-server", "--quiet", "--project", d.p.Dir}, more...)
}

// fresh empties folders.
func (d *deployment) fresh(names ...string) error {
	for _, n := range names {
		if err := os.RemoveAll(filepath.Join(d.dir, n)); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Join(d.dir, n, "levels"), 0o777); err != nil {
			return err
		}
	}
	return nil
}

// pair is what both took: medians of runs, which take turns.
type pair struct {
	ours, peer    []time.Duration
	memory        int64
	bytes, bytes2 int64
}

func (p *pair) ratio() (mid, low, high float64) {
	var list []float64
	for i := range p.ours {
		list = append(list, float64(p.ours[i])/float64(p.peer[i]))
	}
	slices.Sort(list)
	return list[len(list)/2], list[0], list[len(list)-1]
}

// turns lets both run in turn, after before has been called; once more through the meter, for the bytes.
func (d *deployment) turns(runs int, before func(run int) error, ours func(port string) []string,
	theirs func(port string) []string) (*pair, error) {
	p := &pair{}
	for i := range runs {
		if err := before(i); err != nil {
			return nil, err
		}
		a, err := timeOnce("", ours(port(d.sshd.Address))...)
		if err != nil {
			return nil, err
		}
		b, err := timeOnce("", theirs(port(d.sshd.Address))...)
		if err != nil {
			return nil, err
		}
		p.ours, p.peer, p.memory = append(p.ours, a.wall), append(p.peer, b.wall), max(p.memory, a.memory)
	}
	if err := before(runs); err != nil {
		return nil, err
	}
	if err := d.targets(d.meter.Address); err != nil {
		return nil, err
	}
	for i, command := range [][]string{ours(port(d.meter.Address)), theirs(port(d.meter.Address))} {
		d.meter.After(1<<60, false)
		if _, err := timeOnce("", command...); err != nil {
			return nil, err
		}
		*[]*int64{&p.bytes, &p.bytes2}[i] = d.meter.Moved()
	}
	return p, d.targets(d.sshd.Address)
}

// measureDeploy times deployments over SFTP beside rsync and scp over the same server.
func measureDeploy(dir, exe, _ string) (string, error) {
	for _, name := range []string{"rsync", "scp", "/usr/sbin/sshd"} {
		if _, err := exec.LookPath(name); err != nil {
			return "\n## Deploy\n\n`" + name + "` is not here.\n", nil
		}
	}
	var b strings.Builder
	b.WriteString("\n## Deploy\n\n| work | Vornix | peer | ratio of times (median, lowest to highest) | bytes both ways | peer's bytes | memory |\n|---|---|---|---|---|---|---|\n")
	d := &deployment{dir: filepath.Join(dir, "deploy"), exe: exe, r: rand.New(rand.NewPCG(5, 6))}
	if _, err := demo.Write(d.dir); err != nil {
		return "", err
	}
	var err error
	if d.p, err = project.Load(filepath.Join(d.dir, "lower-sidings"), demo.Profiles()); err != nil {
		return "", err
	}
	if err := os.MkdirAll(d.p.State(), 0o777); err != nil {
		return "", err
	}
	sshd, stop, err := peer.RunSSHD(filepath.Join(dir, "sshd"), "")
	if err != nil {
		return "", err
	}
	defer stop()
	d.sshd = sshd
	if d.meter, err = peer.NewLine(sshd.Address); err != nil {
		return "", err
	}
	if err := d.targets(d.sshd.Address); err != nil {
		return "", err
	}
	ours := func(string) []string { return d.deploy("server", "--yes") }
	row := func(work, peer string, p *pair) {
		log.Print(work) // it takes minutes
		mid, low, high := p.ratio()
		bytes := fmt.Sprintf("%.2f MB (%.2fx)", float64(p.bytes)/1e6, float64(p.bytes)/float64(p.bytes2))
		ratio := fmt.Sprintf("%.2fx (%.2f to %.2f)", mid, low, high)
		switch {
		case strings.Contains(peer, "scp"): // at least 0.9 of its throughput
			hold("deploy: "+work, peer, "<= 1.11x", ratio)
		case strings.HasPrefix(work, "1% of"):
			hold("deploy: "+work+", time", peer, "<= 1.5x", ratio)
			hold("deploy: "+work+", bytes", peer, "<= 1.1x", fmt.Sprintf("%.2fx", float64(p.bytes)/float64(p.bytes2)))
		}
		fmt.Fprintf(&b, "| %s | %s | %s %s | %.2fx (%.2f to %.2f) | %s | %.2f MB | %s |\n", work, ms(median(p.ours)),
			peer, ms(median(p.peer)), mid, low, high, bytes, float64(p.bytes2)/1e6, mb(p.memory))
	}
	// All of it.
	if err := d.pack(deployed, func(int) bool { return true }); err != nil {
		return "", err
	}
	empty := func(int) error { return d.fresh("server", "peer") }
	scp := func(p string) []string {
		return []string{"scp", "-q", "-r", "-F", "none", "-P", p, "-i", d.sshd.Key, "-o",
			"UserKnownHostsFile=" + filepath.Join(d.sshd.Home, ".ssh", "known_hosts"), "-o",
			fmt.Sprintf("HostKeyAlias=[127.0.0.1]:%d", d.sshd.Port), "-o", "BatchMode=yes",
			d.p.Join(bundle.Dir), d.sshd.User + "@127.0.0.1:" + filepath.Join(d.dir, "peer") + "/levels"}
	}
	p, err := d.turns(3, empty, ours, scp)
	if err != nil {
		return "", err
	}
	row(fmt.Sprintf("%d files of 20 kB, all new", deployed), "`scp -r`", p)
	rsync := func(p string) []string { return d.rsync(p) }
	if p, err = d.turns(3, empty, ours, rsync); err != nil {
		return "", err
	}
	row("the same", "`rsync -a`", p)
	// One of a hundred.
	change := func(run int) error {
		return d.pack(deployed, func(i int) bool { return i%100 == run%100 })
	}
	if p, err = d.turns(deployRuns, change, ours, rsync); err != nil {
		return "", err
	}
	row("1% of them changed", "`rsync -a`", p)
	if p, err = d.turns(deployRuns, func(int) error { return nil }, ours, rsync); err != nil {
		return "", err
	}
	row("nothing changed", "`rsync -a`", p)
	// One place in each of them, as a change of the game's version in every file would be.
	small := func(run int) error {
		for i := run % 100; i < deployed; i += 100 {
			f, err := os.OpenFile(d.p.Join(bundle.Dir, d.list[i].Name), os.O_RDWR, 0)
			if err != nil {
				return err
			}
			_, err = f.WriteAt(noise(d.r, 200), 7000)
			if err = cmp.Or(err, f.Close()); err != nil {
				return err
			}
		}
		return d.pack(deployed, func(int) bool { return false })
	}
	if p, err = d.turns(deployRuns, small, ours, rsync); err != nil {
		return "", err
	}
	row("200 bytes changed in 1% of them", "`rsync -a`", p)
	// A large one.
	if err := d.fresh("server", "peer"); err != nil {
		return "", err
	}
	if err := os.RemoveAll(d.p.Join(bundle.Dir)); err != nil {
		return "", err
	}
	large := noise(d.r, 100<<20)
	big := func(int) error {
		copy(large[d.r.IntN(90<<20):], noise(d.r, 1<<20))
		if err := os.MkdirAll(d.p.Join(bundle.Dir), 0o777); err != nil {
			return err
		}
		if err := os.WriteFile(d.p.Join(bundle.Dir, "map_00000.vnm"), large, 0o666); err != nil {
			return err
		}
		return d.pack(1, func(int) bool { return false })
	}
	if _, err = d.turns(1, big, ours, scp); err != nil {
		return "", err
	}
	if p, err = d.turns(3, func(i int) error { return cmp.Or(big(i), empty(i)) }, ours, scp); err != nil {
		return "", err
	}
	row("one file of 100 MB, new", "`scp`", p)
	if p, err = d.turns(3, big, ours, rsync); err != nil {
		return "", err
	}
	row("1 MB of it changed", "`rsync -a`", p)
	// Plans, and several at once.
	if err := d.pack(deployedBig, func(int) bool { return true }); err != nil {
		return "", err
	}
	for _, name := range []string{"folder", "server"} {
		if err := d.fresh("server"); err != nil {
			return "", err
		}
		if _, err := timeOnce("", d.deploy(name, "--yes")...); err != nil {
			return "", err
		}
		var list []time.Duration
		var memory int64
		for range deployRuns {
			f, err := timeOnce("", d.deploy(name, "--plan")...)
			if err != nil {
				return "", err
			}
			list, memory = append(list, f.wall), max(memory, f.memory)
		}
		verify, err := timeOnce("", d.deploy(name, "--plan", "--verify")...)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&b, "| plan over %d files, %s | %s; by content %s | | | | | %s |\n", deployedBig,
			map[string]string{"folder": "a folder", "server": "SFTP"}[name], ms(median(list)), ms(verify.wall),
			mb(memory))
	}
	if err := os.RemoveAll(d.p.Join(bundle.Dir)); err != nil {
		return "", err
	}
	if err := d.pack(500, func(int) bool { return true }); err != nil {
		return "", err
	}
	var names []string
	for i := range fleetOf {
		names = append(names, fmt.Sprintf("fleet%d", i))
	}
	one, err := timeOnce("", d.deploy(names[0], "--yes")...)
	if err != nil {
		return "", err
	}
	if err := os.RemoveAll(filepath.Join(d.dir, names[0])); err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Join(d.dir, names[0]), 0o777); err != nil {
		return "", err
	}
	all, err := timeOnce("",
		d.deploy(names[0], append(slices.Clone(names[1:]), "--yes", "--at-once", fmt.Sprint(fleetOf))...)...)
	if err != nil {
		return "", err
	}
	fmt.Fprintf(&b, "| %d servers at once, 500 files of 20 kB each | %s; one alone %s | | | | | %s |\n", fleetOf,
		ms(all.wall), ms(one.wall), mb(all.memory))
	return b.String(), nil
}
