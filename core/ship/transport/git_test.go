package transport_test

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/gitcmd"
	"vornix/core/ship/transport"
	"vornix/internal/peer"
)

// remote makes a bare repository with one commit, and a clone that somebody else works in.
func remote(t *testing.T) (bare, other string, git func(dir string, args ...string) string) {
	t.Helper()
	program := peer.Need(t, "git")
	for _, v := range []string{"GIT_AUTHOR", "GIT_COMMITTER"} {
		t.Setenv(v+"_NAME", "Mole")
		t.Setenv(v+"_EMAIL", "mole@burrow.example")
	}
	git = func(dir string, args ...string) string { return strings.TrimSpace(peer.Run(t, dir, program, args...)) }
	base := t.TempDir()
	bare, other = filepath.Join(base, "far.git"), filepath.Join(base, "other")
	git(base, "init", "--quiet", "--bare", "--initial-branch=main", bare)
	git(base, "clone", "--quiet", bare, other)
	git(other, "checkout", "--quiet", "-B", "main")
	commit(t, git, other, "readme", "one")
	git(other, "push", "--quiet", "origin", "main")
	return bare, other, git
}

func commit(t *testing.T, git func(string, ...string) string, dir, name, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	git(dir, "add", name)
	git(dir, "commit", "--quiet", "--message", name)
}

// A git that was killed leaves its locks in the clone that Vornix keeps; the next run clears them away.
func TestLocksOfAKilledGit(t *testing.T) {
	bare, _, _ := remote(t)
	o := transport.GitOptions{URL: bare, Tree: filepath.Join(t.TempDir(), "clone"), Branch: "main", Push: true}
	g, err := transport.OpenGit(t.Context(), o)
	require.NoError(t, err)
	require.NoError(t, g.Close())
	for _, name := range []string{"index.lock", "HEAD.lock", "refs/remotes/origin/main.lock", "refs/heads/main.lock"} {
		require.NoError(t, os.WriteFile(filepath.Join(o.Tree, ".git", filepath.FromSlash(name)), nil, 0o600))
	}
	g, err = transport.OpenGit(t.Context(), o)
	require.NoError(t, err)
	require.NoError(t, g.Write(t.Context(), "a.txt", []byte("new")))
	c, err := g.Publish(t.Context(), "deploy", "", []string{"a.txt"})
	require.NoError(t, err)
	assert.True(t, c.Pushed)

	// While another run has the clone, its locks are its own.
	require.NoError(t, os.WriteFile(filepath.Join(o.Tree, ".git", "index.lock"), nil, 0o600))
	_, err = transport.OpenGit(t.Context(), o)
	assert.Error(t, err)
	assert.FileExists(t, filepath.Join(o.Tree, ".git", "index.lock"))
	require.NoError(t, g.Close())
}

// A push that is refused after a rebase takes Vornix's commit back and nothing of the others'.
func TestARefusalAfterARebase(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("the server's hook is a shell script")
	}
	bare, other, git := remote(t)
	own := filepath.Join(t.TempDir(), "own")
	git(".", "clone", "--quiet", bare, own)
	allowed := func(*gitcmd.Repository) (bool, error) { return true, nil }
	g, err := transport.OpenGit(t.Context(),
		transport.GitOptions{Tree: own, Branch: "main", Push: true, Allowed: allowed})
	require.NoError(t, err)
	defer g.Close()
	require.NoError(t, g.Write(t.Context(), "a.txt", []byte("ours")))
	commit(t, git, other, "theirs.txt", "theirs")
	git(other, "push", "--quiet", "origin", "main")
	require.NoError(t,
		os.WriteFile(filepath.Join(bare, "hooks", "pre-receive"), []byte("#!/bin/sh\necho no more today >&2\nexit 1\n"),
			0o755))
	_, err = g.Publish(t.Context(), "deploy", "", []string{"a.txt"})
	assert.Equal(t, fault.Refused, fault.KindOf(err), "%v", err)
	assert.Equal(t, git(other, "rev-parse", "HEAD"), git(own, "rev-parse", "HEAD"), "it is where the others are")
	assert.Equal(t, "?? a.txt", git(own, "status", "--porcelain"),
		"only the deployed file is left, which the deployment puts back itself")
	assert.FileExists(t, filepath.Join(own, "theirs.txt"), fmt.Sprint(err))
}
