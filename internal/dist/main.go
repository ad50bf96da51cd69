// Package main is the command dist. It builds what is published of Vornix itself: for each system
// an archive with the program, its pages and its completion files, and a list of their hashes. The
// same commit, version and Go give the same bytes on any machine.
//
//	go run ./internal/dist -version 0.1.0 DIR
//
// .ci/release runs it and signs the list.
package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
)

// systems are those that Vornix is published for.
var systems = []string{"linux/amd64", "linux/arm64", "windows/amd64", "windows/arm64", "darwin/amd64", "darwin/arm64"}

// SumsFile is the list of hashes, in the form that sha256sum -c reads.
const SumsFile = "SHA256SUMS"

func main() {
	version := flag.String("version", "", "`version` that is published, as in 0.1.0")
	only := flag.String("only", strings.Join(systems, ","), "`systems` to build for, such as linux/amd64")
	flag.Parse()
	if *version == "" || flag.NArg() != 1 {
		flag.Usage()
		os.Exit(2)
	}
	if err := publish(*version, flag.Arg(0), strings.Split(*only, ",")); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// file is one of an archive.
type file struct {
	name string
	data []byte
	mode int64
}

func publish(version, dir string, systems []string) error {
	when, err := date()
	if err != nil {
		return err
	}
	temp, err := os.MkdirTemp("", "vornix-dist")
	if err != nil {
		return err
	}
	defer os.RemoveAll(temp)
	here := filepath.Join(temp, "here")
	if err := build(version, runtime.GOOS, runtime.GOARCH, here); err != nil {
		return err
	}
	common, err := pages(here, temp)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	var sums bytes.Buffer
	for _, system := range systems {
		goos, goarch, ok := strings.Cut(system, "/")
		if !ok {
			return fmt.Errorf("%q is not a system; write it as in linux/amd64", system)
		}
		program := filepath.Join(temp, "program")
		if err := build(version, goos, goarch, program); err != nil {
			return err
		}
		data, err := os.ReadFile(program)
		if err != nil {
			return err
		}
		folder := fmt.Sprintf("vornix-%s-%s-%s", version, goos, goarch)
		name, pack := folder+".tar.gz", packTar
		exe := "vornix"
		if goos == "windows" {
			name, pack, exe = folder+".zip", packZIP, "vornix.exe"
		}
		var b bytes.Buffer
		if err := pack(&b, folder, when, append([]file{{exe, data, 0o755}}, common...)); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, name), b.Bytes(), 0o644); err != nil {
			return err
		}
		fmt.Fprintf(&sums, "%x  %s\n", sha256.Sum256(b.Bytes()), name)
		fmt.Printf("%s  %d bytes\n", name, b.Len())
	}
	return os.WriteFile(filepath.Join(dir, SumsFile), sums.Bytes(), 0o644)
}

// date is when the commit was made, or SOURCE_DATE_EPOCH, in seconds since 1970.
func date() (time.Time, error) {
	text := os.Getenv("SOURCE_DATE_EPOCH")
	if text == "" {
		out, err := exec.Command("git", "log", "-1", "--format=%ct").Output()
		if err != nil {
			return time.Time{},
				fmt.Errorf("when the sources were last changed is not known; set SOURCE_DATE_EPOCH: %w", err)
		}
		text = string(out)
	}
	seconds, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
	return time.Unix(seconds, 0).UTC(), err
}

// build builds the program for a system. Nothing of this machine gets into it.
func build(version, goos, goarch, to string) error {
	stamp := "-buildvcs=false"
	if _, err := os.Stat(".git"); err == nil {
		stamp = "-buildvcs=true" // whatever this machine's Go is set to: --version names the commit
	}
	cmd := exec.Command("go", "build", "-trimpath", stamp, "-ldflags",
		"-s -w -buildid= -X vornix/internal/cli.released="+version, "-o", to, "./cmd/vornix")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+goos, "GOARCH="+goarch, "GOFLAGS=", "GOAMD64=v1",
		"GOARM64=v8.0")
	cmd.Stderr = os.Stderr
	return cmd.Run()
}

// pages are the files that are the same for all systems: manual pages, completion files, how to install.
func pages(program, temp string) (list []file, err error) {
	man := filepath.Join(temp, "man")
	if out, err := exec.Command(program, "man", man).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("vornix man: %w\n%s", err, out)
	}
	entries, err := os.ReadDir(man)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		data, err := os.ReadFile(filepath.Join(man, e.Name()))
		if err != nil {
			return nil, err
		}
		list = append(list, file{"man/man1/" + e.Name(), data, 0o644})
	}
	for shell, name := range map[string]string{"bash": "vornix.bash", "zsh": "_vornix", "fish": "vornix.fish",
		"powershell": "vornix.ps1"} {
		data, err := exec.Command(program, "completion", shell).Output()
		if err != nil {
			return nil, fmt.Errorf("vornix completion %s: %w", shell, err)
		}
		list = append(list, file{"completion/" + name, data, 0o644})
	}
	for _, name := range []string{"README.md", "docs/install.md"} {
		data, err := os.ReadFile(filepath.FromSlash(name))
		if err != nil {
			return nil, err
		}
		list = append(list, file{filepath.Base(name), data, 0o644})
	}
	slices.SortFunc(list, func(a, b file) int { return strings.Compare(a.name, b.name) })
	return list, nil
}

func packTar(w io.Writer, folder string, when time.Time, files []file) error {
	z, err := gzip.NewWriterLevel(w, gzip.BestCompression)
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	for _, f := range files {
		if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: folder + "/" + f.name,
			Size: int64(len(f.data)), Mode: f.mode, ModTime: when, Format: tar.FormatUSTAR}); err != nil {
			return err
		}
		if _, err := t.Write(f.data); err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	return z.Close()
}

func packZIP(w io.Writer, folder string, when time.Time, files []file) error {
	z := zip.NewWriter(w)
	for _, f := range files {
		h := &zip.FileHeader{Name: folder + "/" + f.name, Method: zip.Deflate, Modified: when}
		h.SetMode(os.FileMode(f.mode))
		to, err := z.CreateHeader(h)
		if err != nil {
			return err
		}
		if _, err := to.Write(f.data); err != nil {
			return err
		}
	}
	return z.Close()
}
