package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/game/compare"
	"vornix/internal/thorough"
)

// drawn is what a drawing holds, as XML.
type drawn struct {
	ViewBox string `xml:"viewBox,attr"`
	Rects   []struct {
		X      float64 `xml:"x,attr"`
		Y      float64 `xml:"y,attr"`
		Width  float64 `xml:"width,attr"`
		Height float64 `xml:"height,attr"`
		Title  string  `xml:"title"`
	} `xml:"rect"`
	Texts []struct {
		X      float64 `xml:"x,attr"`
		Y      float64 `xml:"y,attr"`
		Anchor string  `xml:"text-anchor,attr"`
		Text   string  `xml:",chardata"`
	} `xml:"text"`
}

// drawings reads the drawings of a page.
func drawings(t *testing.T, page string) (list []drawn) {
	t.Helper()
	for rest := page; ; {
		_, after, found := strings.Cut(rest, "<svg")
		if !found {
			return list
		}
		one, after, _ := strings.Cut(after, "</svg>")
		rest = after
		var d drawn
		dec := xml.NewDecoder(strings.NewReader("<svg" + one + "</svg>"))
		require.NoError(t, dec.Decode(&d))
		_, err := dec.Token()
		require.Equal(t, io.EOF, err)
		list = append(list, d)
	}
}

func random(seed uint64) *Report {
	r := rand.New(rand.NewPCG(seed, 7))
	size := func() int64 { return int64(r.ExpFloat64() * []float64{1, 1e3, 1e6, 1e9}[r.IntN(4)]) }
	x := &Report{Kind: Kind, Format: Format, Project: "p", Title: "A & <b>B</b> \"C\"", Game: "G",
		Version: fmt.Sprintf("1.%d.0", r.IntN(40)), Date: "2026-11-26"}
	for i := range r.IntN(40) {
		g := Release{Version: fmt.Sprintf("1.%d.0", i), Date: "2026-01-02", Kinds: map[string]int64{}}
		for _, k := range kindClasses {
			if r.IntN(3) > 0 {
				g.Kinds[k] = size()
				g.Size += g.Kinds[k]
			}
		}
		x.Growth = append(x.Growth, g)
		if g.Version != x.Version {
			x.Before = g.Version
		}
	}
	for _, k := range kindClasses[:r.IntN(len(kindClasses)+1)] {
		x.Kinds = append(x.Kinds, Amount{Kind: k, Files: r.IntN(99), Size: size(), Old: size(), Packed: 0})
		x.Kinds[len(x.Kinds)-1].Packed = x.Kinds[len(x.Kinds)-1].Size / 2
	}
	for i := range r.IntN(20) {
		t := Time{Step: "map", Name: strings.Repeat("long_name_", i), Seconds: r.ExpFloat64() * 1000}
		if i%2 == 0 {
			t.Stages = map[string]float64{"visibility": t.Seconds / 4, "lighting": t.Seconds / 2,
				"navigation": t.Seconds / 8}
		}
		x.Times = append(x.Times, t)
	}
	return x
}

// Whatever a project is like, its page is drawn within its bounds, is the same every time, and
// shows every release and kind that it speaks of.
func TestDrawingsStayInTheirBounds(t *testing.T) {
	thorough.Only(t)
	for seed := range uint64(300) {
		r := random(seed)
		var page, again bytes.Buffer
		require.NoError(t, r.WritePage(&page))
		require.NoError(t, r.WritePage(&again))
		require.Equal(t, page.String(), again.String())
		assert.NotContains(t, page.String(), "<b>B</b>")
		assert.NotContains(t, page.String(), "NaN")
		assert.NotContains(t, page.String(), "ZgotmplZ", "a value was refused by its place")
		for _, d := range drawings(t, page.String()) {
			var x, y, w, h float64
			_, err := fmt.Sscan(d.ViewBox, &x, &y, &w, &h)
			require.NoError(t, err)
			for _, b := range d.Rects {
				assert.GreaterOrEqual(t, b.X, 0.0)
				assert.GreaterOrEqual(t, b.Y, -0.5)
				assert.GreaterOrEqual(t, b.Width, 0.0)
				assert.LessOrEqual(t, b.X+b.Width, w+1, "seed %d: %s", seed, b.Title)
				assert.LessOrEqual(t, b.Y+b.Height, h+1, "seed %d: %s", seed, b.Title)
				assert.NotEmpty(t, b.Title, "who points at it hears what it is")
			}
			for _, l := range d.Texts {
				assert.LessOrEqual(t, l.Y, h+1)
				if room := 8.2 * float64(len([]rune(l.Text))); l.Anchor == "end" {
					assert.GreaterOrEqual(t, l.X-room, -12.0, "seed %d: %q is cut off", seed, l.Text)
				} else if l.Anchor == "start" {
					assert.LessOrEqual(t, l.X+room*0.9, w+20, "seed %d: %q is cut off", seed, l.Text)
				}
			}
		}
		if n := len(r.Growth); n >= 2 {
			assert.Contains(t, page.String(), ">"+r.Growth[n-1].Version+"</text>")
		}
		data, err := r.Encode()
		require.NoError(t, err)
		back, err := Read(data)
		require.NoError(t, err)
		assert.Equal(t, len(r.Growth), len(back.Growth))
	}
}

func TestWhatIsNewSinceTheReleaseBefore(t *testing.T) {
	found := func(id string, severity finding.Severity, file, text, accepted string) finding.Finding {
		return finding.Finding{ID: id, Severity: severity, Place: fault.Place{File: file, Line: 3}, Text: text,
			Accepted: accepted}
	}
	before := &Report{Version: "1.0.0"}
	before.Found([]finding.Finding{found("a.b", finding.Note, "x-1.0.0.parcel", "it is so", ""),
		found("c.d", finding.Warning, "m.vnx", "old", "")})
	r := &Report{Version: "1.1.0", Before: "1.0.0"}
	r.Found([]finding.Finding{
		found("a.b", finding.Note, "x-1.1.0.parcel", "it is so", ""),
		found("c.d", finding.Warning, "m.vnx", "old", "known"), found("e.f", finding.Note, "m.vnx", "fresh", ""),
		found("g.h", finding.Error, "m.vnx", "bad", ""),
	})
	r.Known(before)
	r.Sort()
	var order []string
	for _, f := range r.Findings {
		order = append(order, fmt.Sprint(f.ID, f.New))
	}
	assert.Equal(t, []string{"g.htrue", "e.ftrue", "a.bfalse", "c.dfalse"}, order,
		"the worst first, the new before the known, the accepted last")
	assert.Equal(t, "4 in all, 2 of them new, 1 accepted with a reason", Tally(r))
	r.Known(nil)
	assert.Equal(t, "4 in all, 1 accepted with a reason", Tally(r), "nobody knows what is new")
	assert.Equal(t, "none", Tally(&Report{}))

	r.Compared(compare.Sides(compare.Side{"a.vnm": {Size: 1, CRC32: 1}, "b.png": {Size: 2, CRC32: 2},
		"c.txt": {Size: 3, CRC32: 3}},
		compare.Side{"a.vnm": {Size: 9, CRC32: 4}, "d.png": {Size: 2, CRC32: 2}, "e.wav": {Size: 3, CRC32: 9}}))
	assert.Equal(t, "1 added, 1 removed, 1 moved, 1 changed, 0 files the same", Counted(r))
	for _, bad := range []string{"", "{}", `{"kind":"vornix report","format":2}`, "[1]"} {
		_, err := Read([]byte(bad))
		assert.Error(t, err, bad)
	}
}

func TestWordsOfReports(t *testing.T) {
	for s, want := range map[float64]string{0: "< 0.1 s", 0.25: "0.2 s", 59.94: "59.9 s", 83: "1 min 23 s", 3600: "1 h",
		5400: "1 h 30 min"} {
		assert.Equal(t, want, Seconds(s))
	}
	assert.Equal(t, []string{"+1.0 kB", "-5 B", "as before"}, []string{Grown(1000), Grown(-5), Grown(0)})
	assert.Equal(t, "…name", short("a_long_name", 5))
	for top, want := range map[float64]float64{7: 2, 100: 50, 2.4e6: 1e6, 999: 500} {
		assert.InDelta(t, want, ticks(top), 1e-6)
	}
}
