package trust

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/credential"
	"vornix/core/base/fault"
	"vornix/core/base/gitcmd"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/core/config/project"
)

// Kinds of permissions.
const (
	Run    = "run"            // a custom step, on this machine
	Remote = "run on server"  // a target's command, on the server
	Send   = "send secret"    // a secret, to one origin
	Share  = "share results"  // results of builds, taken and sent
	Git    = "Git repository" // programs that a repository makes git run
)

// Permission is one thing that a project wants to do on this machine and that needs a person's
// consent. Two permissions are the same only when all of their fields are.
type Permission struct {
	Kind  string   `json:"kind"`
	Name  string   `json:"name"`  // of the step, the target or the repository
	Lines []string `json:"lines"` // everything that decides what happens, one fact per line

	Place fault.Place `json:"-"` // where the project asks for it
}

func (p *Permission) same(q *Permission) bool {
	return p.Kind == q.Kind && p.Name == q.Name && slices.Equal(p.Lines, q.Lines)
}

// quoted is a text of a project's in which no control character hides; lists are JSON, so that no
// two different ones look the same.
func quoted(v any) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return fmt.Sprintf("%q", v)
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// Steps are the permissions for a project's custom steps: the exact argument vector with its
// filled-in values, the variables that a step sees, and the content of each program of the
// project's that it runs or reads. {version} and {map} stay as they are: a version is three
// numbers, and only plain names of maps are filled in (PlainName).
func Steps(p *project.Project) (list []Permission, err error) {
	head := p.File.Project
	values := map[string]string{"name": head.Name, "title": head.Title, "version": "{version}", "map": "{map}",
		"out": "{out}", "vornix": "{vornix}"}
	var files []string
	for i := range p.File.Steps {
		s := &p.File.Steps[i]
		args := make([]string, len(s.Command))
		for i, a := range s.Command {
			args[i] = profile.Fill(a, values)
		}
		x := Permission{Kind: Run, Name: s.Name, Lines: []string{"runs " + quoted(args)}, Place: p.StepPlace(i)}
		if len(s.Environment) > 0 {
			x.Lines = append(x.Lines, "sees the variables "+quoted(s.Environment))
		}
		if s.Away {
			x.Lines = append(x.Lines, "may also run on workers of a farm that allow it")
		}
		if files == nil {
			if files, err = listed(p); err != nil {
				return nil, err
			}
		}
		programs, err := programsOf(p, s, args, files)
		if err != nil {
			return nil, err
		}
		list = append(list, x)
		list[len(list)-1].Lines = append(x.Lines, programs...)
	}
	return list, nil
}

// listed are the project's files, as paths from its folder.
func listed(p *project.Project) ([]string, error) {
	list := []string{}
	err := filepath.WalkDir(p.Dir, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(p.Dir, name)
		if err != nil {
			return err
		}
		rel = filepath.ToSlash(rel)
		if e.IsDir() {
			if rel == project.OutDir || rel == project.StateDir || rel == ".git" {
				return filepath.SkipDir
			}
			return nil
		}
		list = append(list, rel)
		return nil
	})
	return list, err
}

// programsOf are lines for the project's own programs that a step names in its command, or has among its inputs.
func programsOf(p *project.Project, s *project.CustomStep, args, files []string) (lines []string, err error) {
	words := map[string]bool{}
	for _, a := range args {
		for _, w := range strings.FieldsFunc(a,
			func(r rune) bool { return strings.ContainsRune(" \t\r\n\"'`;&|<>(){}$=,", r) }) {
			words[filepath.ToSlash(filepath.Clean(w))] = true
		}
	}
	inputs := s.Reads(map[string]string{"map": "*"})
	for _, f := range files {
		named := words[f]
		read := slices.ContainsFunc(inputs,
			func(pattern string) bool { ok, _ := doublestar.Match(pattern, f); return ok })
		if !named && !read {
			continue
		}
		sum, err := look(p.Join(f), named)
		if err != nil {
			return nil, &fault.Fault{What: "a program of a step can't be read", Place: fault.Place{File: f}, Err: err,
				Why: "A program that can't be read can't be allowed."}
		}
		if sum != "" {
			lines = append(lines, "program "+quoted(f)+" SHA-256 "+sum)
		}
	}
	return lines, nil
}

// scripts are extensions of files that an interpreter runs.
var scripts = []string{".sh", ".bash", ".zsh", ".py", ".rb", ".pl", ".js", ".mjs", ".cjs", ".ts", ".lua", ".tcl",
	".php", ".awk", ".bat", ".cmd", ".ps1", ".psm1", ".vbs", ".exe", ".com", ".dll", ".so",
	".dylib", ".jar", ".class", ".wasm", ".mk", ".pyc", ".r", ".jl", ".go", ".nu", ".fish"}

// data are extensions of files that no mode makes a program: on disks of other systems every file can be run.
var data = []string{".wav", ".ogg", ".flac", ".mp3", ".png", ".jpg", ".jpeg", ".tga", ".tif", ".tiff", ".webp", ".hdr",
	".dds", ".ktx2", ".gltf", ".glb", ".bin", ".vnx", ".vnm", ".toml", ".json", ".yaml", ".yml", ".xml", ".csv",
	".ini", ".txt", ".md"}

// look hashes a file when a person named it or it is a program: by its first bytes, its mode, or
// its name. Other files are not read, however large.
func look(file string, named bool) (sum string, err error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	if !info.Mode().IsRegular() {
		return "", errors.New("it is not a regular file")
	}
	head := make([]byte, 4)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return "", err
	}
	begin := string(head[:n])
	name := strings.ToLower(filepath.Base(file))
	extension := filepath.Ext(name)
	program := named || strings.HasPrefix(begin, "#!") || begin == "\x7fELF" || strings.HasPrefix(begin, "MZ") ||
		begin == "\xcf\xfa\xed\xfe" || begin == "\xca\xfe\xba\xbe" ||
		runtime.GOOS != "windows" && info.Mode().Perm()&0o111 != 0 && !slices.Contains(data, extension) ||
		slices.Contains(scripts, extension) || name == "makefile" || name == "package.json"
	if !program {
		return "", nil
	}
	h := sha256.New()
	h.Write(head[:n])
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// PlainName says whether a name can be filled into a command without changing what the command does.
func PlainName(name string) bool {
	return name != "" && !strings.HasPrefix(name, "-") && !strings.HasPrefix(name, ".") &&
		!strings.ContainsFunc(name, func(r rune) bool {
			return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '_' && r != '-' &&
				r != '.'
		})
}

// Shared is the permission to share results; ok is false when the project shares none.
func Shared(p *project.Project) (x Permission, ok bool) {
	s := &p.File.Shared
	if s.URL == "" {
		return x, false
	}
	x = Permission{Kind: Share, Name: "shared", Lines: []string{"takes results from " + quoted(s.URL)},
		Place: p.Doc.At("shared", "url")}
	if !s.ReadOnly {
		x.Lines = append(x.Lines, "sends results there")
	}
	for _, from := range []string{credential.Variable(s.TokenEnv), credential.File(s.TokenFile)} {
		if from != "" {
			x.Lines = append(x.Lines, sends(from, s.URL, s.PlainHTTP))
		}
	}
	return x, true
}

// sends is the line for a secret that goes to an address.
func sends(from, address string, plain bool) string {
	text := "sends " + from + " to " + credential.Origin(address)
	if plain {
		text += ", without encryption"
	}
	return text
}

// Secret is the permission to send what a variable or a file holds (credential.Variable,
// credential.File) to the origin of an address.
func Secret(p *project.Project, target, from, address string) Permission {
	return Permission{Kind: Send, Name: target, Lines: []string{sends(from, address, p.File.Targets[target].PlainHTTP)},
		Place: p.Doc.At("target", target)}
}

// Command is the permission to run a target's command on its server.
func Command(p *project.Project, target string) Permission {
	t := p.File.Targets[target]
	return Permission{Kind: Remote, Name: target, Lines: []string{"runs " + quoted(t.Command) + " on " + t.SSH()},
		Place: p.Doc.At("target", target, "command")}
}

// Repository is the permission to let git do what a repository has it do.
func Repository(repo *gitcmd.Repository) Permission {
	lines := repo.Lines()
	slices.Sort(lines)
	return Permission{Kind: Git, Name: filepath.ToSlash(repo.GitDir), Lines: slices.Compact(lines)}
}

// longestAddress is how long a file with an address may be, in bytes.
const longestAddress = 4096

// All are the permissions that a project asks for, as far as this machine alone can tell. Some
// depend on what a target says when it is reached, and are asked for then. home is what ~ stands
// for.
func All(ctx context.Context, p *project.Project, home string) (list []Permission, err error) {
	if list, err = Steps(p); err != nil {
		return nil, err
	}
	if x, ok := Shared(p); ok {
		list = append(list, x)
	}
	add := func(repo *gitcmd.Repository, err error) error {
		if err == nil && repo != nil && len(repo.Risks) > 0 {
			list = append(list, Repository(repo))
		}
		if errors.Is(err, gitcmd.ErrNone) {
			return nil // opening the target reports it
		}
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(p.File.Targets)) {
		t := p.File.Targets[name]
		local := t.Local(p)
		switch {
		case t.PasswordEnv != "" && t.Login() != "":
			list = append(list, Secret(p, name, credential.Variable(t.PasswordEnv), t.Login()))
		case t.Kind == "git" && gitcmd.Installed():
			var repo *gitcmd.Repository
			if t.URL != "" {
				repo, err = gitcmd.Local(ctx, t.URL, p.Dir)
			} else {
				repo, err = gitcmd.Find(ctx, local)
			}
			if err = add(repo, err); err != nil {
				return nil, err
			}
		}
		if t.Kind == "sftp" && t.Command != "" {
			list = append(list, Command(p, name))
		}
		address := t.Server
		if t.Kind == "workshop" {
			address, local = t.URL, p.Dir
		}
		if !strings.Contains(address, "://") && address != "" && local != "" &&
			(t.Kind == "workshop" || safefile.CheckPath(address) == nil) {
			address = written(credential.Path(local, home, address))
		}
		for _, from := range []string{credential.Variable(t.TokenEnv), credential.File(t.TokenFile),
			credential.Variable(t.PlayerTokenEnv), credential.File(t.PlayerTokenFile)} {
			if from != "" && strings.Contains(address, "://") {
				list = append(list, Secret(p, name, from, address))
			}
		}
	}
	if gitcmd.Installed() { // the remote is asked what was released
		repo, err := gitcmd.Find(ctx, p.Dir)
		if err == nil && p.File.Release.Tag == "" && repo.Refused(false) == nil {
			repo = nil // its hooks are never run
		}
		if err = add(repo, err); err != nil {
			return nil, err
		}
	}
	return unique(list), nil
}

func unique(list []Permission) (out []Permission) {
	for i := range list {
		if !slices.ContainsFunc(out, func(x Permission) bool { return x.same(&list[i]) }) {
			out = append(out, list[i])
		}
	}
	return out
}

// written is the address that a file holds; empty when it holds none.
func written(file string) string {
	f, err := os.Open(file)
	if err != nil {
		return ""
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, longestAddress))
	if err != nil {
		return ""
	}
	address := strings.TrimSpace(string(data))
	if _, err := url.Parse(address); err != nil {
		return ""
	}
	return address
}
