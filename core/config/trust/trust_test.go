package trust_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/demo"
)

const head = `[project]
name = "lanes"
title = "TITLE"
version = "1.0.0"
profile = "kestrel-post"
`

func load(t *testing.T, dir, text string) *project.Project {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(dir, project.FileName), []byte(text), 0o644))
	p, err := project.Load(dir, demo.Profiles())
	require.NoError(t, err)
	return p
}

func put(t *testing.T, dir, name, text string) {
	t.Helper()
	file := filepath.Join(dir, filepath.FromSlash(name))
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
}

// Consent is for exactly what was shown. Each change below makes another permission of it; a new
// version of the project does not.
func TestWhatChangesAsksAgain(t *testing.T) {
	const step = `
[[step]]
name = "list"
command = ["sh", "-c", "tools/list.sh {title} > {out}/a.txt"]
inputs = ["data/**"]
outputs = ["a.txt"]
environment = ["LANG"]
`
	for name, change := range map[string]struct {
		edit  func(t *testing.T, dir string) (old, new string) // of vornix.toml
		again bool
		shows string
	}{
		"nothing":           {func(*testing.T, string) (string, string) { return "", "" }, false, ""},
		"a new version":     {func(*testing.T, string) (string, string) { return `"1.0.0"`, `"1.0.1"` }, false, ""},
		"a value filled in": {func(*testing.T, string) (string, string) { return "TITLE", "T; id" }, true, "T; id"},
		"arguments split": {func(*testing.T, string) (string, string) {
			return `"tools/list.sh {title}`, `"tools/list.sh", "{title}`
		}, true, `tools/list.sh","`},
		"a variable more": {func(*testing.T, string) (string, string) { return `["LANG"]`, `["LANG", "TOKEN"]` },
			true, "TOKEN"},
		"may run elsewhere": {func(*testing.T, string) (string, string) {
			return "environment = [\"LANG\"]",
				"away = true"
		}, true, "workers"},
		"a script that is run": {func(t *testing.T, dir string) (string,
			string) {
			put(t, dir, "tools/list.sh", "id")
			return "", ""
		}, true, "tools/list.sh"},
		"a program among data": {func(t *testing.T, dir string) (string,
			string) {
			put(t, dir, "data/x.py", "id")
			return "", ""
		}, true, "data/x.py"},
		"by its first bytes": {func(t *testing.T, dir string) (string,
			string) {
			put(t, dir, "data/x", "#!/bin/sh")
			return "", ""
		}, true, `data/x"`},
		"data that only is read": {func(t *testing.T, dir string) (string,
			string) {
			put(t, dir, "data/x.csv", "1,2")
			return "", ""
		}, false, ""},
		"data of a disk without modes": {func(t *testing.T, dir string) (string, string) {
			put(t, dir, "data/wind.wav", "RIFF")
			require.NoError(t, os.Chmod(filepath.Join(dir, "data", "wind.wav"), 0o777))
			return "", ""
		}, false, ""},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			put(t, dir, "tools/list.sh", "ls")
			put(t, dir, "data/x.csv", "1")
			text := head + step
			p := load(t, dir, text)
			store := trust.Store{File: filepath.Join(t.TempDir(), "trusted.json")}
			want, err := trust.All(t.Context(), p, "")
			require.NoError(t, err)
			require.Len(t, want, 1)
			require.NoError(t, store.Allow(p, want))

			old, with := change.edit(t, dir)
			if old != "" {
				require.Contains(t, text, old)
			}
			p = load(t, dir, strings.Replace(text, old, with, 1))
			want, err = trust.All(t.Context(), p, "")
			require.NoError(t, err)
			missing, err := store.Missing(p, want)
			require.NoError(t, err)
			assert.Equal(t, change.again, len(missing) > 0)
			if change.again {
				assert.Contains(t, strings.Join(missing[0].Lines, "\n"), change.shows)
				_, ok, err := store.Before(p, missing[0])
				require.NoError(t, err)
				assert.True(t, ok, "what it was before can be shown")
			}
		})
	}
}

// Two vectors that look the same when joined by spaces are two permissions.
func TestArgumentsAreNotJoined(t *testing.T) {
	of := func(command string) trust.Permission {
		list, err := trust.Steps(load(t, t.TempDir(),
			head+"\n[[step]]\nname = \"a\"\ncommand = "+command+"\nstdout = \"a.txt\"\n"))
		require.NoError(t, err)
		return list[0]
	}
	assert.NotEqual(t, of(`["sh", "-c", "echo", "ok;", "id>F"]`).Lines, of(`["sh", "-c", "echo ok; id>F"]`).Lines)
}

// Secrets are bound to where they go: scheme, host and port.
func TestSecretsAreBoundToAnOrigin(t *testing.T) {
	dir := t.TempDir()
	target := func(kind, more string) []string {
		list, err := trust.All(t.Context(), load(t, dir, head+"\n[target.x]\nkind = \""+kind+"\"\n"+more), "")
		require.NoError(t, err)
		lines := []string{}
		for _, x := range list {
			lines = append(lines, x.Kind+": "+strings.Join(x.Lines, "; "))
		}
		return lines
	}
	put(t, dir, "server.url", "HTTP://Depot.Example:8080/a\n")
	for more, want := range map[string][]string{
		"path = \".\"\nserver = \"https://Depot.example/x\"\ntoken_env = \"T\"": {
			"send secret: sends the variable T to https://depot.example:443"},
		"path = \".\"\nserver = \"server.url\"\ntoken_env = \"T\"": {
			"send secret: sends the variable T to http://depot.example:8080"},
		"path = \".\"\nserver = \"https://depot.example\"": {},
	} {
		assert.Equal(t, want, target("folder", more), more)
	}
	assert.Equal(t, []string{"send secret: sends the variable A to https://w.example:443",
		"send secret: sends the file ~/t to https://w.example:443"},
		target("workshop", "url = \"https://w.example\"\ntoken_env = \"A\"\nplayer_token_file = \"~/t\""))
	assert.Equal(t, []string{"send secret: sends the variable P to ssh://depot.example:2222",
		`run on server: runs "reload" on ssh://mole@depot.example:2222`},
		target("sftp", "host = \"depot.example\"\nuser = \"mole\"\nport = 2222\npath = \".\"\npassword_env = \"P\"\ncommand = \"reload\""))
}

// Names of maps that a shell or a program could read otherwise than as a name fill no command.
func TestPlainNames(t *testing.T) {
	for name, plain := range map[string]bool{"tram_depot": true, "a-1.b": true, "": false, "-x": false, "a b": false,
		"a;id": false, "$(id)": false, "ä": false, "..": false} {
		assert.Equal(t, plain, trust.PlainName(name), name)
	}
}
