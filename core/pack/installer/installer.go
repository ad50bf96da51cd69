// Package installer makes a program that installs bundles into a game, and is that program's work:
// the program is Vornix itself with an archive at its end, which holds the bundles and a manifest.
//
// Write makes one, Open reads the archive behind a running program, Find looks for the game, and an
// Installation plans, installs with originals kept, and uninstalls.
package installer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/template"
	"vornix/core/config/project"
	"vornix/core/format/zipfile"
)

const (
	// Dir is the folder in a project that installers are written to.
	Dir          = project.OutDir + "/installers"
	format       = 1
	manifestFile = "install.json"
)

// Manifest says what an installer brings, and where to.
type Manifest struct {
	Format  int      `json:"format"`
	Name    string   `json:"name"`
	Title   string   `json:"title"`
	Version string   `json:"version"`
	Authors []string `json:"authors"`
	Game    string   `json:"game"`
	Folders []string `json:"folders"` // in which the game may lie
	Marker  string   `json:"marker"`  // a file that shows that it does
	Files   []File   `json:"files"`
}

// File is a file that is installed.
type File struct {
	Path   string `json:"path"` // slash path in the game's folder
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// System is the system that a Vornix program runs on, such as linux-amd64. An error says that the
// file is no Vornix program.
func System(program string) (string, error) {
	info, err := buildinfo.ReadFile(program)
	if err != nil || info.Main.Path != "vornix" && !strings.HasPrefix(info.Path, "vornix/") {
		return "", &fault.Fault{Kind: fault.Usage, What: "the file is no Vornix program",
			Place: fault.Place{File: filepath.ToSlash(program)},
			Do:    "Name the Vornix program of the system that the installer is for."}
	}
	system, arch := "", ""
	for _, s := range info.Settings {
		switch s.Key {
		case "GOOS":
			system = s.Value
		case "GOARCH":
			arch = s.Value
		}
	}
	return system + "-" + arch, nil
}

// Made is an installer that was written.
type Made struct {
	Path   string `json:"path"` // slash path in the project
	System string `json:"system"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// Write makes an installer for bundles, given by their system paths, out of a Vornix program.
func Write(ctx context.Context, p *project.Project, program string, bundles []string) (*Made, error) {
	system, err := System(program)
	if err != nil {
		return nil, err
	}
	head, in := p.File.Project, p.Profile.Install
	to := in.To
	if to == "" {
		to = p.Profile.Server.Bundles
	}
	m := Manifest{Format: format, Name: head.Name, Title: head.Title, Version: head.Version,
		Authors: append([]string{}, head.Authors...), Game: p.Profile.Game.Title,
		Folders: append([]string{}, in.Folders...), Marker: in.Marker}
	var sources []zipfile.Source
	for _, b := range bundles {
		sum, size, err := safefile.HashFile(b)
		if err != nil {
			return nil, err
		}
		at := path.Join(to, filepath.Base(b))
		m.Files = append(m.Files, File{at, size, sum})
		sources = append(sources,
			zipfile.Source{Name: "files/" + at, Size: size, SHA256: sum, Method: zipfile.Store,
				Open: func() (io.ReadCloser, error) { return os.Open(b) }})
	}
	slices.SortFunc(m.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	data, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return nil, err
	}
	sources = append(sources,
		zipfile.Source{Name: manifestFile, Size: int64(len(data)), Method: zipfile.Store,
			Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }})
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	ending := ""
	if strings.HasPrefix(system, "windows") {
		ending = ".exe"
	}
	made := &Made{Path: path.Join(Dir, fmt.Sprintf("%s-%s-%s%s", head.Name, head.Version, system, ending)),
		System: system}
	f, err := d.Create(made.Path)
	if err != nil {
		return nil, err
	}
	defer f.Abort()
	if err := f.Fill(ctx, program); err != nil {
		return nil, err
	}
	if _, err := zipfile.Pack(ctx, sources, zipfile.Options{},
		func(int) (zipfile.Sink, int64, error) { return f, f.Size(), nil }); err != nil {
		return nil, err
	}
	if err := f.Settle(ctx); err != nil {
		return nil, err
	}
	made.Size, made.SHA256 = f.Size(), f.SHA256()
	f.Executable()
	return made, f.Commit()
}

// Package is what stands at the end of an installer.
type Package struct {
	Manifest
	file    *os.File
	archive *zipfile.Reader
}

// endOfArchive is the size of the last record of an archive without a comment, with which an installer ends.
const endOfArchive = 22

// Open reads what stands behind a program; nil when it is a program alone. That is told by the last bytes.
func Open(program string) (*Package, error) {
	f, err := os.Open(program)
	if err != nil {
		return nil, nil // who can't be read carries nothing that could be installed
	}
	info, err := f.Stat()
	var end [endOfArchive]byte
	if err != nil || info.Size() < endOfArchive {
		f.Close()
		return nil, nil
	}
	if _, err := f.ReadAt(end[:], info.Size()-endOfArchive); err != nil || string(end[:4]) != "PK\x05\x06" {
		f.Close()
		return nil, nil
	}
	p := &Package{file: f}
	if err := p.read(info.Size()); err != nil {
		f.Close()
		return nil, &fault.Fault{What: "the installer is damaged", Err: err, Why: "Nothing was installed.",
			Do: "Download it again."}
	}
	return p, nil
}

func (p *Package) read(size int64) (err error) {
	if p.archive, err = zipfile.Open(p.file, size); err != nil {
		return err
	}
	e := p.archive.Find(manifestFile)
	if e == nil {
		return fmt.Errorf("it has no %s", manifestFile)
	}
	data, err := e.Read()
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, &p.Manifest); err != nil {
		return err
	}
	if p.Format != format {
		return fmt.Errorf("its manifest has format %d; this program reads format %d", p.Format, format)
	}
	for _, w := range append([]string{p.Title, p.Version, p.Game}, p.Authors...) {
		if strings.ContainsFunc(w, template.Breaks) {
			return fmt.Errorf("%q has a character that can't be seen", w) // a terminal would take it for a command
		}
	}
	names := safefile.Names{}
	for i, f := range append([]File{{Path: p.Name}}, p.Files...) {
		if err := safefile.CheckForeign(f.Path); err != nil {
			return err
		}
		if i == 0 { // only a name
			continue
		}
		if why := names.Add(f.Path); why != "" {
			return errors.New(why)
		}
	}
	for _, f := range p.Files {
		if p.archive.Find("files/"+f.Path) == nil {
			return fmt.Errorf("%s is not in it", f.Path)
		}
	}
	return nil
}

// Close releases the program's file.
func (p *Package) Close() error { return p.file.Close() }

// Verify reads every file and holds it to the manifest.
func (p *Package) Verify(ctx context.Context) error {
	for _, f := range p.Files {
		h := sha256.New()
		err := p.archive.Find("files/"+f.Path).Copy(ctx, h)
		if err == nil && hex.EncodeToString(h.Sum(nil)) != f.SHA256 {
			err = errors.New("its hash is another")
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return damaged(f.Path, err)
		}
	}
	return nil
}

func damaged(file string, err error) error {
	return &fault.Fault{What: "the installer is damaged", Place: fault.Place{File: file}, Err: err,
		Why: "Nothing was installed.", Do: "Download it again."}
}

// Find lists the folders in which the game lies: those that exist and have its marker. env looks up
// environment variables.
func (p *Package) Find(home string, env func(string) string) (found []string) {
	for _, f := range p.Folders {
		if rest, ok := strings.CutPrefix(f, "~"); ok {
			if home == "" {
				continue
			}
			f = home + rest
		}
		missing := false
		f = os.Expand(f, func(name string) string {
			v := env(name)
			missing = missing || v == ""
			return v
		})
		if !missing && p.IsGame(f) {
			found = append(found, filepath.FromSlash(f))
		}
	}
	return found
}

// IsGame says whether a folder is that of the game.
func (p *Package) IsGame(dir string) bool {
	info, err := os.Stat(dir)
	if err != nil || !info.IsDir() {
		return false
	}
	if p.Marker == "" {
		return true
	}
	_, err = os.Stat(filepath.Join(dir, filepath.FromSlash(p.Marker)))
	return err == nil
}
