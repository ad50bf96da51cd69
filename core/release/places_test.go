package release_test

import (
	"context"
	"crypto"
	"crypto/ed25519"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/signature"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/pack/bundle"
	"vornix/core/release"
	"vornix/core/ship/deploy"
	"vornix/core/ship/index"
	"vornix/core/ship/publish"
	"vornix/internal/demotest"
	"vornix/internal/peer"
)

// clone copies a project as version control would: without what is made, and without what this machine remembers.
func clone(t *testing.T, p *project.Project, name string, without ...string) *project.Project {
	t.Helper()
	to := filepath.Join(filepath.Dir(p.Dir), name)
	require.NoError(t, os.CopyFS(to, os.DirFS(p.Dir)))
	for _, rel := range append(without, "out", ".vornix") {
		require.NoError(t, os.RemoveAll(filepath.Join(to, rel)))
	}
	return demotest.Load(t, to)
}

// refused wants an error of a kind with a text, and that neither the server nor the website changed.
func refused(t *testing.T, p *project.Project, work func() error, texts ...string) *fault.Fault {
	t.Helper()
	before := everything(t, p)
	err := work()
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	for _, text := range texts {
		assert.Contains(t, f.Error()+" "+f.Why+" "+f.Do, text)
	}
	assert.Equal(t, before, everything(t, p), "nothing was changed where players look")
	return f
}

// everything hashes all files of the demo's servers and websites but for the clock and lock of targets.
func everything(t *testing.T, p *project.Project) map[string]string {
	t.Helper()
	sums := map[string]string{}
	for _, top := range []string{"servers", "website"} {
		root := filepath.Join(filepath.Dir(p.Dir), top)
		require.NoError(t, filepath.WalkDir(root, func(name string, e os.DirEntry, err error) error {
			if err != nil || e.IsDir() || strings.Contains(filepath.ToSlash(name), "/staged/") {
				return err
			}
			sum, _, err := safefile.HashFile(name)
			sums[name] = sum
			return err
		}))
	}
	return sums
}

// withWebsite gives the project of tiles a folder that players download from.
func withWebsite(t *testing.T, p *project.Project) *project.Project {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Join(filepath.Dir(p.Dir), "website", "sidings"), 0o777))
	data, err := os.ReadFile(p.Join("vornix.toml"))
	require.NoError(t, err)
	demotest.Put(t, p, "vornix.toml",
		append(data, "\n[target.website]\nkind = \"folder\"\nrole = \"downloads\"\npath = \"../website/sidings\"\n"...))
	return demotest.Load(t, p.Dir)
}

// A clone knows from the committed records what was released; without them, from the places that have it.
func TestAFreshCloneKnowsWhatWasReleased(t *testing.T) {
	p := withWebsite(t, sidings(t))
	_, err := with(t, ctx, p, "1.0.0", nil)
	require.NoError(t, err)
	assert.FileExists(t, p.Join("releases/1.0.0.toml"))

	changed := func(p *project.Project) {
		demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	}
	b := clone(t, p, "second")
	_, err = with(t, ctx, b, "", nil)
	require.NoError(t, err, "the same sources make the same bundles")
	assert.FileExists(t, b.Join("out/releases/1.0.0/tram_depot.vnm"))
	changed(b)
	refused(t, p, func() error { _, err := with(t, ctx, b, "", nil); return err }, "version 1.0.0 is released", "1.0.1")

	// The record was never pushed: the places themselves know, and so do all commands that bring something out.
	c := clone(t, p, "third", "releases")
	changed(c)
	f := refused(t, p, func() error { _, err := with(t, ctx, c, "", nil); return err },
		"version 1.0.0 was released with another content", "vornix release 1.0.1")
	assert.Equal(t, fault.Refused, f.Kind)
	s := demotest.Open(t, c)
	_, built, err := s.Build(ctx, nil)
	require.NoError(t, err)
	_, bundles, err := s.Pack(ctx, &built.Tree, false)
	require.NoError(t, err)
	s.Close()
	o := release.Options{Access: deploy.Access{Env: os.Getenv, Trust: trust.Everything}}
	refused(t, p, func() error {
		_,
			err := release.CheckPlaces(ctx, c, bundles, false, o, release.Query{})
		return err
	}, "version 1.0.0 was released with another content")

	// A later version that nobody here knows stops any other, until its record is here.
	_, err = with(t, ctx, p, "1.1.0", nil)
	require.NoError(t, err)
	refused(t, p, func() error { _, err := with(t, ctx, c, "1.2.0", nil); return err }, "version 1.1.0 was released",
		"git pull", "vornix history --adopt")
	for _, behind := range []*project.Project{b, c} {
		v, err := release.Survey(ctx, demotest.Load(t, behind.Dir), o, func(*deploy.State) string { return "" },
			func(*publish.State) string { return "" })
		require.NoError(t, err)
		assert.Equal(t, "vornix history", v.Next, "status does not say that there is nothing to do")
		assert.Contains(t, v.Why, "has version 1.1.0, which was released from elsewhere")
	}
	h, err := release.ReadHistory(ctx, c, o)
	require.NoError(t, err)
	require.Len(t, h.Versions, 2)
	assert.Equal(t, "1.1.0", h.Versions[0].Version)
	assert.False(t, h.Versions[0].Recorded)
	s = demotest.Open(t, c)
	done, err := s.Adopt(ctx, h.Places)
	require.NoError(t, err)
	assert.Equal(t, []string{"1.0.0", "1.1.0"}, done.Versions)
	assert.Empty(t, done.Part)
	s.Close()
	adopted, err := ledger.Records(c)
	require.NoError(t, err)
	original, err := ledger.Records(p)
	require.NoError(t, err)
	assert.Equal(t, original[1].Files(), adopted[1].Files())
	_, err = with(t, ctx, c, "1.2.0", nil)
	require.NoError(t, err)
	refused(t, p, func() error { _, err := with(t, ctx, p, "1.2.0", nil); return err }, "version 1.2.0")
}

// A version that this machine deployed while it was being made is not the one that somebody else
// released under its number.
func TestAVersionThatWasTriedHereAndReleasedElsewhere(t *testing.T) {
	p := withWebsite(t, sidings(t))
	_, err := with(t, ctx, p, "1.0.0", nil)
	require.NoError(t, err)
	b := clone(t, p, "second")
	deploying := func(p *project.Project, title string) {
		demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="`+title+`"`)
		require.NoError(t, p.SetVersion("1.1.0"))
		s := demotest.Open(t, p)
		defer s.Close()
		_, built, err := s.Build(ctx, nil)
		require.NoError(t, err)
		_, bundles, err := s.Pack(ctx, &built.Tree, false)
		require.NoError(t, err)
		_, err = s.Deploy(ctx, "practice", bundles)
		require.NoError(t, err)
	}
	deploying(b, "Tram Shed")
	demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Barn"`)
	_, err = with(t, ctx, p, "1.1.0", nil)
	require.NoError(t, err, "what was only tried is no release")
	refused(t, p, func() error { _, err := with(t, ctx, b, "1.2.0", nil); return err },
		"version 1.1.0 was released elsewhere")

	// What this machine itself brought out, without finishing it, is known here.
	_, err = with(t, ctx, p, "1.2.0", func(o *release.Options) { o.Until = "deploy" })
	require.NoError(t, err)
	demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Barn"`, `title="Tram Hall"`)
	_, err = with(t, ctx, p, "1.3.0", nil)
	require.NoError(t, err)
}

// No record is written of a version of which the places may know only some bundles.
func TestAPartOfAVersionIsNoRecord(t *testing.T) {
	p := sidings(t)
	demotest.Edit(t, p, "vornix.toml", "[target.practice]\n", "[target.practice]\nmaps = [\"tram_depot\"]\n")
	delete(p.File.Targets, "downloads")
	toml := text(t, p, "vornix.toml")
	start := strings.Index(toml, "[target.downloads]")
	end := strings.Index(toml, "[target.exchange]")
	demotest.Put(t, p, "vornix.toml", []byte(toml[:start]+toml[end:]))
	_, err := with(t, ctx, p, "1.0.0", nil)
	require.NoError(t, err)
	b := clone(t, p, "second", "releases")
	s := demotest.Open(t, b)
	h, err := release.ReadHistory(ctx, b,
		release.Options{Access: deploy.Access{Env: os.Getenv, Trust: trust.Everything}})
	require.NoError(t, err)
	done, err := s.Adopt(ctx, h.Places)
	require.NoError(t, err)
	assert.Equal(t, []string{"1.0.0"}, done.Part)
	assert.Empty(t, done.Files)
	assert.NoDirExists(t, b.Join("releases"))
}

// A place that can't be asked stops what would go out, unless somebody vouches for it.
func TestAPlaceThatCantBeAsked(t *testing.T) {
	p := withWebsite(t, sidings(t))
	website := filepath.Join(filepath.Dir(p.Dir), "website", "sidings")
	require.NoError(t, os.Rename(website, website+"-away"))
	var o release.Options
	f := refused(t, p,
		func() error { _, err := release.CheckPlaces(ctx, p, nil, false, o, release.Query{}); return err },
		"target website does not answer", "--offline")
	assert.Equal(t, fault.Unreachable, f.Kind)
	o.Offline = true
	places, err := release.CheckPlaces(ctx, p, nil, false, o, release.Query{})
	require.NoError(t, err)
	assert.Contains(t, places.Silent(), "target website")
	require.NoError(t, os.Rename(website+"-away", website))

	// One that was not allowed yet lets nobody in: that is silence, and no answer.
	p.File.Targets["guarded"] = project.Target{Kind: "sftp", Host: "127.0.0.1", Port: 1, PasswordEnv: "SECRET",
		Path: "x"}
	o = release.Options{Access: deploy.Access{Env: func(string) string { return "x" },
		Trust: func(_ *project.Project, want []trust.Permission) ([]trust.Permission, error) { return want, nil }}}
	_, err = release.CheckPlaces(ctx, p, nil, false, o, release.Query{})
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
	o.Offline = true
	_, err = release.CheckPlaces(ctx, p, nil, false, o, release.Query{})
	require.NoError(t, err)
	delete(p.File.Targets, "guarded")

	// What answers with something that can't be understood is not merely silent.
	require.NoError(t,
		os.WriteFile(filepath.Join(website, "index.json"), []byte("{\"kind\": \"vornix index\", \"format\": 9"), 0o666))
	for _, offline := range []bool{false, true} {
		refused(t, p, func() error {
			_, err := with(t, ctx, p, "", func(o *release.Options) { o.Offline = offline })
			return err
		}, "the index that players get can't be read")
	}
	require.NoError(t, os.Remove(filepath.Join(website, "index.json")))
	head := filepath.Join(filepath.Dir(p.Dir), "servers", "burrow", ".vornix-target", p.File.Project.Name, "head.json")
	require.NoError(t, os.MkdirAll(filepath.Dir(head), 0o777))
	require.NoError(t,
		os.WriteFile(head, []byte(`{"kind":"vornix target","format":99,"project":"lower_sidings","records":[]}`),
			0o666))
	refused(t, p, func() error {
		_,
			err := with(t, ctx, p, "", func(o *release.Options) { o.Offline = true })
		return err
	}, "by a later Vornix")
}

// The index goes on from the one that players get, whoever wrote that and wherever: its number
// rises, and its keys count.
func TestTheIndexGoesOnFromAnyClone(t *testing.T) {
	p := withWebsite(t, sidings(t))
	key, other := newKey(t), newKey(t)
	keys := func(list ...crypto.Signer) func(*release.Options) {
		return func(o *release.Options) { o.Keys = list }
	}
	website := filepath.Join(filepath.Dir(p.Dir), "website", "sidings")
	published := func() *index.Index {
		data, err := os.ReadFile(filepath.Join(website, index.FileName))
		require.NoError(t, err)
		x, err := index.Read(data)
		require.NoError(t, err)
		for _, r := range x.Bundles {
			sum, _, err := safefile.HashFile(filepath.Join(website, r.File))
			require.NoError(t, err)
			require.Equal(t, r.SHA256, sum, "what the index names is there")
		}
		return x
	}
	_, err := with(t, ctx, p, "1.0.0", nil)
	require.NoError(t, err)
	require.Empty(t, published().Signatures)
	first := demotest.Open(t, p, keys(key))
	packed, err := bundle.Packed(p)
	require.NoError(t, err)
	_, err = first.Index(ctx, packed, "", nil) // signed here for the first time, and not published yet
	require.NoError(t, err)
	first.Close()
	_, err = with(t, ctx, p, "1.0.0", keys(key))
	require.NoError(t, err)
	require.Equal(t, int64(2), published().Serial)
	b := clone(t, p, "second")
	demotest.Edit(t, b, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	wrong := clone(t, b, "wrong")
	refused(t, p, func() error { _, err := with(t, ctx, wrong, "1.1.0", nil); return err },
		"the index is signed, and no key is named")
	refused(t, p, func() error { _, err := with(t, ctx, wrong, "1.1.0", keys(other)); return err },
		"none of the keys that sign is one that signed the last index")
	r, err := with(t, ctx, b, "1.1.0", keys(key))
	require.NoError(t, err)
	x := published()
	assert.Equal(t, int64(3), x.Serial)
	require.NoError(t, x.Trusted([]string{signature.Public(key)}))
	assert.Contains(t, find(r.Steps, "patch").Summary, "after fetching 1.0.0 from target website",
		"no copy of 1.0.0 was here")
	require.Len(t, x.Bundles[0].Patches, 1)
	assert.FileExists(t, filepath.Join(website, "patches", "lower_sidings-1.0.0-to-1.1.0.vnp"))

	// A stranger's index in the place of ours: it decides nothing.
	strange := *x
	strange.Serial = 40
	require.NoError(t, strange.Sign([]crypto.Signer{other}, nil, 0, time.Now(), true))
	data, err := strange.Encode()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(website, index.FileName), data, 0o666))
	refused(t, p, func() error { _, err := with(t, ctx, b, "1.2.0", keys(key)); return err },
		"not signed by a key of this project")
	_, err = with(t, ctx, b, "1.2.0", func(o *release.Options) { o.Keys, o.LostKey = []crypto.Signer{key}, true })
	require.NoError(t, err)
	assert.Equal(t, int64(41), published().Serial)

	// Who has an older index here can't put it over a newer one there.
	require.NoError(t, os.RemoveAll(p.Join("out/index")))
	old := clone(t, p, "third")
	s := demotest.Open(t, old)
	_, built, err := s.Build(ctx, nil)
	require.NoError(t, err)
	_, bundles, err := s.Pack(ctx, &built.Tree, false)
	require.NoError(t, err)
	_, err = s.Index(ctx, bundles, "", nil)
	require.NoError(t, err)
	refused(t, p, func() error { _, err := s.Deploy(ctx, "website", bundles); return err }, "has index number 41")
}

// Records that were changed, damaged, contradicted, or are of a later form: one clear error each, and nothing goes out.
func TestRecordsThatCantBe(t *testing.T) {
	p := withWebsite(t, sidings(t))
	_, err := with(t, ctx, p, "1.0.0", nil)
	require.NoError(t, err)
	name := p.Join("releases/1.0.0.toml")
	good, err := os.ReadFile(name)
	require.NoError(t, err)
	sum := string(good[strings.Index(string(good), "[[bundle]]"):])
	sum = sum[strings.Index(sum, "sha256 = '")+10:][:64]
	other := strings.Repeat("0123456789abcdef", 4)
	for what, c := range map[string]struct{ old, new, text string }{
		"merge conflict": {"version =", "<<<<<<< HEAD\nversion =",
			"releases/1.0.0.toml:4: the record of a release has an unresolved merge conflict"},
		"another content":   {sum, other, "does not name what was released from here"},
		"no hash":           {sum, "x", "is no SHA-256"},
		"a later form":      {"format = 1", "format = 2", "format 2"},
		"a later form, new": {"format = 1", "format = 2\nwhat = 'is this'", "format 2"},
		"an unknown key": {"format = 1", "format = 1\nwhat = 'is this'",
			"releases/1.0.0.toml:4: the record of a release can't be read: it has no key \"what\""},
		"another version":       {"version = '1.0.0'", "version = '1.0.1'", "its name says another"},
		"no date":               {"date = '", "date = '31 ", "is no date"},
		"a path that leads out": {"name = 'tram_depot.vnm'", "name = '../tram_depot.vnm'", "is no path"},
	} {
		t.Run(what, func(t *testing.T) {
			require.Contains(t, string(good), c.old)
			require.NoError(t, os.WriteFile(name, []byte(strings.Replace(string(good), c.old, c.new, 1)), 0o666))
			refused(t, p, func() error { _, err := with(t, ctx, p, "", nil); return err }, c.text)
		})
	}
	require.NoError(t, os.WriteFile(name, good, 0o666))

	copied := p.Join("releases/1.0.0.json")
	whole, err := os.ReadFile(copied)
	require.NoError(t, err)
	require.NoError(t,
		os.WriteFile(copied, []byte(strings.Replace(string(whole), `"serial": 1`, `"serial": 7`, 1)), 0o666))
	refused(t, p, func() error { _, err := with(t, ctx, p, "", nil); return err },
		"releases/1.0.0.json: the index that went out with a release was changed")
	require.NoError(t, os.WriteFile(copied, []byte(strings.ReplaceAll(string(whole), "\n", "\r\n")), 0o666))
	_, err = with(t, ctx, p, "", nil)
	require.NoError(t, err, "other line ends are no change")
	require.NoError(t, os.Remove(copied))
	_, err = with(t, ctx, p, "", nil)
	require.NoError(t, err, "it can be had from where players get it")

	// The clock went back to before the last release.
	f := refused(t, p, func() error {
		_, err := with(t, ctx, p, "1.1.0", func(o *release.Options) { o.Date = "2001-01-01" })
		return err
	}, "the release would be dated 2001-01-01")
	assert.Contains(t, f.Do, "--date")
}

// In Git: sources that lack those of the last release, records that only the remote has, a tag that was moved.
func TestReleasesFromSeveralClonesInGit(t *testing.T) {
	git := peer.Need(t, "git")
	for _, who := range []string{"AUTHOR", "COMMITTER"} {
		t.Setenv("GIT_"+who+"_NAME", "Crew")
		t.Setenv("GIT_"+who+"_EMAIL", "crew@example.org")
	}
	p := withWebsite(t, sidings(t))
	in := func(dir string, args ...string) string { return peer.Run(t, dir, git, args...) }
	far := filepath.Join(filepath.Dir(p.Dir), "far.git")
	in(filepath.Dir(p.Dir), "init", "--quiet", "--bare", "--initial-branch=main", far)
	demotest.Put(t, p, ".gitignore", []byte("/out/\n/.vornix/\n"))
	in(p.Dir, "init", "--quiet", "--initial-branch=main")
	in(p.Dir, "add", ".")
	in(p.Dir, "commit", "--quiet", "--message", "sources")
	in(p.Dir, "remote", "add", "origin", far)
	in(p.Dir, "push", "--quiet", "--set-upstream", "origin", "main")
	in(filepath.Dir(p.Dir), "clone", "--quiet", far, filepath.Join(filepath.Dir(p.Dir), "second"))
	b := demotest.Load(t, filepath.Join(filepath.Dir(p.Dir), "second"))
	tagged := func(o *release.Options) { o.Tag = "v{version}" }
	setTag := func(p *project.Project) {
		demotest.Edit(t, p, "vornix.toml", "[target.website]", "[release]\ntag = \"v{version}\"\n\n[target.website]")
		in(p.Dir, "commit", "--quiet", "--all", "--message", "tags")
	}
	setTag(p)
	in(p.Dir, "push", "--quiet")
	in(b.Dir, "pull", "--quiet")
	demotest.Put(t, p, "page.md", []byte("Sidings, and a new page.\n"))
	in(p.Dir, "commit", "--quiet", "--all", "--message", "another page")
	_, err := with(t, ctx, p, "1.1.0", tagged)
	require.NoError(t, err)
	assert.Contains(t, in(p.Dir, "show", "v1.1.0:releases/1.1.0.toml"), "places", "the record is in the tag")
	in(p.Dir, "push", "--quiet", "--follow-tags")

	// The second clone has not pulled. Even with all targets away, the remote knows.
	demotest.Edit(t, b, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	in(b.Dir, "commit", "--quiet", "--all", "--message", "a new name")
	demote := func(o *release.Options) { o.Tag, o.Until = "v{version}", "" }
	refused(t, p, func() error { _, err := with(t, ctx, b, "1.2.0", demote); return err }, "version 1.1.0 was released",
		"git pull")
	assert.Contains(t, text(t, b, "vornix.toml"), `version = "1.0.0"`, "nothing was written")

	// It took over the record but not the sources.
	in(b.Dir, "fetch", "--quiet", "--no-tags", "origin")
	in(b.Dir, "checkout", "--quiet", "origin/main", "--", "releases")
	in(b.Dir, "commit", "--quiet", "--all", "--message", "the record")
	refused(t, p, func() error { _, err := with(t, ctx, b, "1.2.0", tagged); return err },
		"these sources do not contain those of version 1.1.0")
	in(b.Dir, "pull", "--quiet", "--no-rebase", "--tags")
	_, err = with(t, ctx, b, "1.2.0", tagged)
	require.NoError(t, err)
	in(b.Dir, "push", "--quiet", "--follow-tags")

	// A shallow clone can't tell; a moved tag is noticed.
	shallow := filepath.Join(filepath.Dir(p.Dir), "shallow")
	in(filepath.Dir(p.Dir), "clone", "--quiet", "--depth", "1", "file://"+far, shallow)
	c := demotest.Load(t, shallow)
	refused(t, p, func() error { _, err := with(t, ctx, c, "1.3.0", tagged); return err }, "git fetch --unshallow")
	in(c.Dir, "fetch", "--quiet", "--unshallow", "--tags")
	in(p.Dir, "tag", "--force", "--annotate", "--message", "moved", "v1.2.0")
	in(p.Dir, "push", "--quiet", "--force", "origin", "v1.2.0")
	refused(t, p, func() error { _, err := with(t, ctx, c, "1.3.0", tagged); return err },
		"the tag v1.2.0 names another commit")
	in(c.Dir, "fetch", "--quiet", "--force", "--tags")
	_, err = with(t, ctx, c, "1.3.0", tagged)
	require.NoError(t, err)
	records, err := ledger.Records(c)
	require.NoError(t, err)
	var versions []string
	for _, r := range records {
		versions = append(versions, r.Version)
	}
	assert.True(t, slices.Equal([]string{"1.1.0", "1.2.0", "1.3.0"}, versions))
}

// Patches are made from bundles that any place still has; what can't be had is said.
func TestEarlierBundlesFromAnywhere(t *testing.T) {
	p := withWebsite(t, sidings(t))
	_, err := with(t, ctx, p, "1.0.0", nil)
	require.NoError(t, err)
	b := clone(t, p, "second")
	o := release.Options{Access: deploy.Access{Env: os.Getenv, Trust: trust.Everything}}
	demotest.Edit(t, b, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	plan, err := release.PlanRelease(ctx, demotest.Load(t, b.Dir), "1.1.0", o)
	require.NoError(t, err)
	assert.Equal(t, []string{"1.0.0"}, plan.Fetch)
	require.NoError(t, plan.Refuse(ctx, demotest.Load(t, b.Dir), o))
	assert.Empty(t, plan.Refused)
	patches := func() string {
		for _, step := range plan.Steps {
			if step.Step == "patch" {
				return step.What
			}
		}
		return ""
	}
	assert.Equal(t, "from 1.0.0; the bundles of 1.0.0 are fetched first", patches())
	from, err := release.FetchBundles(ctx, b, "1.0.0", o)
	require.NoError(t, err)
	assert.Equal(t, []string{"target website"}, from)
	again, err := release.FetchBundles(ctx, b, "1.0.0", o)
	require.NoError(t, err)
	assert.Empty(t, again, "it is here now")

	// What a place has under the name, and is not what went out, is not taken.
	require.NoError(t, os.RemoveAll(b.Join("out")))
	root := filepath.Dir(p.Dir)
	for _, name := range []string{"website/sidings/tram_depot.vnm", "servers/burrow/levels/tram_depot.vnm"} {
		data, err := os.ReadFile(filepath.Join(root, name))
		require.NoError(t, err)
		data[len(data)/2] ^= 1
		require.NoError(t, os.WriteFile(filepath.Join(root, name), data, 0o666))
	}
	from, err = release.FetchBundles(ctx, b, "1.0.0", o)
	require.NoError(t, err)
	assert.Equal(t, []string{"target downloads"}, from, "the mirror")
	require.NoError(t, os.RemoveAll(b.Join("out")))
	require.NoError(t, os.RemoveAll(filepath.Join(root, "servers", "downloads", "get")))
	_, err = release.FetchBundles(ctx, b, "1.0.0", o)
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
	assert.ErrorContains(t, err, "tram_depot.vnm of version 1.0.0 can't be had any more")
	assert.NoDirExists(t, b.Join("out/releases"))
	r, err := with(t, ctx, b, "1.1.0", func(o *release.Options) { o.Overwrite = true })
	require.NoError(t, err)
	assert.Empty(t, r.Report.Patches)
	require.Len(t, r.Report.NoPatches, 1, "the report says it")
	assert.Contains(t, r.Report.NoPatches[0], "none from 1.0.0: tram_depot.vnm of version 1.0.0 can't be had any more")
	assert.Contains(t, text(t, b, "out/reports/1.1.0.html"), "Patches: none from 1.0.0")
	canceled, stop := context.WithCancel(ctx)
	stop()
	_, err = release.FetchBundles(canceled, b, "1.0.0", o)
	assert.ErrorIs(t, err, context.Canceled)
}

// newKey makes a key that signs.
func newKey(t *testing.T) crypto.Signer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	return key
}
