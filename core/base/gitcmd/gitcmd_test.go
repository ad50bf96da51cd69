package gitcmd_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/gitcmd"
	"vornix/internal/peer"
)

// repository makes a working tree with one commit.
func repository(t *testing.T) string {
	t.Helper()
	git := peer.Need(t, "git")
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	dir = filepath.Join(dir, "tree")
	peer.Run(t, filepath.Dir(dir), git, "init", "--quiet", "--initial-branch=main", dir)
	put(t, filepath.Join(dir, "a.txt"), "one\n")
	peer.Run(t, dir, git, "add", "a.txt")
	peer.Run(t, dir, git, "-c", "user.name=Mole", "-c", "user.email=mole@burrow.example", "commit", "--quiet",
		"--message", "first")
	return dir
}

func put(t *testing.T, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(t, os.WriteFile(name, []byte(text), 0o755))
}

// Whatever in a repository makes git run a program is found without git, and git is not run then.
// Each case first shows that plain git runs the program, so that a case that has no effect fails.
func TestNothingThatARepositoryBroughtRuns(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("the programs of the attacks are shell scripts")
	}
	for name, attack := range map[string]struct {
		prepare func(t *testing.T, dir, run string) // run is a command that leaves a mark
		plain   []string                            // with which git runs it
		hook    bool                                // only commands with hooks are concerned
	}{
		"file system monitor": {func(t *testing.T, dir, run string) { config(t, dir, "core.fsmonitor", run+"; false") },
			[]string{"status"}, false},
		"clean filter": {func(t *testing.T, dir, run string) {
			config(t, dir, "filter.x.clean", run+"; cat")
			put(t, filepath.Join(dir, ".gitattributes"), "*.txt filter=x\n")
			put(t, filepath.Join(dir, "a.txt"), "two\n")
		}, []string{"diff", "--stat"}, false},
		"external diff": {func(t *testing.T, dir, run string) {
			config(t, dir, "diff.external", run+"; true")
			put(t, filepath.Join(dir, "a.txt"), "two\n")
		}, []string{"diff"}, false},
		"text conversion": {func(t *testing.T, dir, run string) {
			config(t, dir, "diff.x.textconv", run+"; cat")
			put(t, filepath.Join(dir, ".gitattributes"), "*.txt diff=x\n")
			put(t, filepath.Join(dir, "a.txt"), "two\n")
		}, []string{"diff"}, false},
		"included file": {func(t *testing.T, dir, run string) {
			put(t, filepath.Join(dir, "more"), fmt.Sprintf("[core]\n\tfsmonitor = \"%s; false\"\n", run))
			config(t, dir, "include.path", "../more")
		}, []string{"status"}, false},
		"settings of one working tree": {func(t *testing.T, dir, run string) {
			config(t, dir, "extensions.worktreeConfig", "true")
			put(t, filepath.Join(dir, ".git", "config.worktree"),
				fmt.Sprintf("[core]\n\tfsmonitor = \"%s; false\"\n", run))
		}, []string{"status"}, false},
		"a file instead of .git": {func(t *testing.T, dir, run string) {
			config(t, dir, "core.fsmonitor", run+"; false")
			require.NoError(t, os.Rename(filepath.Join(dir, ".git"), filepath.Join(dir, "elsewhere")))
			put(t, filepath.Join(dir, ".git"), "gitdir: elsewhere\n")
		}, []string{"status"}, false},
		"SSH command": {func(t *testing.T, dir, run string) {
			config(t, dir, "core.sshCommand", run+"; false")
			config(t, dir, "remote.origin.url", "ssh://git.example/x")
		}, []string{"ls-remote", "origin"}, false},
		"command as transport": {func(t *testing.T, dir, run string) {
			config(t, dir, "remote.origin.url", "ext::sh -c "+strings.ReplaceAll(run, " ", "% "))
			config(t, dir, "protocol.ext.allow", "always")
		}, []string{"ls-remote", "origin"}, false},
		"credential helper": {func(t *testing.T, dir, run string) {
			config(t, dir, "credential.helper", "!"+run+"; false")
		}, []string{"credential", "fill"}, false},
		"hook": {func(t *testing.T, dir, run string) {
			put(t, filepath.Join(dir, ".git", "hooks", "pre-commit"), "#!/bin/sh\n"+run+"\n")
		}, []string{"-c", "user.name=Mole", "-c", "user.email=m@burrow.example", "commit", "--allow-empty", "-m", "x"},
			true},
		"hook of a repository that is pushed to": {func(t *testing.T, dir, run string) {
			far := filepath.Join(dir, "far.git")
			peer.Run(t, dir, "git", "init", "--quiet", "--bare", far)
			put(t, filepath.Join(far, "hooks", "pre-receive"), "#!/bin/sh\n"+run+"\n")
			config(t, dir, "remote.origin.url", "far.git")
		}, []string{"push", "origin", "HEAD:refs/heads/main"}, true},
		"hook of a working tree whose repository is elsewhere": {func(t *testing.T, dir, run string) {
			far := filepath.Join(dir, "far")
			peer.Run(t, dir, "git", "init", "--quiet", "--separate-git-dir", filepath.Join(dir, "elsewhere"), far)
			put(t, filepath.Join(dir, "elsewhere", "hooks", "pre-receive"), "#!/bin/sh\n"+run+"\n")
			config(t, dir, "remote.origin.url", "far")
		}, []string{"push", "origin", "HEAD:refs/heads/next"}, true},
	} {
		t.Run(name, func(t *testing.T) {
			dir := repository(t)
			mark := filepath.Join(t.TempDir(), "mark")
			attack.prepare(t, dir, "touch "+mark)
			cmd := exec.Command("git", attack.plain...)
			cmd.Dir, cmd.Stdin = dir, strings.NewReader("protocol=https\nhost=git.example\n\n")
			cmd.Env = append(cmd.Environ(), "GIT_TERMINAL_PROMPT=0")
			out, _ := cmd.CombinedOutput() // it may well fail
			require.FileExists(t, mark, "the attack does nothing: %s", out)
			require.NoError(t, os.Remove(mark))

			r, err := gitcmd.Find(t.Context(), dir)
			require.NoError(t, err)
			require.NotEmpty(t, r.Risks)
			_, err = r.WithHooks(t.Context(), "rev-parse", "HEAD")
			assert.Equal(t, fault.Refused, fault.KindOf(err))
			_, err = r.WithoutHooks(t.Context(), "status", "--short")
			if attack.hook {
				assert.NoError(t, err)
			} else {
				assert.Equal(t, fault.Refused, fault.KindOf(err))
			}
			r.Allowed = true // what a person agreed to is done
			_, err = r.WithHooks(t.Context(), "rev-parse", "HEAD")
			assert.NoError(t, err)
			assert.NoFileExists(t, mark)
		})
	}
}

func config(t *testing.T, dir, key, value string) {
	t.Helper()
	peer.Run(t, dir, peer.Need(t, "git"), "config", key, value)
}

// A repository as git makes it has no risks, a clone with a branch and a linked working tree
// neither; and git is not led into submodules.
func TestOrdinaryRepositories(t *testing.T) {
	dir := repository(t)
	work := t.TempDir()
	clone, linked := filepath.Join(work, "clone"), filepath.Join(work, "linked")
	peer.Run(t, work, "git", "clone", "--quiet", dir, clone)
	config(t, clone, "user.name", "Mole")
	config(t, clone, "branch.main.rebase", "true")
	peer.Run(t, clone, "git", "worktree", "add", "--quiet", "-b", "next", linked)
	peer.Run(t, clone, "git", "-c", "protocol.file.allow=always", "submodule", "--quiet", "add", dir, "sub")
	for _, at := range []string{dir, clone, linked, filepath.Join(linked, ".")} {
		r, err := gitcmd.Find(t.Context(), at)
		require.NoError(t, err)
		assert.Empty(t, r.Risks)
		out, err := r.WithHooks(t.Context(), "rev-parse", "--show-toplevel")
		require.NoError(t, err)
		want, err := filepath.EvalSymlinks(at)
		require.NoError(t, err)
		assert.Equal(t, filepath.ToSlash(want), strings.TrimSpace(out))
	}
	put(t, filepath.Join(dir, ".git", "objects", "info", "alternates"), "../../elsewhere\n")
	borrowed, err := gitcmd.Find(t.Context(), dir)
	require.NoError(t, err)
	assert.Equal(t, "objects from ../../elsewhere", borrowed.Risks[0].What)
	require.NoError(t, os.Remove(filepath.Join(dir, ".git", "objects", "info", "alternates")))

	mark := filepath.Join(work, "mark")
	config(t, filepath.Join(clone, "sub"), "filter.x.clean", "touch "+mark+"; cat")
	put(t, filepath.Join(clone, "sub", ".gitattributes"), "*.txt filter=x\n")
	put(t, filepath.Join(clone, "sub", "a.txt"), "two\n")
	r, err := gitcmd.Find(t.Context(), clone)
	require.NoError(t, err)
	for _, command := range [][]string{{"status", "--porcelain"}, {"diff", "--name-only", "HEAD"}} {
		_, err = r.WithoutHooks(t.Context(), command...)
		require.NoError(t, err)
		assert.NoFileExists(t, mark)
	}
	peer.Run(t, clone, "git", "status", "--porcelain")
	if runtime.GOOS != "windows" {
		assert.FileExists(t, mark, "plain git goes there")
	}
}

// Two clones may push to each other.
func TestRemotesOfEachOther(t *testing.T) {
	one, two := repository(t), repository(t)
	config(t, one, "remote.two.url", two)
	config(t, two, "remote.one.url", one)
	r, err := gitcmd.Find(t.Context(), one)
	require.NoError(t, err)
	assert.Empty(t, r.Risks)
}

// Nothing is found where no working tree is, and a folder that is laid out as a repository is none.
func TestNoWorkingTree(t *testing.T) {
	dir := repository(t)
	bare := filepath.Join(t.TempDir(), "site")
	peer.Run(t, ".", "git", "clone", "--quiet", "--bare", dir, bare)
	for _, at := range []string{bare, t.TempDir()} {
		_, err := gitcmd.Find(t.Context(), at)
		assert.ErrorIs(t, err, gitcmd.ErrNone)
	}
	for address, local := range map[string]bool{bare: true, "file://" + filepath.ToSlash(bare): true,
		"https://git.example/x": false, "git.example:x": false, "../" + filepath.Base(bare): true} {
		r, err := gitcmd.Local(t.Context(), address, bare)
		require.NoError(t, err)
		assert.Equal(t, local, r != nil, address)
	}
}

// A git that runs Vornix from a hook points at its own repository by variables; Vornix's git does not follow them.
func TestTheVariablesOfAnOuterGit(t *testing.T) {
	dir, outer := repository(t), repository(t)
	index := filepath.Join(outer, ".git", "index")
	before, err := os.ReadFile(index)
	require.NoError(t, err)
	t.Setenv("GIT_DIR", filepath.Join(outer, ".git"))
	t.Setenv("GIT_WORK_TREE", outer)
	t.Setenv("GIT_INDEX_FILE", index)
	t.Setenv("GIT_CONFIG_COUNT", "1")
	t.Setenv("GIT_CONFIG_KEY_0", "core.bare")
	t.Setenv("GIT_CONFIG_VALUE_0", "true")
	put(t, filepath.Join(dir, "b.txt"), "new\n")
	r, err := gitcmd.Find(t.Context(), dir)
	require.NoError(t, err)
	_, err = r.WithHooks(t.Context(), "add", "b.txt")
	require.NoError(t, err)
	out, err := r.WithoutHooks(t.Context(), "diff", "--cached", "--name-only")
	require.NoError(t, err)
	assert.Equal(t, "b.txt\n", out)
	after, err := os.ReadFile(index)
	require.NoError(t, err)
	assert.Equal(t, before, after)

	vars := peer.Run(t, dir, peer.Need(t, "git"), "rev-parse", "--local-env-vars")
	for name := range strings.FieldsSeq(vars) {
		t.Setenv(name, "no-such-place")
	}
	_, err = r.WithoutHooks(t.Context(), "rev-parse", "HEAD")
	assert.NoError(t, err, "each variable that git calls local is left out")
}
