//go:build unix

package main

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// away is how long the way to a far server takes, there and back.
const away = 20 * time.Millisecond

// measureShared times a build that shares its results: alone, giving all of them, and taking all of
// them on another machine.
func measureShared(w *workbench) (string, error) {
	const runs = 3
	dir := filepath.Join(w.dir, "shared")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	images := filepath.Join(dir, "images")
	if err := imageProject(images, 2000, 128, ""); err != nil {
		return "", err
	}
	map3D := filepath.Join(dir, "highline")
	if err := sourcesOf(map3D, filepath.Join(w.demo, "highline")); err != nil {
		return "", err
	}
	var b strings.Builder
	fmt.Fprintf(&b, "A build from nothing alone, one that also gives everything to an empty place, and one from nothing that takes everything from there. Medians of %d; ratios are to the build alone. "+
		"The far server is nginx behind a proxy that holds every question back for %d ms. What the places themselves take of the two processors counts.\n\n", runs, away.Milliseconds())
	b.WriteString("| what is built | place | alone | gives | taking all of it | memory |\n|---|---|---|---|---|---|\n")
	for _, x := range []struct{ what, project string }{{"the demo's game in three dimensions, 12 results of 41", map3D},
		{"2,000 images of 128 x 128 with their materials, 4,001 results", images}} {
		config, err := os.ReadFile(filepath.Join(x.project, "vornix.toml"))
		if err != nil {
			return "", err
		}
		build := func(settings string) (figure, error) {
			for _, made := range []string{".vornix", "out"} {
				if err := os.RemoveAll(filepath.Join(x.project, made)); err != nil {
					return figure{}, err
				}
			}
			if err := os.WriteFile(filepath.Join(x.project, "vornix.toml"),
				append(append([]byte{}, config...), settings...), 0o644); err != nil {
				return figure{}, err
			}
			if settings != "" {
				if _, err := timeOnce("", w.exe, "trust", "--yes", "--project", x.project); err != nil {
					return figure{}, err
				}
			}
			return timeOnce("", w.exe, "build", "--quiet", "--project", x.project)
		}
		var alone []time.Duration
		for range runs {
			f, err := build("")
			if err != nil {
				return "", err
			}
			alone = append(alone, f.wall)
		}
		for _, kind := range []string{"a folder", "nginx", "nginx, far away", "NATS JetStream"} {
			var gives, takes []time.Duration
			var memory int64
			missing := ""
			for run := range runs {
				at := filepath.Join(dir, fmt.Sprintf("place%d", run))
				address, stop, err := place(kind, at)
				if err != nil {
					missing = err.Error()
					break
				}
				err = func() error {
					defer stop()
					settings := fmt.Sprintf("\n[shared]\nurl = %q\n", address)
					for _, list := range []*[]time.Duration{&gives, &takes} {
						f, err := build(settings)
						if err != nil {
							return err
						}
						*list, memory = append(*list, f.wall), max(memory, f.memory)
					}
					return nil
				}()
				if err != nil {
					return "", err
				}
				if err := os.RemoveAll(at); err != nil {
					return "", err
				}
			}
			if missing != "" {
				fmt.Fprintf(&b, "| %s | %s: %s | | | | |\n", x.what, kind, missing)
				continue
			}
			one, give, take := median(alone), median(gives), median(takes)
			fmt.Fprintf(&b, "| %s | %s | %s | %s, %.2fx | %s, %.2fx | %s |\n", x.what, kind, ms(one), ms(give),
				give.Seconds()/one.Seconds(), ms(take), take.Seconds()/one.Seconds(), mb(memory))
		}
	}
	return b.String(), nil
}

// sourcesOf copies a project without what was made of it.
func sourcesOf(to, from string) error {
	if err := os.CopyFS(to, os.DirFS(from)); err != nil {
		return err
	}
	for _, made := range []string{".vornix", "out"} {
		if err := os.RemoveAll(filepath.Join(to, made)); err != nil {
			return err
		}
	}
	return nil
}

// place makes an empty place for shared results.
func place(kind, dir string) (address string, stop func(), err error) {
	root := filepath.Join(dir, "kept")
	if err := os.MkdirAll(root, 0o755); err != nil {
		return "", nil, err
	}
	if kind == "a folder" {
		return root, func() {}, nil
	}
	if kind == "NATS JetStream" {
		return natsPlace(dir)
	}
	if _, err := exec.LookPath("nginx"); err != nil {
		return "", nil, err
	}
	address, stop, err = serve(dir, root, "dav_methods PUT; create_full_put_path on; client_max_body_size 1g;")
	if err != nil || kind == "nginx" {
		return address, stop, err
	}
	behind, err := url.Parse(address)
	if err != nil {
		stop()
		return "", nil, err
	}
	proxy, end := httputil.NewSingleHostReverseProxy(behind), stop
	far := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(away)
		proxy.ServeHTTP(w, r)
	}))
	return far.URL, func() { far.Close(); end() }, nil
}

func natsPlace(dir string) (address string, stop func(), err error) {
	server, err := exec.LookPath("nats-server")
	if err != nil {
		return "", nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	at := l.Addr().String()
	l.Close()
	_, port, _ := net.SplitHostPort(at)
	cmd := exec.Command(server, "-a", "127.0.0.1", "-p", port, "-js", "-sd", filepath.Join(dir, "kept"), "-l",
		filepath.Join(dir, "log"))
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	for range 300 {
		if c, err := net.Dial("tcp", at); err == nil {
			c.Close()
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	return "nats://" + at + "/results", func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	}, nil
}
