package gitcmd

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"vornix/core/base/fault"
)

// Repository is a repository on this machine.
type Repository struct {
	Work   string // the working tree; empty where there is none
	GitDir string // what git knows of this working tree
	Common string // what all working trees share; mostly the same as GitDir

	// Risks are what in the repository, or in another local one that it pushes to, can make git run
	// a program, send something or read from elsewhere.
	Risks []Risk
	// Allowed says that a person allowed these risks.
	Allowed bool

	// another one pushes to it; its own remotes do not matter, since nothing is pushed on from there without a hook
	far bool
}

// Risk is something in a repository that can make git do more than read and write the repository.
type Risk struct {
	File string // a system path
	What string // a key and its value, or a hook and the SHA-256 of it
	Hook bool   // it only counts for commands with hooks
}

// ErrNone says that a folder is in no working tree.
var ErrNone = errors.New("no Git working tree")

// Find finds the working tree that a folder is in, the way git does, and reads what it could make
// git do. It runs nothing in it.
func Find(ctx context.Context, dir string) (*Repository, error) {
	at, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	for {
		dotGit := filepath.Join(at, ".git")
		info, err := os.Stat(dotGit)
		switch {
		case err == nil && info.IsDir() && isGitDir(dotGit):
			return open(ctx, at, dotGit)
		case err == nil && info.Mode().IsRegular():
			target, err := pointer(dotGit, "gitdir: ")
			if err != nil {
				return nil, err
			}
			return open(ctx, at, target)
		case isGitDir(at):
			return nil, fmt.Errorf("%w: %s is laid out as a repository itself, not as a working tree", ErrNone, at)
		}
		up := filepath.Dir(at)
		if up == at {
			return nil, ErrNone
		}
		at = up
	}
}

// Local opens the repository that a URL or path names, when it is on this machine; nil when it is
// elsewhere. base is what a relative path starts from.
func Local(ctx context.Context, address, base string) (*Repository, error) {
	path, ok := localPath(address, base)
	if !ok {
		return nil, nil
	}
	dir := gitDirOf(path)
	if dir == "" {
		return nil, nil
	}
	return open(ctx, "", dir)
}

// gitDirOf is the repository that git means by a path: a working tree's, the path itself, or one
// with .git behind its name. It is empty when there is none.
func gitDirOf(path string) string {
	for _, try := range []string{filepath.Join(path, ".git"), path, path + ".git"} {
		if isGitDir(try) {
			return try
		}
		if info, err := os.Stat(try); err == nil && info.Mode().IsRegular() {
			if target, err := pointer(try, "gitdir: "); err == nil {
				return target
			}
		}
	}
	return ""
}

// localPath says whether an address names a folder here. As for git, host:path is elsewhere, unless
// a slash comes before the colon.
func localPath(address, base string) (string, bool) {
	if u, err := url.Parse(address); err == nil && u.Scheme == "file" {
		path := u.Path
		if runtime.GOOS == "windows" {
			path = strings.TrimPrefix(path, "/")
		}
		return filepath.FromSlash(path), true
	}
	if strings.Contains(address, "://") {
		return "", false
	}
	if i := strings.IndexByte(address, ':'); i >= 0 && !strings.ContainsAny(address[:i], `/\`) &&
		!filepath.IsAbs(address) {
		return "", false
	}
	if !filepath.IsAbs(address) {
		address = filepath.Join(base, filepath.FromSlash(address))
	}
	return address, true
}

// isGitDir says whether a folder has the layout of a repository, as git judges it.
func isGitDir(dir string) bool {
	if _, err := os.Lstat(filepath.Join(dir, "HEAD")); err != nil {
		return false
	}
	if _, err := os.Stat(filepath.Join(dir, "commondir")); err == nil {
		return true
	}
	for _, name := range []string{"objects", "refs"} {
		if info, err := os.Stat(filepath.Join(dir, name)); err != nil || !info.IsDir() {
			return false
		}
	}
	return true
}

// longestPointer is how long a file that points at a folder may be, in bytes.
const longestPointer = 64 << 10

// pointer reads a file that holds the path of a folder, relative to its own.
func pointer(file, prefix string) (string, error) {
	info, err := os.Stat(file)
	if err != nil {
		return "", err
	}
	if info.Size() > longestPointer {
		return "", fmt.Errorf("%s is too long for a path", file)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	path, ok := strings.CutPrefix(strings.TrimRight(string(data), "\r\n"), prefix)
	if !ok {
		return "", fmt.Errorf("%s does not begin with %q", file, prefix)
	}
	path = filepath.FromSlash(path)
	if !filepath.IsAbs(path) {
		path = filepath.Join(filepath.Dir(file), path)
	}
	return path, nil
}

// open reads what a repository could make git do.
func open(ctx context.Context, work, gitDir string) (*Repository, error) {
	r := &Repository{Work: work, GitDir: gitDir}
	return r, r.read(ctx)
}

func (r *Repository) read(ctx context.Context) error {
	r.Common = r.GitDir
	if common, err := pointer(filepath.Join(r.GitDir, "commondir"), ""); err == nil {
		r.Common = common
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	files := []string{filepath.Join(r.Common, "config"), filepath.Join(r.GitDir, "config.worktree")}
	if r.Common != r.GitDir {
		files = append(files, filepath.Join(r.GitDir, "config"))
	}
	for _, file := range files {
		if err := r.configured(ctx, file); err != nil {
			return err
		}
	}
	return r.hooks()
}

// configured adds the risks of a configuration file. git reads the file, as a file and outside of
// any repository: so both understand the same by it.
func (r *Repository) configured(ctx context.Context, file string) error {
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	const largest = 1 << 20
	if err == nil && (!info.Mode().IsRegular() || info.Size() > largest) {
		err = errors.New("it is not a file of at most 1 MiB")
	}
	if err != nil {
		return fmt.Errorf("reading the repository's configuration: %w", err)
	}
	abs, err := filepath.Abs(file)
	if err != nil {
		return err
	}
	out, err := run(ctx, filepath.VolumeName(abs)+string(filepath.Separator), "",
		[]string{"config", "--file", abs, "--no-includes", "--null", "--list"}, "--git-dir", os.DevNull)
	if err != nil {
		return fmt.Errorf("reading the repository's configuration %s: %w", file, err)
	}
	for entry := range strings.SplitSeq(out, "\x00") {
		if entry == "" {
			continue
		}
		key, value, _ := strings.Cut(entry, "\n")
		if harmless(key) {
			continue
		}
		if remoteURL(key) {
			if r.far {
				continue
			}
			if err := r.pushes(ctx, file, key, value); err != nil {
				return err
			}
			continue
		}
		r.Risks = append(r.Risks, Risk{File: file, What: key + " = " + value})
	}
	return nil
}

// pushes looks at where a remote is. Another repository on this machine runs its hooks and follows
// its configuration when something is pushed to it.
func (r *Repository) pushes(ctx context.Context, file, key, address string) error {
	if strings.Contains(address, "::") || strings.HasPrefix(address, "-") {
		r.Risks = append(r.Risks, Risk{File: file, What: key + " = " + address})
		return nil
	}
	base := r.Work
	if base == "" {
		base = r.GitDir
	}
	path, ok := localPath(address, base)
	if !ok {
		return nil
	}
	dir := gitDirOf(path)
	if dir == "" || dir == r.GitDir {
		return nil
	}
	far := &Repository{GitDir: dir, far: true}
	if err := far.read(ctx); err != nil {
		return err
	}
	r.Risks = append(r.Risks, far.Risks...)
	return nil
}

// maxHooks is how many hooks are looked at.
const maxHooks = 100

// hooks adds the hooks that git would run, and objects that are taken from elsewhere.
func (r *Repository) hooks() error {
	dir := filepath.Join(r.Common, "hooks")
	list, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("reading the repository's hooks: %w", err)
	}
	count := 0
	for _, e := range list {
		file := filepath.Join(dir, e.Name())
		info, err := os.Stat(file)
		if strings.HasSuffix(e.Name(), ".sample") || err != nil || info.IsDir() || runtime.GOOS != "windows" &&
			info.Mode().Perm()&0o111 == 0 {
			continue
		}
		if count++; count > maxHooks || info.Size() > 16<<20 {
			return fmt.Errorf("reading the repository's hooks: %s has too many of them, or too large ones", dir)
		}
		data, err := os.ReadFile(file)
		if err != nil {
			return fmt.Errorf("reading the repository's hooks: %w", err)
		}
		sum := sha256.Sum256(data)
		r.Risks = append(r.Risks,
			Risk{File: file, What: "hook " + e.Name() + " SHA-256 " + hex.EncodeToString(sum[:]), Hook: true})
	}
	for _, name := range []string{"alternates", "http-alternates"} {
		file := filepath.Join(r.Common, "objects", "info", name)
		if data, err := os.ReadFile(file); err == nil {
			r.Risks = append(r.Risks,
				Risk{File: file, What: "objects from " + strings.Join(strings.Fields(string(data)), ", ")})
		}
	}
	return nil
}

// Within are the risks from files below a folder.
func (r *Repository) Within(dir string) (list []Risk) {
	for _, x := range r.Risks {
		if strings.HasPrefix(x.File, dir+string(filepath.Separator)) {
			list = append(list, x)
		}
	}
	return list
}

// Lines are the risks as what a person is asked to allow.
func (r *Repository) Lines() (list []string) {
	for _, x := range r.Risks {
		list = append(list, filepath.ToSlash(x.File)+": "+x.What)
	}
	return list
}

// Refused says why git is not run, or not with hooks.
func (r *Repository) Refused(hooks bool) error {
	if r.Allowed {
		return nil
	}
	i := slices.IndexFunc(r.Risks, func(x Risk) bool { return hooks || !x.Hook })
	if i < 0 {
		return nil
	}
	more := ""
	if n := len(r.Risks) - 1; n > 0 {
		more = fmt.Sprintf(", and %d more", n)
	}
	return &fault.Fault{Kind: fault.Refused,
		What:  "this Git repository can run programs here: " + printable(r.Risks[i].What) + more,
		Place: fault.Place{File: filepath.ToSlash(r.Risks[i].File)},
		Why:   "git would run them with your rights. Nothing was run.",
		Do:    "Look at them, and allow them once: vornix trust"}
}

// printable is a text of the repository's for a message: in one line, and not endless.
func printable(text string) string {
	text = strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return ' '
		}
		return c
	}, strings.ToValidUTF8(text, "\ufffd"))
	if r := []rune(text); len(r) > 120 {
		text = string(r[:120]) + "..."
	}
	return text
}

// WithoutHooks runs a command of git for which no hook runs: one that only looks.
func (r *Repository) WithoutHooks(ctx context.Context, args ...string) (string, error) {
	return r.In(r.dir()).WithoutHooks(ctx, args...)
}

// WithHooks runs a command of git that changes something. The repository's hooks run.
func (r *Repository) WithHooks(ctx context.Context, args ...string) (string, error) {
	return r.In(r.dir()).WithHooks(ctx, args...)
}

// In is the repository with commands that run in another folder of its working tree.
func (r *Repository) In(dir string) *Folder { return &Folder{r, dir} }

// Folder is a folder of a working tree.
type Folder struct {
	Repository *Repository
	dir        string
}

// WithoutHooks is Repository.WithoutHooks in the folder.
func (f *Folder) WithoutHooks(ctx context.Context, args ...string) (string, error) {
	if err := f.Repository.Refused(false); err != nil {
		return "", err
	}
	return run(ctx, f.dir, "", shallow(args), append(f.Repository.where(), "-c", "core.hooksPath="+os.DevNull)...)
}

// WithHooks is Repository.WithHooks in the folder.
func (f *Folder) WithHooks(ctx context.Context, args ...string) (string, error) {
	if err := f.Repository.Refused(true); err != nil {
		return "", err
	}
	return run(ctx, f.dir, "", shallow(args), f.Repository.where()...)
}

// shallow keeps git out of submodules: to see whether one is dirty, diff and status run git in it,
// with that repository's own filters.
func shallow(args []string) []string {
	if args[0] == "diff" || args[0] == "status" {
		return slices.Insert(slices.Clone(args), 1, "--ignore-submodules=all")
	}
	return args
}

func (r *Repository) dir() string {
	if r.Work != "" {
		return r.Work
	}
	return r.GitDir
}

// where has git work in this repository and look for no other one.
func (r *Repository) where() []string {
	list := []string{"--git-dir", r.GitDir}
	if r.Work != "" {
		list = append(list, "--work-tree", r.Work)
	}
	return list
}
