// Package demo holds the made-up demo world: two games' profiles, the projects Highline and Lower
// Sidings with their maps and materials, and the small generator that paints their textures and
// plays their sounds. Everything ships inside the program.
package demo

import (
	"context"
	"embed"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/compile"
	"vornix/core/format/gltf"
	"vornix/core/source/maplang"
)

//go:embed all:projects profiles
var files embed.FS

// Profiles are the game profiles that come with the program, as NAME.toml.
func Profiles() fs.FS {
	sub, err := fs.Sub(files, "profiles")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	return sub
}

// Project is a project of the demo with the server that it goes to.
type Project struct {
	Folder   string // in the demo's folder
	Server   string // the server's folder in the demo's folder
	Workshop string // the workshop's
	Map      string
}

// Projects are the demo's projects, in the order in which they are shown.
var Projects = []Project{
	{Folder: "highline", Server: "servers/kestrel", Workshop: "workshops/kestrel", Map: "cairn_station"},
	{Folder: "lower-sidings", Server: "servers/burrow", Workshop: "workshops/burrow", Map: "tram_depot"},
}

// markFile says that a folder holds the demo.
const markFile = "about-this-demo.txt"

const markText = `This folder was written by 'vornix demo'. Everything in it is made up; change what you like.
highline/       a project for Kestrel Post (3D), lower-sidings/ one for Burrow Tramways (tiles)
servers/        the folders of two game servers' stand-ins, to which the projects are deployed
website/        what players download, with the index that tells them
workshops/      the folders of two workshops' stand-ins, on which they are published
Deleting a file and running 'vornix demo' again brings it back; it keeps files that you changed.
`

// Write writes the demo into dir: what isn't there yet. It returns how many files it wrote. A
// folder that holds something else is refused.
func Write(dir string) (written int, err error) {
	return WriteTelling(context.Background(), dir, func(int, int) {})
}

// WriteTelling is Write that tells how many of the images it has painted, which takes most of the
// time. It tells one after the other.
func WriteTelling(ctx context.Context, dir string, painted func(done, total int)) (written int, err error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, &fault.Fault{What: "could not look into " + dir, Err: err, Do: "Name another folder."}
	}
	if _, err := os.Stat(filepath.Join(dir, markFile)); err != nil && len(entries) > 0 {
		return 0, &fault.Fault{Kind: fault.Refused, What: dir + " holds something that is not the demo",
			Why: "The demo would mix its files with yours.", Do: "Name an empty or a new folder: vornix demo DIR"}
	}
	d, err := safefile.MakeDir(dir)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	put := func(rel string, make func() ([]byte, error)) error {
		if _, err := d.Stat(rel); err == nil {
			return nil
		}
		data, err := make()
		if err != nil {
			return err
		}
		written++
		return d.WriteCache(rel, data) // it can be made again at any time
	}
	literal := func(data []byte) func() ([]byte, error) { return func() ([]byte, error) { return data, nil } }
	if err := put(markFile, literal([]byte(markText))); err != nil {
		return written, err
	}
	err = fs.WalkDir(files, "projects", func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		return put(strings.TrimPrefix(p, "projects/"), func() ([]byte, error) { return files.ReadFile(p) })
	})
	if err != nil {
		return written, err
	}
	type painting struct {
		file    string
		encode  func(context.Context) ([]byte, error)
		encoded []byte
	}
	var paintings []*painting
	for folder, list := range map[string][]picture{"highline": highlinePictures, "lower-sidings": sidingsPictures} {
		for _, p := range list {
			file := path.Join(folder, p.file)
			if _, err := d.Stat(file); err != nil {
				paintings = append(paintings, &painting{file: file, encode: p.encode})
			}
		}
	}
	group, mu, done := errgroup.Group{}, sync.Mutex{}, 0
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, p := range paintings {
		group.Go(func() (err error) {
			if err := ctx.Err(); err != nil {
				return err
			}
			p.encoded, err = p.encode(ctx)
			mu.Lock()
			defer mu.Unlock()
			done++
			painted(done, len(paintings))
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return written, err
	}
	for _, p := range paintings {
		if err := put(p.file, literal(p.encoded)); err != nil {
			return written, err
		}
	}
	if err := put("highline/models/props/mail_crate.glb", crate); err != nil {
		return written, err
	}
	for rel, make := range map[string]func() []byte{
		"highline/sounds/station/hum.wav":    func() []byte { return tone(2, hum) },
		"highline/sounds/wind/gust.wav":      func() []byte { return tone(1, gust) },
		"lower-sidings/sounds/cave/drip.wav": func() []byte { return tone(0.8, drip) },
		"highline/old/highline-0.9.0.parcel": func() []byte {
			return []byte("PK\x05\x06" + strings.Repeat("\x00",
				18))
		},
		"servers/kestrel/stations.txt": func() []byte {
			return []byte("# the stations that this server offers\n")
		},
		"servers/kestrel/rota.txt": func() []byte {
			return []byte("# what is played, in order: station and mode\n")
		},
		"servers/burrow/levels.txt": func() []byte {
			return []byte("# the levels that this server offers\r\n")
		},
		"servers/burrow/server.cfg": func() []byte {
			return []byte("set name \"Burrow practice\"\r\nset offered \"\"  // level names\r\n")
		},
		"servers/downloads/read-me.txt": func() []byte { return []byte("what players download\n") },
		"website/highline/read-me.txt": func() []byte {
			return []byte("what players of the Highline download\n")
		},
		"servers/burrow/timetable.txt": func() []byte {
			return []byte("# what is played, in order: level and shift\r\n")
		},
	} {
		if err := put(rel, func() ([]byte, error) { return make(), nil }); err != nil {
			return written, err
		}
	}
	return written, nil
}

// crate makes the model of the mail crate out of its source, as 'vornix map' does.
func crate() ([]byte, error) {
	const name = "drafts/mail_crate.vnx"
	source, err := files.ReadFile("projects/highline/" + name)
	if err != nil {
		return nil, err
	}
	m, findings := maplang.Read(name, source, maplang.Options{})
	if m == nil {
		return nil, &finding.Failure{What: "the demo's crate is wrong", Findings: findings}
	}
	r, err := compile.Compile(context.Background(), m, compile.Options{MaterialSize: func(string) float64 { return 1 }})
	if err != nil {
		return nil, err
	}
	return gltf.Write(r.Map, nil)
}
