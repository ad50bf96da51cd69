package deploy_test

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/gitcmd"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/game/gameserver"
	"vornix/core/pack/bundle"
	"vornix/core/ship/deploy"
	"vornix/core/ship/index"
	"vornix/core/ship/indexwriter"
	"vornix/core/ship/transport"
	"vornix/internal/peer"
)

// A target's command does not run before a person allowed it, and neither does the rest of the deployment.
func TestACommandThatNobodyAllowed(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	s := peer.StartSSHD(t, "")
	d.remote(s, s.Address)
	about := d.p.File.Targets["practice"]
	about.Command = "touch ran.txt"
	d.target(about)
	d.access.Trust = func(_ *project.Project, want []trust.Permission) ([]trust.Permission, error) { return want, nil }
	before := d.snapshot()
	_, err := d.run()
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "has not been allowed on this machine")
	assert.Equal(t, before, d.snapshot())
	assert.Error(t, d.open().Allowed(d.plan(), deploy.Options{}), "the plan says so too")
	d.access.Trust = trust.Everything
	d.must()
	assert.FileExists(t, filepath.Join(d.server, "ran.txt"))
}

// What is packed and can't be read stops a mirror's deployment before anything is sent.
func TestAMirrorOfWhatIsGone(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	d.p.Profile.Server.Mirror.Compress = []string{"gzip", "bzip2", "zstd"}
	d.target(project.Target{Kind: "folder", Role: "mirror", Path: d.server})
	require.NoError(t, os.Remove(d.p.Join(bundle.Dir, "tram_depot.vnm")))
	before := d.snapshot()
	x := d.open()
	_, err := x.NewGoal(ctx, d.p, d.bundles, d.g)
	require.Error(t, err)
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.Equal(t, before, d.snapshot())
	_, err = os.ReadDir(filepath.Join(d.p.State(), "mirror"))
	if err == nil {
		for _, form := range []string{".gz", ".bz2", ".zst"} {
			assert.NoFileExists(t, filepath.Join(d.p.State(), "mirror", d.bundles[1].SHA256+form))
		}
	}
}

// Names that are not known are answered with those that are: all of a dozen, and the first ten of more.
func TestNamesThatAreNotKnown(t *testing.T) {
	_, err := deploy.Preview(ctx, newDesk(t, "ore_spiral").p, "nowhere", nil, nil)
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	for n, want := range map[int]string{12: "level_11, level_12", 13: "level_09, level_10 and 3 more"} {
		var names []string
		for i := range n {
			names = append(names, fmt.Sprintf("level_%02d", i+1))
		}
		d := newDesk(t, names...)
		d.must()
		_, err := d.open().Without(ctx, "xyz")
		var f *fault.Fault
		require.ErrorAs(t, err, &f)
		assert.Contains(t, f.Do, want)
	}
}

// A server that does not have several maps is answered with the first reasons and the number of the
// others, and everything goes back.
func TestAServerWithManyReasons(t *testing.T) {
	for n, want := range map[int]string{4: "level_4: the server does not have it",
		6: "level_3: the server does not have it; and 3 more"} {
		var names []string
		for i := range n {
			names = append(names, fmt.Sprintf("level_%d", i+1))
		}
		d := newDesk(t, names...)
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			_ = json.NewEncoder(w).Encode(gameserver.Status{Maps: []gameserver.MapStatus{}})
		}))
		t.Cleanup(server.Close)
		about := d.p.File.Targets["practice"]
		about.Server = server.URL
		d.target(about)
		before := d.snapshot()
		_, err := d.run(func(o *deploy.Options) { o.WithoutServer = false })
		require.Error(t, err)
		assert.ErrorContains(t, err, want)
		after := d.snapshot()
		for name, sum := range before {
			assert.Equal(t, sum, after[name], name)
		}
		assert.NotContains(t, after, "levels/level_1.vnm")
	}
}

// Going back goes on from where the last way back led to, as far as the first deployment, and no further.
func TestBackAndBackAgain(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	for _, v := range []string{"1.1.0", "1.2.0"} {
		d.must()
		d.pack(v, "ore_spiral")
	}
	d.must()
	for _, want := range []string{"1.1.0", "1.0.0", ""} {
		r, err := d.back("")
		require.NoError(t, err, want)
		assert.Equal(t, want, r.Plan.Version)
	}
	_, err := d.back("")
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.NoFileExists(t, filepath.Join(d.server, "levels", "ore_spiral.vnm"))
}

// A folder that players download from gets the files first and the index last, keeps the bundles of
// the last versions, and never an older index.
func TestWhatPlayersDownload(t *testing.T) {
	_, err := newDesk(t, "ore_spiral").open().Index(ctx)
	require.NoError(t, err, "there is none yet")
	d := newDesk(t, "ore_spiral")
	d.target(project.Target{Kind: "folder", Role: "downloads", Path: d.server, Keep: 1})
	_, err = d.open().NewGoal(ctx, d.p, d.bundles, d.g)
	assert.ErrorContains(t, err, "there is no index yet")
	_, err = d.open().Back(ctx, "", false)
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	_, err = d.open().Without(ctx, "ore_spiral")
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	require.NoError(t, os.WriteFile(filepath.Join(d.server, "index.json"), []byte("no index"), 0o666))
	_, err = d.open().Index(ctx)
	assert.ErrorContains(t, err, "can't be read")
}

// wrong is a site that says of some staged contents that they are others.
type wrong struct {
	transport.Site
	of      func(rel string) bool
	uploads atomic.Int32
}

func (w *wrong) Hash(ctx context.Context, rels []string) (map[string]string, error) {
	sums, err := w.Site.Hash(ctx, rels)
	for rel := range sums {
		if strings.Contains(rel, "/staged/") && w.of(path.Base(rel)) {
			sums[rel] = strings.Repeat("0", 64)
		}
	}
	return sums, err
}

func (w *wrong) Upload(ctx context.Context, u transport.Upload) (transport.Sent, error) {
	w.uploads.Add(1)
	return w.Site.Upload(ctx, u)
}

// What does not arrive whole is sent once more, and then the deployment ends, with nothing changed:
// also a list, and a copy of what was kept.
func TestWhatDoesNotArriveWhole(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.must()
	first := d.bundles[0].SHA256
	d.pack("1.1.0", "ore_spiral", "silt_works")
	before := d.snapshot()
	packed := func(sum string) bool {
		return slices.ContainsFunc(d.bundles, func(b bundle.Bundle) bool { return b.SHA256 == sum })
	}
	for _, c := range []struct {
		what    string
		of      func(sum string) bool
		want    string
		uploads int32
	}{
		{"a bundle", func(sum string) bool { return sum == d.bundles[1].SHA256 },
			"levels/silt_works.vnm does not arrive whole", 3},
		{"a list", func(sum string) bool { return !packed(sum) }, "does not arrive whole", 0},
	} {
		w := &wrong{of: c.of}
		d.access.Dial = func(s transport.Site) transport.Site { w.Site = s; return w }
		_, err := d.run()
		assert.ErrorContains(t, err, c.want, c.what)
		assert.Equal(t, before, d.snapshot(), c.what)
		if c.uploads > 0 {
			assert.Equal(t, c.uploads, w.uploads.Load(), "each once, and the one that did not arrive once more")
		}
		d.access.Dial = nil
	}
	d.must()
	d.access.Dial = func(s transport.Site) transport.Site {
		return &wrong{Site: s, of: func(sum string) bool { return sum == first }}
	}
	_, err := d.back("")
	assert.ErrorContains(t, err, "the copy of levels/ore_spiral.vnm in its safe place is damaged")
}

// stuck is a site on which nothing can be kept, or on which some files can't be read.
type stuck struct {
	transport.Site
	keeps  bool
	unread string
}

func (s *stuck) Link(ctx context.Context, from, to string) error {
	if !s.keeps {
		return fs.ErrPermission
	}
	return s.Site.Link(ctx, from, to)
}

func (s *stuck) Read(ctx context.Context, rel string, limit int64) ([]byte, error) {
	if s.unread != "" && strings.HasSuffix(rel, s.unread) {
		return nil, fs.ErrPermission
	}
	return s.Site.Read(ctx, rel, limit)
}

// What an earlier run brought is not brought again, and counts in what a person sees of the progress.
func TestProgressCountsWhatWasThere(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.must()
	d.pack("1.1.0", "ore_spiral", "silt_works")
	d.access.Dial = func(s transport.Site) transport.Site { return &stuck{Site: s} }
	_, err := d.run()
	require.Error(t, err)
	d.access.Dial = nil
	var done, total int64
	r := d.must(func(o *deploy.Options) {
		o.Advanced = func(what string, n, of int64) {
			if what == "upload" {
				done, total = n, of
			}
		}
	})
	assert.Equal(t, d.bundles[0].Size+d.bundles[1].Size, r.Reused)
	assert.Equal(t, r.Reused, total)
	assert.Equal(t, total, done)
	assert.ElementsMatch(t, []string{"ore_spiral", "silt_works"}, r.Maps())
}

// An error while the target is looked at is the plan's, and not an empty plan.
func TestAPlanThatCantBeMade(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.must()
	stopped, cancel := context.WithCancel(ctx)
	x := d.open()
	goal := d.goal(x)
	cancel()
	_, err := x.Plan(stopped, goal, deploy.PlanOptions{Verify: true})
	assert.ErrorIs(t, err, context.Canceled)

	d.put("levels/ore_spiral.vnm", "of somebody")
	d.access.Dial = func(s transport.Site) transport.Site { return &stuck{Site: s, keeps: true, unread: "/projects"} }
	x = d.open()
	_, err = x.Plan(ctx, goal, deploy.PlanOptions{})
	assert.ErrorContains(t, err, "could not read .vornix-target/projects")
}

// What is remembered of a list is used as long as the list is as it was, and it is read again when
// it is not, or when nothing is remembered.
func TestWhatIsRememberedOfLists(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	d.must()
	deployed := d.snapshot()
	d.put("levels.txt", strings.Replace(d.read("levels.txt"), "tram_depot\r\n", "", 1))
	require.NotEqual(t, deployed, d.snapshot())
	d.must()
	assert.Equal(t, deployed["levels.txt"], d.read("levels.txt"), "an entry that somebody removed is entered again")
	require.NoError(t, os.RemoveAll(filepath.Join(d.p.State(), "targets")))
	d.pack("1.1.0", "ore_spiral", "silt_works")
	d.must(func(o *deploy.Options) { o.Between = func() { d.sound("in between") } })
	assert.Contains(t, d.read("levels.txt"), "silt_works")
	assert.NotContains(t, d.read("levels.txt"), "tram_depot")
}

// A plan that is made while a switch is half done is the one that is carried out after it was undone.
func TestAPlanFromHalfASwitch(t *testing.T) {
	for at := 1; at <= 6; at++ {
		d := newDesk(t, "ore_spiral", "tram_depot")
		d.must()
		d.pack("1.1.0", "ore_spiral", "silt_works")
		d.halfway(at)
		x := d.open()
		goal := d.goal(x)
		shown, err := x.Plan(ctx, goal, deploy.PlanOptions{})
		require.NoError(t, err)
		_, err = x.Run(ctx, goal, shown, options())
		require.NoError(t, err, "at %d", at)
		d.sound("after it")
	}
}

// What a person allowed can't be read: then nothing counts as allowed.
func TestPermissionsThatCantBeRead(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	unreadable := errors.New("the list of what is allowed can't be read")
	d.access.Trust = func(*project.Project, []trust.Permission) ([]trust.Permission, error) { return nil, unreadable }
	d.access.Env = func(string) string { t.Error("no secret is taken"); return "" }
	d.target(project.Target{Kind: "webdav", Role: "downloads", URL: "http://127.0.0.1:1/", User: "mole",
		PasswordEnv: "SECRET"})
	_, err := deploy.Open(ctx, d.p, "practice", d.access)
	assert.ErrorIs(t, err, unreadable)
	ok, err := d.access.Repository(d.p, &gitcmd.Repository{})
	assert.ErrorIs(t, err, unreadable)
	assert.False(t, ok)
	d.access.Trust = trust.Everything
	ok, err = d.access.Repository(d.p, &gitcmd.Repository{})
	assert.NoError(t, err)
	assert.True(t, ok)
}

// What a target says of itself is so: its folder, its bundles, who holds it, and what a release finished.
func TestWhatATargetSays(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	x := d.open()
	assert.Equal(t, d.server, x.Folder())
	d.must()
	finished, err := x.Finished(ctx)
	require.NoError(t, err)
	assert.Empty(t, finished)
	goal := d.goal(x)
	goal.Release = true
	r, err := x.Run(ctx, goal, nil, options())
	require.NoError(t, err)
	assert.Zero(t, r.Changed)
	finished, err = x.Finished(ctx)
	require.NoError(t, err)
	require.Len(t, finished, 1, "that it is a release's is written down, though no file changed")
	assert.Equal(t, map[string]string{"ore_spiral.vnm": d.bundles[0].SHA256}, finished[0].Files)
	st := deploy.Look(ctx, d.p, "practice", d.access, false)
	assert.Equal(t, map[string]string{"ore_spiral.vnm": d.bundles[0].SHA256}, st.Bundles)
	assert.Nil(t, st.Locked)
	require.NoError(t, x.Claim(ctx, "vornix release"))
	st = deploy.Look(ctx, d.p, "practice", d.access, false)
	require.NotNil(t, st.Locked)
	assert.Equal(t, "mole@burrow", st.Locked.By)
	x.LetGo(ctx)
	d.access.Dial = func(s transport.Site) transport.Site { return &stuck{Site: s, keeps: true, unread: "/lock.json"} }
	assert.Contains(t, deploy.Look(ctx, d.p, "practice", d.access, false).Error,
		"could not read .vornix-target/lock.json")
	d.access.Dial = nil
	_, err = x.Back(ctx, "1.0.0", true)
	require.NoError(t, err, "to where it is")
	bundles, err := x.Bundles(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{d.bundles[0].SHA256: "levels/ore_spiral.vnm"}, bundles)

	// It is free when nobody holds it, or when whoever holds it has ended.
	lock := filepath.Join(d.server, ".vornix-target", "lock.json")
	require.NoError(t, x.Free(ctx))
	held := func(machine string, pid int) error {
		require.NoError(t,
			os.WriteFile(lock,
				fmt.Appendf(nil, `{"id":"x","by":"vole@bank","machine":%q,"pid":%d,"command":"vornix deploy"}`, machine,
					pid), 0o666))
		defer os.Remove(lock)
		return x.Free(ctx)
	}
	assert.ErrorContains(t, held("another", 1), "by vole@bank")
	assert.ErrorContains(t, held(safefile.Machine(), os.Getpid()), "by vole@bank")
	assert.NoError(t, held(safefile.Machine(), 1<<30))

	d.put("levels.txt", d.read("levels.txt")+"of_somebody\r\n")
	d.pack("1.1.0", "ore_spiral", "silt_works")
	notes := map[string]string{}
	for _, s := range d.plan().Steps {
		notes[s.Path] = s.Note
	}
	assert.Contains(t, notes["levels.txt"], "edited by others since")
	assert.NotContains(t, notes["timetable.txt"], "edited by others")
}

// Records that a machine remembers count only with their hash: a changed copy is read from the target again.
func TestRememberedRecordsAreChecked(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.must()
	first, err := filepath.Glob(filepath.Join(d.p.State(), "targets", "practice", "*.json"))
	require.NoError(t, err)
	assert.NotEmpty(t, first, "what was just written need not be read")
	d.pack("1.1.0", "ore_spiral")
	d.must()
	names, err := filepath.Glob(filepath.Join(d.p.State(), "targets", "practice", "*.json"))
	require.NoError(t, err)
	require.NotEmpty(t, names)
	for _, name := range names {
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(name, []byte(strings.ReplaceAll(string(data), `1.0.0`, `9.9.9`)), 0o666))
	}
	list, err := d.open().History(ctx)
	require.NoError(t, err)
	require.Len(t, list, 2)
	for _, past := range list {
		assert.NotEqual(t, "9.9.9", past.Version)
	}
}

// roomy is a site with some room.
type roomy struct {
	transport.Site
	free int64
	err  error
}

func (r *roomy) Free(context.Context) (int64, error) { return r.free, r.err }

// What does not fit is refused before it is sent; where the room is not known, the disk says so itself.
func TestRoomIsLookedAtFirst(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.write(bundle.Dir+"/ore_spiral.vnm", strings.Repeat("0123456789abcdef", 1<<17))
	d.bundles = nil
	d.bundle("ore_spiral")
	site := &roomy{free: 1 << 20}
	d.access.Dial = func(s transport.Site) transport.Site { site.Site = s; return site }
	before := d.snapshot()
	_, err := d.run()
	assert.ErrorContains(t, err, "has 1024 KB free and needs 2048 KB")
	assert.Equal(t, before, d.snapshot())
	site.err = errors.New("not known")
	d.must()
}

// The page is looked at beforehand with its pictures, and with nothing else.
func TestAPreviewIsThePage(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.write("cards/ore_spiral.txt", "a card")
	files, err := deploy.Preview(ctx, d.p, "practice", d.bundles, d.g)
	require.NoError(t, err)
	roles := map[deploy.Role]bool{}
	for _, f := range files {
		roles[f.Role] = true
	}
	assert.True(t, roles[deploy.Companion])
	assert.False(t, roles[deploy.Bundle])
	assert.False(t, roles[deploy.Listing])
	mirror := project.Target{Kind: "folder", Role: "mirror", Path: d.server}
	d.target(mirror)
	require.NoError(t, os.RemoveAll(d.p.State()))
	require.NoError(t, os.WriteFile(d.p.State(), nil, 0o666))
	_, err = d.open().NewGoal(ctx, d.p, d.bundles, d.g)
	assert.Error(t, err, "compressed copies have no place")
}

func hash(text string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(text))) }

// placing notes the order in which files outside Vornix's own folder get their places.
type placing struct {
	transport.Site
	placed *[]string
}

func (p *placing) Rename(ctx context.Context, from, to string) error {
	if !strings.HasPrefix(to, ".vornix-target/") {
		*p.placed = append(*p.placed, to)
	}
	return p.Site.Rename(ctx, from, to)
}

// A folder that players download from: what its index names comes first and the index last; the
// number only rises; bundles of the versions before stay as long as they are kept, and no longer.
func TestVersionsThatPlayersDownload(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.target(project.Target{Kind: "folder", Role: "downloads", Path: d.server, Keep: 1})
	indexed := func(serial int64, project string) {
		x := index.Index{Kind: index.Kind, Format: index.Format, Project: project, Title: "T", Game: "burrow-tramways",
			Serial: serial}
		for _, b := range d.bundles {
			x.Bundles = append(x.Bundles,
				index.Record{Name: b.Maps[0], Version: d.p.File.Project.Version, File: b.Name, URL: b.Name,
					Size: b.Size, SHA256: b.SHA256, Maps: []index.Map{{Name: b.Maps[0]}}})
		}
		text := fmt.Sprintf("number %d", serial)
		d.write(indexwriter.Dir+"/zz.txt", text)
		x.Texts = []index.TextFile{{File: "zz.txt", Size: int64(len(text)), SHA256: hash(text)}}
		data, err := x.Encode()
		require.NoError(t, err)
		d.write(indexwriter.Dir+"/"+index.FileName, string(data))
	}
	var placed []string // in their order
	d.access.Dial = func(s transport.Site) transport.Site { return &placing{s, &placed} }
	name := d.p.File.Project.Name
	versioned := func(version string) { // each version's bundle has a name of its own
		d.pack(version, "ore_spiral")
		old := d.p.Join(bundle.Dir, "ore_spiral.vnm")
		require.NoError(t, os.Rename(old, d.p.Join(bundle.Dir, "ore-"+version+".vnm")))
		d.bundles[0].Name = "ore-" + version + ".vnm"
	}
	versioned("1.0.0")
	indexed(1, name)
	r := d.must()
	var order []string
	for _, s := range r.Plan.Steps {
		order = append(order, s.Path)
	}
	assert.ElementsMatch(t, []string{"ore-1.0.0.vnm", "zz.txt", index.FileName}, order)
	assert.Equal(t, []string{"ore-1.0.0.vnm", "zz.txt", index.FileName}, placed,
		"what the index names is there before it")
	versioned("1.1.0")
	_, err := d.open().NewGoal(ctx, d.p, d.bundles, d.g)
	assert.ErrorContains(t, err, "does not name ore-1.1.0.vnm")
	indexed(1, name)
	_, err = d.run()
	assert.ErrorContains(t, err, "has index number 1, and the one here has number 1")
	indexed(2, "another")
	goal := d.goal(d.open())
	assert.NotNil(t, goal)
	indexed(2, name)
	d.must()
	for _, want := range []struct {
		version string
		serial  int64
		there   []string
		gone    []string
	}{{"1.2.0", 3, []string{"ore-1.2.0.vnm", "ore-1.1.0.vnm"}, []string{"ore-1.0.0.vnm"}},
		{"1.3.0", 4, []string{"ore-1.3.0.vnm", "ore-1.2.0.vnm"}, []string{"ore-1.1.0.vnm"}}} {
		versioned(want.version)
		indexed(want.serial, name)
		d.must()
		for _, f := range want.there {
			assert.FileExists(t, filepath.Join(d.server, f))
		}
		for _, f := range want.gone {
			assert.NoFileExists(t, filepath.Join(d.server, f))
		}
		x, err := d.open().Index(ctx)
		require.NoError(t, err)
		assert.Equal(t, want.serial, x.Serial)
		assert.Zero(t, d.must().Changed, "nothing is left to do")
		assert.Empty(t, deploy.Look(ctx, d.p, "practice", d.access, true).Drift)
	}
}
