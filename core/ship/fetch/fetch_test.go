package fetch_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/download"
	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/signature"
	"vornix/core/pack/patch"
	"vornix/core/ship/fetch"
	"vornix/core/ship/index"
)

var ctx = context.Background()

// quick makes new tries at once.
var quick = download.Options{Wait: time.Millisecond, MostWait: 5 * time.Millisecond, Stall: 20 * time.Second,
	Retries: 3}

// shelf is a folder that an index and its files are published in, made by hand.
type shelf struct {
	t      *testing.T
	dir    string
	x      index.Index
	keys   []crypto.Signer
	public []string
}

func newShelf(t *testing.T, name string, keys int) *shelf {
	s := &shelf{t: t, dir: filepath.Join(t.TempDir(), "public"),
		x: index.Index{Kind: index.Kind, Format: index.Format, Project: name, Title: strings.ToUpper(name), Game: "g"}}
	require.NoError(t, os.MkdirAll(filepath.Join(s.dir, "patches"), 0o755))
	for range keys {
		pem, word, err := signature.New()
		require.NoError(t, err)
		key, err := signature.ParseKey(pem, fault.Place{})
		require.NoError(t, err)
		s.keys, s.public = append(s.keys, key), append(s.public, word)
	}
	return s
}

func hash(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// noise is content that does not shrink, the same for the same seed.
func noise(seed uint64, n int) []byte {
	r := rand.New(rand.NewPCG(seed, 1))
	data := make([]byte, n)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	return data
}

func (s *shelf) write(rel string, data []byte) {
	require.NoError(s.t, os.WriteFile(filepath.Join(s.dir, filepath.FromSlash(rel)), data, 0o644))
}

// publish puts files under a version, the index last. What the index named before is taken from the shelf.
func (s *shelf) publish(version string, files map[string][]byte, keys ...int) *index.Index {
	s.t.Helper()
	s.x.Serial++
	s.x.Bundles, s.x.Signatures, s.x.Keys = nil, nil, nil
	names := []string{}
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		s.write(name, files[name])
		s.x.Bundles = append(s.x.Bundles,
			index.Record{Name: name[:1], Version: version, File: name, URL: name, Size: int64(len(files[name])),
				SHA256: hash(files[name]), Maps: []index.Map{{Name: "map_" + name[:1]}}})
	}
	s.store(keys...)
	return &s.x
}

func (s *shelf) store(keys ...int) {
	s.t.Helper()
	var with []crypto.Signer
	for _, k := range keys {
		with = append(with, s.keys[k])
	}
	s.x.Signatures, s.x.Keys, s.x.Issued = nil, nil, ""
	if len(with) > 0 {
		require.NoError(s.t, s.x.Sign(with, nil, 0, time.Now(), false))
	}
	data, err := s.x.Encode()
	require.NoError(s.t, err)
	s.write("index.json", data)
}

// way makes a patch between two contents, and lets the record of the second one know it.
func (s *shelf) way(from, old, file string, content []byte) {
	s.t.Helper()
	dir := s.t.TempDir()
	require.NoError(s.t, os.WriteFile(filepath.Join(dir, "old"), []byte(old), 0o644))
	require.NoError(s.t, os.WriteFile(filepath.Join(dir, "now"), content, 0o644))
	a, err := patch.SideOf(ctx, "old", map[string]string{"old-" + file: filepath.Join(dir, "old")})
	require.NoError(s.t, err)
	b, err := patch.SideOf(ctx, "now", map[string]string{file: filepath.Join(dir, "now")})
	require.NoError(s.t, err)
	d, err := safefile.OpenDir(s.dir)
	require.NoError(s.t, err)
	defer d.Close()
	name := "patches/" + from + "-" + file + ".vnp"
	out, err := d.Create(name)
	require.NoError(s.t, err)
	made, err := patch.Make(ctx, a, b, out, patch.Options{From: from})
	require.NoError(s.t, err)
	require.NoError(s.t, out.Commit())
	for i := range s.x.Bundles {
		if r := &s.x.Bundles[i]; r.File == file {
			r.Patches = append(r.Patches,
				index.Patch{From: from, Bases: []string{hash([]byte(old))}, URL: name, Size: made.Size,
					SHA256: made.SHA256})
		}
	}
}

// files are those of a folder, without what is remembered of them.
func files(t *testing.T, dir string) map[string]string {
	t.Helper()
	m := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if e.IsDir() && strings.HasPrefix(e.Name(), "vornix-") {
			return fs.SkipDir
		}
		if !e.IsDir() {
			data, err := os.ReadFile(name)
			rel, _ := filepath.Rel(dir, name)
			m[filepath.ToSlash(rel)] = string(data)
			return err
		}
		return nil
	}))
	return m
}

func get(t *testing.T, url, dir string, change ...func(*fetch.Options)) (*fetch.Result, error) {
	t.Helper()
	o := fetch.Options{URL: url, Remote: quick}
	for _, c := range change {
		c(&o)
	}
	return fetch.Run(ctx, dir, o)
}

func got(t *testing.T, url, dir string, change ...func(*fetch.Options)) *fetch.Result {
	t.Helper()
	r, err := get(t, url, dir, change...)
	require.NoError(t, err)
	return r
}

func did(r *fetch.Result) (list []string) {
	for _, a := range r.Actions {
		list = append(list, a.Do+" "+a.File)
	}
	slices.Sort(list)
	return list
}

func TestFromVersionToVersionAndBack(t *testing.T) {
	s := newShelf(t, "pack", 0)
	one := noise(1, 200_000)
	two := slices.Concat(one[:100_000], []byte("a new light"), one[100_000:])
	s.publish("1.0.0", map[string][]byte{"a-1.0.0.zip": one, "b.zip": noise(2, 5000), "c.zip": noise(3, 10)})
	server := httptest.NewServer(http.FileServer(http.Dir(s.dir)))
	defer server.Close()
	dir := filepath.Join(t.TempDir(), "game", "maps")

	plan := got(t, server.URL, t.TempDir(), func(o *fetch.Options) { o.Plan = true })
	assert.Equal(t, []string{"whole a-1.0.0.zip", "whole b.zip", "whole c.zip"}, did(plan))
	r := got(t, server.URL, dir)
	assert.Equal(t, int64(205_010), r.Bytes)
	first := files(t, dir)
	assert.Len(t, first, 3)
	r = got(t, "", dir)
	assert.False(t, r.Changed)
	assert.Zero(t, r.Bytes)

	s.publish("1.1.0", map[string][]byte{"a-1.1.0.zip": two, "b2.zip": noise(2, 5000)})
	s.way("1.0.0", string(one), "a-1.1.0.zip", two)
	s.store()
	r = got(t, server.URL, dir)
	assert.Equal(t, []string{"copy b2.zip", "patch a-1.1.0.zip", "remove a-1.0.0.zip", "remove b.zip", "remove c.zip"},
		did(r), "a renamed file is not downloaded again")
	assert.Less(t, r.Bytes, int64(3000))
	second := map[string]string{"a-1.1.0.zip": string(two), "b2.zip": string(noise(2, 5000))}
	assert.Equal(t, second, files(t, dir))

	r, err := fetch.Back(ctx, dir, fetch.Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"1.1.0", "1.0.0"}, []string{r.From, r.To})
	assert.Equal(t, first, files(t, dir))
	_, err = fetch.Back(ctx, dir, fetch.Options{})
	assert.Equal(t, fault.Usage, fault.KindOf(err), "one older version is kept")
	r = got(t, server.URL, dir)
	assert.True(t, r.Held)
	assert.Equal(t, first, files(t, dir), "what somebody went back from does not come by itself")
	got(t, server.URL, dir, func(o *fetch.Options) { o.Again = true })
	assert.Equal(t, second, files(t, dir))
	_, err = fetch.Back(ctx, dir, fetch.Options{})
	require.NoError(t, err)
	s.publish("1.2.0", map[string][]byte{"a-1.2.0.zip": []byte("new")})
	got(t, "", dir)
	assert.Equal(t, map[string]string{"a-1.2.0.zip": "new"}, files(t, dir), "another one does")

	places, err := fetch.Places(dir)
	require.NoError(t, err)
	require.Len(t, places, 1)
	assert.Equal(t, []string{"pack", "1.2.0", "1.0.0"}, []string{places[0].Project, places[0].Version, places[0].Back})
	kept, err := os.ReadDir(filepath.Join(dir, "vornix-patched", "kept"))
	require.NoError(t, err)
	assert.Len(t, kept, 3, "what only an older version needs is gone")
}

// What somebody put there, or changed, is not Vornix's to remove; what is damaged is repaired.
func TestOnlyItsOwnIsRemoved(t *testing.T) {
	s := newShelf(t, "pack", 0)
	s.publish("1.0.0",
		map[string][]byte{"a.zip": []byte("one"), "b.zip": []byte("bee"), "c.zip": []byte("sea"),
			"d.zip": []byte("same")})
	dir := t.TempDir()
	put := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	put("a.zip", "somebody's")
	put("d.zip", "same")
	put("mine.zip", "mine")
	r := got(t, s.dir, dir)
	assert.Equal(t, []string{"keep d.zip", "whole a.zip", "whole b.zip", "whole c.zip"}, did(r))
	put("b.zip", "changed by hand")
	put("c.zip", "sed") // damaged, of the same size
	got(t, s.dir, dir)
	assert.Equal(t, "bee sea", files(t, dir)["b.zip"]+" "+files(t, dir)["c.zip"], "repaired")
	put("b.zip", "changed by hand")
	s.publish("1.1.0", map[string][]byte{"e.zip": []byte("e")})
	r = got(t, s.dir, dir)
	assert.Equal(t, []string{"leave b.zip", "remove a.zip", "remove c.zip", "whole e.zip"}, did(r))
	assert.Equal(t, map[string]string{"b.zip": "changed by hand", "mine.zip": "mine", "d.zip": "same", "e.zip": "e"},
		files(t, dir), "d.zip was there before")

	// Another project in the same folder keeps its own.
	o := newShelf(t, "other", 0)
	o.publish("3.0.0", map[string][]byte{"e.zip": []byte("other")})
	_, err := get(t, o.dir, dir)
	assert.ErrorContains(t, err, "belongs to pack")
	o.publish("3.0.0", map[string][]byte{"f.zip": []byte("f")})
	got(t, o.dir, dir)
	_, err = get(t, "", dir)
	assert.ErrorContains(t, err, "this folder has several: other, pack")
	s.publish("1.2.0", map[string][]byte{"g.zip": []byte("g")})
	got(t, s.dir, dir)
	assert.Equal(t, map[string]string{"b.zip": "changed by hand", "mine.zip": "mine", "d.zip": "same", "f.zip": "f",
		"g.zip": "g"}, files(t, dir))
	_, err = fetch.Back(ctx, dir, fetch.Options{URL: s.dir})
	require.NoError(t, err)
	assert.Contains(t, files(t, dir), "e.zip")
}

func TestOnlySomeOfIt(t *testing.T) {
	s := newShelf(t, "pack", 0)
	s.publish("1.0.0", map[string][]byte{"a.zip": []byte("a"), "b.zip": []byte("b")})
	dir := t.TempDir()
	_, err := get(t, s.dir, dir, func(o *fetch.Options) { o.Only = []string{"moon"} })
	assert.ErrorContains(t, err, "nothing called moon")
	got(t, s.dir, dir, func(o *fetch.Options) { o.Only = []string{"map_b"} })
	s.publish("1.1.0", map[string][]byte{"a.zip": []byte("a2"), "b.zip": []byte("b2")})
	got(t, "", dir)
	assert.Equal(t, map[string]string{"b.zip": "b2"}, files(t, dir), "remembered")
	got(t, "", dir, func(o *fetch.Options) { o.Only = []string{"*"} })
	assert.Len(t, files(t, dir), 2)
}

// A download that is cut again and again goes on where it was: no byte is sent twice.
func TestCutConnections(t *testing.T) {
	s := newShelf(t, "pack", 0)
	big := noise(7, 1_000_000)
	s.publish("1.0.0", map[string][]byte{"a.zip": big})
	var sent atomic.Int64
	ranges := true
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasSuffix(r.URL.Path, ".zip") {
			http.FileServer(http.Dir(s.dir)).ServeHTTP(w, r)
			return
		}
		from := 0
		if ranges {
			fmt.Sscanf(r.Header.Get("Range"), "bytes=%d-", &from)
		}
		piece := big[from:min(from+150_000, len(big))]
		w.Header().Set("Content-Length", strconv.Itoa(len(big)-from))
		if from > 0 {
			w.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", from, len(big)-1, len(big)))
			w.WriteHeader(http.StatusPartialContent)
		}
		n, _ := w.Write(piece)
		sent.Add(int64(n))
		w.(http.Flusher).Flush()
		if len(piece) < len(big)-from {
			panic(http.ErrAbortHandler)
		}
	}))
	server.Config.ErrorLog = nil
	defer server.Close()
	dir := t.TempDir()
	r := got(t, server.URL, dir)
	assert.Equal(t, string(big), files(t, dir)["a.zip"])
	assert.Equal(t, int64(len(big)), sent.Load())
	assert.Equal(t, int64(len(big)), r.Bytes)

	// Stopped in the middle, the next run goes on.
	dir = t.TempDir()
	stopped, stop := context.WithCancel(ctx)
	sent.Store(0)
	_, err := fetch.Run(stopped, dir, fetch.Options{URL: server.URL, Remote: quick, Advanced: func(done, _ int64) {
		if done > 400_000 {
			stop()
		}
	}})
	require.ErrorIs(t, err, context.Canceled)
	assert.Empty(t, files(t, dir), "nothing is installed")
	r = got(t, server.URL, dir)
	assert.Equal(t, string(big), files(t, dir)["a.zip"])
	assert.LessOrEqual(t, sent.Load(), int64(len(big)+300_000))
	assert.Less(t, r.Bytes, int64(700_000))
	// What lies there of something else is found out, and it is downloaded once more.
	dir = t.TempDir()
	part := filepath.Join(dir, "vornix-fetched", "pack", "parts", hash(big))
	require.NoError(t, os.MkdirAll(filepath.Dir(part), 0o755))
	require.NoError(t, os.WriteFile(part, noise(8, 500_000), 0o644))
	got(t, server.URL, dir)
	assert.Equal(t, string(big), files(t, dir)["a.zip"])
	// A server without ranges that always cuts never gets there, and that is said.
	ranges = false
	_, err = get(t, server.URL, t.TempDir())
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
}

// Whatever a server does, what is there stays, and one error says what is wrong.
func TestServersThatAreNot(t *testing.T) {
	s := newShelf(t, "pack", 0)
	body := noise(9, 50_000)
	s.publish("1.0.0", map[string][]byte{"a.zip": body})
	plain := http.FileServer(http.Dir(s.dir))
	count := 0
	file := func(serve func(w http.ResponseWriter, r *http.Request)) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, ".zip") {
				serve(w, r)
				return
			}
			plain.ServeHTTP(w, r)
		}
	}
	index := func(serve func(w http.ResponseWriter, r *http.Request)) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, ".json") {
				serve(w, r)
				return
			}
			plain.ServeHTTP(w, r)
		}
	}
	packed := func(data []byte) []byte {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		z.Write(data)
		z.Close()
		return b.Bytes()
	}
	raw, err := os.ReadFile(filepath.Join(s.dir, "index.json"))
	require.NoError(t, err)
	endless := func(w http.ResponseWriter, r *http.Request) {
		for r.Context().Err() == nil {
			if _, err := w.Write(body); err != nil {
				return
			}
		}
	}
	for _, c := range []struct {
		name  string
		serve http.HandlerFunc
		want  string // empty: it works
		kind  fault.Kind
	}{
		{"busy, then not", file(func(w http.ResponseWriter, r *http.Request) {
			if count++; count < 3 {
				w.Header().Set("Retry-After", "3600")
				w.WriteHeader(http.StatusTooManyRequests)
				return
			}
			plain.ServeHTTP(w, r)
		}), "", 0},
		{"broken, then not", index(func(w http.ResponseWriter, r *http.Request) {
			if count++; count < 3 {
				w.WriteHeader(http.StatusBadGateway)
				return
			}
			plain.ServeHTTP(w, r)
		}), "", 0},
		{"always broken",
			file(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusInternalServerError) }),
			"answers 500", fault.Unreachable},
		{"no file", file(http.NotFound), "no such file on the server (404)", fault.Failed},
		{"no index", http.NotFound, "no such file on the server (404)", fault.Failed},
		{"forbidden", index(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusForbidden) }),
			"gives it to nobody", fault.Failed},
		{"a page", index(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, "<!doctype html><title>index.json</title>")
		}), "web page", fault.Failed},
		{"a page for the file", file(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<p>sign in")
		}), "web page", fault.Failed},
		{"packed index", index(func(w http.ResponseWriter, r *http.Request) {
			require.Contains(t, r.Header.Get("Accept-Encoding"), "gzip")
			w.Header().Set("Content-Encoding", "gzip")
			w.Write(packed(raw))
		}), "", 0},
		{"packed although nobody asked", file(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Encoding", "gzip")
			w.Write(packed(body))
		}), "", 0},
		{"elsewhere", index(func(w http.ResponseWriter, r *http.Request) {
			if !strings.HasPrefix(r.URL.Path, "/new/") {
				http.Redirect(w, r, "/new/index.json", http.StatusFound)
				return
			}
			http.StripPrefix("/new", plain).ServeHTTP(w, r)
		}), "no such file", fault.Failed}, // the file is asked for in /new/, where it is not
		{"in a circle", index(func(w http.ResponseWriter,
			r *http.Request) {
			http.Redirect(w, r, r.URL.Path, http.StatusFound)
		}), "more than 10 times", fault.Unreachable},
		{"too much", file(endless), "more than the 50000 bytes", fault.Refused},
		{"an endless index", index(endless), "larger than 64 MB", fault.Refused},
		{"too little", file(func(w http.ResponseWriter, r *http.Request) { w.Write(body[:100]) }),
			"has 100 bytes, and the index says 50000", fault.Failed},
		{"something else", file(func(w http.ResponseWriter, r *http.Request) { w.Write(noise(10, 50_000)) }),
			"it has SHA-256", fault.Refused},
		{"another part", file(func(w http.ResponseWriter, r *http.Request) {
			if r.Header.Get("Range") == "" {
				w.Header().Set("Content-Length", "50000")
				w.Write(body[:10])
				panic(http.ErrAbortHandler)
			}
			w.Header().Set("Content-Range", "bytes 0-49999/50000")
			w.WriteHeader(http.StatusPartialContent)
			w.Write(body)
		}), "does not answer", fault.Unreachable},
		{"asleep", file(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Length", "50000")
			w.Write(body[:10])
			w.(http.Flusher).Flush()
			<-r.Context().Done()
		}), "nothing came any more", fault.Unreachable},
		{"no index at all", index(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "{}") }),
			"can't be used", fault.Failed},
	} {
		t.Run(c.name, func(t *testing.T) {
			count = 0
			server := httptest.NewServer(c.serve)
			defer server.Close()
			server.Config.ErrorLog = nil
			dir := t.TempDir()
			_, err := get(t, server.URL+"/", dir, func(o *fetch.Options) {
				if c.name == "asleep" {
					o.Remote.Retries, o.Remote.Stall = 1, 50*time.Millisecond
				}
			})
			if c.want == "" {
				require.NoError(t, err)
				assert.Equal(t, string(body), files(t, dir)["a.zip"])
				return
			}
			require.ErrorContains(t, err, c.want)
			assert.Equal(t, c.kind, fault.KindOf(err))
			assert.Empty(t, files(t, dir))
		})
	}
	_, err = get(t, "http://127.0.0.1:1/", t.TempDir())
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
}

func TestWhoseIndexCounts(t *testing.T) {
	s := newShelf(t, "pack", 3)
	dir := t.TempDir()
	try := func(want string, change ...func(*fetch.Options)) {
		t.Helper()
		before := files(t, dir)
		_, err := get(t, s.dir, dir, change...)
		if want == "" {
			require.NoError(t, err)
			return
		}
		require.ErrorContains(t, err, want)
		assert.Equal(t, fault.Refused, fault.KindOf(err))
		assert.Equal(t, before, files(t, dir))
	}
	one := map[string][]byte{"a.zip": []byte("one")}
	s.publish("1.0.0", one, 0)
	try("not signed by whom", func(o *fetch.Options) { o.Trust = []string{s.public[1]} })
	r := got(t, s.dir, dir)
	assert.Equal(t, []string{s.public[0]}, r.Pinned, "who comes first counts")
	s.publish("1.1.0", map[string][]byte{"a.zip": []byte("evil")}, 1)
	try("not signed by whom")
	s.publish("1.1.0", map[string][]byte{"a.zip": []byte("evil")})
	try("not signed")
	old, err := os.ReadFile(filepath.Join(s.dir, "index.json"))
	require.NoError(t, err)
	s.publish("1.1.0", map[string][]byte{"a.zip": []byte("two")}, 0, 1)
	try("")
	s.write("index.json", old)
	try("not signed")
	s.publish("1.2.0", map[string][]byte{"a.zip": []byte("three")}, 1)
	try("") // after an overlap the new key alone
	s.publish("1.3.0", map[string][]byte{"a.zip": []byte("evil")}, 0)
	try("not signed by whom") // and the old one no more
	s.publish("1.3.0", map[string][]byte{"a.zip": []byte("four")}, 2)
	try("not signed by whom") // who missed the overlap has to be told
	try("", func(o *fetch.Options) { o.Trust = []string{s.public[2]} })

	s.x.Project = "other" // whose keys nobody knows yet
	s.publish("9.0.0", map[string][]byte{"evil.zip": []byte("evil")})
	try("the index is of other, and what came from there before was pack")
	s.x.Project, s.x.Serial = "pack", s.x.Serial-1

	s.x.Serial -= 2
	s.publish("1.0.0", map[string][]byte{"a.zip": []byte("one")}, 2)
	try("was here before") // an old one, served again
	s.x.Serial++
	s.store(2)
	try("the same number")
	try("", func(o *fetch.Options) { o.Older = true })
	s.publish("1.4.0", map[string][]byte{"a.zip": []byte("five")}, 2)
	require.NoError(t, s.x.Sign([]crypto.Signer{s.keys[2]}, nil, 1, time.Now().AddDate(0, 0, -2), false))
	data, err := s.x.Encode()
	require.NoError(t, err)
	s.write("index.json", data)
	try("too old: it was good until")
	data = bytes.Replace(data, []byte(`"1.4.0"`), []byte(`"1.9.0"`), 1)
	s.write("index.json", data)
	try("not what was signed")
	for _, name := range []string{"../a.zip", "vornix-patched/records.jsonl", "Vornix-Fetched/x", "con", "/etc/a",
		"a\x00"} {
		h := newShelf(t, "pack", 0)
		h.publish("1.0.0", map[string][]byte{"a.zip": []byte("one")})
		h.x.Bundles[0].File = name
		h.store()
		_, err := get(t, h.dir, t.TempDir())
		assert.Error(t, err, name)
	}
}

// When nobody answers, what is there is verified and goes on working.
func TestOffline(t *testing.T) {
	s := newShelf(t, "pack", 1)
	s.publish("1.0.0", map[string][]byte{"a.zip": []byte("one"), "b.zip": []byte("bee")}, 0)
	server := httptest.NewServer(http.FileServer(http.Dir(s.dir)))
	dir := t.TempDir()
	_, err := get(t, server.URL, dir, func(o *fetch.Options) { o.Offline = true })
	assert.Equal(t, fault.Unreachable, fault.KindOf(err), "nothing is known yet")
	got(t, server.URL, dir)
	asked := server.URL
	server.Close()
	r := got(t, asked, dir)
	assert.True(t, r.Offline)
	assert.NotEmpty(t, r.Why)
	assert.Equal(t, []string{"keep a.zip", "keep b.zip"}, did(r))
	r = got(t, "", dir, func(o *fetch.Options) { o.Offline = true })
	assert.True(t, r.Offline)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.zip"), []byte("eno"), 0o644))
	_, err = get(t, asked, dir)
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
	assert.ErrorContains(t, err, "a.zip is missing or damaged")
}

// One patch that leads from several files to several others, as a project with a bundle for each map has it.
func TestAPatchOfSeveralFiles(t *testing.T) {
	s := newShelf(t, "pack", 0)
	a, b := noise(1, 60_000), noise(2, 200_000)
	a2, b2 := slices.Concat(a, []byte("more")), slices.Concat([]byte("more"), b)
	s.publish("1.0.0", map[string][]byte{"a.zip": a, "b.zip": b, "c.zip": []byte("same")})
	dir := t.TempDir()
	got(t, s.dir, dir)
	sides := t.TempDir()
	side := func(version string, files map[string][]byte) *patch.Side {
		system := map[string]string{}
		for name, data := range files {
			system[name] = filepath.Join(sides, version+name)
			require.NoError(t, os.WriteFile(system[name], data, 0o644))
		}
		side, err := patch.SideOf(ctx, version, system)
		require.NoError(t, err)
		return side
	}
	s.publish("1.1.0", map[string][]byte{"a.zip": a2, "b.zip": b2, "c.zip": []byte("same")})
	d, err := safefile.OpenDir(s.dir)
	require.NoError(t, err)
	defer d.Close()
	out, err := d.Create("patches/all.vnp")
	require.NoError(t, err)
	made, err := patch.Make(ctx, side("1.0.0", map[string][]byte{"a.zip": a, "b.zip": b}),
		side("1.1.0", map[string][]byte{"a.zip": a2, "b.zip": b2}), out, patch.Options{From: "1.0.0"})
	require.NoError(t, err)
	require.NoError(t, out.Commit())
	for i := range s.x.Bundles[:2] {
		s.x.Bundles[i].Patches = []index.Patch{{From: "1.0.0", Bases: []string{hash(a), hash(b)},
			URL: "patches/all.vnp", Size: made.Size, SHA256: made.SHA256}}
	}
	s.store()
	r := got(t, s.dir, dir)
	assert.Equal(t, []string{"keep c.zip", "patch a.zip", "patch b.zip"}, did(r))
	for _, x := range r.Actions {
		assert.Empty(t, x.Note, x.File)
	}
	assert.Equal(t, made.Size, r.Bytes, "fetched once")
	assert.Equal(t, map[string]string{"a.zip": string(a2), "b.zip": string(b2), "c.zip": "same"}, files(t, dir))
	c, err := fetch.Check(ctx, s.dir,
		fetch.CheckOptions{Remote: quick,
			Bases: map[string]string{hash(a): filepath.Join(sides, "1.0.0a.zip"),
				hash(b): filepath.Join(sides, "1.0.0b.zip")}})
	require.NoError(t, err)
	assert.Zero(t, c.Wrong+c.Untried, c.Files)
}

// A mirror has all that the original has, and can be fetched from and checked in its turn; patches
// that do not work do no harm.
func TestMirrorsAndChecks(t *testing.T) {
	s := newShelf(t, "pack", 1)
	one := noise(1, 100_000)
	two := slices.Concat(one[:50_000], []byte("a new light"), one[50_000:])
	s.publish("1.0.0", map[string][]byte{"a.zip": one})
	s.x.Base = "https://downloads.invalid/" // which nobody answers
	s.publish("1.1.0", map[string][]byte{"a.zip": two})
	s.way("1.0.0", string(one), "a.zip", two)
	s.write("list.txt", []byte("map_a\n"))
	s.x.Texts = []index.TextFile{{File: "list.txt", Size: 6, SHA256: hash([]byte("map_a\n"))}}
	s.store(0)
	mirror := t.TempDir()
	got(t, s.dir, mirror, func(o *fetch.Options) { o.Mirror = true })
	assert.Equal(t, files(t, s.dir), files(t, mirror))
	server := httptest.NewServer(http.FileServer(http.Dir(mirror)))
	defer server.Close()
	player := t.TempDir()
	// an older version that somebody downloaded
	require.NoError(t, os.WriteFile(filepath.Join(player, "a-by-hand.zip"), one, 0o644))
	r := got(t, server.URL, player, func(o *fetch.Options) { o.Beside = true })
	assert.Equal(t, []string{"patch a.zip"}, did(r))
	assert.Equal(t, string(two), files(t, player)["a.zip"])

	bases := map[string]string{hash(one): filepath.Join(player, "a-by-hand.zip")}
	check := func(change ...func()) *fetch.Checked {
		t.Helper()
		c, err := fetch.Check(ctx, server.URL,
			fetch.CheckOptions{Trust: s.public, Beside: true, Bases: bases, Remote: quick})
		require.NoError(t, err)
		return c
	}
	c := check()
	require.Len(t, c.Files, 3)
	assert.Zero(t, c.Wrong+c.Untried, c.Files)
	assert.Equal(t, "yes", c.Files[1].Applied)
	bases = nil
	assert.Equal(t, 1, check().Untried)
	_, err := fetch.Check(ctx, server.URL, fetch.CheckOptions{Trust: []string{s.public[0] + " "}, Remote: quick})
	require.NoError(t, err, "the word may have blanks around it; files at the base are only listed as wrong")
	damage := func(name string, change func([]byte) []byte, want string) {
		t.Helper()
		data, err := os.ReadFile(filepath.Join(mirror, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(mirror, name), change(bytes.Clone(data)), 0o644))
		c := check()
		assert.Equal(t, 1, c.Wrong, "%s: %+v", want, c.Files)
		i := slices.IndexFunc(c.Files, func(f fetch.CheckedFile) bool { return !f.OK })
		require.GreaterOrEqual(t, i, 0)
		assert.Contains(t, c.Files[i].Why, want)
		require.NoError(t, os.WriteFile(filepath.Join(mirror, name), data, 0o644))
	}
	damage("a.zip", func(d []byte) []byte { d[5] ^= 1; return d }, "SHA-256")
	damage("a.zip", func(d []byte) []byte { return d[:99] }, "has 99 bytes")
	damage("list.txt", func(d []byte) []byte { return append(d, 'x') }, "more than the 6 bytes")
	damage("patches/1.0.0-a.zip.vnp", func(d []byte) []byte { d[100] ^= 1; return d }, "SHA-256")

	// A patch that is whole and yet leads elsewhere: players get the file all the same, a check says it.
	wrong := slices.Concat(one[:1000], []byte("another light"), one[1000:])
	s.x.Bundles[0].Patches = nil
	s.x.Bundles[0].File = "a.zip"
	s.way("1.0.0", string(one), "a.zip", wrong)
	s.x.Serial++
	s.store(0)
	got(t, s.dir, mirror)
	assert.Contains(t, fmt.Sprint(check().Files[1].Why), "leads to something else")
	player = t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(player, "a.zip"), one, 0o644))
	r = got(t, server.URL, player, func(o *fetch.Options) { o.Beside = true })
	assert.Equal(t, string(two), files(t, player)["a.zip"])
	assert.Contains(t, r.Actions[0].Note, "the patch did not work")
}

// dying is a context that ends after a number of looks at it.
type dying struct {
	context.Context
	left atomic.Int64
}

func (d *dying) Err() error {
	if d.left.Add(-1) < 0 {
		return context.Canceled
	}
	return nil
}

// Stopped at any moment, the folder has the old version or the new one, whole, and the next run brings the new one.
func TestStoppedAnywhere(t *testing.T) {
	s := newShelf(t, "pack", 0)
	old := map[string][]byte{"a.zip": noise(1, 3000), "b-1.zip": noise(2, 2000), "c.zip": noise(3, 100)}
	now := map[string][]byte{"a.zip": noise(4, 3000), "b-2.zip": noise(5, 2000), "d.zip": noise(3, 100)}
	is := func(dir string, want map[string][]byte) bool {
		have := files(t, dir)
		if len(have) != len(want) {
			return false
		}
		for name, data := range want {
			if have[name] != string(data) {
				return false
			}
		}
		return true
	}
	s.publish("1.0.0", old)
	first := filepath.Join(t.TempDir(), "dir")
	got(t, s.dir, first)
	s.publish("1.1.0", now)
	finished := false
	for n := int64(0); !finished; n += 3 {
		require.Less(t, n, int64(3000))
		dir := filepath.Join(t.TempDir(), "dir")
		require.NoError(t, os.CopyFS(dir, os.DirFS(first)))
		c := &dying{Context: ctx}
		c.left.Store(n)
		_, err := fetch.Run(c, dir, fetch.Options{URL: s.dir, Remote: quick, AtOnce: 1})
		finished = err == nil
		assert.True(t, is(dir, old) || is(dir, now), "after %d looks: %v", n, err)
		got(t, "", dir)
		assert.True(t, is(dir, now), "after %d looks, and again", n)
	}
}

func TestWatch(t *testing.T) {
	s := newShelf(t, "pack", 0)
	s.publish("1.0.0", map[string][]byte{"a.zip": []byte("one")})
	written := time.Now().Add(-time.Hour)
	age := func() {
		written = written.Add(time.Minute)
		require.NoError(t, os.Chtimes(filepath.Join(s.dir, "index.json"), written, written))
	}
	age()
	asked := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("If-Modified-Since") != "" {
			asked++
		}
		http.FileServer(http.Dir(s.dir)).ServeHTTP(w, r)
	}))
	defer server.Close()
	dir := t.TempDir()
	until, stop := context.WithCancel(ctx)
	var said []string
	err := fetch.Watch(until, dir, fetch.Options{URL: server.URL, Remote: quick}, time.Millisecond,
		func(r *fetch.Result, err error) {
			switch {
			case err != nil:
				said = append(said, "wrong")
			default:
				said = append(said, fmt.Sprint(r.To, r.Changed))
			}
			switch len(said) {
			case 2:
				s.publish("1.1.0", map[string][]byte{"a.zip": []byte("two")})
				age()
			case 3:
				s.write("index.json", []byte("broken"))
				age()
			case 4:
				stop()
			}
		})
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, []string{"1.0.0true", "1.0.0false", "1.1.0true", "wrong"}, said)
	assert.Equal(t, "two", files(t, dir)["a.zip"])
	assert.Positive(t, asked, "it asks whether there is anything new, not for all of it")
}
