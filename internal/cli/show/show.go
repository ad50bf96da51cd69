// Package show is how results look. Nothing else in Vornix prints.
//
// Results go to standard output, progress and findings to standard error; with JSON one object goes to standard output
// and nothing else. Colour is used on a terminal only, never to carry a meaning of its own.
package show

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	plain "vornix/core/base/humanize"
	"vornix/core/release"
)

// Out shows things.
type Out struct {
	JSON, Quiet, Verbose bool
	Stdout, Stderr       io.Writer
	// Terminal says whether progress may move on standard error, and people can be asked.
	Terminal bool
	// Width of the terminal in characters; 100 when it isn't one.
	Width                int
	saying               sync.Mutex // held by one of several that run at once
	colourOut, colourErr bool
	// fits says that standard output is a terminal, whose width tables keep to.
	fits bool
	// plain leaves out what only draws: lines under headers, bars that move. Screen readers would read it out.
	plain bool
}

// New looks at the two streams, and at NO_COLOR, TERM and VORNIX_PLAIN.
func New(stdout, stderr *os.File, env func(string) string) *Out {
	o := &Out{Stdout: stdout, Stderr: stderr, Width: 100}
	o.plain = env("TERM") == "dumb" || env("VORNIX_PLAIN") != ""
	colour := env("NO_COLOR") == "" && !o.plain
	o.fits = term.IsTerminal(int(stdout.Fd()))
	o.colourOut = colour && o.fits && colours(stdout)
	o.Terminal = term.IsTerminal(int(stderr.Fd()))
	o.colourErr = colour && o.Terminal && colours(stderr)
	if w, _, err := term.GetSize(int(stderr.Fd())); err == nil && w > 20 {
		o.Width = w
	}
	text.EnableColors()
	return o
}

// The few ways in which text is set off.
var (
	strong  = text.Colors{text.Bold}
	faint   = text.Colors{text.Faint}
	good    = text.Colors{text.FgGreen}
	caution = text.Colors{text.FgYellow}
	bad     = text.Colors{text.FgRed, text.Bold}
	heading = text.Colors{text.FgCyan, text.Bold}
)

func paint(on bool, c text.Colors, s string) string {
	if !on {
		return s
	}
	return c.Sprint(s)
}

// Clean makes text from files safe to print: control characters could repaint the terminal.
func Clean(s string) string { return plain.Printable(s) }

// CleanLines is Clean for a text of several lines, which keep their ends and tabs.
func CleanLines(s string) string {
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		parts := strings.Split(strings.TrimSuffix(line, "\r"), "\t")
		for j := range parts {
			parts[j] = Clean(parts[j])
		}
		lines[i] = strings.Join(parts, "\t")
	}
	return strings.Join(lines, "\n")
}

// Heading begins a part of a longer show.
func (o *Out) Heading(format string, args ...any) {
	if !o.JSON && !o.Quiet {
		fmt.Fprintf(o.Stdout, "\n%s\n", paint(o.colourOut, heading, fmt.Sprintf(format, args...)))
	}
}

// Say prints a line of the result.
func (o *Out) Say(format string, args ...any) {
	if !o.JSON && !o.Quiet {
		fmt.Fprintf(o.Stdout, format+"\n", args...)
	}
}

// Tell says why something is done, before it is.
func (o *Out) Tell(text string) {
	if o.JSON || o.Quiet {
		return
	}
	fmt.Fprintln(o.Stdout)
	for _, l := range wrap(text, min(o.Width, maxText)-2) {
		fmt.Fprintln(o.Stdout, paint(o.colourOut, faint, "  "+l))
	}
}

// maxMade is how many files of a step are listed without --verbose.
const maxMade = 8

// Step prints how a step ended, what it made, and what it found.
func (o *Out) Step(s release.Step) {
	if o.JSON {
		return
	}
	defer o.Findings(s.Findings) // last, next to the prompt
	if o.Quiet {
		return
	}
	mark := paint(o.colourOut, good, "made")
	if s.Name == "check" || s.Name == "try" {
		mark = paint(o.colourOut, good, "done")
	}
	if s.Kept {
		mark = paint(o.colourOut, faint, "kept")
	}
	if s.Failed {
		mark = paint(o.colourOut, bad, "fail")
	}
	took := ""
	if s.Seconds >= 0.1 {
		took = paint(o.colourOut, faint, fmt.Sprintf("  (%.1f s)", s.Seconds))
	}
	fmt.Fprintf(o.Stdout, "%s %s  %s%s\n", paint(o.colourOut, strong, fmt.Sprintf("%-7s", s.Name)), mark,
		Clean(s.Summary), took)
	for _, w := range s.Farm {
		if w.Jobs+w.Parts > 0 {
			fmt.Fprintf(o.Stdout, "             with %s: %s and %s, %.1f s of work\n", Clean(w.Worker),
				release.Count(w.Jobs, "job"), release.Count(w.Parts, "piece"), w.Seconds)
		}
	}
	o.made(s)
}

func (o *Out) made(s release.Step) {
	list := s.Made
	if s.Kept && !o.Verbose && s.Name != "pack" && s.Name != "addon" && s.Name != "index" {
		return
	}
	limit := maxMade
	if o.Verbose {
		limit = len(list)
	}
	hidden := 0
	if len(list) > limit {
		hidden = len(list) - limit
		list = slices.Clone(list)
		slices.SortStableFunc(list, func(a, b release.Made) int { return int(b.Size - a.Size) })
		list = list[:limit]
	}
	width := 0
	for _, m := range list {
		width = max(width, utf8.RuneCountInString(m.Path))
	}
	for _, m := range list {
		size := release.Bytes(m.Size)
		if m.State == "removed" || m.State == "remove" {
			size = ""
		}
		state := m.State
		if m.By != "" {
			state += " by " + Clean(m.By)
		}
		line := strings.TrimRight(fmt.Sprintf("             %-*s  %9s  %s", width, Clean(m.Path), size, state), " ")
		if m.State == "kept" || m.State == "leave" {
			line = paint(o.colourOut, faint, line)
		}
		fmt.Fprintln(o.Stdout, line)
	}
	if hidden > 0 {
		fmt.Fprintln(o.Stdout,
			paint(o.colourOut, faint, fmt.Sprintf("             and %d smaller (--verbose lists all)", hidden)))
	}
}

// Said shows what a command of the project's own printed: when it failed, and with --verbose always.
func (o *Out) Said(step string, output []byte, failed bool) {
	if o.JSON || len(output) == 0 || !failed && !o.Verbose {
		return
	}
	o.saying.Lock()
	defer o.saying.Unlock()
	fmt.Fprintln(o.Stderr, paint(o.colourErr, faint, Clean(step)+" said:"))
	for line := range strings.SplitSeq(CleanLines(string(output)), "\n") {
		fmt.Fprintln(o.Stderr, "    "+line)
	}
}

// maxAlike is how many findings of one kind are shown without --verbose before they become a count.
const maxAlike = 5

// Findings prints findings; accepted ones are only counted unless verbose.
func (o *Out) Findings(list []finding.Finding) {
	if o.JSON {
		return
	}
	list = slices.Clone(list) // the worst stands last, next to the prompt
	slices.SortStableFunc(list, func(a, b finding.Finding) int { return int(a.Severity) - int(b.Severity) })
	count := map[string]int{}
	accepted := 0
	for _, f := range list {
		if f.Accepted != "" && !o.Verbose {
			accepted++
			continue
		}
		if o.Quiet && f.Severity != finding.Error {
			continue
		}
		if count[f.ID]++; count[f.ID] > maxAlike && !o.Verbose {
			continue
		}
		if count[f.ID] > 1 {
			f.Why = "" // once is enough
		}
		o.finding(f)
	}
	for _, id := range finding.IDs() {
		if n := count[id] - maxAlike; n > 0 && !o.Verbose {
			fmt.Fprintf(o.Stderr, "         and %d more of %s (--verbose lists all)\n", n, id)
		}
	}
	if accepted > 0 && !o.Quiet {
		fmt.Fprintln(o.Stderr,
			paint(o.colourErr, faint, fmt.Sprintf("         %d known and accepted (--verbose shows why)", accepted)))
	}
}

func (o *Out) finding(f finding.Finding) {
	colour := map[finding.Severity]text.Colors{finding.Error: bad, finding.Warning: caution,
		finding.Note: faint}[f.Severity]
	place := Clean(f.Place.String())
	if place != "" {
		place += "  "
	}
	fmt.Fprintf(o.Stderr, "%s %s%s %s\n", paint(o.colourErr, colour, fmt.Sprintf("%-8s", f.Severity)),
		paint(o.colourErr, strong, place), short(f.Text), paint(o.colourErr, faint, "["+f.ID+"]"))
	if f.Excerpt != "" && f.Place.Column > 0 {
		o.excerpt(f.Excerpt, f.Place.Column)
	}
	for i, w := range f.Wanted {
		if w == f.Place.String() {
			continue
		}
		word := "asked at"
		if i > 0 {
			word = "used at"
		}
		fmt.Fprintf(o.Stderr, "           %-8s %s\n", word, short(w))
	}
	if f.Accepted != "" {
		fmt.Fprintf(o.Stderr, "           accepted %s\n", Clean(f.Accepted))
		return
	}
	if f.Severity == finding.Note && !o.Verbose {
		return
	}
	o.wrapped("why", f.Why)
	o.wrapped("do", f.Do)
}

// short is a text as people read it: what somebody wrote is quoted in it, however long that is.
func short(s string) string {
	const limit = 1200
	runes := []rune(Clean(s))
	if len(runes) <= limit {
		return string(runes)
	}
	return string(runes[:limit*3/4]) + " … " + string(runes[len(runes)-limit/4:])
}

// excerpt prints a source line with a caret under a column. Tabs become one space, so that the caret stands right.
func (o *Out) excerpt(line string, column int) {
	runes := []rune(Clean(strings.ReplaceAll(line, "\t", " ")))
	from := 0
	room := max(o.Width-16, 40)
	column = min(column, len(runes)+1)
	if column > room { // a long line is cut so that the place is in view
		from = column - room/2
	}
	shown := runes[min(from, len(runes)):]
	if len(shown) > room {
		shown = append(slices.Clone(shown[:room-1]), '…')
	}
	fmt.Fprintf(o.Stderr, "           %s\n           %s%s\n", string(shown), strings.Repeat(" ", max(column-1-from, 0)),
		paint(o.colourErr, caution, "^"))
}

// wrapped prints a labelled sentence within the width.
func (o *Out) wrapped(label, sentence string) {
	if sentence == "" {
		return
	}
	for i, l := range wrap(sentence, o.Width-22) {
		if i > 0 {
			label = ""
		}
		fmt.Fprintf(o.Stderr, "           %s %s\n", paint(o.colourErr, faint, fmt.Sprintf("%-4s", label)), l)
	}
}

// wrap breaks a text into lines that are no wider than room, where that can be.
func wrap(sentence string, room int) (lines []string) {
	line := ""
	for _, w := range strings.Fields(short(sentence)) {
		if line != "" && utf8.RuneCountInString(line)+1+utf8.RuneCountInString(w) > max(room, 30) {
			lines, line = append(lines, line), ""
		}
		if line != "" {
			line += " "
		}
		line += w
	}
	return append(lines, line)
}

// maxText is how wide a text is at most: longer lines are hard to read.
const maxText = 100

// Para prints a text within the width.
func (o *Out) Para(text string) {
	for _, l := range wrap(text, min(o.Width, maxText)-4) {
		o.Say("  %s", l)
	}
}

// Pair prints a word and a sentence that goes with it, within the width.
func (o *Out) Pair(label, sentence string) {
	for i, l := range wrap(sentence, min(o.Width, maxText)-12) {
		if i > 0 {
			label = ""
		}
		o.Say("  %s %s", paint(o.colourOut, faint, fmt.Sprintf("%-7s", label)), l)
	}
}

// NewLine ends a line of progress on a terminal, which another goroutine may still be drawing.
func (o *Out) NewLine() {
	if o.colourErr {
		fmt.Fprintln(o.Stderr)
	}
}

// Error prints an error: what, where, why, what to do.
func (o *Out) Error(err error) {
	var failure *finding.Failure
	if errors.As(err, &failure) {
		quiet := o.Quiet
		o.Quiet = false
		o.Findings(failure.Findings)
		o.Quiet = quiet
		fmt.Fprintf(o.Stderr, "%s %s\n", paint(o.colourErr, bad, "stopped:"), Clean(failure.What))
		return
	}
	var f *fault.Fault
	if !errors.As(err, &f) {
		fmt.Fprintf(o.Stderr, "%s %s\n", paint(o.colourErr, bad, "stopped:"), short(err.Error()))
		return
	}
	what := f.What
	if f.Err != nil {
		what += ": " + f.Err.Error()
	}
	fmt.Fprintf(o.Stderr, "%s %s\n", paint(o.colourErr, bad, "stopped:"), short(what))
	if f.Place.File != "" {
		fmt.Fprintf(o.Stderr, "           at   %s\n", Clean(f.Place.String()))
	}
	o.wrapped("why", f.Why)
	o.wrapped("do", f.Do)
}

// numeric are the headers of columns that stand to the right.
var numeric = []string{"size", "packed", "offset", "bytes", "there are", "level", "size now", "size then", "grown",
	"files"}

// Table prints rows under a header, without lines around them.
func (o *Out) Table(header []string, rows [][]string) {
	if o.JSON || o.Quiet || len(rows) == 0 {
		return
	}
	t := table.NewWriter()
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.MiddleVertical, style.Box.MiddleSeparator, style.Box.PaddingLeft, style.Box.PaddingRight = " ", "─", "",
		"  "
	headed := slices.ContainsFunc(header, func(h string) bool { return h != "" })
	style.Options.SeparateHeader = headed && !o.plain
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	toRow := func(cells []string) table.Row {
		r := make(table.Row, len(cells))
		for i, c := range cells {
			r[i] = Clean(c)
		}
		return r
	}
	if headed {
		t.AppendHeader(toRow(header))
	}
	var columns []table.ColumnConfig
	for i := range header {
		if slices.Contains(numeric, header[i]) {
			columns = append(columns,
				table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight})
		}
	}
	for i, width := range o.narrowed(header, rows) {
		if width > 0 {
			columns = append(columns,
				table.ColumnConfig{Number: i + 1, WidthMax: width, WidthMaxEnforcer: text.WrapSoft})
		}
	}
	t.SetColumnConfigs(columns)
	for _, r := range rows {
		t.AppendRow(toRow(r))
	}
	for line := range strings.SplitSeq(t.Render(), "\n") {
		fmt.Fprintln(o.Stdout, strings.TrimRight(line, " "))
	}
}

// narrowest is how narrow a column of words is made at most.
const narrowest = 18

// narrowed says how wide columns of words may be, so that a table fits the terminal; 0 for as wide
// as they are. The widest gives first.
func (o *Out) narrowed(header []string, rows [][]string) []int {
	if !o.fits {
		return nil
	}
	widths, limits := make([]int, len(header)), make([]int, len(header))
	total := 0
	for i, h := range header {
		widths[i] = utf8.RuneCountInString(h)
		for _, r := range rows {
			if i < len(r) {
				widths[i] = max(widths[i], utf8.RuneCountInString(r[i]))
			}
		}
		total += widths[i] + 2
	}
	for over := total - o.Width; over > 0; {
		widest := -1
		for i, w := range widths {
			if !slices.Contains(numeric, header[i]) && w > narrowest && (widest < 0 || w > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			break // nothing is left that can give
		}
		less := min(over, widths[widest]-narrowest)
		widths[widest] -= less
		limits[widest] = widths[widest]
		over -= less
	}
	return limits
}

// Answer is what a command says with --json.
type Answer struct {
	Command string         `json:"command"`
	OK      bool           `json:"ok"`
	Steps   []release.Step `json:"steps,omitempty"`
	Result  any            `json:"result,omitempty"`
	Error   *ErrorAnswer   `json:"error,omitempty"`
	said    bool
}

// ErrorAnswer is an error in JSON.
type ErrorAnswer struct {
	Exit     int               `json:"exit"`
	What     string            `json:"what"`
	Place    *fault.Place      `json:"place,omitempty"`
	Why      string            `json:"why,omitempty"`
	Do       string            `json:"do,omitempty"`
	Findings []finding.Finding `json:"findings,omitempty"`
}

// Answer prints the object of a command, once: a command that runs on may have said it already.
func (o *Out) Answer(a *Answer, err error, exit int) { o.answer(a, err, exit, "  ") }

// Line is Answer as one line, for what goes on.
func (o *Out) Line(a *Answer, err error, exit int) { o.answer(a, err, exit, "") }

func (o *Out) answer(a *Answer, err error, exit int, indent string) {
	if !o.JSON || a.said {
		return
	}
	a.said = true
	a.OK = err == nil
	for i := range a.Steps {
		if a.Steps[i].Findings == nil {
			a.Steps[i].Findings = []finding.Finding{}
		}
	}
	if err != nil {
		a.Error = &ErrorAnswer{Exit: exit, What: err.Error()}
		var f *fault.Fault
		var failure *finding.Failure
		switch {
		case errors.As(err, &failure):
			a.Error.What, a.Error.Findings = failure.What, failure.Findings
		case errors.As(err, &f):
			a.Error.What, a.Error.Why, a.Error.Do = f.What, f.Why, f.Do
			if f.Err != nil {
				a.Error.What += ": " + f.Err.Error()
			}
			if f.Place.File != "" {
				a.Error.Place = &f.Place
			}
		}
	}
	e := json.NewEncoder(o.Stdout)
	e.SetEscapeHTML(false)
	e.SetIndent("", indent)
	_ = e.Encode(a) // a closed standard output can't be told to anybody
}
