package fetch_test

import (
	"context"
	"crypto"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/ship/fetch"
	"vornix/core/ship/index"
)

// What going back would do is said file by file: what comes back with its old size, and what goes.
func TestWhatGoingBackDoes(t *testing.T) {
	s := newShelf(t, "peak", 0)
	dir := filepath.Join(t.TempDir(), "game")
	s.publish("1.0.0", map[string][]byte{"a.zip": []byte("first"), "b.zip": []byte("stays")})
	got(t, s.dir, dir)
	s.publish("1.1.0",
		map[string][]byte{"a.zip": []byte("the second"), "b.zip": []byte("stays"), "c.zip": []byte("new here")})
	got(t, s.dir, dir)
	before := files(t, dir)
	for _, plan := range []bool{true, false} {
		r, err := fetch.Back(ctx, dir, fetch.Options{Plan: plan})
		require.NoError(t, err)
		assert.Equal(t, "1.1.0", r.From)
		assert.Equal(t, "1.0.0", r.To)
		require.Len(t, r.Actions, 2)
		by := map[string]fetch.FileChange{}
		for _, a := range r.Actions {
			by[a.File] = a
		}
		assert.Equal(t, fetch.Copy, by["a.zip"].Do)
		assert.Equal(t, int64(len("first")), by["a.zip"].Size)
		assert.Equal(t, fetch.Remove, by["c.zip"].Do)
		assert.Equal(t, int64(len("new here")), by["c.zip"].Size)
		if plan {
			assert.Equal(t, before, files(t, dir), "a plan changes nothing")
		}
	}
	assert.Equal(t, map[string]string{"a.zip": "first", "b.zip": "stays"}, files(t, dir))
}

// A folder that others are served from gets the index last: at no moment does it name what is not there.
func TestTheIndexOfAMirrorComesLast(t *testing.T) {
	s := newShelf(t, "peak", 0)
	dir := filepath.Join(t.TempDir(), "mirror")
	for i, version := range []string{"1.0.0", "1.1.0"} {
		s.publish(version,
			map[string][]byte{"a.zip": []byte("a of " + version), "j.zip": []byte("j of " + version),
				"z.zip": []byte("z of " + version)})
		var order []string
		end := safefile.Disturb(func(step safefile.DiskWrite) error {
			if step.Op == "rename" && filepath.Dir(step.Path) == dir {
				order = append(order, filepath.Base(step.Path))
			}
			return nil
		})
		got(t, s.dir, dir, func(o *fetch.Options) { o.Mirror = true })
		end()
		last := func(name string) (at int) {
			for i, n := range order {
				if n == name {
					at = i + 1
				}
			}
			return at
		}
		require.NotZero(t, last(index.FileName), "round %d: %v", i, order)
		for _, name := range []string{"a.zip", "j.zip", "z.zip"} {
			assert.Less(t, last(name), last(index.FileName), "round %d: %v", i, order)
		}
	}
}

// A check says of an index that another key signed that it does not count, before anything of it is read.
func TestACheckTrustsNobodyElse(t *testing.T) {
	s := newShelf(t, "peak", 2)
	s.publish("1.0.0", map[string][]byte{"a.zip": []byte("first")}, 0)
	c, err := fetch.Check(ctx, s.dir, fetch.CheckOptions{Trust: s.public[1:], Remote: quick})
	require.Error(t, err)
	assert.Empty(t, c.Files)
	c, err = fetch.Check(ctx, s.dir, fetch.CheckOptions{Trust: s.public[:1], Remote: quick})
	require.NoError(t, err)
	assert.Len(t, c.Files, 1)
}

// What is remembered of a folder and can't be right is refused, and nothing is changed.
func TestWhatIsRememberedIsDamaged(t *testing.T) {
	s := newShelf(t, "peak", 1)
	dir := filepath.Join(t.TempDir(), "game")
	s.publish("1.0.0", map[string][]byte{"a.zip": []byte("first")}, 0)
	got(t, s.dir, dir)
	var name string
	require.NoError(t,
		filepath.WalkDir(filepath.Join(dir, fetch.Dir, "peak"), func(p string, e os.DirEntry, err error) error {
			if data, readErr := os.ReadFile(p); readErr == nil && strings.Contains(string(data), `"project"`) &&
				filepath.Base(p) != index.FileName {
				name = p
			}
			return err
		}))
	require.NotEmpty(t, name)
	good, err := os.ReadFile(name)
	require.NoError(t, err)
	s.publish("1.1.0", map[string][]byte{"a.zip": []byte("second")}, 0)
	for what, bad := range map[string]string{"cut off": string(good[:len(good)/2]),
		"another project": strings.Replace(string(good), `"peak"`, `"pass"`, 1), "empty": ""} {
		require.NoError(t, os.WriteFile(name, []byte(bad), 0o644))
		_, err := get(t, s.dir, dir)
		assert.Equal(t, fault.Refused, fault.KindOf(err), what)
		assert.Equal(t, map[string]string{"a.zip": "first"}, files(t, dir), what)
	}
	require.NoError(t, os.WriteFile(name, good, 0o644))
	got(t, s.dir, dir)
	assert.Equal(t, map[string]string{"a.zip": "second"}, files(t, dir))
}

// A watch that is asked for wrongly ends at once; one whose server is away for a while goes on.
func TestAWatchThatCantBegin(t *testing.T) {
	heard := 0
	short, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	err := fetch.Watch(short, t.TempDir(), fetch.Options{URL: "http://", Remote: quick}, time.Millisecond,
		func(*fetch.Result, error) { heard++ })
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	assert.Zero(t, heard)

	short, stop = context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	away := quick
	away.Retries = -1
	err = fetch.Watch(short, t.TempDir(), fetch.Options{URL: "http://127.0.0.1:1/", Remote: away}, time.Millisecond,
		func(_ *fetch.Result, err error) {
			assert.Equal(t, fault.Unreachable, fault.KindOf(err))
			if heard++; heard == 3 {
				stop()
			}
		})
	assert.ErrorIs(t, err, context.Canceled)
	assert.GreaterOrEqual(t, heard, 3)
}

// With a file damaged and nobody to ask, the reason is said where there is one, and what is there stays.
func TestOfflineAndDamaged(t *testing.T) {
	s := newShelf(t, "peak", 0)
	dir := filepath.Join(t.TempDir(), "game")
	s.publish("1.0.0", map[string][]byte{"a.zip": []byte("first"), "b.zip": []byte("second")})
	server := httptest.NewServer(http.FileServer(http.Dir(s.dir)))
	address := server.URL
	got(t, address, dir)
	server.Close()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.zip"), []byte("broken"), 0o644))
	for offline, reason := range map[bool]bool{true: false, false: true} {
		from := address
		if offline {
			from = ""
		}
		_, err := get(t, from, dir, func(o *fetch.Options) { o.Offline, o.Remote.Retries = offline, -1 })
		var f *fault.Fault
		require.ErrorAs(t, err, &f)
		assert.Equal(t, fault.Unreachable, f.Kind)
		assert.Contains(t, f.What, "a.zip is missing or damaged")
		assert.Equal(t, reason, f.Err != nil, "why the server could not be asked, and only then")
		assert.Equal(t, map[string]string{"a.zip": "broken", "b.zip": "second"}, files(t, dir))
	}
}

// A patch elsewhere is not asked for; a base that somebody else put there serves and stays, and is said.
func TestWaysFromElsewhere(t *testing.T) {
	s := newShelf(t, "peak", 0)
	old, now := noise(1, 20000), noise(1, 20000)
	copy(now[100:], "a small change")
	dir := filepath.Join(t.TempDir(), "game")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mine.zip"), old, 0o644))
	s.publish("1.1.0", map[string][]byte{"a.zip": now})
	s.way("1.0.0", string(old), "a.zip", now)
	s.store()
	r := got(t, s.dir, dir, func(o *fetch.Options) { o.Plan = true })
	require.Len(t, r.Actions, 1)
	assert.Equal(t, "mine.zip did not come this way, and stays", r.Actions[0].Note)
	s.x.Bundles[0].Patches[0].URL = "https://elsewhere.example/a.vnp"
	s.store()
	r = got(t, s.dir, dir)
	assert.Equal(t, []string{"whole a.zip"}, did(r),
		"nobody is asked for a patch elsewhere than beside the index of a folder")
	assert.Equal(t, map[string]string{"mine.zip": string(old), "a.zip": string(now)}, files(t, dir))
}

// Small things that are said and remembered: until when an index holds, what a pattern chooses,
// what lies in Vornix's folder and is not a project's, and what to do when a file was changed
// since.
func TestWhatIsSaidAndChosen(t *testing.T) {
	s := newShelf(t, "peak", 1)
	dir := filepath.Join(t.TempDir(), "game")
	s.publish("1.0.0", map[string][]byte{"a.zip": []byte("first a"), "b.zip": []byte("first b")}, 0)
	for _, pattern := range []string{"b", "b.z*", "map_b"} { // what it is called, its file, or its map
		only := filepath.Join(t.TempDir(), "game")
		got(t, s.dir, only, func(o *fetch.Options) { o.Only = []string{pattern} })
		assert.Equal(t, map[string]string{"b.zip": "first b"}, files(t, only), pattern)
	}
	some := func(o *fetch.Options) { o.Only = []string{"map_[b]"} }
	r := got(t, s.dir, dir, some)
	assert.Nil(t, r.Expires)
	assert.Equal(t, map[string]string{"b.zip": "first b"}, files(t, dir))
	s.publish("1.1.0", map[string][]byte{"a.zip": []byte("second a"), "b.zip": []byte("second b")}, 0)
	s.x.Signatures, s.x.Keys, s.x.Issued = nil, nil, ""
	require.NoError(t, s.x.Sign([]crypto.Signer{s.keys[0]}, nil, 7, time.Now(), false))
	data, err := s.x.Encode()
	require.NoError(t, err)
	s.write(index.FileName, data)
	r = got(t, s.dir, dir)
	require.NotNil(t, r.Expires)
	assert.WithinDuration(t, time.Now().Add(7*24*time.Hour), *r.Expires, 25*time.Hour)
	assert.Equal(t, map[string]string{"b.zip": "second b"}, files(t, dir), "the choice is remembered")

	require.NoError(t, os.WriteFile(filepath.Join(dir, fetch.Dir, "pass"), []byte("a file"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, fetch.Dir, "Not A Project"), 0o755))
	places, err := fetch.Places(dir)
	require.NoError(t, err)
	require.Len(t, places, 1)
	assert.Equal(t, "peak", places[0].Project)

	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.zip"), []byte("changed by hand"), 0o644))
	_, err = fetch.Back(ctx, dir, fetch.Options{})
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Contains(t, f.Do, "Bring it up to date first")
	assert.Equal(t, "changed by hand", files(t, dir)["b.zip"])
}
