//go:build unix

package main

import (
	"bytes"
	"context"
	"crypto"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/signature"
	"vornix/core/config/project"
	"vornix/core/pack/bundle"
	"vornix/core/ship/index"
	"vornix/core/ship/indexwriter"
	"vornix/core/source/assetgraph"
	"vornix/demo"
)

const (
	indexed = 10_000 // entries of the large index
	clients = 200    // that fetch at once
)

// serve runs nginx on a folder, with more in its server block; stop ends it.
func serve(dir, root, more string) (address string, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	address = l.Addr().String()
	l.Close()
	user := ""
	if os.Getuid() == 0 {
		user = "user root;"
	}
	config := fmt.Sprintf("%s\ndaemon off; worker_processes 2; pid %[2]s/nginx.pid; error_log %[2]s/nginx.log;\nevents { worker_connections 4096; }\nhttp { access_log off; sendfile on; default_type application/octet-stream;\n"+
		"client_body_temp_path %[2]s/n1; proxy_temp_path %[2]s/n2; fastcgi_temp_path %[2]s/n3; uwsgi_temp_path %[2]s/n4; scgi_temp_path %[2]s/n5;\nserver { listen %[3]s backlog=1024; root %[4]s; %[5]s } }\n", user, dir, address, root, more)
	name := filepath.Join(dir, "nginx.conf")
	if err := os.WriteFile(name, []byte(config), 0o644); err != nil {
		return "", nil, err
	}
	cmd := exec.Command("nginx", "-p", dir, "-c", name, "-e", filepath.Join(dir, "nginx.log"))
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	for range 300 {
		if c, err := net.Dial("tcp", address); err == nil {
			c.Close()
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	return "http://" + address, func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	}, nil
}

// noise is content that does not shrink.
func noise(r *rand.Rand, n int) []byte {
	data := make([]byte, n)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	return data
}

// shelf writes bundles into the folder that a project packs to, and says what they are.
func shelf(p *project.Project, r *rand.Rand, count, size int, changed func(i int) bool) ([]bundle.Bundle, error) {
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	var list []bundle.Bundle
	for i := range count {
		name := fmt.Sprintf("map_%05d.vnm", i)
		at := filepath.Join(bundle.Dir, name)
		if changed(i) {
			if err := d.WriteCache(filepath.ToSlash(at), noise(r, size)); err != nil {
				return nil, err
			}
		}
		sum, n, err := safefile.HashFile(d.Join(at))
		if err != nil {
			return nil, err
		}
		list = append(list,
			bundle.Bundle{Name: name, SHA256: sum, Size: n, Entries: 1,
				Maps: []string{strings.TrimSuffix(name, ".vnm")}})
	}
	return list, nil
}

// measureIndex times an index of many entries, the player's side of it, and many players at once.
func measureIndex(dir, exe, _ string) (string, error) {
	if _, err := exec.LookPath("nginx"); err != nil {
		return "\n## Index and fetch\n\n`nginx` is not here.\n", nil
	}
	var b strings.Builder
	b.WriteString("\n## Index and fetch\n\n| work | time | bytes | memory | beside |\n|---|---|---|---|---|\n")
	row := func(work, time, bytes, memory, beside string) {
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s |\n", work, time, bytes, memory, beside)
	}
	ctx := context.Background()
	if _, err := demo.Write(filepath.Join(dir, "shelf")); err != nil {
		return "", err
	}
	p, err := project.Load(filepath.Join(dir, "shelf", "lower-sidings"), demo.Profiles())
	if err != nil {
		return "", err
	}
	g, err := assetgraph.ScanProject(ctx, p)
	if err != nil {
		return "", err
	}
	pem, _, err := signature.New()
	if err != nil {
		return "", err
	}
	key, err := signature.ParseKey(pem, fault.Place{})
	if err != nil {
		return "", err
	}
	r := rand.New(rand.NewPCG(1, 2))
	all, err := shelf(p, r, indexed, 4096, func(int) bool { return true })
	if err != nil {
		return "", err
	}
	o := indexwriter.WriteOptions{Keys: []crypto.Signer{key}, Now: time.Now(), Date: "2026-11-26"}
	write := func(work string) error {
		start := time.Now()
		if _, err := indexwriter.Write(ctx, p, all, g, o); err != nil {
			return err
		}
		took := time.Since(start)
		info, err := os.Stat(p.Join(indexwriter.Dir, index.FileName))
		if err != nil {
			return err
		}
		row(work, ms(took), mb(info.Size()), "", "")
		return nil
	}
	if err := write(fmt.Sprintf("write and sign an index of %d bundles", indexed)); err != nil {
		return "", err
	}
	if err := write("again, nothing changed"); err != nil {
		return "", err
	}
	public := filepath.Join(dir, "public")
	collect := func() error {
		_, err := indexwriter.Collect(ctx, p, public)
		return err
	}
	if err := collect(); err != nil {
		return "", err
	}
	sums := func() (figure, error) {
		return timeOnce(public, "sh", "-c", "find . -name '*.vnm' -print0 | xargs -0 sha256sum > /dev/null")
	}
	mine, theirs, ratio,
		err := pairs(5, func() error { return nil },
		func() (figure, error) { return timeOnce("", exe, "index", "check", public, "--quiet") }, sums)
	if err != nil {
		return "", err
	}
	row("verify it in a folder: signature, and every file", ms(mine.wall), mb(indexed*4096), mb(mine.memory),
		fmt.Sprintf("`sha256sum` of the files: %s, %s", ms(theirs.wall), ratio))

	address, stop, err := serve(dir, public, "")
	if err != nil {
		return "", err
	}
	defer stop()
	mine, err = timeOnce("", exe, "index", "check", address, "--quiet")
	if err != nil {
		return "", err
	}
	row("verify it over HTTP from nginx", ms(mine.wall), mb(indexed*4096), mb(mine.memory), "")
	player := filepath.Join(dir, "player")
	full, err := timeOnce("", exe, "fetch", address, player, "--quiet")
	if err != nil {
		return "", err
	}
	row("fetch all of it from nginx", ms(full.wall), mb(indexed*4096), mb(full.memory), "")
	if mine, err = timeOnce("", exe, "fetch", player, "--quiet"); err != nil {
		return "", err
	}
	row("fetch, nothing changed", ms(mine.wall), "0", mb(mine.memory),
		fmt.Sprintf("%.3fx of the full one", mine.wall.Seconds()/full.wall.Seconds()))
	if all, err = shelf(p, r, indexed, 4096, func(i int) bool { return i%100 == 7 }); err != nil {
		return "", err
	}
	if _, err := indexwriter.Write(ctx, p, all, g, o); err != nil {
		return "", err
	}
	if err := collect(); err != nil {
		return "", err
	}
	if mine, err = timeOnce("", exe, "fetch", player, "--quiet"); err != nil {
		return "", err
	}
	row("fetch after a change of 1%", ms(mine.wall), mb(indexed/100*4096), mb(mine.memory),
		fmt.Sprintf("%.3fx of the full one's time, 0.01x of its bytes", mine.wall.Seconds()/full.wall.Seconds()))
	wrong, err := differ(public, player, all)
	if err != nil || wrong > 0 {
		return "", fmt.Errorf("%d files differ: %w", wrong, err)
	}
	line, err := atOnce(dir, exe, p, r, o)
	if err != nil {
		return "", err
	}
	b.WriteString("\n" + line + "\n")
	return b.String(), nil
}

// differ counts files that are not as they were published.
func differ(public, player string, list []bundle.Bundle) (wrong int, err error) {
	for _, x := range list {
		data, err := os.ReadFile(filepath.Join(player, x.Name))
		if err != nil {
			return 0, err
		}
		if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != x.SHA256 {
			wrong++
		}
	}
	return wrong, nil
}

// atOnce lets many players fetch at the same time, each a process of its own, and looks at every byte they got.
func atOnce(dir, exe string, p *project.Project, r *rand.Rand, o indexwriter.WriteOptions) (string, error) {
	const count, size = 20, 100_000
	ctx := context.Background()
	g, err := assetgraph.ScanProject(ctx, p)
	if err != nil {
		return "", err
	}
	list, err := shelf(p, r, count, size, func(int) bool { return true })
	if err != nil {
		return "", err
	}
	if _, err := indexwriter.Write(ctx, p, list, g, o); err != nil {
		return "", err
	}
	public := filepath.Join(dir, "few")
	if _, err := indexwriter.Collect(ctx, p, public); err != nil {
		return "", err
	}
	nginx := filepath.Join(dir, "second")
	if err := os.MkdirAll(nginx, 0o755); err != nil {
		return "", err
	}
	address, stop, err := serve(nginx, public, "")
	if err != nil {
		return "", err
	}
	defer stop()
	var wait sync.WaitGroup
	failed := make(chan error, clients)
	start := time.Now()
	for i := range clients {
		wait.Go(func() {
			out, err := exec.Command(exe, "fetch", address, filepath.Join(dir, "players", fmt.Sprint(i)),
				"--quiet").CombinedOutput()
			if err != nil {
				failed <- fmt.Errorf("player %d: %w: %s", i, err, bytes.TrimSpace(out))
			}
		})
	}
	wait.Wait()
	took := time.Since(start)
	close(failed)
	broken := 0
	var first error
	for err := range failed {
		broken++
		if first == nil {
			first = err
		}
	}
	wrong := 0
	for i := range clients {
		n, err := differ(public, filepath.Join(dir, "players", fmt.Sprint(i)), list)
		if err != nil && broken == 0 {
			return "", err
		}
		wrong += n
	}
	text := fmt.Sprintf("%d players at once, each a process of its own, fetch %d files of %d kB from one nginx: %.1f s, %.0f MB/s together; %d failed, %d of %d files wrong.",
		clients, count, size/1000, took.Seconds(),
		clients*count*size/1e6/took.Seconds(), broken, wrong, clients*count)
	if first != nil {
		text += " The first failure: " + first.Error()
	}
	return text, nil
}
