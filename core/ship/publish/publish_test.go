package publish_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/ship/publish"
	"vornix/core/ship/workshop"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

func TestFromTheFirstVersionToTheNext(t *testing.T) {
	d := newDesk(t)
	r := d.must(publish.PlanOptions{})
	assert.True(t, r.Made)
	assert.True(t, r.Hidden)
	x := d.sound("published")
	assert.Equal(t, workshop.Hidden, x.Visibility)
	assert.Equal(t, "Lower Sidings", x.Page.Title)
	assert.Contains(t, x.Page.Description, "Moles do not mind")
	assert.Equal(t, []string{"trams"}, x.Page.Tags)
	assert.Equal(t, "Tram Depot", x.Page.Pictures[0].Text)
	assert.Equal(t, 320, x.Page.Pictures[0].Width)
	first := d.trip.bytes
	record, err := os.ReadFile(d.p.Join(publish.RecordFile))
	require.NoError(t, err)
	assert.Contains(t, string(record), x.ID)

	// Again there is nothing to do, and the record stays as it is, byte by byte.
	d.trip.set(0, "")
	r = d.must(publish.PlanOptions{})
	assert.Zero(t, r.Changed)
	assert.Zero(t, d.trip.sent("P"))
	again, err := os.ReadFile(d.p.Join(publish.RecordFile))
	require.NoError(t, err)
	assert.Equal(t, record, again)

	// A small change goes up in a few chunks; the plan knows about how many before anything is sent.
	d.pack("1.1.0", 2)
	d.write("notes/1.1.0.md", []byte("A lamp more.\r\n"))
	d.trip.set(0, "")
	r = d.must(publish.PlanOptions{})
	assert.Less(t, d.trip.bytes, first/2)
	assert.Equal(t, r.Send, r.Content, "the plan's guess")
	assert.Equal(t, "1.0.0", r.Before)
	x = d.sound("updated")
	assert.Equal(t, "1.1.0", x.Version)
	versions, err := d.maker().Versions(ctx, x.ID)
	require.NoError(t, err)
	assert.Equal(t, "A lamp more.", versions[1].Notes)

	// Only the texts, only the pictures.
	d.p.File.Pages.Tags = []string{"trams", "moles"}
	d.picture("tram_depot", 400, 200)
	d.pack("1.2.0", 3)
	d.must(publish.PlanOptions{Scope: publish.Texts})
	x = d.sound("edited")
	assert.Equal(t, []string{"trams", "moles"}, x.Page.Tags)
	assert.Equal(t, 320, x.Page.Pictures[0].Width)
	assert.Equal(t, "1.1.0", x.Version)
	d.must(publish.PlanOptions{Scope: publish.Pictures})
	x = d.sound("pictures")
	assert.Equal(t, 400, x.Page.Pictures[0].Width)
	assert.Equal(t, "1.1.0", x.Version)

	// A lost record makes no second item.
	require.NoError(t, os.Remove(d.p.Join(publish.RecordFile)))
	r = d.must(publish.PlanOptions{})
	assert.True(t, r.Found)
	assert.False(t, r.Made)
	assert.Equal(t, x.ID, d.sound("found again").ID)
	assert.Equal(t, "1.2.0", d.sound("found again").Version)
}

// Whatever request goes wrong, in whatever way: nothing is half done, no item is made twice, and
// the next run finishes. With new tries, as people run it, most of it is not even noticed.
func TestEveryRequestGoesWrong(t *testing.T) {
	thorough.Only(t)
	d := newDesk(t)
	d.trip.set(0, "")
	d.rename("trial")
	d.must(publish.PlanOptions{})
	requests := d.trip.count
	require.Greater(t, requests, 10)
	finished, n, step := 0, 0, 3
	if os.Getenv("VORNIX_CUTS") != "" { // CI wants all of them
		step = 1
	}
	for i, mode := range []string{"drop", "lost", "half", "error", "busy"} {
		for at := 1 + i%step; at <= requests; at += step {
			what := fmt.Sprintf("%s at request %d", mode, at)
			d.retries = -1
			d.rename(fmt.Sprintf("p-%s-%d", mode, at))
			d.base = byte(n + 1)
			d.pack("1.0.0", 1)
			d.trip.set(at, mode)
			_, _, err := d.publish(publish.PlanOptions{}, publish.Options{})
			if err == nil {
				finished++
			} else {
				assert.Equal(t, fault.Unreachable, fault.KindOf(err), "%s: %v", what, err)
				assertTokenless(t, d, err)
			}
			d.trip.set(0, "")
			x := d.sound(what)
			// the project goes on meanwhile, and what came up is its own
			d.p.File.Pages.Tags = []string{"trams", fmt.Sprint(n)}
			d.must(publish.PlanOptions{})
			now := d.sound(what)
			assert.Equal(t, d.p.File.Pages.Tags, now.Page.Tags, what)
			require.NotNil(t, now)
			if x != nil {
				assert.Equal(t, x.ID, now.ID, what)
			}
			assert.Equal(t, "1.0.0", now.Version, what)
			assert.Len(t, now.Page.Pictures, 1, what)
			n++
			// The same in an update that tries again by itself.
			d.retries = 3
			d.pack("1.1.0", 2)
			d.trip.set(at, mode)
			_, _, err = d.publish(publish.PlanOptions{}, publish.Options{})
			require.NoError(t, err, what)
			now = d.sound(what)
			assert.Equal(t, "1.1.0", now.Version, what)
			versions, err := d.maker().Versions(ctx, now.ID)
			require.NoError(t, err)
			assert.Len(t, versions, 2, what)
		}
	}
	t.Logf("%d publishings with a request that goes wrong: %d went on by themselves", n, finished)
}

// The line is cut after any number of bytes, hundreds of times: in half of them the program tries
// again by itself, in the others the next run does. What was sent once is not sent again.
func TestTheLineIsCutAtRandom(t *testing.T) {
	thorough.Only(t)
	times := 40
	if n, err := strconv.Atoi(os.Getenv("VORNIX_CUTS")); err == nil { // CI wants hundreds
		times = n
	}
	d := newDesk(t)
	line, err := peer.NewLine(strings.TrimPrefix(d.w.URL, "http://"))
	require.NoError(t, err)
	t.Cleanup(line.Close)
	d.target(func(x *project.Target) { x.URL = "http://" + line.Address })
	d.must(publish.PlanOptions{})
	whole := line.Moved()
	r := rand.New(rand.NewPCG(5, 6))
	failed := 0
	for i := range times {
		what := fmt.Sprintf("cut %d", i)
		d.retries = []int{-1, 3}[i%2]
		d.rename(fmt.Sprintf("cut-%d", i))
		d.base = byte(i + 1)
		d.pack("1.0.0", byte(i/256))
		line.After(r.Int64N(whole), false)
		_, _, err := d.publish(publish.PlanOptions{}, publish.Options{})
		if err != nil {
			failed++
			require.Equal(t, fault.Unreachable, fault.KindOf(err), "%s: %v", what, err)
		}
		d.sound(what)
		line.After(1<<40, false)
		d.must(publish.PlanOptions{})
		x := d.sound(what)
		require.Equal(t, "1.0.0", x.Version, what)
	}
	t.Logf("%d publishings whose line was cut: %d were finished by the next run", times, failed)
	assert.Greater(t, failed, times/4)
	assert.Less(t, failed, times)
}

// A workshop that goes away in the middle of an upload and comes back is gone on with, by the same run.
func TestTheWorkshopIsStartedAnewInTheMiddle(t *testing.T) {
	d := newDesk(t)
	d.retries = 8
	var once sync.Once
	list, _, err := d.publish(publish.PlanOptions{}, publish.Options{Advanced: func(stage string, done, total int64) {
		if !strings.HasPrefix(stage, "sending ") || done < total/3 {
			return
		}
		once.Do(func() {
			require.NoError(t, d.w.Close())
			d.stand(strings.TrimPrefix(d.w.URL, "http://"))
		})
	}})
	require.NoError(t, err)
	assert.True(t, list[0].Made)
	assert.Equal(t, "1.0.0", d.sound("started anew").Version)
}

// What somebody else writes on the page is never overwritten without a word.
func TestSomebodyElse(t *testing.T) {
	d := newDesk(t)
	id := d.must(publish.PlanOptions{}).ID
	d.elsewhere(id, func(p *workshop.Page) { p.Title, p.Tags = "Lower Sidings (fixed)", []string{"trams", "night"} })

	// The project did not change these: they stay, also when the rest is published.
	d.p.File.Targets["exchange"] = func() project.Target {
		x := d.p.File.Targets["exchange"]
		x.Testers = nil
		return x
	}()
	d.pack("1.1.0", 2)
	r := d.must(publish.PlanOptions{})
	x := d.sound("stays")
	assert.Equal(t, "Lower Sidings (fixed)", x.Page.Title)
	assert.Equal(t, []string{"trams", "night"}, x.Page.Tags)
	assert.Empty(t, x.Page.Testers)
	assert.Equal(t, "1.1.0", x.Version)
	var stays []string
	for _, s := range r.Steps {
		if s.Action == publish.Stays {
			stays = append(stays, s.Part)
		}
	}
	assert.Equal(t, []string{"title", "tags"}, stays)

	// Also when a publishing fails on its way, whichever request that is: what stayed is not the
	// project's own because of it.
	d.pack("1.1.1", 9)
	for at := 1; ; at++ {
		d.trip.set(at, "lost")
		if _, _, err := d.publish(publish.PlanOptions{}, publish.Options{}); err == nil {
			break
		}
	}
	d.trip.set(0, "")
	x = d.sound("stays still")
	assert.Equal(t, "Lower Sidings (fixed)", x.Page.Title)
	assert.Equal(t, "1.1.1", x.Version)

	// Both changed the tags: a conflict, which is shown, and nothing is done before it is settled.
	d.p.File.Pages.Tags = []string{"trams", "lamps"}
	d.pack("1.2.0", 3)
	list, _, err := d.publish(publish.PlanOptions{}, publish.Options{})
	require.Error(t, err)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.Contains(t, err.Error(), "the tags of lower_sidings")
	require.Len(t, list, 1)
	i := 0
	for list[0].Steps[i].Part != "tags" {
		i++
	}
	assert.Equal(t, publish.Conflict, list[0].Steps[i].Action)
	assert.Equal(t, "trams, night", list[0].Steps[i].From)
	assert.Equal(t, "1.1.1", d.sound("conflict").Version)
	d.must(publish.PlanOptions{Overwrite: true})
	x = d.sound("overwritten")
	assert.Equal(t, []string{"trams", "lamps"}, x.Page.Tags)
	assert.Equal(t, "Lower Sidings", x.Page.Title)
	assert.Equal(t, "1.2.0", x.Version)

	// Somebody writes while it is sent: something else stays and is no reason to stop, the same is a conflict.
	meanwhile := func(change func(*workshop.Page)) ([]*publish.Result, error) {
		var once sync.Once
		list, _, err := d.publish(publish.PlanOptions{}, publish.Options{Advanced: func(stage string, _, _ int64) {
			if strings.HasPrefix(stage, "sending ") {
				once.Do(func() { d.elsewhere(id, change) })
			}
		}})
		return list, err
	}
	d.pack("1.3.0", 4)
	list, err = meanwhile(func(p *workshop.Page) { p.Description = "Another text." })
	require.NoError(t, err)
	assert.True(t, list[0].Again)
	x = d.sound("meanwhile")
	assert.Equal(t, "Another text.", x.Page.Description)
	assert.Equal(t, "1.3.0", x.Version)
	d.pack("1.4.0", 5)
	d.p.File.Pages.Tags = []string{"trams"}
	_, err = meanwhile(func(p *workshop.Page) { p.Tags = []string{"theirs"} })
	require.Error(t, err)
	assert.Contains(t, err.Error(), "the tags of lower_sidings")
	x = d.sound("meanwhile the same")
	assert.Equal(t, []string{"theirs"}, x.Page.Tags)
	assert.Equal(t, "1.3.0", x.Version)
}

func TestAnItemThatWasDeleted(t *testing.T) {
	d := newDesk(t)
	id := d.must(publish.PlanOptions{}).ID
	delete := func() {
		x, err := d.maker().Item(ctx, id)
		require.NoError(t, err)
		d.deleted(x)
	}
	delete()
	_, _, err := d.publish(publish.PlanOptions{}, publish.Options{})
	require.Error(t, err)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.Contains(t, err.Error(), "was deleted at Exchange")
	r := d.must(publish.PlanOptions{New: true})
	assert.True(t, r.Made)
	assert.NotEqual(t, id, r.ID)
	id = r.ID
	assert.False(t, d.must(publish.PlanOptions{New: true}).Made, "with --new-item too, only when there is none")
	delete()
	assert.True(t, d.must(publish.PlanOptions{New: true}).Made, "a key is never free again, and another one is found")

	// Deleted, and the record lost as well: it is not made anew by accident either.
	require.NoError(t, os.Remove(d.p.Join(publish.RecordFile)))
	_, _, err = d.publish(publish.PlanOptions{}, publish.Options{})
	require.Error(t, err)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.Contains(t, err.Error(), "was deleted")

	// Deleted in the middle.
	d.rename("middle")
	id = d.must(publish.PlanOptions{}).ID
	d.pack("1.1.0", 2)
	var once sync.Once
	_, _, err = d.publish(publish.PlanOptions{}, publish.Options{Advanced: func(stage string, _, _ int64) {
		if strings.HasPrefix(stage, "sending ") {
			once.Do(delete)
		}
	}})
	require.Error(t, err)
	assert.True(t, workshop.Is(err, workshop.Gone), "%v", err)

	// Another workshop at the same address is another one.
	require.NoError(t, d.w.Close())
	d.dir = t.TempDir()
	d.stand("")
	d.target(func(x *project.Target) { x.URL, x.TokenFile = d.w.URL, filepath.Join(d.dir, "tokens", "maker") })
	_, _, err = d.publish(publish.PlanOptions{}, publish.Options{})
	require.Error(t, err)
	assert.Contains(t, err.Error(), "another workshop than the one")
}

func TestVersionsThatWouldBeAMistake(t *testing.T) {
	d := newDesk(t)
	d.must(publish.PlanOptions{})
	refused := func(want string) {
		t.Helper()
		d.trip.set(0, "")
		_, _, err := d.publish(publish.PlanOptions{}, publish.Options{})
		require.Error(t, err)
		assert.Equal(t, fault.Refused, fault.KindOf(err))
		assert.Contains(t, err.Error(), want)
		assert.Zero(t, d.trip.sent("P"), "nothing was sent")
	}
	old := d.data["1.0.0"]
	d.pack("1.0.0", 7)
	d.data["1.0.0"] = old
	refused("version 1.0.0 is at Exchange with other files")
	d.pack("0.9.0", 7)
	refused("version 0.9.0 comes before 1.0.0")
	d.pack("1.1.0", 2)
	d.must(publish.PlanOptions{})
	x := d.open()
	_, err := x.Withdraw(ctx, "lower_sidings", "1.1.0", "dark", false)
	require.NoError(t, err)
	refused("version 1.1.0 was withdrawn at Exchange: dark")
	now, err := x.Withdraw(ctx, "lower_sidings", "1.1.0", "", true)
	require.NoError(t, err)
	assert.Equal(t, "1.1.0", now.Version)
	same, err := x.Withdraw(ctx, "lower_sidings", "1.1.0", "", true)
	require.NoError(t, err)
	assert.Equal(t, now.Revision, same.Revision, "nothing to do")
	_, err = x.Withdraw(ctx, "lower_sidings", "9.9.9", "dark", false)
	assert.ErrorContains(t, err, "has no version 9.9.9")
	d.bundles[0].SHA256 = strings.Repeat("0", 64) // changed on the disk since it was packed
	d.p.File.Project.Version = "1.2.0"
	_, _, err = d.publish(publish.PlanOptions{}, publish.Options{})
	assert.Error(t, err)
}

// What another machine has begun, this one finishes, hours later: nothing of the project's own state is needed for it.
func TestAnUploadGoesOnElsewhere(t *testing.T) {
	d := newDesk(t)
	stopped, cancel := context.WithCancel(ctx)
	x := d.open()
	goals, _, err := x.Goals(ctx, d.g, d.bundles, nil)
	require.NoError(t, err)
	plan, err := x.Plan(ctx, goals[0], publish.PlanOptions{})
	require.NoError(t, err)
	_, err = x.Run(stopped, plan, publish.Options{Advanced: func(stage string, done, total int64) {
		if strings.HasPrefix(stage, "sending ") && done > total/2 {
			cancel()
		}
	}})
	require.ErrorIs(t, err, context.Canceled)
	id := d.sound("stopped").ID
	for _, name := range []string{publish.RecordFile, project.StateDir} {
		require.NoError(t, os.RemoveAll(d.p.Join(name)))
	}
	r := d.must(publish.PlanOptions{})
	assert.True(t, r.Found)
	assert.Equal(t, id, r.ID)
	assert.Less(t, r.Content, r.Size/2, "what was sent is there")
	assert.Equal(t, "1.0.0", d.sound("gone on").Version)
}

// Items that this one can't be played without must be there.
func TestNeededItems(t *testing.T) {
	d := newDesk(t)
	base := d.must(publish.PlanOptions{}).ID
	d.rename("trams_at_night")
	d.target(func(x *project.Target) { x.Needs = []string{base, "nothinghere"} })
	d.trip.set(0, "")
	_, list, err := d.publish(publish.PlanOptions{}, publish.Options{})
	require.NoError(t, err)
	require.Equal(t, 1, finding.Count(list, finding.Error))
	assert.Contains(t, list[0].Text, `there is no item "nothinghere" at Exchange`)
	assert.Zero(t, d.trip.sent("P"))
	d.target(func(x *project.Target) { x.Needs = []string{base} })
	d.must(publish.PlanOptions{})
	assert.Equal(t, []string{base}, d.sound("needs").Page.Needs)
	dir, err := safefile.MakeDir(t.TempDir())
	require.NoError(t, err)
	defer dir.Close()
	x := d.open()
	goals, _, err := x.Goals(ctx, d.g, d.bundles, nil)
	require.NoError(t, err)
	plan, err := x.Plan(ctx, goals[0], publish.PlanOptions{})
	require.NoError(t, err)
	files, err := x.Preview(ctx, plan, dir)
	require.NoError(t, err)
	page, err := dir.ReadFile(files[0])
	require.NoError(t, err)
	assert.Contains(t, string(page), `/items/`+base+`">Lower Sidings</a>`)
}

// What the workshop would refuse is said before anything is sent, with the file and the line.
func TestNothingIsSentThatWouldBeRefused(t *testing.T) {
	d := newDesk(t)
	d.write("page.md", []byte("# Trams\n\nSee [here](page2.html).\n"))
	d.p.File.Pages.Title = strings.Repeat("Trams ", 20)
	d.p.File.Pages.Tags = nil
	d.p.File.Pages.Pictures = []string{"pictures/tiny.png"}
	d.write("pictures/tiny.png", func() []byte {
		d.picture("tiny", 20, 20)
		data, _ := os.ReadFile(d.p.Join("out/pictures/tiny.png"))
		return data
	}())
	d.trip.set(0, "")
	_, list, err := d.publish(publish.PlanOptions{}, publish.Options{})
	require.NoError(t, err)
	var said []string
	for _, f := range list {
		said = append(said, fmt.Sprintf("%s %s %s: %s", f.Severity, f.ID, f.Place.String(), f.Text))
	}
	for _, want := range []string{"page.md:1", "page.md:3", "title: it has 120 characters",
		"workshop.picture pictures/tiny.png", "warning workshop.missing"} {
		assert.Contains(t, strings.Join(said, "\n"), want)
	}
	assert.Equal(t, 4, finding.Count(list, finding.Error), "%v", said)
	assert.Zero(t, d.trip.sent("P"))
	for _, c := range []struct {
		want   string
		change func()
	}{
		{"was not made yet", func() { require.NoError(t, os.Remove(d.p.Join("out/pictures/tram_depot.png"))) }},
		{"no picture, or damaged",
			func() { d.picture("tram_depot", 320, 160); d.write("pictures/tiny.png", []byte("no")) }},
		{"a picture of the page can't be read", func() { d.p.File.Pages.Pictures = []string{"pictures/none.png"} }},
		{"the page's description can't be read", func() { d.p.File.Pages.Description = "none.md" }},
	} {
		c.change()
		_, _, err := d.publish(publish.PlanOptions{}, publish.Options{})
		assert.ErrorContains(t, err, c.want)
	}
}

func TestAnItemForEachBundle(t *testing.T) {
	d := newDesk(t)
	d.p.Profile.Workshop.Each = "bundle"
	d.bundle("ore_spiral", d.data["1.0.0"][:100_000])
	d.p.File.Pages.Bundles = map[string]project.Page{"tram_depot": {Title: "The Depot", Tags: []string{"depot"}}}
	list, _, err := d.publish(publish.PlanOptions{}, publish.Options{})
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.NotEqual(t, list[0].ID, list[1].ID)
	c := d.maker()
	one, err := c.Item(ctx, list[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "lower_sidings/tram_depot", one.Key)
	assert.Equal(t, "The Depot", one.Page.Title)
	assert.Equal(t, []string{"depot"}, one.Page.Tags)
	two, err := c.Item(ctx, list[1].ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"trams"}, two.Page.Tags)
	assert.EqualValues(t, 100_000, two.Size)
	x := d.open()
	_, _, err = x.Goals(ctx, d.g, d.bundles, []string{"tram_depto"})
	assert.ErrorContains(t, err, `no item "tram_depto"`)
	d.target(func(x *project.Target) { x.Without = []string{"tram_depot"} })
	names, err := d.open().Items(d.bundles, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"ore_spiral"}, names)
}

// Only a finished page is shown, and a player gets what was published, byte by byte, or hears that
// it is something else.
func TestShownAndTried(t *testing.T) {
	d := newDesk(t)
	x := d.open()
	_, err := x.PlanShow(ctx, "lower_sidings", workshop.Public)
	assert.ErrorContains(t, err, "no item lower_sidings")
	d.p.File.Pages.Tags = nil
	d.must(publish.PlanOptions{})
	show, err := x.PlanShow(ctx, "lower_sidings", workshop.Public)
	require.NoError(t, err)
	_, err = x.Show(ctx, show)
	assert.ErrorContains(t, err, "the page of lower_sidings is not finished: tags")
	assert.Equal(t, workshop.Hidden, d.sound("unfinished").Visibility)
	d.p.File.Pages.Tags = []string{"trams"}
	d.must(publish.PlanOptions{})

	get := func() (*publish.Got, string, error) {
		dir, err := safefile.MakeDir(t.TempDir())
		require.NoError(t, err)
		defer dir.Close()
		got, err := d.open().Get(ctx, "lower_sidings", dir, nil)
		return got, dir.Join("tram_depot.vnm"), err
	}
	got, file, err := get()
	require.NoError(t, err, "a tester gets a hidden item")
	assert.Equal(t, "player", got.Account)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, d.data["1.0.0"], data)
	assert.Equal(t, 1, d.sound("followed").Followers)

	d.target(func(x *project.Target) { x.Testers = nil })
	d.must(publish.PlanOptions{})
	_, _, err = get()
	require.Error(t, err)
	assert.Contains(t, err.Error(), "hidden from player")
	d.target(func(x *project.Target) { x.PlayerTokenFile = "" })
	got, _, err = get()
	require.NoError(t, err)
	assert.Equal(t, "maker", got.Account, "without a second account, while it is hidden")
	show, err = x.PlanShow(ctx, "lower_sidings", workshop.Public)
	require.NoError(t, err)
	item, err := x.Show(ctx, show)
	require.NoError(t, err)
	assert.Equal(t, workshop.Public, item.Visibility)
	got, _, err = get()
	require.NoError(t, err)
	assert.Empty(t, got.Account, "as nobody, once everybody sees it")

	// The workshop's disk, or somebody on it, changes a byte.
	broken := 0
	require.NoError(t,
		filepath.WalkDir(filepath.Join(d.dir, "owners"), func(name string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || broken > 0 || strings.HasSuffix(name, ".zst") {
				return err
			}
			data, err := os.ReadFile(name)
			require.NoError(t, err)
			data[len(data)/2] ^= 1
			broken++
			return os.WriteFile(name, data, 0o666)
		}))
	require.Equal(t, 1, broken)
	_, _, err = get()
	assert.ErrorContains(t, err, "is not what was published")
}

// ring is a keyring in memory.
type ring map[string]string

func (r ring) Get(service, user string) (string, error) {
	if s, ok := r[service+" "+user]; ok {
		return s, nil
	}
	return "", errors.New("not there")
}
func (r ring) Set(service, user, secret string) error { r[service+" "+user] = secret; return nil }
func (r ring) Delete(service, user string) error      { delete(r, service+" "+user); return nil }

// A token is taken from the variable, the file, the keyring, one's own folder, in this order, and said nowhere.
func TestTokens(t *testing.T) {
	d := newDesk(t)
	token := func(name string) string {
		data, err := os.ReadFile(filepath.Join(d.dir, "tokens", name))
		require.NoError(t, err)
		return strings.TrimSpace(string(data))
	}
	d.target(func(x *project.Target) { x.TokenFile = "" })
	fails := func(want string) {
		t.Helper()
		_, _, err := d.publish(publish.PlanOptions{}, publish.Options{})
		require.Error(t, err)
		assert.Equal(t, fault.Refused, fault.KindOf(err), "%v", err)
		assert.Contains(t, err.Error(), want)
		assertTokenless(t, d, err)
	}
	fails("there is no token for Exchange")
	d.access.Own = filepath.Join(t.TempDir(), "own")
	where, err := d.open().Keep(token("player"), false)
	require.NoError(t, err)
	info, err := os.Stat(where)
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077)
	assert.Equal(t, "player", d.open().About.Account)
	keyring := ring{}
	d.access.Keyring = keyring
	where, err = d.open().Keep(" "+token("maker")+"\n", false)
	require.NoError(t, err)
	assert.Equal(t, "the system's keyring", where)
	assert.Equal(t, "maker", d.open().About.Account, "the keyring goes before the file")
	file := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(file, []byte(token("player")+"\r\n"), 0o600))
	d.target(func(x *project.Target) { x.TokenFile = file })
	assert.Equal(t, "player", d.open().About.Account)
	d.target(func(x *project.Target) { x.TokenEnv = "WORD" })
	d.access.Env = func(string) string { return token("maker") }
	assert.Equal(t, "maker", d.open().About.Account)
	d.target(func(x *project.Target) { x.Account = "player" })
	fails("is maker's")
	d.target(func(x *project.Target) { x.Account = "" })
	d.access.Env = func(string) string { return "vornix-token-of-somebody" }
	fails("does not know the token")
	d.access.Env = func(string) string { return token("player") }
	d.rename("mine")
	id := d.must(publish.PlanOptions{}).ID
	d.access.Env = func(string) string { return token("maker") }
	fails("that maker may see")
	assert.Len(t, id, 10)
	d.access.Env = nil
	require.NoError(t, os.Chmod(file, 0o644))
	fails("others on this machine may read")
	require.NoError(t, os.Chmod(file, 0o600))
	require.NoError(t, os.WriteFile(file, []byte("two words"), 0o600))
	_, _, err = d.publish(publish.PlanOptions{}, publish.Options{})
	assert.ErrorContains(t, err, "is no token")
	d.target(func(x *project.Target) { x.TokenFile = "" })
	require.NoError(t, d.open().Forget(false))
	assert.Empty(t, keyring)
	fails("there is no token")
	_, err = d.open().Keep("", false)
	assert.Error(t, err)
}

func TestTheRecordIsNotGuessed(t *testing.T) {
	d := newDesk(t)
	d.must(publish.PlanOptions{})
	for _, text := range []string{"[exchange",
		"[exchange]\nworkshop = \"a\"\n[exchange.item.lower_sidings]\nid = \"../x\"\nkey = \"a\"\n"} {
		d.write(publish.RecordFile, []byte(text))
		_, _, err := d.publish(publish.PlanOptions{}, publish.Options{})
		require.Error(t, err)
		assert.Contains(t, err.Error(), "the record of what was published can't be read")
	}
	_, err := publish.Find(d.p, "exchagne", d.access)
	assert.ErrorContains(t, err, `no workshop "exchagne"`)
	_, err = publish.Find(d.p, "practice", d.access)
	assert.ErrorContains(t, err, "is no workshop, but of the kind folder")
	d.target(func(x *project.Target) { x.URL = "../nowhere/stand-workshop.url" })
	_, err = publish.Find(d.p, "exchange", d.access)
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
}

// A run that was killed after its change, and whose record nobody else has, is no reason to stop:
// another clone knows from the item what the project wrote there, and what somebody else did.
func TestARecordThatWasNeverShared(t *testing.T) {
	d := newDesk(t)
	id := d.must(publish.PlanOptions{}).ID
	shared, err := os.ReadFile(d.p.Join(publish.RecordFile))
	require.NoError(t, err)
	published := func(version string, seed byte, tags ...string) (*publish.Result, error) {
		d.p.File.Pages.Tags = tags
		d.pack(version, seed)
		list, _, err := d.publish(publish.PlanOptions{}, publish.Options{})
		if len(list) == 0 {
			return nil, err
		}
		return list[0], err
	}
	_, err = published("1.1.0", 2, "trams")
	require.NoError(t, err)
	for _, record := range [][]byte{shared, nil} { // as it was before, or none at all
		require.NoError(t, os.Remove(d.p.Join(publish.RecordFile)))
		if record != nil {
			require.NoError(t, os.WriteFile(d.p.Join(publish.RecordFile), record, 0o666))
		}
		version := map[bool]string{true: "1.2.0", false: "1.3.0"}[record != nil]
		r, err := published(version, version[2], "lamps", version)
		require.NoError(t, err, version)
		assert.Equal(t, id, r.ID)
		assert.Equal(t, []string{"lamps", version}, d.sound(version).Page.Tags)
	}
	// What somebody else wrote is still theirs.
	d.elsewhere(id, func(p *workshop.Page) { p.Tags = []string{"theirs"} })
	require.NoError(t, os.Remove(d.p.Join(publish.RecordFile)))
	r, err := published("1.4.0", 6, "lamps", "1.3.0")
	require.NoError(t, err)
	assert.Equal(t, []string{"theirs"}, d.sound("stays").Page.Tags)
	assert.Contains(t, fmt.Sprint(r.Steps), "stays")
	require.NoError(t, os.Remove(d.p.Join(publish.RecordFile)))
	_, err = published("1.5.0", 7, "another")
	assert.ErrorContains(t, err, "the tags of lower_sidings")
	assert.Equal(t, []string{"theirs"}, d.sound("conflict").Page.Tags)

	// It is the owner's alone.
	mine, err := d.maker().Item(ctx, id)
	require.NoError(t, err)
	mine, err = d.maker().SetVisibility(ctx, id, workshop.Public, mine.Revision)
	require.NoError(t, err)
	assert.NotEmpty(t, mine.Own)
	stranger, err := workshop.Dial(d.w.URL, workshop.Options{})
	require.NoError(t, err)
	defer stranger.Close()
	seen, err := stranger.Item(ctx, id)
	require.NoError(t, err)
	assert.Empty(t, seen.Own)
}
