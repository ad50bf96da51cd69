package main_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/internal/demotest"
	"vornix/internal/thorough"
)

// held compares a page of docs/ that is made from the program with what it would be now, and writes it anew with
// VORNIX_UPDATE=1.
func held(t *testing.T, page, want string) {
	t.Helper()
	name := filepath.Join("..", "..", "docs", page)
	if os.Getenv("VORNIX_UPDATE") != "" {
		require.NoError(t, os.WriteFile(name, []byte(want), 0o666))
	}
	got, err := os.ReadFile(name)
	require.NoError(t, err)
	assert.Equal(t, want, string(got),
		"%s is behind the program; write it with VORNIX_UPDATE=1 go test ./cmd/vornix -run Documented", page)
}

func TestCommandsAreDocumented(t *testing.T) {
	var b strings.Builder
	b.WriteString(`# Commands

Made from the program's own help. All commands take --project, --json ([shapes](json.md)), --quiet, --verbose and --jobs.

| exit code | means |
|---|---|
| 0 | done |
| 1 | findings of severity error, or work that failed |
| 2 | wrong use: an unknown command, flag or name, no project here |
| 3 | refused to protect something: a finished version, somebody else's change, another run at work |
| 4 | a target or a server could not be reached |
| 130 | interrupted |

Results go to standard output, progress and findings to standard error. Colour is used on a terminal only; NO_COLOR turns
it off.
`)
	for _, c := range allCommands(t, "") {
		help := ok(t, ".", append(strings.Fields(c), "--help")...).out
		help, _, _ = strings.Cut(help, "\nGlobal Flags:")
		fmt.Fprintf(&b, "\n## vornix %s\n\n```\n%s\n```\n", c, strings.TrimSpace(help))
	}
	held(t, "commands.md", b.String())
}

// listed is a line of the lists of commands in a help text.
var listed = regexp.MustCompile(`(?m)^  ([a-z-]+) {2,}\S`)

// allCommands are the commands below one, each followed by its own, in the order of the help.
func allCommands(t *testing.T, of string) (list []string) {
	t.Helper()
	help := ok(t, ".", append(strings.Fields(of), "--help")...).out
	_, help, _ = strings.Cut(help, "Usage:")
	help, _, _ = strings.Cut(help, "\nFlags:")
	_, help, found := strings.Cut(help, map[bool]string{true: "\nStart:", false: "\nAvailable Commands:"}[of == ""])
	if !found {
		return nil
	}
	for _, m := range listed.FindAllStringSubmatch(help, -1) {
		c := strings.TrimSpace(of + " " + m[1])
		if c == "help" || strings.HasPrefix(c, "completion ") {
			continue
		}
		list = append(append(list, c), allCommands(t, c)...)
	}
	return list
}

func TestFindingsAreDocumented(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Findings\n\nMade from the program. A project accepts warnings and notes that it knows to be harmless:\n\n```toml\n[[accept]]\nfinding = \"mode.contained\"\nwhere = \"maps/**\"        # left out: anywhere\nreason = \"The game compares whole mode names.\"\n```\n\nErrors can't be accepted: the release would be broken for players.\n\n| id | severity | why it matters | what to do |\n|---|---|---|---|\n")
	for _, id := range finding.IDs() {
		k := finding.KindOf(id)
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", id, k.Severity, k.Why, strings.ReplaceAll(k.Do, "|", `\|`))
	}
	held(t, "findings.md", b.String())
}

// Every link between the pages leads somewhere, and every picture is there and linked.
func TestLinksLeadSomewhere(t *testing.T) {
	root := filepath.Join("..", "..")
	pages, err := filepath.Glob(filepath.Join(root, "docs", "*.md"))
	require.NoError(t, err)
	more, err := filepath.Glob(filepath.Join(root, "docs", "formats", "*.md"))
	require.NoError(t, err)
	pages = append(append(pages, more...), filepath.Join(root, "README.md"), filepath.Join(root, "bench", "README.md"))
	linked := map[string]bool{}
	for _, page := range pages {
		data, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`\]\(([^)#]+)\)`).FindAllStringSubmatch(string(data), -1) {
			if !strings.Contains(m[1], "://") {
				target := filepath.Join(filepath.Dir(page), filepath.FromSlash(m[1]))
				assert.FileExists(t, target, "%s links to %s", page, m[1])
				linked[target] = true
			}
		}
	}
	pictures, err := filepath.Glob(filepath.Join(root, "docs", "screenshots", "*.png"))
	require.NoError(t, err)
	assert.NotEmpty(t, pictures)
	for _, p := range pictures {
		assert.True(t, linked[p], "%s is linked from no page", p)
	}
}

// The guide's commands run, in order, on the projects they speak of; each block after a command is
// really in its output.
func TestTheGuideIsTrue(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	data, err := os.ReadFile(filepath.Join("..", "..", "docs", "guide.md"))
	require.NoError(t, err)
	demo := demotest.WriteLit(t)
	dir := filepath.Dir(demo)
	require.NoError(t, os.Rename(demo, filepath.Join(dir, "vornix-demo")))
	// A workshop that takes the fixture's pictures, which are small.
	put(t, filepath.Join(dir, "vornix-demo", "workshops", "kestrel", "workshop.toml"),
		"id = \"guide\"\nname = \"Exchange\"\n[kind.parcel.files]\nendings = [\".parcel\"]\n")
	// what the guide runs in another terminal
	shop(t, dir, filepath.Join(dir, "vornix-demo", "workshops", "kestrel"), "--profile", "kestrel-post")
	ok(t, filepath.Join(dir, "vornix-demo", "highline"), "trust", "--yes")
	assert.Greater(t, blocks(t, string(data), dir), 8)
}

// What troubleshooting.md quotes, the program says.
func TestQuotedMessagesAreSaid(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile(filepath.Join("..", "..", "docs", "troubleshooting.md"))
	require.NoError(t, err)
	var source strings.Builder
	for _, dir := range []string{"core", "internal"} {
		require.NoError(t,
			filepath.WalkDir(filepath.Join("..", "..", dir), func(p string, e os.DirEntry, err error) error {
				if err != nil || filepath.Ext(p) != ".go" || strings.HasSuffix(p, "_test.go") {
					return err
				}
				text, err := os.ReadFile(p)
				source.Write(text)
				return err
			}))
	}
	said := regexp.MustCompile(`%[a-z]|%!`).ReplaceAllString(source.String(), "")
	quoted := regexp.MustCompile(`(?m)^\| "([^"]+)"`).FindAllStringSubmatch(string(data), -1)
	assert.Greater(t, len(quoted), 4)
	for _, q := range quoted {
		for _, piece := range regexp.MustCompile(`\.\.\.|\d[\d.]*|\b\w*commands\b`).Split(q[1], -1) {
			if piece = strings.TrimSpace(piece); len(piece) > 8 {
				assert.Contains(t, said, piece, "the program does not say %q", q[1])
			}
		}
	}
}

// The README's first five minutes are as it says.
func TestTheReadmeIsTrue(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile(filepath.Join("..", "..", "README.md"))
	require.NoError(t, err)
	assert.Equal(t, 4, blocks(t, string(data), t.TempDir()))
}

// blocks runs the commands of all console blocks of a text, one after the other, and wants the
// lines below each to be in what it printed. It returns how many there were.
func blocks(t *testing.T, text, at string) (ran int) {
	t.Helper()
	for _, block := range regexp.MustCompile("(?ms)^```console\n(.*?)^```").FindAllStringSubmatch(text, -1) {
		output := ""
		for line := range strings.SplitSeq(strings.TrimSpace(block[1]), "\n") {
			command, isCommand := strings.CutPrefix(line, "$ ")
			switch {
			case strings.HasPrefix(command, "cd ") && isCommand:
				at = filepath.Join(at, strings.TrimPrefix(command, "cd "))
			case isCommand:
				words := regexp.MustCompile(`"[^"]*"|\S+`).FindAllString(command, -1)
				for i, w := range words {
					words[i] = strings.Trim(w, `"`)
				}
				require.Equal(t, "vornix", words[0], line)
				o := vornix(t, at, words[1:]...)
				require.Zero(t, o.exit, "%s\n%s%s", line, o.out, o.err)
				output = o.out + o.err
				ran++
			case line != "" && line != "...":
				squeeze := func(s string) string { return strings.Join(strings.Fields(s), " ") }
				assert.Contains(t, squeeze(output), squeeze(line), "the guide shows what the command does not print")
			}
		}
	}
	return ran
}

// The tutorial's lines, put into a file in their order, are a map that its commands accept.
func TestTheTutorialIsTrue(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile(filepath.Join("..", "..", "docs", "first-map.md"))
	require.NoError(t, err)
	var lines []string
	for line := range strings.SplitSeq(string(data), "\n") {
		if code, ok := strings.CutPrefix(line, "    "); ok {
			lines = append(lines, code)
		}
	}
	at, ran := t.TempDir(), 0
	for _, block := range regexp.MustCompile("(?ms)^```console\n(.*?)^```").FindAllStringSubmatch(string(data), -1) {
		for line := range strings.SplitSeq(strings.TrimSpace(block[1]), "\n") {
			command := strings.TrimPrefix(line, "$ ")
			if folder, ok := strings.CutPrefix(command, "cd "); ok {
				at = filepath.Join(at, folder)
				require.NoError(t,
					os.WriteFile(filepath.Join(at, "maps", "gust_landing.vnx"), []byte(strings.Join(lines, "\n")+"\n"),
						0o644))
				continue
			}
			o := vornix(t, at, strings.Fields(command)[1:]...)
			require.Zero(t, o.exit, "%s\n%s%s", line, o.out, o.err)
			if strings.HasPrefix(command, "vornix check") {
				assert.Contains(t, o.out, "nothing wrong")
			}
			ran++
		}
	}
	assert.Equal(t, 7, ran)
}
