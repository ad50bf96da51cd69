package standin_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/cdc"
	"vornix/core/ship/workshop"
	"vornix/core/ship/workshop/standin"
	"vornix/internal/contract"
	"vornix/internal/peer"
)

var ctx = context.Background()

// shop is a running stand-in.
type shop struct {
	*standin.Workshop
	t        testing.TB
	dir      string
	contract *contract.Contract
}

func open(t testing.TB, dir string, o standin.Options) *shop {
	o.Accounts = append([]string{"mole", "vole"}, o.Accounts...)
	if o.Kinds == nil {
		l := standin.Usual()
		l.Files.MostBytes, l.Files.Endings = 3<<20, []string{".parcel", ".txt"}
		o.Kinds = map[string]workshop.Limits{"parcel": l}
	}
	w, err := standin.Start(dir, o)
	require.NoError(t, err)
	s := &shop{Workshop: w, t: t, dir: dir, contract: contract.Read(t)}
	t.Cleanup(func() { _ = w.Close() })
	return s
}

func (s *shop) token(account string) string {
	data, err := os.ReadFile(filepath.Join(s.dir, standin.TokensDir, account))
	require.NoError(s.t, err)
	return strings.TrimSpace(string(data))
}

// client speaks as an account; empty is nobody.
func (s *shop) client(account string) *workshop.Client {
	o := workshop.Options{Retries: -1, Agent: "vornix-test", Wrap: s.contract.Wrap}
	if account != "" {
		o.Token = s.token(account)
	}
	c, err := workshop.Dial(s.URL, o)
	require.NoError(s.t, err)
	s.t.Cleanup(c.Close)
	return c
}

// content is a file and its bytes.
type content map[string][]byte

func sumOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

func noise(seed byte, n int) []byte {
	b := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{seed}).Read(b)
	return b
}

func cut(t testing.TB, data []byte) []cdc.Chunk {
	list, err := cdc.Cut(ctx, bytes.NewReader(data), int64(len(data)), nil, nil)
	require.NoError(t, err)
	return list
}

func picture(w, h int, form string) []byte {
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := range m.Pix {
		m.Pix[i] = byte(i * 7)
	}
	m.Set(0, 0, color.White)
	var b bytes.Buffer
	if form == "png" {
		_ = png.Encode(&b, m)
	} else {
		_ = jpeg.Encode(&b, m, nil)
	}
	return b.Bytes()
}

func page(title string, pictures ...[]byte) workshop.Page {
	p := workshop.Page{Title: title, Description: "A *station*.", Tags: []string{"snow"}, Modes: []string{},
		Needs: []string{}, Testers: []string{}, Pictures: []workshop.Picture{}}
	for i, data := range pictures {
		list, _ := cdc.Cut(ctx, bytes.NewReader(data), int64(len(data)), nil, nil)
		p.Pictures = append(p.Pictures,
			workshop.Picture{Name: fmt.Sprintf("%d.png", i), SHA256: sumOf(data), Size: int64(len(data)), Chunks: list})
	}
	return p
}

// send makes a draft, sends what is missing of the data, and returns how many bytes that were.
func send(t testing.TB, c *workshop.Client, id string, d *workshop.NewDraft, data ...[]byte) (*workshop.Draft, int) {
	t.Helper()
	state, err := c.MakeDraft(ctx, id, d)
	require.NoError(t, err)
	pieces := map[string][]byte{}
	for _, x := range data {
		at := int64(0)
		for _, p := range cut(t, x) {
			pieces[p.SHA256] = x[at : at+p.Size]
			at += p.Size
		}
	}
	n := 0
	for _, sum := range state.Missing {
		require.NotNil(t, pieces[sum], "the workshop wants %s", sum)
		n += len(pieces[sum])
		_, err := c.SendChunk(ctx, id, state.ID, sum, pieces[sum])
		require.NoError(t, err)
	}
	return state, n
}

func draft(t testing.TB, p workshop.Page, version string, files content) (*workshop.NewDraft, [][]byte) {
	d := &workshop.NewDraft{Page: p, Version: version}
	var all [][]byte
	for name, data := range files {
		d.Files = append(d.Files,
			workshop.File{Name: name, SHA256: sumOf(data), Size: int64(len(data)), Chunks: cut(t, data)})
		all = append(all, data)
	}
	return d, all
}

// publish makes an item and a version of it.
func publish(t testing.TB, c *workshop.Client, key, version string, data []byte) *workshop.Item {
	t.Helper()
	x, err := c.Make(ctx, workshop.NewItem{Key: key, Kind: "parcel", Title: key})
	require.NoError(t, err)
	pic := picture(320, 200, "png")
	d, all := draft(t, page(key, pic), version, content{"a.parcel": data})
	state, _ := send(t, c, x.ID, d, append(all, pic)...)
	_, err = c.Publish(ctx, x.ID, state.ID, x.Revision)
	require.NoError(t, err)
	x, err = c.Item(ctx, x.ID)
	require.NoError(t, err)
	return x
}

// sink is a download in memory.
type sink struct{ bytes.Buffer }

func (s *sink) Size() int64    { return int64(s.Len()) }
func (s *sink) Restart() error { s.Reset(); return nil }

func download(t testing.TB, c *workshop.Client, id string, number int, f workshop.File) []byte {
	t.Helper()
	var s sink
	require.NoError(t, c.Download(ctx, id, number, f, &s))
	return s.Bytes()
}

// An item's whole life, from hidden to deleted. Every message is held to the protocol's
// description, and every operation of that comes by.
func TestTheLifeOfAnItem(t *testing.T) {
	s := open(t, t.TempDir(), standin.Options{})
	mole, vole, nobody := s.client("mole"), s.client("vole"), s.client("")
	about, err := vole.About(ctx)
	require.NoError(t, err)
	assert.Equal(t, "vole", about.Account)
	data := noise(1, 700_000)
	x := publish(t, mole, "highline", "1.0.0", data)
	assert.Equal(t, workshop.Hidden, x.Visibility)
	assert.Equal(t, "1.0.0", x.Version)
	assert.Equal(t, 320, x.Page.Pictures[0].Width)

	again, err := mole.Make(ctx, workshop.NewItem{Key: "highline", Kind: "parcel", Title: "Another"})
	require.NoError(t, err)
	assert.Equal(t, x.ID, again.ID, "a key makes one item")
	_, err = vole.Item(ctx, x.ID)
	assert.True(t, workshop.Is(err, workshop.NotThere), "%v", err)
	_, err = mole.SetVisibility(ctx, x.ID, workshop.Public, x.Revision)
	require.NoError(t, err)
	x, err = nobody.Item(ctx, x.ID)
	require.NoError(t, err)
	assert.Empty(t, x.Key+strings.Join(x.Page.Testers, ""), "what is its owner's")
	_, err = vole.Follow(ctx, x.ID, true)
	require.NoError(t, err)

	// A small change is a short upload.
	changed := append(append(bytes.Clone(data[:300_000]), noise(2, 500)...), data[300_000:]...)
	pic := picture(320, 200, "png")
	d, all := draft(t, page("Highline", pic), "1.1.0", content{"a.parcel": changed})
	state, n := send(t, mole, x.ID, d, append(all, pic)...)
	assert.Less(t, n, len(data)/2)
	before, err := vole.Version(ctx, x.ID, 1)
	require.NoError(t, err)
	now, err := vole.Item(ctx, x.ID)
	require.NoError(t, err)
	assert.Equal(t, "1.0.0", now.Version, "nothing is there before it is all there")
	done, err := mole.Publish(ctx, x.ID, state.ID, now.Revision)
	require.NoError(t, err)
	assert.Equal(t, 2, done.Version)
	repeated, err := mole.Publish(ctx, x.ID, state.ID, now.Revision)
	require.NoError(t, err, "asking again gives the same answer")
	assert.Equal(t, done.Version, repeated.Version)

	two, err := vole.Version(ctx, x.ID, 2)
	require.NoError(t, err)
	assert.Equal(t, changed, download(t, vole, x.ID, 2, two.Files[0]))
	assert.Equal(t, data, download(t, vole, x.ID, 1, before.Files[0]), "older ones stay")
	half := &sink{}
	half.Write(changed[:123_456])
	require.NoError(t, vole.Download(ctx, x.ID, 2, two.Files[0], half), "from the middle on")
	assert.Equal(t, changed, half.Bytes())
	var seen sink
	require.NoError(t, nobody.Picture(ctx, x.ID, now.Page.Pictures[0], &seen))
	assert.Equal(t, pic, seen.Bytes())
	x, err = vole.Item(ctx, x.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, x.Followers)
	assert.Equal(t, 2, x.Downloads, "going on is no download of its own")
	assert.True(t, x.Following)

	// Taken back and brought again, a version and all of it.
	x, err = mole.Withdraw(ctx, x.ID, 2, "the depot is dark", x.Revision)
	require.NoError(t, err)
	assert.Equal(t, "1.0.0", x.Version)
	err = vole.Download(ctx, x.ID, 2, two.Files[0], &sink{})
	assert.ErrorContains(t, err, "the depot is dark")
	x, err = mole.Withdraw(ctx, x.ID, 2, "", x.Revision)
	require.NoError(t, err)
	assert.Equal(t, "1.1.0", x.Version)
	x, err = mole.Withdraw(ctx, x.ID, 0, "rights", x.Revision)
	require.NoError(t, err)
	err = vole.Download(ctx, x.ID, 1, before.Files[0], &sink{})
	assert.True(t, workshop.Is(err, workshop.Gone), "%v", err)
	x, err = mole.Withdraw(ctx, x.ID, 0, "", x.Revision)
	require.NoError(t, err)

	// What was seen earlier is no reason to write over it.
	_, err = mole.SetVisibility(ctx, x.ID, workshop.Link, x.Revision-1)
	assert.True(t, workshop.Is(err, workshop.Conflict), "%v", err)
	versions, err := mole.Versions(ctx, x.ID)
	require.NoError(t, err)
	assert.Len(t, versions, 2)
	events, err := mole.Events(ctx, x.ID)
	require.NoError(t, err)
	assert.Equal(t, "version 1.1.0; page: title", events[3].What)
	assert.Equal(t, "mole with vornix-test", events[3].By)
	var said []string
	for _, e := range events {
		said = append(said, e.What)
	}
	assert.Contains(t, strings.Join(said, "\n"), "version 1.1.0 withdrawn: ",
		"people know a version by this, not by its number")
	mine, err := mole.Mine(ctx, "highline")
	require.NoError(t, err)
	assert.Len(t, mine, 1)

	// It comes up again as it was, and a workshop that is in use is not started twice.
	_, err = standin.Start(s.dir, standin.Options{})
	assert.ErrorContains(t, err, "vornix stand workshop")
	require.NoError(t, s.Close())
	first := s.contract
	// its making was cut off
	require.NoError(t, os.MkdirAll(filepath.Join(s.dir, "items", "halfmade22", "versions"), 0o777))
	s = open(t, s.dir, standin.Options{})
	assert.NoDirExists(t, filepath.Join(s.dir, "items", "halfmade22"))
	mole, vole = s.client("mole"), s.client("vole")
	was := x
	x, err = vole.Item(ctx, x.ID)
	require.NoError(t, err)
	assert.Equal(t, was.Revision, x.Revision)
	assert.Equal(t, 1, x.Followers)
	assert.Equal(t, changed, download(t, vole, x.ID, 2, two.Files[0]))
	_, err = vole.Follow(ctx, x.ID, false)
	require.NoError(t, err)

	// Drafts can be forgotten, and items deleted; the key of one is not free again.
	d.Page.Title = "Draft"
	d.Files, d.Version = nil, ""
	state, _ = send(t, mole, x.ID, d)
	require.Equal(t, http.StatusNoContent, s.raw("DELETE", "/v1/items/"+x.ID+"/drafts/"+state.ID, "mole", nil, nil))
	_, err = mole.Draft(ctx, x.ID, state.ID)
	assert.True(t, workshop.Is(err, workshop.NotThere), "%v", err)
	require.Equal(t, http.StatusNoContent,
		s.raw("DELETE", "/v1/items/"+x.ID, "mole", nil, http.Header{"If-Match": {fmt.Sprintf(`"%d"`, x.Revision)}}))
	_, err = vole.Item(ctx, x.ID)
	assert.True(t, workshop.Is(err, workshop.Gone), "%v", err)
	_, err = mole.Make(ctx, workshop.NewItem{Key: "highline", Kind: "parcel", Title: "Another"})
	assert.True(t, workshop.Is(err, workshop.Gone), "%v", err)
	assert.Equal(t, s.contract.Operations(), union(first.Used(), s.contract.Used()),
		"everything that is described came by")
}

func union(a, b []string) []string {
	list := slices.Concat(a, b)
	slices.Sort(list)
	return slices.Compact(list)
}

// raw sends anything, through the same description, and gives the status.
func (s *shop) raw(method, path, account string, body io.Reader, header http.Header) int {
	r, err := http.NewRequest(method, s.URL+path, body)
	require.NoError(s.t, err)
	for k, v := range header {
		r.Header[k] = v
	}
	if account != "" {
		r.Header.Set("Authorization", "Bearer "+s.token(account))
	}
	a, err := s.contract.Wrap(http.DefaultTransport).RoundTrip(r)
	require.NoError(s.t, err)
	defer a.Body.Close()
	_, _ = io.Copy(io.Discard, a.Body)
	return a.StatusCode
}

// The description has exactly the routes that there are, and another program's reader of OpenAPI 3.1 takes it.
func TestTheDescription(t *testing.T) {
	s := open(t, t.TempDir(), standin.Options{})
	assert.Equal(t, s.contract.Operations(), s.Routes())
	node := peer.Need(t, "node")
	// import() looks for packages from the folder in which Node runs
	dir := filepath.Join(peer.NodePackage(t, "@seriousme/openapi-schema-validator"), "..", "..", "..")
	script := fmt.Sprintf(`import("@seriousme/openapi-schema-validator").then(async m => { const v = new m.Validator(); console.log(JSON.stringify(await v.validate(%q)), v.version) })`, contract.File())
	assert.Equal(t, `{"valid":true} 3.1`, strings.TrimSpace(peer.Run(t, dir, node, "-e", script)))
}

// Whatever is not as it should be is refused with the right words, and changes nothing.
func TestWhatIsRefused(t *testing.T) {
	s := open(t, t.TempDir(), standin.Options{})
	mole := s.client("mole")
	data := noise(3, 300_000)
	x := publish(t, mole, "highline", "1.0.0", data)
	x, err := mole.SetVisibility(ctx, x.ID, workshop.Public, x.Revision)
	require.NoError(t, err)
	item := "/v1/items/" + x.ID
	other := noise(4, 100_000)
	d, _ := draft(t, page("Other"), "2.0.0", content{"a.parcel": other})
	state, err := mole.MakeDraft(ctx, x.ID, d)
	require.NoError(t, err)
	chunkPath := item + "/drafts/" + state.ID + "/chunks/" + state.Missing[0]
	first := other[:d.Files[0].Chunks[0].Size]
	seen := http.Header{"If-Match": {fmt.Sprintf(`"%d"`, x.Revision)}}
	js := func(v any) io.Reader {
		b, err := json.Marshal(v)
		require.NoError(t, err)
		return bytes.NewReader(b)
	}
	with := func(change func(*workshop.NewDraft)) io.Reader {
		d, _ := draft(t, page("Other"), "2.0.0", content{"a.parcel": other})
		change(d)
		return js(d)
	}
	bomb := func() io.Reader {
		var b bytes.Buffer
		z, _ := zstd.NewWriter(&b)
		_, _ = z.Write(bytes.Repeat([]byte(" "), 40<<20))
		z.Close()
		return &b
	}
	packed := http.Header{"Content-Encoding": {"zstd"}}
	for name, c := range map[string]struct {
		status                int
		method, path, account string
		body                  io.Reader
		header                http.Header
	}{
		"a path that goes up": {404, "GET", "/v1/items/..%2f..%2fetc/versions", "mole", nil, nil},
		"a file that goes up": {404, "GET", item + "/versions/1/files/..%2f..%2faccounts.json", "", nil,
			nil},
		"a picture that goes up": {404, "GET", item + "/pictures/..%2f..%2f..%2faccounts.json", "mole", nil,
			nil},
		"a draft that goes up":   {404, "GET", item + "/drafts/..%2fitem", "mole", nil, nil},
		"a version that is none": {404, "GET", item + "/versions/-1", "", nil, nil},
		"an item that is none":   {404, "GET", "/v1/items/xxxxxxxxxx", "mole", nil, nil},
		"no method of ours":      {405, "PATCH", item, "mole", nil, nil},
		"no token": {401, "POST", "/v1/items", "",
			js(workshop.NewItem{Key: "a", Kind: "parcel", Title: "A"}), nil},
		"a wrong token, even for reading": {401, "GET", item, "", nil,
			http.Header{"Authorization": {"Bearer vornix-token-no"}}},
		"another's name with a good token": {401, "GET", item, "", nil,
			http.Header{"Authorization": {"Basic " + basic("mole", s.token("vole"))}}},
		"a change by a browser's sign-in": {401, "PUT", item + "/visibility", "",
			strings.NewReader(`{"visibility":"hidden"}`),
			http.Header{"Authorization": {"Basic " + basic("mole", s.token("mole"))}, "If-Match": seen["If-Match"]}},
		"a kind that is not taken": {422, "POST", "/v1/items", "mole",
			js(workshop.NewItem{Key: "a", Kind: "boat", Title: "A"}), nil},
		"a key with a path": {422, "POST", "/v1/items", "mole",
			js(workshop.NewItem{Key: "../a", Kind: "parcel", Title: "A"}), nil},
		"no JSON": {400, "POST", "/v1/items", "mole", strings.NewReader("{"), nil},
		"something after it": {400, "POST", "/v1/items", "mole",
			strings.NewReader(`{"key":"a","kind":"parcel","title":"A"}{}`), nil},
		"a member that is not known": {400, "POST", "/v1/items", "mole",
			strings.NewReader(`{"key":"a","kind":"parcel","title":"A","owner":"vole"}`), nil},
		"a message that is too large": {413, "POST", "/v1/items", "mole",
			strings.NewReader(`{"key":"` + strings.Repeat("a", workshop.MaxMessage) + `"}`), nil},
		"a message that becomes too large": {413, "POST", "/v1/items", "mole", bomb(), packed},
		"an encoding that is not known": {400, "POST", "/v1/items", "mole", strings.NewReader("x"),
			http.Header{"Content-Encoding": {"gzip"}}},
		"a change without what was seen": {400, "PUT", item + "/visibility", "mole",
			strings.NewReader(`{"visibility":"link"}`), nil},
		"a visibility that is none": {422, "PUT", item + "/visibility", "mole",
			strings.NewReader(`{"visibility":"all"}`), seen},
		"a withdrawal without a reason": {422, "PUT", item + "/withdrawal", "mole",
			strings.NewReader(`{"reason":" "}`), seen},
		"a version of another's": {404, "PUT", item + "/versions/9/withdrawal", "mole",
			strings.NewReader(`{"reason":"why"}`), seen},
		"a chunk with another content": {422, "PUT", chunkPath, "mole", bytes.NewReader(noise(9, len(first))),
			nil},
		"a chunk that is cut": {422, "PUT", chunkPath, "mole", bytes.NewReader(first[:len(first)-1]),
			nil},
		"a chunk that is too long": {413, "PUT", chunkPath, "mole", bytes.NewReader(make([]byte, 2*cdc.Limit)),
			nil},
		"a chunk that does not unpack":  {422, "PUT", chunkPath, "mole", bytes.NewReader(first), packed},
		"a chunk that unpacks to 40 MB": {422, "PUT", chunkPath, "mole", bomb(), packed},
		"a chunk that nobody wants": {404, "PUT",
			item + "/drafts/" + state.ID + "/chunks/" + sumOf([]byte("x")), "mole", strings.NewReader("x"), nil},
		"publishing what was not sent": {409, "POST", item + "/drafts/" + state.ID + "/publish", "mole",
			js(workshop.Publish{After: x.Revision}), nil},
		"publishing without what was seen": {400, "POST", item + "/drafts/" + state.ID + "/publish", "mole",
			strings.NewReader(`{}`), nil},
		"an empty title": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Page.Title = " " }), nil},
		"a title that is too long": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Page.Title = strings.Repeat("ä", 81) }), nil},
		"HTML in the description": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Page.Description = "<script>alert(1)</script>" }), nil},
		"a link that runs a program": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Page.Description = "[x](javascript:alert(1))" }), nil},
		"too many tags": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Page.Tags = strings.Split("abcdefghi", "") }), nil},
		"an item that needs nothing there": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Page.Needs = []string{"xxxxxxxx"} }), nil},
		"a file with a folder": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Files[0].Name = "../a.parcel" }), nil},
		"a file of another sort": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Files[0].Name = "a.exe" }), nil},
		"two files of a name": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Files = append(d.Files, d.Files[0]) }), nil},
		"files that are too large": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Files[0].Size = 4 << 20 }), nil},
		"chunks that are not the file": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Files[0].Chunks = d.Files[0].Chunks[1:] }), nil},
		"a chunk of a size that can't be": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Files[0].Chunks[0].Size = 1 << 40 }), nil},
		"a negative size": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Files[0].Chunks[0].Size = -5 }), nil},
		"a hash that is a path": {422, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Files[0].Chunks[0].SHA256 = "../../../accounts.json" }), nil},
		// found out when it is published
		"the version that is there": {201, "POST", item + "/drafts", "mole",
			with(func(d *workshop.NewDraft) { d.Version = "1.0.0" }), nil},
		"failing on demand, without a token": {401, "POST", "/fail", "", strings.NewReader(`{"mode":"error"}`), nil},
		"failing in a way that is not known": {400, "POST", "/fail", "mole", strings.NewReader(`{"mode":"sulk"}`), nil},
	} {
		assert.Equal(t, c.status, s.raw(c.method, c.path, c.account, c.body, c.header), name)
	}

	// Whole hashes are checked, not only those of chunks, and pictures are looked at.
	for name, change := range map[string]func(*workshop.NewDraft, []byte) [][]byte{
		"another hash of the whole": func(d *workshop.NewDraft, data []byte) [][]byte {
			d.Files[0].SHA256 = sumOf([]byte("x"))
			return [][]byte{data}
		},
		"no picture": func(d *workshop.NewDraft, data []byte) [][]byte {
			d.Page = page("Other", []byte("GIF89a, or so"))
			return [][]byte{data, []byte("GIF89a, or so")}
		},
		"a picture that is too small": func(d *workshop.NewDraft, data []byte) [][]byte {
			pic := picture(20, 20, "jpeg")
			d.Page = page("Other", pic)
			return [][]byte{data, pic}
		},
		"the version that is there": func(d *workshop.NewDraft, data []byte) [][]byte {
			d.Version = "1.0.0"
			return [][]byte{data}
		},
	} {
		d, _ := draft(t, page("Other"), "2.0.0", content{"a.parcel": other})
		all := change(d, other)
		state, _ := send(t, mole, x.ID, d, all...)
		_, err := mole.Publish(ctx, x.ID, state.ID, x.Revision)
		assert.True(t, workshop.Is(err, workshop.Invalid) || workshop.Is(err, workshop.WrongHash), "%s: %v", name, err)
	}

	now, err := mole.Item(ctx, x.ID)
	require.NoError(t, err)
	assert.Equal(t, x.Revision, now.Revision, "nothing changed")
}

// Requests that never end, in the head or in the body, are let go.
func TestRequestsWithoutEnd(t *testing.T) {
	s := open(t, t.TempDir(), standin.Options{Patience: 300 * time.Millisecond})
	for name, text := range map[string]string{
		"in the head":      "GET /v1 HTTP/1.1\r\nHost: localhost\r\nX-",
		"for another host": "POST /v1/items HTTP/1.1\r\nHost: a\r\nContent-Length: 1000\r\n\r\n{\"key\"",
		"in the body": "POST /v1/items HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer " + s.token("mole") +
			"\r\nContent-Length: 1000\r\n\r\n{\"key\"",
	} {
		conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
		require.NoError(t, err)
		_, err = io.WriteString(conn, text)
		require.NoError(t, err)
		start := time.Now()
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(20*time.Second)))
		line, _ := bufio.NewReader(conn).ReadString('\n')
		assert.Less(t, time.Since(start), 15*time.Second, name)
		assert.NotContains(t, line, " 20", name)
		conn.Close()
	}
}

func basic(name, word string) string {
	r, _ := http.NewRequest("GET", "http://a", nil)
	r.SetBasicAuth(name, word)
	return strings.TrimPrefix(r.Header.Get("Authorization"), "Basic ")
}

// No account can change another's items, see hidden ones, or find out what another one has sent.
func TestAccountsAreApart(t *testing.T) {
	s := open(t, t.TempDir(), standin.Options{Accounts: []string{"shrew"}})
	mole, vole, shrew := s.client("mole"), s.client("vole"), s.client("shrew")
	data := noise(5, 200_000)
	hidden := publish(t, mole, "hidden", "1.0.0", data)
	shown := publish(t, mole, "shown", "1.0.0", data)
	shown, err := mole.SetVisibility(ctx, shown.ID, workshop.Public, shown.Revision)
	require.NoError(t, err)
	d, _ := draft(t, page("Mine"), "1.0.0", content{"a.parcel": data})
	of, err := mole.MakeDraft(ctx, shown.ID, d)
	require.NoError(t, err)
	for _, op := range s.contract.Operations() {
		method, path, _ := strings.Cut(op, " ")
		if method == "GET" && !strings.Contains(path, "draft") && !strings.Contains(path, "events") ||
			strings.HasSuffix(path, "/v1/items") || strings.HasSuffix(path, "/follow") {
			continue
		}
		for _, x := range []*workshop.Item{hidden, shown} {
			at := strings.NewReplacer("{item}", x.ID, "{number}", "1", "{draft}", of.ID, "{sha256}",
				d.Files[0].Chunks[0].SHA256).Replace(path)
			for account, want := range map[string]int{"vole": 403, "": 401} {
				if x == hidden && account != "" {
					want = 404
				}
				assert.Equal(t, want,
					s.raw(method, at, account, strings.NewReader(`{}`), http.Header{"If-Match": {`"1"`}}), "%s as %q",
					op, account)
			}
		}
	}
	for _, path := range []string{"", "/versions", "/versions/1", "/versions/1/files/a.parcel", "/follow"} {
		method := map[bool]string{true: "PUT", false: "GET"}[path == "/follow"]
		assert.Equal(t, 404, s.raw(method, "/v1/items/"+hidden.ID+path, "vole", nil, nil), path)
	}
	list, err := vole.Mine(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, list)

	// The same key, and the same content, of another account are others: what one has sent is no
	// answer to whether another has it.
	x, err := vole.Make(ctx, workshop.NewItem{Key: "hidden", Kind: "parcel", Title: "Vole's"})
	require.NoError(t, err)
	assert.NotEqual(t, hidden.ID, x.ID)
	state, err := vole.MakeDraft(ctx, x.ID, d)
	require.NoError(t, err)
	assert.Len(t, state.Missing, len(d.Files[0].Chunks))

	// A tester sees it, nobody else.
	p := page("hidden")
	p.Testers = []string{"shrew"}
	state, _ = send(t, mole, hidden.ID, &workshop.NewDraft{Page: p})
	_, err = mole.Publish(ctx, hidden.ID, state.ID, hidden.Revision)
	require.NoError(t, err)
	seen, err := shrew.Item(ctx, hidden.ID)
	require.NoError(t, err)
	assert.Empty(t, seen.Page.Testers)
	_, err = vole.Item(ctx, hidden.ID)
	assert.Error(t, err)

	// Tokens are kept as hashes, and in files that nobody else reads.
	require.NoError(t, filepath.WalkDir(s.dir, func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		if strings.Contains(name, standin.TokensDir) {
			info, err := e.Info()
			require.NoError(t, err)
			assert.Zero(t, info.Mode().Perm()&0o077, name)
			return nil
		}
		assert.NotContains(t, string(data), standin.TokenStart, name)
		return nil
	}))
}

// Fifty at once, and two dozen who all change the same thing: nothing is mixed up, and one change wins.
func TestManyAtOnce(t *testing.T) {
	var accounts []string
	for i := range 50 {
		accounts = append(accounts, fmt.Sprintf("maker-%d", i))
	}
	s := open(t, t.TempDir(), standin.Options{Accounts: accounts})
	common := noise(6, 150_000)
	var wg sync.WaitGroup
	for i, account := range accounts {
		wg.Go(func() {
			c := s.client(account)
			data := append(bytes.Clone(common), noise(byte(i), 90_000+i)...)
			x := publish(t, c, "item", fmt.Sprintf("1.0.%d", i), data)
			v, err := c.Version(ctx, x.ID, 1)
			if assert.NoError(t, err) && assert.Equal(t, fmt.Sprintf("1.0.%d", i), v.Version) {
				assert.Equal(t, sumOf(data), sumOf(download(t, c, x.ID, 1, v.Files[0])))
			}
			assert.Equal(t, account, x.Owner)
		})
	}
	wg.Wait()
	mole := s.client("mole")
	x := publish(t, mole, "one", "1.0.0", common)
	var won atomic.Int32
	for i := range 24 {
		wg.Go(func() {
			c := s.client("mole")
			state, _ := send(t, c, x.ID, &workshop.NewDraft{Page: page(fmt.Sprintf("Title %d", i))})
			_, err := c.Publish(ctx, x.ID, state.ID, x.Revision)
			if err == nil {
				won.Add(1)
			} else {
				assert.True(t, workshop.Is(err, workshop.Conflict), "%v", err)
			}
		})
	}
	wg.Wait()
	assert.EqualValues(t, 1, won.Load())
	now, err := mole.Item(ctx, x.ID)
	require.NoError(t, err)
	assert.Equal(t, x.Revision+1, now.Revision)
	for range 10 { // an account that asks for one key at many places has one item
		wg.Go(func() {
			_, err := s.client("mole").Make(ctx, workshop.NewItem{Key: "same", Kind: "parcel", Title: "Same"})
			assert.NoError(t, err)
		})
	}
	wg.Wait()
	mine, err := mole.Mine(ctx, "")
	require.NoError(t, err)
	assert.Len(t, mine, 2)
}

// What was sent for a draft is kept for a week, and what an item has for ever; too many drafts push the oldest out.
func TestWhatIsKept(t *testing.T) {
	s := open(t, t.TempDir(), standin.Options{})
	mole := s.client("mole")
	data, other := noise(7, 200_000), noise(8, 200_000)
	x := publish(t, mole, "highline", "1.0.0", data)
	d, all := draft(t, page("highline"), "1.1.0", content{"a.parcel": other})
	state, _ := send(t, mole, x.ID, d, all...)
	require.NoError(t, s.Tidy(time.Now().AddDate(0, 0, 6)))
	state, err := mole.Draft(ctx, x.ID, state.ID)
	require.NoError(t, err)
	assert.Empty(t, state.Missing)
	require.NoError(t, s.Tidy(time.Now().AddDate(0, 0, 8)))
	require.NoError(t, s.Close())
	s = open(t, s.dir, standin.Options{})
	mole = s.client("mole")
	_, err = mole.Draft(ctx, x.ID, state.ID)
	assert.True(t, workshop.Is(err, workshop.NotThere), "%v", err)
	_, n := send(t, mole, x.ID, d, all...)
	assert.Equal(t, len(other), n, "it has to be sent again")
	v, err := mole.Version(ctx, x.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, data, download(t, mole, x.ID, 1, v.Files[0]))
	for i := range 40 {
		send(t, mole, x.ID, &workshop.NewDraft{Page: page(fmt.Sprintf("Title %d", i))})
	}
	list, err := os.ReadDir(filepath.Join(s.dir, "items", x.ID, "drafts"))
	require.NoError(t, err)
	assert.Len(t, list, 32)
}

// Each way to go wrong is what it says, for as many requests as it says, and is told to or given up by an account.
func TestGoingWrongOnDemand(t *testing.T) {
	s := open(t, t.TempDir(), standin.Options{Fail: standin.Failure{Mode: "error", Times: 1}})
	assert.Equal(t, 500, s.raw("GET", "/v1", "", nil, nil), "from the beginning")
	assert.Equal(t, 200, s.raw("GET", "/v1", "", nil, nil))
	mole := s.client("mole")
	tell := func(f standin.Failure) {
		t.Helper()
		data, err := json.Marshal(f)
		require.NoError(t, err)
		require.Equal(t, http.StatusNoContent, s.raw("POST", "/fail", "mole", bytes.NewReader(data), nil))
	}
	about := func(patience time.Duration) (string, error) {
		c, err := workshop.Dial(s.URL, workshop.Options{Retries: -1, Stall: patience})
		require.NoError(t, err)
		defer c.Close()
		a, err := c.About(ctx)
		if err != nil {
			return err.Error(), err
		}
		return a.Name, nil
	}
	for mode, want := range map[string]string{"busy": "try again in a second", "error": "it was told to",
		"full": "its disk is full", "drop": "does not answer", "lost": "does not answer", "half": "does not answer",
		"page": "no workshop", "hang": "does not answer", "slow": "does not answer"} {
		tell(standin.Failure{Mode: mode, At: "GET /v1", After: 1, Times: 1})
		_, err := about(20 * time.Second)
		require.NoError(t, err, mode)
		patience := 20 * time.Second
		if mode == "hang" || mode == "slow" {
			patience = 200 * time.Millisecond
		}
		said, err := about(patience)
		require.Error(t, err, mode)
		assert.Contains(t, said, want, mode)
		_, err = about(20 * time.Second)
		assert.NoError(t, err, mode)
	}
	assert.Len(t, standin.Failures, 9, "all were tried")

	// What is lost on its way back is done all the same; what is dropped is not.
	tell(standin.Failure{Mode: "lost", At: "POST /v1/items", Times: 1})
	_, err := mole.Make(ctx, workshop.NewItem{Key: "lost", Kind: "parcel", Title: "Lost"})
	assert.Error(t, err)
	tell(standin.Failure{Mode: "drop", At: "POST /v1/items"})
	_, err = mole.Make(ctx, workshop.NewItem{Key: "dropped", Kind: "parcel", Title: "Dropped"})
	assert.Error(t, err)
	tell(standin.Failure{})
	mine, err := mole.Mine(ctx, "")
	require.NoError(t, err)
	require.Len(t, mine, 1)
	assert.Equal(t, "lost", mine[0].Key)
	_, err = standin.Start(t.TempDir(), standin.Options{Fail: standin.Failure{Mode: "sulk"}})
	assert.ErrorContains(t, err, "sulk")
	_, err = standin.Start(t.TempDir(), standin.Options{Accounts: []string{"../mole"}})
	assert.ErrorContains(t, err, "no name of an account")
}

// A folder in which something is damaged is said, with the file, and nothing in it is changed.
func TestADamagedFolder(t *testing.T) {
	s := open(t, t.TempDir(), standin.Options{})
	x := publish(t, s.client("mole"), "highline", "1.0.0", noise(1, 50_000))
	require.NoError(t, s.Close())
	for file, text := range map[string]string{"workshop.toml": "id = ", "accounts.json": "{",
		"items/" + x.ID + "/item.json": `{"id":"another"}`} {
		name := filepath.Join(s.dir, filepath.FromSlash(file))
		was, err := os.ReadFile(name)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
		_, err = standin.Start(s.dir, standin.Options{})
		require.Error(t, err, file)
		assert.Contains(t, filepath.ToSlash(err.Error()), file)
		now, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.Equal(t, text, string(now))
		require.NoError(t, os.WriteFile(name, was, 0o666))
	}
	s = open(t, s.dir, standin.Options{})
	now, err := s.client("mole").Item(ctx, x.ID)
	require.NoError(t, err)
	assert.Equal(t, x.Revision, now.Revision)
}

// The page shows what players read, and nothing of it is taken for a program.
func TestThePage(t *testing.T) {
	s := open(t, t.TempDir(), standin.Options{})
	mole := s.client("mole")
	x := publish(t, mole, "highline", "1.0.0", noise(1, 50_000))
	p := page(`<b>Highline & "friends"</b>`, picture(320, 200, "png"))
	p.Description = "Fly **low**.\n\n| a | b |\n|---|---|\n| 1 | 2 |\n"
	p.Tags = []string{"<i>"}
	state, _ := send(t, mole, x.ID, &workshop.NewDraft{Page: p})
	done, err := mole.Publish(ctx, x.ID, state.ID, x.Revision)
	require.NoError(t, err)
	get := func(path, account string) (int, string, http.Header) {
		r, err := http.NewRequest("GET", s.URL+path, nil)
		require.NoError(t, err)
		if account != "" {
			r.SetBasicAuth(account, s.token(account))
		}
		a, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer a.Body.Close()
		data, err := io.ReadAll(a.Body)
		require.NoError(t, err)
		return a.StatusCode, string(data), a.Header
	}
	code, _, header := get("/items/"+x.ID, "")
	assert.Equal(t, 401, code)
	assert.Contains(t, header.Values("WWW-Authenticate")[0], "Basic")
	code, _, _ = get("/items/"+x.ID, "vole")
	assert.Equal(t, 404, code)
	code, text, header := get("/items/"+x.ID, "mole")
	assert.Equal(t, 200, code)
	assert.Contains(t, header.Get("Content-Security-Policy"), "default-src 'none'")
	for _, want := range []string{"<h1>&lt;b&gt;Highline &amp; &#34;friends&#34;&lt;/b&gt;</h1>",
		"Fly <strong>low</strong>", "<td>2</td>", "<span>&lt;i&gt;</span>", "Hidden: only its owner", "a.parcel",
		"50.0 kB",
		"/v1/items/" + x.ID + "/pictures/"} {
		assert.Contains(t, text, want)
	}
	code, text, _ = get("/", "")
	assert.Equal(t, 200, code)
	assert.Contains(t, text, "There is nothing here yet")
	_, text, _ = get("/mine", "mole")
	assert.Contains(t, text, "&lt;b&gt;Highline")
	_, err = mole.SetVisibility(ctx, x.ID, workshop.Public, done.Revision)
	require.NoError(t, err)
	_, text, _ = get("/", "")
	assert.Contains(t, text, "/items/"+x.ID)
	code, _, header = get("/v1/items/"+x.ID+"/versions/1/files/a.parcel", "")
	assert.Equal(t, 200, code)
	assert.Contains(t, header.Get("Content-Disposition"), "attachment")
	assert.Equal(t, "nosniff", header.Get("X-Content-Type-Options"))
}

// Whatever comes as a draft: it is taken or refused, and the workshop has no fault.
func FuzzDraft(f *testing.F) {
	s := open(f, f.TempDir(), standin.Options{})
	mole := s.client("mole")
	x := publish(f, mole, "highline", "1.0.0", noise(1, 50_000))
	d, _ := draft(f, page("Other", picture(320, 200, "png")), "2.0.0", content{"a.parcel": noise(2, 40_000)})
	seed, err := json.Marshal(d)
	require.NoError(f, err)
	f.Add(seed)
	f.Add([]byte(`{"page":{"title":"a","pictures":[{"chunks":[{}]}]},"files":[{}]}`))
	token := s.token("mole")
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := http.NewRequest("POST", s.URL+"/v1/items/"+x.ID+"/drafts", bytes.NewReader(data))
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+token)
		a, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer a.Body.Close()
		_, _ = io.Copy(io.Discard, a.Body)
		assert.Less(t, a.StatusCode, 500)
	})
}
