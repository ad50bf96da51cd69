//go:build unix

package main_test

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"hash/fnv"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	"vornix/internal/thorough"
)

// A scene is a command that writes, in a folder where it can: what harm is done to. All runs begin
// in a copy of that folder.
type scene struct {
	name string
	in   string // the folder to run in, below the scene's own; {dir} in args is the latter
	args []string
	// look is a command that only looks, and puts right what was left half done. With it a command
	// that can't be given twice, such as an undo, is tested: after it all is as before or as after.
	look []string
	// once says that the command does another thing the second time, when it has come to its end.
	once bool
	// counting names a file that counts the runs, and so differs from that of a run that was left alone.
	counting string
	// make makes the scene's folder what it must be.
	make func(t *testing.T, dir string)
	// around starts what the command talks to.
	around func(t *testing.T, dir string)
	slow   bool // left out of short runs
}

// breakages is how many times each scene is broken: once, or in the whole check in each of the
// ways; the long one sets VORNIX_BREAKAGES.
func breakages(t *testing.T) int {
	n, err := strconv.Atoi(cmp.Or(os.Getenv("VORNIX_BREAKAGES"), strconv.Itoa(thorough.Or(1, len(harms)))))
	require.NoError(t, err)
	return n
}

// breakable builds the program that breaks where it is told to.
var breakable = sync.OnceValues(func() (string, error) {
	name := filepath.Join(filepath.Dir(exe), "vornix-breakable")
	build := exec.Command("go", "build", "-tags", "breakage", "-o", name, "vornix/cmd/vornix")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w\n%s", err, out)
	}
	return name, nil
})

var scenes = []scene{
	{name: "build", in: "lower-sidings", args: []string{"build"}, make: demoScene()},
	{name: "build again", in: "lower-sidings", args: []string{"build"}, make: demoScene("build", "!edit")},
	{name: "shoot", in: "lower-sidings", args: []string{"shoot"}, make: demoScene("build")},
	{name: "pack", in: "lower-sidings", args: []string{"pack"}, make: demoScene("build")},
	{name: "pack again", in: "lower-sidings", args: []string{"pack"}, make: demoScene("pack", "!edit")},
	{name: "into map", in: "lower-sidings", args: []string{"pack", "--into-map"}, make: demoScene("build")},
	{name: "installer", in: "lower-sidings", args: []string{"pack", "--installer", "--program", "{exe}"},
		make: demoScene("build"), slow: true},
	{name: "try", in: "lower-sidings", args: []string{"try"}, make: demoScene("pack")},
	{name: "sweep", in: "lower-sidings", args: []string{"sweep", "--yes"}, make: demoScene("build", "!stray")},
	{name: "restore", in: "lower-sidings", args: []string{"restore"},
		make: demoScene("build", "!stray", "sweep --yes")},
	{name: "addon", in: "lower-sidings", args: []string{"addon", "write"}, make: demoScene("pack")},
	{name: "index", counting: "index.json", in: "lower-sidings",
		args: []string{"index", "write", "--to", "{dir}/public"},
		make: demoScene("release --yes --without-server --until patch", "!version",
			"release --yes --without-server --until patch")},
	{name: "deploy", in: "lower-sidings", args: []string{"deploy", "practice", "--yes", "--without-server"},
		make: demoScene("pack")},
	{name: "deploy again", in: "lower-sidings", args: []string{"deploy", "practice", "--yes", "--without-server"},
		make: demoScene("pack", "deploy practice --yes --without-server", "!edit", "!version", "pack")},
	{name: "roll back", in: "lower-sidings",
		args: []string{"deploy", "rollback", "practice", "--yes", "--without-server"}, once: true,
		make: demoScene("pack", "deploy practice --yes --without-server", "!edit", "!version", "pack",
			"deploy practice --yes --without-server")},
	{name: "publish", in: "lower-sidings", args: []string{"publish", "exchange", "--yes"},
		make: demoScene("pack", "shoot"), around: func(t *testing.T, dir string) {
			shop(t, filepath.Join(dir, "lower-sidings"), filepath.Join(dir, "workshops", "burrow"))
		}},
	{name: "release", counting: "index.json", in: "lower-sidings",
		args: []string{"release", "--yes", "--without-server", "--until", "deploy"}, make: demoScene()},
	{name: "next release", counting: "index.json", in: "lower-sidings",
		args: []string{"release", "--yes", "--without-server", "--until", "deploy"},
		make: demoScene("release --yes --without-server --until deploy", "!edit", "!version")},
	{name: "new", args: []string{"new", "mine", "--profile", "kestrel-post"}, make: func(*testing.T, string) {}},
	{name: "new from", args: []string{"new", "mine", "--from", "lower-sidings", "--profile", "burrow-tramways"},
		make: func(t *testing.T, dir string) {
			demoScene()(t, dir)
			for _, name := range []string{"vornix.toml", ".vornix", "published.toml"} {
				require.NoError(t, os.RemoveAll(filepath.Join(dir, "lower-sidings", name)))
			}
		}},
	{name: "fmt", in: "lower-sidings", args: []string{"fmt", "maps/tram_depot.vnx"}, make: demoScene("!untidy")},
	{name: "texture", in: "lower-sidings", args: []string{"texture", "textures/rock/wall.png", "wall.ktx2"},
		make: demoScene()},
	{name: "sprite", in: "lower-sidings", args: []string{"sprite", "sprites/mole.toml", "mole.png"}, make: demoScene()},
	{name: "map", in: "lower-sidings", args: []string{"map", "maps/tram_depot.vnx", "depot.vnm"}, make: demoScene()},
	{name: "extract", in: "lower-sidings",
		args: []string{"extract", "out/bundles/tram_depot.vnm", "--to", "look", "--overwrite"},
		make: demoScene("pack")},
	{name: "delta make", args: []string{"delta", "make", "old/f02.bin", "new/f02.bin", "e.vcdiff"}, make: patchScene},
	{name: "delta apply", args: []string{"delta", "apply", "old/f02.bin", "d.vcdiff", "made.bin"}, make: patchScene},
	{name: "patch make", args: []string{"patch", "make", "old", "new", "q.vnp"}, make: patchScene},
	{name: "patch apply", args: []string{"patch", "apply", "p.vnp", "game"}, look: []string{"patch", "list", "game"},
		make: patchScene},
	{name: "patch undo", args: []string{"patch", "undo", "game"}, look: []string{"patch", "list", "game"},
		make: func(t *testing.T, dir string) {
			patchScene(t, dir)
			ok(t, dir, "patch", "apply", "p.vnp", "game")
		}},
	{name: "overlay", args: []string{"patch", "overlay", "new", "game", "--swap", "--profile", "kestrel-post"},
		look: []string{"patch", "list", "game"}, make: func(t *testing.T, dir string) {
			patchScene(t, dir)
			require.NoError(t, os.RemoveAll(filepath.Join(dir, "new", "moved")))
		}},
	{name: "fetch", args: []string{"fetch", "{url}", "player"}, make: publicScene},
	{name: "fetch again", args: []string{"fetch", "player"}, make: func(t *testing.T, dir string) {
		publicScene(t, dir)
		ok(t, dir, "fetch", serveFolder(t, filepath.Join(dir, "public")), "player")
	}},
	{name: "key", args: []string{"key", "new", "my.key"}, make: func(*testing.T, string) {}},
	{name: "manual", args: []string{"man", "man"}, make: func(*testing.T, string) {}},
	{name: "release of a 3D game", counting: "index.json", in: "highline",
		args: []string{"release", "--yes", "--without-server", "--until", "deploy"}, slow: true,
		make: func(t *testing.T, dir string) {
			copyTree(t, dir, filepath.Dir(project(t, "highline")))
		}},
}

// demoScene is the demo's folder after some commands in the project of tiles, and some changes by hand.
func demoScene(steps ...string) func(*testing.T, string) {
	return func(t *testing.T, dir string) {
		copyTree(t, dir, filepath.Dir(quickly(t, "lower-sidings")))
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "highline")))
		p := filepath.Join(dir, "lower-sidings")
		for _, s := range steps {
			switch s {
			case "!edit":
				sound := []byte(read(t, p, "sounds", "cave", "drip.wav"))
				sound[len(sound)-1] ^= 1
				put(t, filepath.Join(p, "sounds", "cave", "drip.wav"), string(sound))
				edit(t, p, "materials/rock/wall.toml", "\n", "\n\n")
			case "!version":
				edit(t, p, "vornix.toml", `version = "1.0.0"`, `version = "1.1.0"`)
			case "!untidy":
				edit(t, p, "maps/tram_depot.vnx", "\n", "\n\n\n\n")
			case "!stray":
				for _, name := range []string{"maps/tram_depot.vnx~", "textures/rock/wall.png.bak",
					"out/tree/left.over"} {
					put(t, filepath.Join(p, filepath.FromSlash(name)), "left behind: "+name)
				}
			default:
				ok(t, p, strings.Fields(s)...)
			}
		}
	}
}

// copyTree copies a folder with the times of its files, which say whether they were touched.
func copyTree(t *testing.T, to, from string) {
	t.Helper()
	require.NoError(t, os.CopyFS(to, os.DirFS(from)))
	require.NoError(t, filepath.WalkDir(from, func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, p)
		if err != nil {
			return err
		}
		return os.Chtimes(filepath.Join(to, rel), info.ModTime(), info.ModTime())
	}))
}

func patchScene(t *testing.T, dir string) {
	patched(t, dir)
	require.NoError(t, os.CopyFS(filepath.Join(dir, "game"), os.DirFS(filepath.Join(dir, "old"))))
	ok(t, dir, "delta", "make", "old/f02.bin", "new/f02.bin", "d.vcdiff")
}

func publicScene(t *testing.T, dir string) {
	demoScene("release --yes --without-server --until patch", "index write --to ../public")(t, dir)
}

func serveFolder(t *testing.T, dir string) string {
	t.Helper()
	s := httptest.NewServer(http.FileServer(http.Dir(dir)))
	t.Cleanup(s.Close)
	return s.URL
}

// stage is a copy of a scene's folder that the command runs in.
type stage struct {
	scene
	dir, url string
}

func (s scene) copy(t *testing.T, from string) stage {
	t.Helper()
	// Not t.TempDir, which keeps all of them until the end.
	dir, err := os.MkdirTemp(t.TempDir(), "")
	require.NoError(t, err)
	copyTree(t, dir, from)
	st := stage{scene: s, dir: dir}
	if slices.Contains(s.args, "{url}") {
		st.url = serveFolder(t, filepath.Join(dir, "public"))
	}
	if s.around != nil {
		s.around(t, dir)
	}
	return st
}

func (s stage) noTemps(t *testing.T, when string) {
	t.Helper()
	if noTemps(t, s.dir); t.Failed() {
		t.Log(when)
	}
}

func (s stage) command(program string, args []string, breakage string) *exec.Cmd {
	given := make([]string, len(args))
	for i, a := range args {
		given[i] = strings.NewReplacer("{exe}", exe, "{dir}", s.dir, "{url}", s.url).Replace(a)
	}
	cmd := exec.Command(program, given...)
	cmd.Dir = filepath.Join(s.dir, s.in)
	cmd.Env = append(os.Environ(), "VORNIX_BREAKAGE="+breakage)
	if s.name != "publish" { // which needs consent that was given before
		cmd.Env = append(cmd.Env, "VORNIX_TRUST_FILE="+filepath.Join(s.dir, "trust.json"))
	}
	return cmd
}

// files gives the content, as a hash, of all files that a person would miss; what Vornix keeps for
// itself is apart, and may differ.
func (s stage) files(t *testing.T) (theirs, kept map[string]string) {
	t.Helper()
	theirs, kept = map[string]string{}, map[string]string{}
	require.NoError(t, filepath.WalkDir(s.dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || safefile.IsTemp(e.Name()) {
			return err
		}
		data, err := os.ReadFile(p)
		rel, _ := filepath.Rel(s.dir, p)
		rel = filepath.ToSlash(rel)
		to := theirs
		if strings.Contains(rel, ".vornix") || strings.Contains(rel, "vornix-patched/") ||
			strings.Contains(rel, "vornix-fetched/") || strings.HasPrefix(rel, "workshops/") {
			to = kept
		}
		to[rel] = fmt.Sprintf("%x", sha256.Sum256(data))[:16]
		return err
	}))
	return theirs, kept
}

// whole is what a scene comes to when nothing breaks, and what in it is different each time (a time, a random key).
type whole struct {
	before, after map[string]string
	held          map[string]bool // contents that are somewhere at the end, Vornix's own safe places included
	changing      map[string]bool
	places        []string // what each step was about, below the scene's folder
	grows         int64    // by how many bytes, in blocks of 4096
}

func (s scene) whole(t *testing.T, from, program string) whole {
	t.Helper()
	var w whole
	w.changing = map[string]bool{}
	for i := range 2 {
		st := s.copy(t, from)
		w.before, _ = st.files(t)
		log := filepath.Join(t.TempDir(), "steps")
		o := run(t, st.command(program, s.args, "log "+log))
		require.Zero(t, o.exit, "%s\n%s", o.out, o.err)
		assert.NotContains(t, o.err, "LEAK")
		st.noTemps(t, "left alone")
		after, kept := st.files(t)
		w.held = map[string]bool{}
		for _, files := range []map[string]string{after, kept} {
			for _, sum := range files {
				w.held[sum] = true
			}
		}
		for name, sum := range w.after {
			if after[name] != sum || path.Base(name) == s.counting {
				w.changing[name] = true
			}
		}
		if w.after = after; i == 0 {
			time.Sleep(1100 * time.Millisecond) // until times that are written down are others
		}
		data, err := os.ReadFile(log)
		require.NoError(t, err)
		w.places = nil
		for line := range strings.Lines(string(data)) {
			_, place, _ := strings.Cut(strings.TrimSpace(line), "\t")
			if !filepath.IsAbs(place) {
				place = filepath.Join(st.dir, st.in, place)
			}
			place, err = filepath.Rel(st.dir, place)
			require.NoError(t, err)
			w.places = append(w.places, place)
		}
		w.grows = roomOf(t, st.dir) - roomOf(t, from)
	}
	return w
}

// roomOf is how much room a folder's files take.
func roomOf(t *testing.T, dir string) (n int64) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := e.Info()
		if err == nil {
			n += (info.Size() + 4095) &^ 4095
		}
		return err
	}))
	return n
}

// sound wants every file to be as before or as after, and no content that was there to be lost.
func (w whole) sound(t *testing.T, s stage, when string) {
	t.Helper()
	theirs, kept := s.files(t)
	there := map[string]bool{}
	for _, files := range []map[string]string{theirs, kept} {
		for _, sum := range files {
			there[sum] = true
		}
	}
	for name, sum := range theirs {
		if sum != w.before[name] && sum != w.after[name] && !w.changing[name] {
			t.Errorf("%s: %s is neither as before nor as after", when, name)
		}
	}
	for name, sum := range w.before {
		_, is := theirs[name]
		if _, stays := w.after[name]; stays && !is {
			t.Errorf("%s: %s is gone", when, name)
		}
		if w.held[sum] && !there[sum] {
			t.Errorf("%s: what was in %s is gone", when, name)
		}
	}
}

func (w whole) is(s stage, t *testing.T, want map[string]string) (differences []string) {
	t.Helper()
	got, _ := s.files(t)
	for name, sum := range want {
		if got[name] != sum && !(w.changing[name] && got[name] != "") {
			differences = append(differences, "not as it must be: "+name)
		}
	}
	for name := range got {
		if _, is := want[name]; !is {
			differences = append(differences, "one too many: "+name)
		}
	}
	slices.Sort(differences)
	return differences
}

// finish gives the command again, without any harm, and wants what would have come of it in the first place.
func (w whole) finish(t *testing.T, s stage, when string) {
	t.Helper()
	if s.look != nil {
		o := run(t, s.command(exe, s.look, ""))
		require.Zero(t, o.exit, "%s: looking\n%s\n%s", when, o.out, o.err)
		if len(w.is(s, t, w.after)) == 0 {
			s.noTemps(t, when)
			return
		}
		before := w.is(s, t, w.before)
		require.Empty(t, before, "%s: neither as before nor as after", when)
	}
	already := len(w.is(s, t, w.after)) == 0
	if already && s.once {
		ok(t, filepath.Join(s.dir, s.in), "status")
		return
	}
	o := run(t, s.command(exe, s.args, ""))
	if o.exit != 0 && !(already && (o.exit == 2 || o.exit == 3)) {
		t.Errorf("%s: again: exit %d\n%s\n%s", when, o.exit, o.out, o.err)
		return
	}
	assert.Empty(t, w.is(s, t, w.after), "%s: finished by the next run", when)
	s.noTemps(t, when)
}

// Every command that writes is ended, or its disk broken, before one of the changes that it makes,
// at points spread over its whole course: nothing that existed is damaged, what is said is right,
// and the next run restores or finishes, with the bytes of a run that was left alone. And two of it
// run at once.
func TestHarm(t *testing.T) {
	t.Parallel()
	n := breakages(t)
	program, err := breakable()
	require.NoError(t, err)
	for _, dir := range []string{filepath.Dir(exe), filepath.Dir(t.TempDir())} {
		require.NoError(t, os.Chmod(dir, 0o755)) // somebody else runs it too
	}
	t.Cleanup(func() {
		for _, h := range harms {
			if _, seen := broken.Load(h.mode); !seen && n >= len(harms) {
				t.Errorf("no run was stopped by %q", h.mode)
			}
		}
	})
	for i, s := range scenes {
		if n < len(harms) && (s.slow || i%4 != 0) {
			continue
		}
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			require.NoError(t, os.Chmod(filepath.Dir(t.TempDir()), 0o755))
			from := t.TempDir()
			s.make(t, from)
			w := s.whole(t, from, program)
			require.NotZero(t, len(w.places))
			h := fnv.New32()
			h.Write([]byte(s.name))
			for i := range n {
				at := 1 + (i*len(w.places)+int(h.Sum32())%len(w.places))/n%len(w.places)
				w.harmed(t, s.copy(t, from), harms[(i+int(h.Sum32()))%len(harms)], program, at)
				if t.Failed() {
					return
				}
			}
			if n >= len(harms) || h.Sum32()%3 == 0 {
				w.atOnce(t, s.copy(t, from))
			}
		})
	}
}

// harm is a way to break a run, and what the program must say then; empty where it can't say anything any more.
type harm struct{ mode, says string }

var harms = []harm{{"kill", ""}, {"full", "the disk is full"}, {"tear", ""}, {"once", "input/output error"},
	{"interrupt", "interrupted"}, {"denied", "no permission"},
	{"small", "the disk is full"}, {"locked", "no permission"}}

// broken are the harms that stopped at least one run: one that never does shows nothing.
var broken sync.Map

// harmed breaks a run at one of its steps, and looks at what is left of it.
func (w whole) harmed(t *testing.T, s stage, h harm, program string, at int) {
	t.Helper()
	defer os.RemoveAll(s.dir)
	when := fmt.Sprintf("%s %d of %d", h.mode, at, len(w.places))
	cmd := s.command(program, s.args, fmt.Sprintf("%s %d", h.mode, at))
	whole := func() {}
	switch h.mode {
	case "small":
		if whole = s.small(t, w.grows*int64(at)/int64(len(w.places))); whole == nil {
			return
		}
		cmd = s.command(exe, s.args, "")
	case "locked":
		cmd = s.command(exe, s.args, "")
		if whole = s.locked(t, w.places, at, cmd); whole == nil {
			return
		}
	}
	o := run(t, cmd)
	if o.exit != 0 {
		broken.Store(h.mode, true)
	}
	assert.NotContains(t, o.err, "panic", when)
	assert.NotContains(t, o.err, "LEAK", when)
	w.sound(t, s, when)
	if h.says != "" {
		s.noTemps(t, when)
		if o.exit == 0 { // it was something that can be gone without, such as a cache
			assert.Empty(t, w.is(s, t, w.after), "%s: it says that all is well", when)
		} else {
			assert.Contains(t, o.err, h.says, when)
		}
	}
	whole()
	w.finish(t, s, when)
}

// small moves the scene to a file system of its own with so much room left. Nil where none is to be had.
func (s *stage) small(t *testing.T, room int64) (enlarge func()) {
	t.Helper()
	if runtime.GOOS != "linux" || os.Getuid() != 0 || s.around != nil {
		return nil
	}
	dir, err := os.MkdirTemp(t.TempDir(), "")
	require.NoError(t, err)
	if _, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=1g", "none", dir).CombinedOutput(); err != nil {
		return nil
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", dir).Run() })
	copyTree(t, dir, s.dir)
	var now syscall.Statfs_t
	require.NoError(t, syscall.Statfs(dir, &now))
	used := int64(now.Blocks-now.Bfree) * int64(now.Bsize)
	resize := func(bytes int64) {
		require.NoError(t, exec.Command("mount", "-o", fmt.Sprintf("remount,size=%d", bytes), dir).Run())
	}
	resize(used + max(room, 4096))
	s.dir = dir
	return func() { resize(1 << 30) }
}

// locked makes one of the folders that the command writes to one that nobody may write to, and lets
// somebody run it who is not root.
func (s stage) locked(t *testing.T, places []string, at int, cmd *exec.Cmd) (unlock func()) {
	t.Helper()
	var folders []string
	for _, p := range append(slices.Clone(places[at-1:]), places...) {
		folder := filepath.Join(s.dir, filepath.Dir(p))
		if info, err := os.Stat(folder); err == nil && info.IsDir() && folder != filepath.Dir(s.dir) {
			folders = append(folders, folder)
		}
	}
	if len(folders) == 0 {
		return nil
	}
	if os.Getuid() == 0 {
		require.NoError(t,
			filepath.WalkDir(s.dir,
				func(name string, _ os.DirEntry, _ error) error { return os.Chown(name, 65534, 65534) }))
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	require.NoError(t, os.Chmod(folders[0], 0o555))
	return func() { require.NoError(t, os.Chmod(folders[0], 0o755)) }
}

// atOnce runs two of a command at once on one project: each does its work, or is refused and told
// who is at work; what comes of both is what comes of one.
func (w whole) atOnce(t *testing.T, s stage) {
	t.Helper()
	defer os.RemoveAll(s.dir)
	var outcomes [2]outcome
	var both sync.WaitGroup
	for i := range outcomes {
		both.Go(func() { outcomes[i] = run(t, s.command(exe, s.args, "")) })
	}
	both.Wait()
	done := 0
	for _, o := range outcomes {
		if o.exit == 0 {
			done++
		} else if o.exit != 3 && !(o.exit == 2 && s.look == nil) {
			t.Errorf("two at once: exit %d\n%s\n%s", o.exit, o.out, o.err)
		}
	}
	assert.NotZero(t, done, "two at once: %v", outcomes)
	if !s.once {
		w.sound(t, s, "two at once")
		w.finish(t, s, "two at once")
	}
}
