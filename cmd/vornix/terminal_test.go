package main_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
)

// Tables keep to narrow terminals, and who has things read out gets no lines that only draw.
func TestNarrowAndPlainTerminals(t *testing.T) {
	t.Parallel()
	script := peer.Need(t, "script")
	p := quickly(t, "highline")
	in := func(columns, command string, env ...string) string {
		cmd := exec.Command(script, "-qec", "stty cols "+columns+"; "+exe+" "+command, "/dev/null")
		cmd.Dir, cmd.Env = p, append(append(os.Environ(), "TERM=xterm", "NO_COLOR=1"), env...)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return strings.ReplaceAll(string(out), "\r", "")
	}
	for _, command := range []string{"explain sound", "explain picture.camera", "release --plan"} {
		text := in("60", command)
		for line := range strings.SplitSeq(text, "\n") {
			assert.LessOrEqual(t, utf8.RuneCountInString(line), 60, "%s: %s", command, line)
		}
		sorted := func(text string) []string {
			return slices.Sorted(slices.Values(strings.Fields(strings.ReplaceAll(text, "─", ""))))
		}
		assert.Equal(t, sorted(in("220", command)), sorted(text), "%s says the same on a wide one", command)
	}
	assert.Contains(t, in("100", "explain sound"), "──")
	for _, plain := range []string{"TERM=dumb", "VORNIX_PLAIN=1"} {
		text := in("100", "explain sound", plain)
		assert.NotContains(t, text, "─")
		assert.Contains(t, text, "finding")
		assert.NotContains(t, text, "\x1b")
	}
}

// What a release is told on the command line: where it ends, what is new, and where that is written.
func TestAReleaseAsItIsTold(t *testing.T) {
	t.Parallel()
	p := project(t, "lower-sidings")
	release := func(args ...string) outcome {
		return vornix(t, p, append([]string{"release", "--without-server"}, args...)...)
	}
	o := release("--until", "pak")
	assert.Equal(t, 2, o.exit)
	assert.Contains(t, o.err, `Did you mean "pack"?`)
	assert.Equal(t, 2, release("--notes", "a", "--write-notes").exit)
	assert.Equal(t, 2, release("--make-items", "--without-workshops").exit)
	assert.Equal(t, 2, release("--dry", "--write-notes").exit, "what is written by hand would be lost")
	assert.Equal(t, 2, release("--notes", "nowhere.md", "--yes").exit)
	assert.Equal(t, 2, release().exit, "nobody is there to say yes")
	o = release("--until", "pack", "--yes")
	require.Zero(t, o.exit, o.err)
	assert.Contains(t, o.out, "It ends here, as it was told")
	assert.Contains(t, release("--plan").out, "goes on: it began at")
	o = release("--dry")
	require.Zero(t, o.exit, o.err)
	assert.Contains(t, o.out, "That was a rehearsal")

	put(t, filepath.Join(p, "..", "new.md"), "From a *file*.\r\n")
	o = release("--dry", "--notes", "../new.md")
	require.Zero(t, o.exit, o.err)
	assert.NoFileExists(t, filepath.Join(p, "notes", "1.0.0.md"), "a rehearsal leaves no notes")
	o = release("--notes", "../new.md", "--yes")
	require.Zero(t, o.exit, o.err)
	assert.Equal(t, "From a *file*.\n", read(t, p, "notes", "1.0.0.md"))
	assert.Contains(t, read(t, p, "out", "reports", "1.0.0.html"), "From a <em>file</em>.")
	assert.Contains(t, o.out, "report     out/reports/1.0.0.html")

	// An editor that finds the remark, and writes above it.
	put(t, filepath.Join(p, "..", "editor.sh"),
		"#!/bin/sh\ngrep -q 'what is new in Lower Sidings 1.1.0' \"$2\" || exit 9\nprintf 'Written %s.\\n' \"$1\" | cat - \"$2\" > \"$2.new\" && mv \"$2.new\" \"$2\"\n")
	editing := func(args ...string) outcome {
		cmd := command(p,
			append([]string{"release", "1.1.0", "--without-server", "--write-notes", "--yes"}, args...)...)
		cmd.Env = append(os.Environ(), "VISUAL=sh ../editor.sh by-hand", "EDITOR=false")
		return run(t, cmd)
	}
	edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	o = editing()
	require.Zero(t, o.exit, o.out+o.err)
	assert.Equal(t, "Written by-hand.\n", read(t, p, "notes", "1.1.0.md"))
	a := parse(t, editing("--json"))
	assert.False(t, a.OK)
	assert.Equal(t, 3, a.Error.Exit, "the notes of a finished version are not altered")
	assert.Contains(t, ok(t, p, "diff", "1.0.0", "1.1.0").out, "Tram Shed")
	parse(t, ok(t, p, "release", "--yes", "--without-server", "--json"))
}

// Commands of a project's own run once somebody allowed them, and what they print is shown when it matters.
func TestTrusting(t *testing.T) {
	t.Parallel()
	peer.Need(t, "sh")
	p := project(t, "lower-sidings")
	put(t, filepath.Join(p, "vornix.toml"),
		read(t, p, "vornix.toml")+
			"\n[[step]]\nname = \"list\"\ncommand = [\"sh\", \"-c\", \"echo looking; wc -c maps/*.vnx > {out}/list.txt\"]\ninputs = [\"maps/*.vnx\"]\noutputs = [\"list.txt\"]\n\n[[step]]\nname = \"about\"\ncommand = [\"{vornix}\", \"inspect\", \"maps\", \"--json\"]\ninputs = [\"maps/**\"]\nstdout = \"about.json\"\n")
	with := func(args ...string) outcome {
		cmd := command(p, args...)
		cmd.Env = append(os.Environ(), "VORNIX_TRUST_FILE="+filepath.Join(p, "..", "trusted.json"))
		return run(t, cmd)
	}
	o := with("pack")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "the project runs 2 commands without consent on this machine")
	assert.Zero(t, with("check").exit, "looking runs nothing")
	assert.Contains(t, with("status").out, "next: vornix trust")
	assert.Contains(t, with("trust", "--plan").out,
		`runs ["sh","-c","echo looking; wc -c maps/*.vnx > {out}/list.txt"]`)
	assert.Equal(t, 2, with("trust").exit, "there is nobody to ask")
	require.Zero(t, with("trust", "--yes").exit)
	assert.Contains(t, with("trust", "--list").out, "run (2)")
	o = with("build", "--verbose")
	require.Zero(t, o.exit, o.err)
	assert.Contains(t, o.err, "list said:\n    looking")
	assert.Contains(t, read(t, p, "out", "tree", "list.txt"), "maps/tram_depot.vnx")
	assert.Contains(t, read(t, p, "out", "tree", "about.json"), `"tram_depot.vnx"`,
		"this program is one of the commands that there are")
	assert.NotContains(t, with("build").err, "looking")
	parse(t, with("trust", "--json"))
	edit(t, p, "vornix.toml", "echo looking;", "echo LOOKING;")
	changed := with("trust", "--plan").out
	assert.Contains(t, changed, "changed  run: list")
	assert.Regexp(t, `- runs .*echo looking;.*\n +\+ runs .*echo LOOKING;`, changed)
	edit(t, p, "vornix.toml", "echo LOOKING;", "echo looking;")
	require.Zero(t, with("trust", "--forget").exit)
	edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	assert.Equal(t, 3, with("build").exit)
}

// What another machine left in a project's state folder is not used: its cache could give what the
// sources would not. The ledger stays.
func TestStateFromElsewhere(t *testing.T) {
	t.Parallel()
	p := quickly(t, "lower-sidings")
	settings := t.TempDir()
	here := func(settings string, args ...string) outcome {
		cmd := command(p, args...)
		cmd.Env = append(os.Environ(), "VORNIX_STATE=", "VORNIX_TRUST_FILE="+filepath.Join(settings, "trusted.json"))
		o := run(t, cmd)
		require.Zero(t, o.exit, o.err)
		return o
	}
	put(t, filepath.Join(p, ".vornix", "ledger.jsonl"), "")
	for _, name := range []string{"pack-play.json", "quick.state/link", "later"} {
		put(t, filepath.Join(p, ".vornix", name), "invented")
	}
	first := here(settings, "build")
	assert.Contains(t, first.err, "was not written on this machine")
	assert.NotContains(t, first.out+first.err, " 0 made")
	for _, name := range []string{"pack-play.json", "quick.state/link", "later"} {
		assert.NoFileExists(t, filepath.Join(p, ".vornix", name))
	}
	again := here(settings, "build")
	assert.NotContains(t, again.err, "was not written on this machine")
	assert.Contains(t, again.out, "nothing changed")
	assert.FileExists(t, filepath.Join(p, ".vornix", "ledger.jsonl"))

	// Bundles that came with a project go nowhere, neither to a server nor to a workshop, before they were packed here.
	here(settings, "pack")
	for _, args := range [][]string{{"deploy", "practice", "--yes", "--without-server"},
		{"publish", "exchange", "--plan"}} {
		cmd := command(p, args...)
		cmd.Env = append(os.Environ(), "VORNIX_STATE=", "VORNIX_TRUST_FILE="+filepath.Join(t.TempDir(), "trusted.json"))
		o := run(t, cmd)
		assert.Equal(t, 3, o.exit, o.out)
		assert.Contains(t, o.err, "nothing was packed on this machine", args)
	}
	here(settings, "deploy", "practice", "--yes", "--without-server")

	// A second machine in the same folder takes nothing over, and the first one knows its own afterwards.
	other := t.TempDir()
	assert.Contains(t, here(other, "build").err, "was not written on this machine")
	assert.NotContains(t, here(settings, "build").err, "was not written on this machine")
	assert.NotContains(t, here(other, "build").err, "was not written on this machine")
	// A moved folder is still this machine's, and marks that somebody made up are not.
	moved := p + "-moved"
	require.NoError(t, os.Rename(p, moved))
	p = moved
	assert.NotContains(t, here(settings, "build").err, "was not written on this machine")
	put(t, filepath.Join(p, ".vornix", "machines"), strings.Repeat("00112233445566778899aabbccddeeff\n", 3))
	assert.Contains(t, here(settings, "build").err, "was not written on this machine")
}
