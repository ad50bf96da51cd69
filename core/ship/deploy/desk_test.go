package deploy_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/pack/bundle"
	"vornix/core/ship/deploy"
	"vornix/core/ship/transport"
	"vornix/core/source/assetgraph"
	"vornix/internal/demotest"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

var ctx = context.Background()

// desk is a project for the tile game, whose bundles are made up, and a server's folder.
type desk struct {
	t       *testing.T
	p       *project.Project
	g       *assetgraph.Graph
	bundles []bundle.Bundle
	server  string
	access  deploy.Access
	good    map[string]bool // hashes of all bundles that were ever whole
}

func newDesk(t *testing.T, maps ...string) *desk {
	t.Helper()
	p := demotest.Project(t, "lower-sidings")
	d := &desk{t: t, p: p, server: t.TempDir(), good: map[string]bool{},
		access: deploy.Access{Account: "mole", Host: "burrow", Env: os.Getenv, Trust: trust.Everything}}
	require.NoError(t,
		os.WriteFile(filepath.Join(d.server, "levels.txt"), []byte("# what there is\r\nold_shaft\r\n"), 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(d.server, "timetable.txt"), []byte("old_shaft dig\n"), 0o666))
	d.target(project.Target{Kind: "folder", Path: d.server})
	d.p.Profile.Server.Companions = []profile.Companion{{From: "cards/{map}.txt", To: "cards/{map}.txt",
		Optional: true}, {From: "cards/common.txt", To: "cards/common.txt", Optional: true}}
	d.p.Profile.Server.Lists, d.p.Profile.Server.Call.Touch = d.p.Profile.Server.Lists[:2], ""
	g, err := assetgraph.ScanProject(ctx, p)
	require.NoError(t, err)
	d.g = g
	d.pack("1.0.0", maps...)
	return d
}

func (d *desk) target(t project.Target) { d.p.File.Targets["practice"] = t }

// pack makes bundles up, one a map. What a bundle holds depends on the version.
func (d *desk) pack(version string, maps ...string) {
	d.t.Helper()
	d.p.File.Project.Version = version
	d.bundles = nil
	for i, m := range maps {
		r := rand.New(rand.NewPCG(uint64(i), uint64(len(version))+uint64(version[2])))
		data := make([]byte, 3000+i*100)
		for i := range data {
			data[i] = byte(r.Uint32())
		}
		d.write(bundle.Dir+"/"+m+".vnm", string(data))
		d.bundle(m)
	}
}

// bundle takes a file that lies where bundles lie.
func (d *desk) bundle(m string) {
	d.t.Helper()
	sum, size, err := safefile.HashFile(d.p.Join(bundle.Dir, m+".vnm"))
	require.NoError(d.t, err)
	d.good[sum] = true
	d.bundles = append(d.bundles,
		bundle.Bundle{Name: m + ".vnm", SHA256: sum, Size: size, Entries: 1, Maps: []string{m}})
}

func (d *desk) write(rel, data string) {
	d.t.Helper()
	name := d.p.Join(rel)
	require.NoError(d.t, os.MkdirAll(filepath.Dir(name), 0o777))
	require.NoError(d.t, os.WriteFile(name, []byte(data), 0o666))
}

func (d *desk) open() *deploy.Target {
	d.t.Helper()
	t, err := deploy.Open(ctx, d.p, "practice", d.access)
	require.NoError(d.t, err)
	d.t.Cleanup(t.Close)
	return t
}

func (d *desk) goal(t *deploy.Target) *deploy.Goal {
	d.t.Helper()
	g, err := t.NewGoal(ctx, d.p, d.bundles, d.g)
	require.NoError(d.t, err)
	return g
}

func (d *desk) plan() *deploy.Plan {
	d.t.Helper()
	t := d.open()
	p, err := t.Plan(ctx, d.goal(t), deploy.PlanOptions{})
	require.NoError(d.t, err)
	return p
}

func (d *desk) run(change ...func(*deploy.Options)) (*deploy.Result, error) {
	d.t.Helper()
	t := d.open()
	return t.Run(ctx, d.goal(t), nil, options(change...))
}

func options(change ...func(*deploy.Options)) deploy.Options {
	o := deploy.Options{Command: "vornix deploy practice", WithoutServer: true}
	for _, c := range change {
		c(&o)
	}
	return o
}

func (d *desk) must(change ...func(*deploy.Options)) *deploy.Result {
	d.t.Helper()
	r, err := d.run(change...)
	require.NoError(d.t, err)
	return r
}

func (d *desk) back(version string) (*deploy.Result, error) {
	d.t.Helper()
	t := d.open()
	g, err := t.Back(ctx, version, false)
	if err != nil {
		return nil, err
	}
	return t.Run(ctx, g, nil, options())
}

func (d *desk) read(rel string) string {
	d.t.Helper()
	data, err := os.ReadFile(filepath.Join(d.server, filepath.FromSlash(rel)))
	require.NoError(d.t, err)
	return string(data)
}

func (d *desk) put(rel, data string) {
	d.t.Helper()
	name := filepath.Join(d.server, filepath.FromSlash(rel))
	require.NoError(d.t, os.MkdirAll(filepath.Dir(name), 0o777))
	require.NoError(d.t, os.WriteFile(name, []byte(data), 0o666))
}

// snapshot is every file of the server but Vornix's own, with its content.
func (d *desk) snapshot() map[string]string { return snapshot(d.t, d.server) }

func snapshot(t *testing.T, dir string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(dir, p)
		if e.IsDir() {
			if e.Name() == ".vornix-target" || e.Name() == ".git" {
				return filepath.SkipDir
			}
			return nil
		}
		data, err := os.ReadFile(p)
		files[filepath.ToSlash(rel)] = string(data)
		return err
	}))
	return files
}

// sound checks what must hold at every moment: each map that the list names is there and whole, and
// the rotation names none that the list does not.
func (d *desk) sound(when string) {
	d.t.Helper()
	listed := map[string]bool{"old_shaft": true}
	for line := range strings.FieldsFuncSeq(d.read("levels.txt"), func(r rune) bool { return r == '\n' || r == '\r' }) {
		if strings.HasPrefix(line, "#") || line == "old_shaft" {
			continue
		}
		listed[line] = true
		sum, _, err := safefile.HashFile(filepath.Join(d.server, "levels", line+".vnm"))
		require.NoError(d.t, err, "%s: %s is listed and not there", when, line)
		require.True(d.t, d.good[sum], "%s: %s is listed and not whole", when, line)
	}
	for line := range strings.Lines(d.read("timetable.txt")) {
		if words := strings.Fields(line); len(words) > 0 {
			require.True(d.t, listed[words[0]], "%s: %s is in the rotation and in no list", when, words[0])
		}
	}
}

// died makes the lock that a run left one of a process that is no more.
func (d *desk) died() {
	d.t.Helper()
	name := filepath.Join(d.server, ".vornix-target", "lock.json")
	data, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		return
	}
	require.NoError(d.t, err)
	require.NoError(d.t,
		os.WriteFile(name, bytes.Replace(data, fmt.Appendf(nil, `"pid":%d`, os.Getpid()), []byte(`"pid":999999999`), 1),
			0o666))
}

func actions(p *deploy.Plan) map[string]deploy.Operation {
	m := map[string]deploy.Operation{}
	for _, s := range p.Steps {
		m[s.Path] = s.Action
	}
	return m
}

// cutter is a site whose connection is lost at one of its operations. It counts them.
type cutter struct {
	transport.Site
	mu      sync.Mutex
	count   int
	at      int  // the operation at which it is lost; 0 for never
	once    bool // only that one fails
	half    bool // that one is done all the same, or, of an upload, half done
	changes bool // count only what changes something
	began   bool // the connection is being lost
}

var errCut = fmt.Errorf("%w: cut by the test", transport.ErrLost)

func (c *cutter) op(change bool, f func() error) error {
	c.mu.Lock()
	if change || !c.changes {
		c.count++
	}
	cut := c.at > 0 && (c.count == c.at && (change || !c.changes) || c.count > c.at && !c.once)
	now := cut && c.count == c.at
	if now {
		c.began = true
	}
	c.mu.Unlock()
	if cut {
		if now && c.half {
			_ = f()
		}
		return errCut
	}
	return f()
}

func (c *cutter) List(ctx context.Context, folders []string) (l []transport.Info, err error) {
	err = c.op(false, func() (err error) { l, err = c.Site.List(ctx, folders); return err })
	return l, err
}
func (c *cutter) Stat(ctx context.Context, rel string) (i transport.Info, err error) {
	err = c.op(false, func() (err error) { i, err = c.Site.Stat(ctx, rel); return err })
	return i, err
}
func (c *cutter) Read(ctx context.Context, rel string, limit int64) (b []byte, err error) {
	err = c.op(false, func() (err error) { b, err = c.Site.Read(ctx, rel, limit); return err })
	return b, err
}
func (c *cutter) Hash(ctx context.Context, rels []string) (m map[string]string, err error) {
	err = c.op(false, func() (err error) { m, err = c.Site.Hash(ctx, rels); return err })
	return m, err
}
func (c *cutter) Upload(ctx context.Context, u transport.Upload) (s transport.Sent, err error) {
	err = c.op(true, func() (err error) {
		c.mu.Lock()
		cut := c.half && c.began
		c.mu.Unlock()
		if cut {
			data, _ := os.ReadFile(u.Source)
			return c.Site.Write(ctx, u.To, data[:len(data)/2])
		}
		s, err = c.Site.Upload(ctx, u)
		return err
	})
	return s, err
}
func (c *cutter) Write(ctx context.Context, rel string, data []byte) error {
	return c.op(true, func() error { return c.Site.Write(ctx, rel, data) })
}
func (c *cutter) Create(ctx context.Context, rel string, data []byte) error {
	return c.op(true, func() error { return c.Site.Create(ctx, rel, data) })
}
func (c *cutter) Rename(ctx context.Context, from, to string) error {
	return c.op(true, func() error { return c.Site.Rename(ctx, from, to) })
}
func (c *cutter) Copy(ctx context.Context, from, to string) error {
	return c.op(true, func() error { return c.Site.Copy(ctx, from, to) })
}
func (c *cutter) Link(ctx context.Context, from, to string) error {
	return c.op(true, func() error { return c.Site.Link(ctx, from, to) })
}
func (c *cutter) Remove(ctx context.Context, rel string) error {
	return c.op(true, func() error { return c.Site.Remove(ctx, rel) })
}
func (c *cutter) Get(ctx context.Context, rel string, w io.Writer) error {
	return c.op(false, func() error { return c.Site.Get(ctx, rel, w) })
}

// TestCutAtEveryOperation loses the connection at every single operation of a deployment, for good,
// with what was asked for done or not. What is there is sound at once, a second run finishes, and
// what it says names the target.
func TestCutAtEveryOperation(t *testing.T) {
	thorough.Only(t)
	d := newDesk(t, "ore_spiral", "tram_depot", "gravel_bank")
	d.write("cards/ore_spiral.txt", "a card")
	d.must()
	first := d.snapshot()
	fresh := func() { // the server as it was after the first deployment
		require.NoError(t, os.RemoveAll(d.server))
		require.NoError(t, os.CopyFS(d.server, os.DirFS(d.server+"-kept")))
	}
	require.NoError(t, os.CopyFS(d.server+"-kept", os.DirFS(d.server)))
	t.Cleanup(func() { os.RemoveAll(d.server + "-kept") })
	d.write("cards/ore_spiral.txt", "another card")
	d.pack("1.1.0", "ore_spiral", "tram_depot", "silt_works")
	d.must()
	second := d.snapshot()
	assert.NotContains(t, second, "levels/gravel_bank.vnm")
	cuts := 0
	for at := 1; ; at++ {
		fresh()
		var c *cutter
		d.access.Dial = func(s transport.Site) transport.Site {
			c = &cutter{Site: s, at: at,
				half: at%2 == 0}
			return c
		}
		tg := d.open()
		_, err := tg.Run(ctx, d.goal(tg), nil, options())
		d.access.Dial = nil
		d.sound(fmt.Sprintf("cut at operation %d", at))
		if c.count < at {
			require.NoError(t, err)
			break
		}
		cuts++
		if err != nil {
			assert.Contains(t, err.Error(), `"practice"`)
		}
		d.died()
		_, err = d.run()
		require.NoError(t, err, "the run after a cut at operation %d", at)
		require.Equal(t, second, d.snapshot(), "after a cut at operation %d", at)
		d.sound(fmt.Sprintf("after operation %d", at))
		if at%5 == 0 {
			_, err = d.back("")
			require.NoError(t, err)
			require.Equal(t, first, d.snapshot(), "the way back after a cut at operation %d", at)
		}
	}
	assert.Greater(t, cuts, 35)
}

// TestOneOperationFails lets every single operation that changes something fail once, with the
// connection still there: all goes back, and nothing is left on its way.
func TestOneOperationFails(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot", "gravel_bank")
	d.must()
	first := d.snapshot()
	failed := 0
	for at := 1; ; at++ {
		d.pack("1.1.0", "ore_spiral", "tram_depot", "silt_works")
		var c *cutter
		d.access.Dial = func(s transport.Site) transport.Site {
			c = &cutter{Site: s, at: at, once: true, changes: true}
			return c
		}
		tg := d.open()
		_, err := tg.Run(ctx, d.goal(tg), nil, options())
		d.access.Dial = nil
		if c.count < at {
			require.NoError(t, err)
			break
		}
		d.sound(fmt.Sprintf("operation %d failed", at))
		d.died()        // where the lock could not be let go
		if err == nil { // it was one of those for tidiness
			_, err = d.back("1.0.0")
			require.NoError(t, err, "the way back from operation %d", at)
		} else {
			failed++
			require.True(t, errors.Is(err, transport.ErrLost), "%v", err)
		}
		now := d.snapshot()
		if _, half := os.Stat(filepath.Join(d.server, ".vornix-target", d.p.File.Project.Name,
			"journal.json")); half == nil {
			continue // the journal itself could not be let go: the next run does that
		}
		require.Equal(t, first, now, "operation %d failed", at)
	}
	assert.Greater(t, failed, 15)
}

// folding is a server's file system that takes names for one that differ in small and capital
// letters, or in how their letters are composed. A file that is replaced keeps its spelling; one
// that is renamed to another spelling of its own name gets that.
type folding struct {
	transport.Site
	dir string
}

func (f *folding) at(rel string) string {
	entries, _ := os.ReadDir(filepath.Join(f.dir, filepath.FromSlash(path.Dir(rel))))
	for _, e := range entries {
		if safefile.Fold(e.Name()) == safefile.Fold(path.Base(rel)) {
			return path.Join(path.Dir(rel), e.Name())
		}
	}
	return rel
}

func (f *folding) Stat(ctx context.Context, rel string) (transport.Info, error) {
	return f.Site.Stat(ctx, f.at(rel))
}
func (f *folding) Read(ctx context.Context, rel string, limit int64) ([]byte, error) {
	return f.Site.Read(ctx, f.at(rel), limit)
}
func (f *folding) Get(ctx context.Context, rel string, w io.Writer) error {
	return f.Site.Get(ctx, f.at(rel), w)
}
func (f *folding) Hash(ctx context.Context, rels []string) (map[string]string, error) {
	sums := map[string]string{}
	for _, rel := range rels {
		one, err := f.Site.Hash(ctx, []string{f.at(rel)})
		if err != nil {
			return nil, err
		}
		for _, sum := range one {
			sums[rel] = sum
		}
	}
	return sums, nil
}
func (f *folding) Upload(ctx context.Context, u transport.Upload) (transport.Sent, error) {
	u.To = f.at(u.To)
	return f.Site.Upload(ctx, u)
}
func (f *folding) Write(ctx context.Context, rel string, data []byte) error {
	return f.Site.Write(ctx, f.at(rel), data)
}
func (f *folding) Create(ctx context.Context, rel string, data []byte) error {
	return f.Site.Create(ctx, f.at(rel), data)
}
func (f *folding) Rename(ctx context.Context, from, to string) error {
	if safefile.Fold(from) != safefile.Fold(to) {
		to = f.at(to)
	}
	return f.Site.Rename(ctx, f.at(from), to)
}
func (f *folding) Copy(ctx context.Context, from, to string) error {
	return f.Site.Copy(ctx, f.at(from), f.at(to))
}
func (f *folding) Link(ctx context.Context, from, to string) error {
	return f.Site.Link(ctx, f.at(from), f.at(to))
}
func (f *folding) Remove(ctx context.Context, rel string) error {
	return f.Site.Remove(ctx, f.at(rel))
}

// A bundle whose name changes in nothing but its capitals, or in how its letters are composed, is
// one file on such a server: it is deployed, gone back from, and undone half way, and never refused
// or lost.
func TestNamesThatAreOneThere(t *testing.T) {
	t.Run("imitated", func(t *testing.T) {
		namesThatAreOne(t, func(*desk) func(transport.Site) transport.Site { return nil })
	})
	for _, keeps := range []bool{false, true} {
		t.Run(fmt.Sprintf("folder %t", keeps), func(t *testing.T) {
			namesThatAreOne(t, func(d *desk) func(s transport.Site) transport.Site {
				d.server = peer.Folding(t, keeps)
				d.target(project.Target{Kind: "folder", Path: d.server})
				return func(s transport.Site) transport.Site { return s }
			})
		})
	}
	t.Run("sftp", func(t *testing.T) {
		namesThatAreOne(t, func(d *desk) func(s transport.Site) transport.Site {
			d.server = peer.Folding(t, true)
			s := peer.StartSSHD(t, "")
			d.remote(s, s.Address)
			return func(s transport.Site) transport.Site { return s }
		})
	})
}

// namesThatAreOne tries it on a server; where there is none, on an imitated one.
func namesThatAreOne(t *testing.T, server func(d *desk) func(transport.Site) transport.Site) {
	for what, names := range map[string][2]string{"capitals": {"Ore_Spiral", "ore_spiral"},
		"composed": {"erzspi\u0061\u0308le", "erzspi\u00e4le"}} {
		d := newDesk(t)
		wrap := server(d)
		if wrap == nil {
			wrap = func(s transport.Site) transport.Site { return &folding{s, d.server} }
		}
		d.access.Dial = wrap
		d.pack("1.0.0", names[0], "tram_depot")
		d.must()
		first := d.snapshot()
		assert.Contains(t, first, "levels/"+names[0]+".vnm", what)
		d.pack("1.1.0", names[1], "tram_depot")
		assert.Empty(t, d.plan().Drift(), what)
		d.must()
		second := d.snapshot()
		assert.Contains(t, second, "levels/"+names[1]+".vnm", what)
		assert.NotContains(t, second, "levels/"+names[0]+".vnm", what)
		assert.Zero(t, d.must().Changed, what)
		assert.Empty(t, deploy.Look(ctx, d.p, "practice", d.access, true).Drift, what)
		_, err := d.back("")
		require.NoError(t, err, what)
		assert.Equal(t, first, d.snapshot(), what)
		// Half way, and undone.
		for at := 1; at <= 4; at++ {
			d.access.Dial = func(s transport.Site) transport.Site {
				return &cutter{Site: wrap(s), at: 1 << 30, changes: true}
			}
			d.halfway(at)
			d.access.Dial = wrap
			_, err = d.back("")
			require.NoError(t, err, what)
			assert.Equal(t, first, d.snapshot(), "%s, %d", what, at)
		}
		// Between the two renamings of one file.
		d.pack("0.9.0", names[0])
		d.must()
		alone := d.snapshot()
		for operation := 1; operation <= 3; operation++ {
			d.pack("1.1.0", names[1])
			d.access.Dial = func(s transport.Site) transport.Site {
				return &cutter{Site: wrap(s), at: 1 << 30, changes: true}
			}
			d.cutIn(1, operation)
			d.access.Dial = wrap
			_, err = d.back("")
			require.NoError(t, err, what)
			assert.Equal(t, alone, d.snapshot(), "%s, operation %d", what, operation)
		}
		// The same content, with nothing new but the name.
		d.pack("1.2.0", "tram_depot")
		d.must()
		d.pack("1.3.0", names[0], "tram_depot")
		d.must()
		d.pack("1.3.0", names[1], "tram_depot")
		d.p.File.Project.Version = "1.4.0"
		d.must()
		assert.Contains(t, d.snapshot(), "levels/"+names[1]+".vnm", what)
		assert.NotContains(t, d.snapshot(), "levels/"+names[0]+".vnm", what)
	}
}
