package release_test

import (
	"context"
	"crypto/sha256"
	"encoding/xml"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/game/gameserver"
	"vornix/core/make/assembly"
	"vornix/core/pack/patch"
	"vornix/core/release"
	"vornix/core/release/report"
	"vornix/core/ship/deploy"
	"vornix/core/ship/indexwriter"
	"vornix/internal/demotest"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// sidings is the demo's small project whose server runs; it has no workshop items.
func sidings(t *testing.T) *project.Project {
	t.Helper()
	p := demotest.Built(t, "lower-sidings")
	s, err := gameserver.Start(filepath.Join(p.Dir, "..", "servers", "burrow"), p.Profile, gameserver.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return p
}

// with releases in a session of its own, with options.
func with(t *testing.T, ctx context.Context, p *project.Project, version string,
	change func(*release.Options)) (*release.Run, error) {
	t.Helper()
	o := release.Options{Access: deploy.Access{Env: os.Getenv, Trust: trust.Everything}, Program: "test",
		Stages: assembly.Stages{Only: []string{}}}
	if change != nil {
		change(&o)
	}
	s, err := release.Open(demotest.Load(t, p.Dir), "test", o)
	require.NoError(t, err)
	defer s.Close()
	return s.Release(ctx, version)
}

func text(t *testing.T, p *project.Project, rel string) string {
	t.Helper()
	data, err := os.ReadFile(p.Join(rel))
	require.NoError(t, err)
	return string(data)
}

// A release that is stopped after any of its steps goes on there; what is not done yet is all that
// is left, and a changed source is made again with all that comes of it.
func TestAStoppedReleaseGoesOn(t *testing.T) {
	p := sidings(t)
	for _, stop := range []string{"build", "pack", "try", "index", "deploy"} {
		stopping, cancel := context.WithCancel(ctx)
		_, err := with(t, stopping, p, "", func(o *release.Options) {
			o.OnStep = func(s release.Step) {
				if s.Name == stop {
					cancel()
				}
			}
		})
		require.ErrorIs(t, err, context.Canceled, stop)
		plan, err := release.PlanRelease(ctx, demotest.Load(t, p.Dir), "", release.Options{Program: "test"})
		require.NoError(t, err)
		assert.Equal(t, stop, plan.Stopped)
		assert.False(t, plan.Released)
		assert.NoDirExists(t, p.Join("out/releases"), "nothing is finished")
	}
	r, err := with(t, ctx, p, "", nil)
	require.NoError(t, err)
	for _, name := range []string{"build", "shoot", "pack", "try", "addon", "index"} {
		assert.True(t, find(r.Steps, name).Kept, name)
	}
	assert.Equal(t, "1.0.0", r.Report.Version)
	plan, err := release.PlanRelease(ctx, demotest.Load(t, p.Dir), "", release.Options{Program: "test"})
	require.NoError(t, err)
	assert.Empty(t, plan.Stopped)
	assert.True(t, plan.Released)

	stopping, cancel := context.WithCancel(ctx)
	_, err = with(t, stopping, p, "1.1.0", func(o *release.Options) {
		o.OnStep = func(s release.Step) {
			if s.Name == "try" {
				cancel()
			}
		}
	})
	require.ErrorIs(t, err, context.Canceled)
	demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	r, err = with(t, ctx, p, "", nil)
	require.NoError(t, err)
	for _, name := range []string{"build", "pack", "try", "index"} {
		assert.False(t, find(r.Steps, name).Kept, "%s is made of a source that changed", name)
	}
	assert.Equal(t, []string{"tram_depot"}, []string{r.Report.Maps[0].Name})
	assert.Contains(t, strings.Join(r.Report.Maps[0].Changes, "\n"), "Tram Shed")
}

func TestARehearsalLeavesNoTrace(t *testing.T) {
	p := sidings(t)
	_, err := with(t, ctx, p, "", nil)
	require.NoError(t, err)
	demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	demotest.Edit(t, p, "vornix.toml", "[project]", "[release]\npatches = 1\n\n[project]")
	keep := map[string]string{}
	for _, rel := range []string{"vornix.toml", ".vornix/ledger.jsonl", "out/index/index.json",
		"out/reports/1.0.0.html", "../servers/burrow/levels.txt"} {
		keep[rel] = text(t, p, rel)
	}
	r, err := with(t, ctx, p, "2.0.0", func(o *release.Options) { o.Dry = true })
	require.NoError(t, err)
	assert.Contains(t, find(r.Steps, "deploy").Summary, "would get version 2.0.0")
	assert.Contains(t, find(r.Steps, "patch").Summary, "from 1.0.0")
	assert.Nil(t, r.Report)
	for rel, was := range keep {
		assert.Equal(t, was, text(t, p, rel), rel)
	}
	assert.NoDirExists(t, p.Join("out/releases/2.0.0"))
	plan, err := release.PlanRelease(ctx, demotest.Load(t, p.Dir), "2.0.0", release.Options{Program: "test"})
	require.NoError(t, err)
	assert.Empty(t, plan.Stopped, "a rehearsal is no release that goes on")

	// As real it takes what was built from the cache.
	r, err = with(t, ctx, p, "2.0.0", nil)
	require.NoError(t, err)
	for _, m := range find(r.Steps, "build").Made {
		assert.NotEqual(t, "made", m.State, m.Path)
	}
}

// A rehearsal refuses what the release would refuse: files that somebody changed on a target, and
// an index without its signature.
func TestARehearsalRefusesWhatTheReleaseWould(t *testing.T) {
	p := sidings(t)
	_, err := with(t, ctx, p, "", nil)
	require.NoError(t, err)
	name := p.Join("../servers/burrow/levels/tram_depot.vnm")
	was, err := os.ReadFile(name)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(name, []byte("a hot fix"), 0o666))
	demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	for _, dry := range []bool{true, false} {
		r, err := with(t, ctx, p, "1.1.0", func(o *release.Options) { o.Dry = dry })
		assert.Equal(t, fault.Refused, fault.KindOf(err), "%t", dry)
		assert.ErrorContains(t, err, "changed there since")
		if dry {
			assert.True(t, r.Steps[len(r.Steps)-1].Failed)
			assert.Contains(t, find(r.Steps, "index").Summary, "version 1.1.0")
		}
	}
	require.NoError(t, os.WriteFile(name, was, 0o666))
	// Where another maintainer's deployment is replaced, both are named.
	r, err := with(t, ctx, p, "1.1.0", func(o *release.Options) { o.Access.Account, o.Access.Host = "vole", "bank" })
	require.NoError(t, err)
	said := ""
	for _, s := range r.Steps {
		said += s.Summary + "\n"
	}
	assert.Contains(t, said, "vole@bank replaces the deploy of version 1.0.0 by ")
}

// Whatever a rehearsal does and however it ends, the project is as it was afterwards, bytes and
// times: what is packed, patches, metadata, what is remembered.
func TestARehearsalTakesNothing(t *testing.T) {
	p := sidings(t)
	_, err := with(t, ctx, p, "", nil)
	require.NoError(t, err)
	demotest.Put(t, p, "out/mine.txt", []byte("mine"))
	all := func() map[string]string {
		list := map[string]string{}
		require.NoError(t, filepath.WalkDir(p.Dir, func(name string, e fs.DirEntry, err error) error {
			rel := strings.TrimPrefix(filepath.ToSlash(name), filepath.ToSlash(p.Dir))
			if err != nil || e.IsDir() || strings.HasPrefix(rel, "/.vornix/cache/") ||
				strings.HasPrefix(rel, "/.vornix/lock") || strings.HasPrefix(rel, "/.vornix/targets/") {
				return err
			}
			data, err := os.ReadFile(name)
			info, _ := e.Info()
			list[rel] = fmt.Sprintf("%x %s", sha256.Sum256(data), info.ModTime())
			return err
		}))
		return list
	}
	was := all()
	for end, change := range map[string]func(*release.Options){
		"whole":     nil,
		"cancelled": nil,
		"until":     func(o *release.Options) { o.Until = "pack" },
	} {
		dying, cancel := context.WithCancel(ctx)
		_, err := with(t, dying, p, "2.0.0", func(o *release.Options) {
			o.Dry = true
			if change != nil {
				change(o)
			}
			if end == "cancelled" {
				o.OnStep = func(s release.Step) {
					if s.Name == "pack" {
						cancel()
					}
				}
			}
		})
		cancel()
		assert.Equal(t, end == "cancelled", err != nil, "%s: %v", end, err)
		assert.Equal(t, was, all(), end)
	}
	// One that was killed is ended by whoever comes next.
	s, err := release.Open(demotest.Load(t, p.Dir), "test", release.Options{Program: "test"})
	require.NoError(t, err)
	require.NoError(t, s.Rehearse(ctx, "2.0.0"))
	require.NoError(t, s.WriteNotes("2.0.0", []byte("new"), false))
	require.NoError(t, os.RemoveAll(p.Join("out/bundles")))
	demotest.Put(t, p, "out/tree/more.txt", []byte("more"))
	s.Forget()
	s, err = release.Open(demotest.Load(t, p.Dir), "test", release.Options{Program: "test"})
	require.NoError(t, err)
	s.Close()
	assert.Equal(t, was, all())
	// Notes that somebody wrote after the kill are not the rehearsal's, and stay.
	s, err = release.Open(demotest.Load(t, p.Dir), "test", release.Options{Program: "test"})
	require.NoError(t, err)
	require.NoError(t, s.Rehearse(ctx, "2.0.0"))
	require.NoError(t, s.WriteNotes("2.0.0", []byte("new"), false))
	s.Forget()
	demotest.Put(t, p, "notes/2.0.0.md", []byte("better words"))
	s, err = release.Open(demotest.Load(t, p.Dir), "test", release.Options{Program: "test"})
	require.NoError(t, err)
	s.Close()
	assert.Equal(t, "better words", text(t, p, "notes/2.0.0.md"))
}

func TestAReleaseEndsWhereItIsTold(t *testing.T) {
	p := sidings(t)
	r, err := with(t, ctx, p, "1.5.0", func(o *release.Options) { o.Until = "pack" })
	require.NoError(t, err)
	assert.Equal(t, "pack", r.Steps[len(r.Steps)-1].Name)
	assert.Equal(t, "1.5.0", demotest.Load(t, p.Dir).File.Project.Version)
	events, err := ledger.Read(p)
	require.NoError(t, err)
	assert.Empty(t, events)
	// Targets are reached for only by a release that comes to them.
	require.NoError(t, os.RemoveAll(filepath.Join(p.Dir, "..", "servers")))
	_, err = with(t, ctx, p, "", func(o *release.Options) { o.Until = "index" })
	require.NoError(t, err)
	_, err = with(t, ctx, p, "", nil)
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
	_, err = with(t, ctx, p, "", func(o *release.Options) { o.Until = "pak" })
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	assert.ErrorContains(t, err, "no step")
}

// Patches come from as many versions as the project says, lead to exactly the new one, and are not made again.
func TestPatchesOfARelease(t *testing.T) {
	thorough.Only(t)
	p := sidings(t)
	for i, version := range []string{"1.0.0", "1.1.0", "1.2.0", "1.3.0"} {
		if i > 0 {
			demotest.Put(t, p, "maps/note.txt", []byte(version)) // which does not ship
			demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot`, `title="Tram Depot I`)
		}
		r, err := with(t, ctx, p, version, nil)
		require.NoError(t, err)
		var files []string
		for _, m := range find(r.Steps, "patch").Made {
			files = append(files, filepath.Base(m.Path))
		}
		want := map[string][]string{"1.1.0": {"lower_sidings-1.0.0-to-1.1.0.vnp"},
			"1.2.0": {"lower_sidings-1.1.0-to-1.2.0.vnp", "lower_sidings-1.0.0-to-1.2.0.vnp"},
			"1.3.0": {"lower_sidings-1.2.0-to-1.3.0.vnp", "lower_sidings-1.1.0-to-1.3.0.vnp"}}
		assert.Equal(t, want[version], files, version)
		assert.Len(t, r.Report.Patches, len(want[version]))
		for _, f := range r.Report.Patches {
			o, err := patch.Open(p.Join(indexwriter.PatchesDir, f.Name))
			require.NoError(t, err)
			assert.Equal(t, f.SHA256, o.SHA256)
			assert.Equal(t, r.Report.Files[0].SHA256, o.Result.Files[0].SHA256, "it leads to what was released")
			events, err := ledger.Read(p)
			require.NoError(t, err)
			assert.Equal(t, ledger.Release(events, f.From).Files["tram_depot.vnm"], o.Base.Files[0].SHA256,
				"it starts from what was released then")
			for _, b := range o.Brought {
				assert.NotEqual(t, "tram_depot.png", b.To, "the picture has not changed")
			}
			o.Close()
		}
	}
	before := text(t, p, "out/patches/lower_sidings-1.2.0-to-1.3.0.vnp")
	r, err := with(t, ctx, p, "", nil)
	require.NoError(t, err)
	assert.True(t, find(r.Steps, "patch").Kept)
	require.NoError(t, os.Remove(p.Join("out/patches/lower_sidings-1.2.0-to-1.3.0.vnp")))
	r, err = with(t, ctx, p, "", nil)
	require.NoError(t, err)
	assert.False(t, find(r.Steps, "patch").Kept)
	assert.Equal(t, before, text(t, p, "out/patches/lower_sidings-1.2.0-to-1.3.0.vnp"), "the same bytes")
	assert.Len(t, r.Report.Growth, 4)
	// The copy here was deleted: it is fetched from where it was deployed.
	require.NoError(t, os.RemoveAll(p.Join("out/releases/1.2.0")))
	require.NoError(t, os.RemoveAll(p.Join("out/patches")))
	r, err = with(t, ctx, p, "", nil)
	require.NoError(t, err)
	assert.Contains(t, find(r.Steps, "patch").Summary, "after fetching 1.2.0 from target practice")
	assert.Equal(t, "1.2.0", r.Report.Before)
	// None are wanted.
	demotest.Edit(t, p, "vornix.toml", "[project]", "[release]\npatches = 0\n\n[project]")
	r, err = with(t, ctx, p, "", nil)
	require.NoError(t, err)
	assert.Empty(t, find(r.Steps, "patch").Name)
}

func TestNotesOfARelease(t *testing.T) {
	p := sidings(t)
	s := demotest.Open(t, p)
	require.NoError(t, s.WriteNotes("1.0.0", []byte("\ufeffThe first.\r\n\r\n\r\n"), false))
	assert.Equal(t, "The first.\n", text(t, p, "notes/1.0.0.md"))
	require.NoError(t, s.WriteNotes("1.0.0", []byte("The first."), false), "the same again")
	assert.Equal(t, fault.Refused, fault.KindOf(s.WriteNotes("1.0.0", []byte("Another."), false)))
	assert.Equal(t, fault.Refused, fault.KindOf(s.WriteNotes("1.0.0", []byte(" \n"), true)))
	require.NoError(t, s.WriteNotes("1.0.0", []byte("Another."), true))
	s.Close()
	r, err := with(t, ctx, p, "", nil)
	require.NoError(t, err)
	assert.Equal(t, "Another.", r.Report.Notes)
	s = demotest.Open(t, p)
	assert.ErrorContains(t, s.WriteNotes("1.0.0", []byte("Third."), true), "is finished")

	draft := release.NotesDraft(p, "1.1.0", []byte("old words\n"), []string{"map a", "map --> b"})
	assert.Contains(t, string(draft), "  map a\n")
	assert.Equal(t, "old words", string(release.NotesDone(draft)), "the remark never goes out")
	assert.Equal(t, "a\n\nb", string(release.NotesDone([]byte("a\n<!-- vornix: x -->\nb"))))
	assert.Equal(t, "a <!-- mine -->", string(release.NotesDone([]byte("a <!-- mine --><!-- vornix: not ended"))))
}

// A release is tagged in Git: what the tag names is what went out, and nothing is done when that can't be.
func TestATagInGit(t *testing.T) {
	git := peer.Need(t, "git")
	p := sidings(t)
	tagged := func(o *release.Options) { o.Tag = "{name}-v{version}" }
	_, err := with(t, ctx, p, "1.1.0", tagged)
	assert.ErrorContains(t, err, "not in a Git repository")
	assert.NoDirExists(t, p.Join("out"), "it is found before the work")
	run := func(args ...string) string {
		return peer.Run(t, p.Dir, git,
			append([]string{"-c", "user.name=Crew", "-c", "user.email=crew@example.org"}, args...)...)
	}
	t.Setenv("GIT_AUTHOR_NAME", "Crew")
	t.Setenv("GIT_AUTHOR_EMAIL", "crew@example.org")
	t.Setenv("GIT_COMMITTER_NAME", "Crew")
	t.Setenv("GIT_COMMITTER_EMAIL", "crew@example.org")
	run("init", "--quiet")
	demotest.Put(t, p, ".gitignore", []byte("out/\n.vornix/\n"))
	run("add", ".")
	run("commit", "--quiet", "--message", "sources")
	demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	demotest.Put(t, p, "drafts/idea.txt", []byte("which does not ship"))
	_, err = with(t, ctx, p, "1.1.0", tagged)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "1 change not committed: maps/tram_depot.vnx")
	assert.Contains(t, text(t, p, "vornix.toml"), `version = "1.0.0"`)
	run("commit", "--quiet", "--all", "--message", "a new name")
	s := demotest.Open(t, p)
	require.NoError(t, s.WriteNotes("1.1.0", []byte("It has another name."), false))
	s.Close()
	r, err := with(t, ctx, p, "1.1.0", tagged)
	require.NoError(t, err)
	assert.Contains(t, find(r.Steps, "tag").Summary, "lower_sidings-v1.1.0 names commit")
	assert.Contains(t, run("show", "lower_sidings-v1.1.0:vornix.toml"), `version = "1.1.0"`)
	assert.Equal(t, "It has another name.\n", run("show", "lower_sidings-v1.1.0:notes/1.1.0.md"))
	assert.Equal(t, "tag\n", run("cat-file", "-t", "lower_sidings-v1.1.0"))
	assert.Equal(t, "?? drafts/\n", run("status", "--porcelain"), "what does not ship is nobody's business")
	r, err = with(t, ctx, p, "", tagged)
	require.NoError(t, err)
	assert.True(t, find(r.Steps, "tag").Kept)
	run("tag", "lower_sidings-v1.2.0")
	_, err = with(t, ctx, p, "1.2.0", tagged)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	_, err = with(t, ctx, p, "1.2.0", func(o *release.Options) { o.Tag = "none" })
	assert.NoError(t, err)
}

// The report says what is so, and nothing in it can break out of its place or reach out of the page.
func TestTheReportOfARelease(t *testing.T) {
	p := sidings(t)
	demotest.Edit(t, p, "vornix.toml", `title = "Lower Sidings"`, `title = "Lower <script>alert(1)</script> Sidings"`)
	s := demotest.Open(t, p)
	require.NoError(t,
		s.WriteNotes("1.0.0",
			[]byte("Hear <img src=x onerror=alert(2)> ![x](https://evil.example/x.png) [me](javascript:alert(3))."),
			false))
	s.Close()
	_, err := with(t, ctx, p, "", nil)
	require.NoError(t, err)
	demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	demotest.Put(t, p, "maps/old.vnx~", []byte("a backup"))
	r, err := with(t, ctx, p, "1.1.0", nil)
	require.NoError(t, err)
	again, err := report.Read([]byte(text(t, p, "out/reports/1.1.0.json")))
	require.NoError(t, err)
	assert.Equal(t, "1.0.0", again.Before)
	assert.Equal(t, "1.0.0", again.Growth[0].Version)
	for _, s := range again.Steps {
		assert.Positive(t, s.Seconds, "how long %s took is measured", s.Step)
	}
	assert.Equal(t, []string{"downloads", "practice"}, []string{again.Places[0].Target, again.Places[1].Target})
	require.Len(t, again.Findings, 1)
	assert.True(t, again.Findings[0].New, "the release before had it not")
	sum := int64(0)
	for _, k := range again.Kinds {
		sum += k.Packed
	}
	assert.InDelta(t, float64(r.Report.Files[0].Size), float64(sum), 3000,
		"what is packed by kind is the bundle but for its directory")
	for _, version := range []string{"1.0.0", "1.1.0"} {
		page := text(t, p, "out/reports/"+version+".html")
		assert.NotContains(t, page, "<script")
		assert.NotContains(t, page, "<img src=x")
		assert.NotContains(t, page, "javascript:")
		assert.Contains(t, page, "data:image/jpeg;base64,")
		assert.Contains(t, page, "prefers-color-scheme: dark")
		for rest := page; ; { // drawings are XML on their own
			_, after, found := strings.Cut(rest, "<svg")
			if !found {
				break
			}
			drawing, after, _ := strings.Cut(after, "</svg>")
			rest = after
			d := xml.NewDecoder(strings.NewReader("<svg" + drawing + "</svg>"))
			for {
				if _, err := d.Token(); err == io.EOF {
					break
				} else {
					require.NoError(t, err)
				}
			}
		}
	}
	assert.Contains(t, text(t, p, "out/reports/1.1.0.html"), "default-src 'none'; img-src data:",
		"not even a picture is fetched")

	// What is taken off a target by a deployment later on is gone from the report too.
	s = demotest.Open(t, demotest.Load(t, p.Dir))
	target, err := deploy.Open(ctx, p, "downloads", deploy.Access{Env: os.Getenv, Trust: trust.Everything})
	require.NoError(t, err)
	goal, err := target.Back(ctx, "1.0.0", false)
	require.NoError(t, err)
	plan, err := target.Plan(ctx, goal, deploy.PlanOptions{})
	require.NoError(t, err)
	_, _, err = s.Run(ctx, &release.Deploying{Target: target, Goal: goal, Plan: plan}, nil)
	require.NoError(t, err)
	target.Close()
	assert.NotContains(t, text(t, p, "out/reports/1.1.0.html"), "<b>downloads</b>")
	assert.Contains(t, text(t, p, "out/reports/1.1.0.html"), "data:image/jpeg;base64,")
}
