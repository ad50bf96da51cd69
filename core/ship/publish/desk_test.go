package publish_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/pack/bundle"
	"vornix/core/ship/publish"
	"vornix/core/ship/workshop"
	"vornix/core/ship/workshop/standin"
	"vornix/core/source/assetgraph"
	"vornix/internal/contract"
	"vornix/internal/demotest"
)

var ctx = context.Background()

// desk is a project whose bundles are made up, and a stand-in of a workshop.
type desk struct {
	t       *testing.T
	p       *project.Project
	g       *assetgraph.Graph
	bundles []bundle.Bundle
	data    map[string][]byte // of every version that there ever was
	dir     string            // the workshop's
	w       *standin.Workshop
	trip    *trip
	access  publish.Access
	retries int
	base    byte // what most of the bundle is made of
}

func newDesk(t *testing.T) *desk {
	d := &desk{t: t, p: demotest.Project(t, "lower-sidings"), dir: t.TempDir(), data: map[string][]byte{},
		trip: &trip{}, retries: -1}
	d.p.Profile.Workshop.Each = "mod"
	d.stand("")
	c := contract.Read(t)
	d.access = publish.Access{Agent: "vornix/test", Trust: trust.Everything, Client: func(o *workshop.Options) {
		o.Retries, o.Wait, o.MostWait = d.retries, 5*time.Millisecond, 40*time.Millisecond
	}, Round: func(next http.RoundTripper) http.RoundTripper { return d.trip.wrap(c.Wrap(next)) }}
	d.target(func(x *project.Target) {
		*x = project.Target{Kind: "workshop", URL: d.w.URL, TokenFile: filepath.Join(d.dir, "tokens", "maker"),
			PlayerTokenFile: filepath.Join(d.dir, "tokens", "player"), Testers: []string{"player"}}
	})
	d.picture("tram_depot", 320, 160)
	var err error
	d.g, err = assetgraph.ScanProject(ctx, d.p)
	require.NoError(t, err)
	d.pack("1.0.0", 1)
	return d
}

// stand starts the stand-in, at an address when one is given.
func (d *desk) stand(listen string) {
	l := standin.Usual()
	w, err := standin.Start(d.dir,
		standin.Options{Listen: listen, Accounts: []string{"maker", "player"}, Name: "Exchange",
			Kinds: map[string]workshop.Limits{"level": l}})
	require.NoError(d.t, err)
	d.w = w
	d.t.Cleanup(func() { _ = w.Close() })
}

func (d *desk) target(change func(*project.Target)) {
	x := d.p.File.Targets["exchange"]
	change(&x)
	d.p.File.Targets["exchange"] = x
}

func (d *desk) write(rel string, data []byte) {
	d.t.Helper()
	name := d.p.Join(rel)
	require.NoError(d.t, os.MkdirAll(filepath.Dir(name), 0o777))
	require.NoError(d.t, os.WriteFile(name, data, 0o666))
}

func (d *desk) picture(m string, w, h int) {
	var b bytes.Buffer
	require.NoError(d.t, png.Encode(&b, image.NewGray(image.Rect(0, 0, w, h))))
	d.write("out/pictures/"+m+".png", b.Bytes())
}

// pack makes a bundle up: most of it is the same in every version.
func (d *desk) pack(version string, seed byte) {
	d.t.Helper()
	data := make([]byte, 600_000)
	_, _ = rand.NewChaCha8([32]byte{9, d.base}).Read(data)
	_, _ = rand.NewChaCha8([32]byte{seed}).Read(data[400_000:400_100])
	d.p.File.Project.Version = version
	d.bundles = nil
	d.bundle("tram_depot", data)
	d.data[version] = data
}

func (d *desk) bundle(m string, data []byte) {
	d.write(bundle.Dir+"/"+m+".vnm", data)
	sum, size, err := safefile.HashFile(d.p.Join(bundle.Dir, m+".vnm"))
	require.NoError(d.t, err)
	d.bundles = append(d.bundles, bundle.Bundle{Name: m + ".vnm", SHA256: sum, Size: size, Maps: []string{m}})
}

// rename makes the project another one, with no items.
func (d *desk) rename(name string) {
	d.p.File.Project.Name = name
	_ = os.Remove(d.p.Join(publish.RecordFile))
}

func (d *desk) open() *publish.Desk {
	d.t.Helper()
	x, err := publish.Open(ctx, d.p, "exchange", d.access)
	require.NoError(d.t, err)
	d.t.Cleanup(x.Close)
	return x
}

// publish does it all, for all items.
func (d *desk) publish(o publish.PlanOptions, run publish.Options) (list []*publish.Result, findings []finding.Finding,
	err error) {
	x, err := publish.Open(ctx, d.p, "exchange", d.access)
	if err != nil {
		return nil, nil, err
	}
	defer x.Close()
	goals, findings, err := x.Goals(ctx, d.g, d.bundles, nil)
	if err != nil || finding.Count(findings, finding.Error) > 0 {
		return nil, findings, err
	}
	for _, goal := range goals {
		plan, err := x.Plan(ctx, goal, o)
		if err != nil {
			return list, findings, err
		}
		r, err := x.Run(ctx, plan, run)
		list = append(list, r)
		if err != nil {
			return list, findings, err
		}
	}
	return list, findings, nil
}

func (d *desk) must(o publish.PlanOptions) *publish.Result {
	d.t.Helper()
	list, findings, err := d.publish(o, publish.Options{})
	require.NoError(d.t, err)
	require.Len(d.t, list, 1, "%v", findings)
	return list[0]
}

// maker speaks with the workshop as the maker on its web page would, around the project.
func (d *desk) maker() *workshop.Client {
	data, err := os.ReadFile(filepath.Join(d.dir, "tokens", "maker"))
	require.NoError(d.t, err)
	c, err := workshop.Dial(d.w.URL,
		workshop.Options{Token: strings.TrimSpace(string(data)), Retries: 3, Wait: time.Millisecond, Agent: "browser"})
	require.NoError(d.t, err)
	d.t.Cleanup(c.Close)
	return c
}

// elsewhere changes the page as somebody else.
func (d *desk) elsewhere(id string, change func(*workshop.Page)) *workshop.Item {
	d.t.Helper()
	c := d.maker()
	x, err := c.Item(ctx, id)
	require.NoError(d.t, err)
	change(&x.Page)
	state, err := c.MakeDraft(ctx, id, &workshop.NewDraft{Page: x.Page})
	require.NoError(d.t, err)
	_, err = c.Publish(ctx, id, state.ID, x.Revision)
	require.NoError(d.t, err)
	x, err = c.Item(ctx, id)
	require.NoError(d.t, err)
	return x
}

// deleted deletes an item around the project.
func (d *desk) deleted(x *workshop.Item) {
	data, err := os.ReadFile(filepath.Join(d.dir, "tokens", "maker"))
	require.NoError(d.t, err)
	r, err := http.NewRequest("DELETE", d.w.URL+"/v1/items/"+x.ID, nil)
	require.NoError(d.t, err)
	r.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(data)))
	r.Header.Set("If-Match", fmt.Sprintf(`"%d"`, x.Revision))
	a, err := http.DefaultClient.Do(r)
	require.NoError(d.t, err)
	a.Body.Close()
	require.Equal(d.t, http.StatusNoContent, a.StatusCode)
}

// sound says that the workshop has at most one item of the project, whose every version is whole.
// It returns the item; nil for none.
func (d *desk) sound(what string) *workshop.Item {
	d.t.Helper()
	c := d.maker()
	list, err := c.Mine(ctx, d.p.File.Project.Name)
	require.NoError(d.t, err, what)
	require.LessOrEqual(d.t, len(list), 1, what)
	if len(list) == 0 {
		return nil
	}
	versions, err := c.Versions(ctx, list[0].ID)
	require.NoError(d.t, err, what)
	for _, v := range versions {
		var got memory
		require.NoError(d.t, c.Download(ctx, list[0].ID, v.Number, v.Files[0], &got), what)
		require.True(d.t, bytes.Equal(d.data[v.Version], got.Bytes()), "%s: version %s is whole", what, v.Version)
	}
	return &list[0]
}

type memory struct{ bytes.Buffer }

func (m *memory) Size() int64    { return int64(m.Len()) }
func (m *memory) Restart() error { m.Reset(); return nil }

// trip is a way to the workshop on which one request goes wrong. It counts them.
type trip struct {
	mu    sync.Mutex
	count int
	at    int    // the request that goes wrong; 0 for none
	mode  string // drop, lost, half, error, busy
	log   []string
	bytes int64 // of bodies that went up
}

func (x *trip) set(at int, mode string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.count, x.at, x.mode, x.log, x.bytes = 0, at, mode, nil, 0
}

func (x *trip) sent(method string) (n int) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, line := range x.log {
		if strings.HasPrefix(line, method) {
			n++
		}
	}
	return n
}

type wrapped struct {
	x    *trip
	next http.RoundTripper
}

func (x *trip) wrap(next http.RoundTripper) http.RoundTripper { return wrapped{x, next} }

func (w wrapped) RoundTrip(r *http.Request) (*http.Response, error) {
	w.x.mu.Lock()
	w.x.count++
	mode := ""
	if w.x.count == w.x.at {
		mode = w.x.mode
	}
	w.x.log = append(w.x.log, r.Method+" "+r.URL.Path)
	w.x.bytes += max(r.ContentLength, 0)
	w.x.mu.Unlock()
	plain := func(status int) (*http.Response, error) {
		return &http.Response{StatusCode: status, Header: http.Header{"Retry-After": {"0"}},
			Body: io.NopCloser(strings.NewReader("no")), Request: r}, nil
	}
	switch mode {
	case "drop":
		return nil, errors.New("connection reset")
	case "error":
		return plain(500)
	case "busy":
		return plain(429)
	}
	a, err := w.next.RoundTrip(r)
	if err != nil || mode == "" {
		return a, err
	}
	data, _ := io.ReadAll(a.Body)
	a.Body.Close()
	if mode == "half" && len(data) > 1 {
		a.Body = io.NopCloser(io.MultiReader(bytes.NewReader(data[:len(data)/2]), broken{}))
		return a, nil
	}
	return nil, errors.New("connection reset")
}

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, errors.New("connection reset") }

func assertTokenless(t *testing.T, d *desk, err error) {
	t.Helper()
	for _, name := range []string{"maker", "player"} {
		data, readErr := os.ReadFile(filepath.Join(d.dir, "tokens", name))
		require.NoError(t, readErr)
		assert.NotContains(t, fmt.Sprintf("%+v", err), strings.TrimSpace(string(data)))
	}
}
