//go:build unix

package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/ship/index"
	"vornix/core/ship/workshop"
	"vornix/core/ship/workshop/standin"
	"vornix/demo"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// The page shows the script that 'vornix new --ci' writes.
func TestThePageShowsTheScript(t *testing.T) {
	page := read(t, "../..", "docs/continuous-integration.md")
	_, rest, ok := strings.Cut(page, "```sh\n")
	require.True(t, ok)
	script, _, ok := strings.Cut(rest, "```\n")
	require.True(t, ok)
	assert.Equal(t, string(demo.Pipeline), script)
	p := filepath.Join(t.TempDir(), "maps")
	require.Zero(t, vornix(t, t.TempDir(), "new", p, "--profile", "burrow-tramways", "--ci").exit)
	assert.Equal(t, string(demo.Pipeline), read(t, p, "ci.sh"))
}

// team is a project in Git with a server over SSH, one in a Git repository, a website, a shelf that
// is reached by WebDAV and a workshop, and people who work on it.
type team struct {
	*testing.T
	root, far, server, website, shelf, address string
	token                                      string
	env                                        []string
}

func newTeam(t *testing.T) *team {
	git := peer.Need(t, "git")
	s := peer.StartSSHD(t, "")
	x := &team{T: t, root: t.TempDir()}
	x.server, x.website, x.shelf = filepath.Join(x.root, "server"), filepath.Join(x.root, "website"), t.TempDir()
	for _, dir := range []string{x.server, x.website} {
		require.NoError(t, os.MkdirAll(dir, 0o755))
	}
	x.address = peer.Nginx(t, x.website, "")
	desk, err := standin.Start(filepath.Join(x.root, "workshop"),
		standin.Options{Accounts: []string{"maker"}, Kinds: map[string]workshop.Limits{"level": standin.Usual()}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = desk.Close() })
	x.token = strings.TrimSpace(read(t, x.root, "workshop/tokens/maker"))
	repository := filepath.Join(x.root, "server.git")
	x.far = filepath.Join(x.root, "origin.git")
	for _, dir := range []string{repository, x.far} {
		peer.Run(t, x.root, git, "init", "--quiet", "--bare", "--initial-branch=main", dir)
	}

	p := quickly(t, "lower-sidings")
	for _, made := range []string{"out", ".vornix"} {
		require.NoError(t, os.RemoveAll(filepath.Join(p, made)))
	}
	text := read(t, p, "vornix.toml")
	text = text[:strings.Index(text, "[target.practice]")] + fmt.Sprintf(`[index]
base = %q

[target.valley]
kind = "sftp"
host = "127.0.0.1"
port = %d
user = %q
key = %q
host_key = [%q]
path = %q

[target.website]
kind = "sftp"
role = "downloads"
host = "127.0.0.1"
port = %[2]d
user = %[3]q
key = %[4]q
host_key = [%[5]q]
path = %[7]q

[target.shelf]
kind = "webdav"
role = "downloads"
url = %[10]q
user = %[11]q
password_env = "SHELF_PASSWORD"

[target.repository]
kind = "git"
url = %[8]q

[target.exchange]
kind = "workshop"
url = %[9]q
token_env = "WORKSHOP_TOKEN"
`, x.address, s.Port, s.User, s.Key, s.Fingerprint, x.server, x.website, filepath.ToSlash(repository), desk.URL, peer.Apache(t, x.shelf), peer.DAVUser.Username())
	put(t, filepath.Join(p, "vornix.toml"), text)
	put(t, filepath.Join(p, "ci.sh"), string(demo.Pipeline))
	put(t, filepath.Join(p, ".gitignore"), demo.GitIgnore)
	put(t, filepath.Join(p, ".gitattributes"), demo.GitAttributes)

	bin := filepath.Join(x.root, "bin")
	require.NoError(t, os.MkdirAll(bin, 0o755))
	require.NoError(t, os.Symlink(exe, filepath.Join(bin, "vornix")))
	password, _ := peer.DAVUser.Password()
	home := filepath.Join(x.root, "home")
	require.NoError(t, os.MkdirAll(home, 0o755))
	x.env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "WORKSHOP_TOKEN="+x.token,
		"SHELF_PASSWORD="+password, "HOME="+home, "TRUST=yes",
		"GIT_AUTHOR_NAME=Crew", "GIT_AUTHOR_EMAIL=crew@example.org", "GIT_COMMITTER_NAME=Crew",
		"GIT_COMMITTER_EMAIL=crew@example.org", "GIT_CONFIG_NOSYSTEM=1", "VORNIX_STATE=")
	x.run(p, 0, "git", "init", "--quiet", "--initial-branch=main")
	x.commit(p, "sources")
	x.run(p, 0, "git", "remote", "add", "origin", x.far)
	x.run(p, 0, "git", "push", "--quiet", "origin", "main")
	// from here on there is what was pushed, and nothing else
	require.NoError(t, os.Rename(p, filepath.Join(x.root, "first-upload")))
	return x
}

// run runs a program and wants an exit code. It returns all that was printed.
func (x *team) run(dir string, exit int, name string, args ...string) string {
	x.Helper()
	if name == "vornix" {
		name = exe
	}
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = dir, x.env
	out, _ := cmd.CombinedOutput()
	require.Equal(x, exit, cmd.ProcessState.ExitCode(), "%s %v\n%s", name, args, out)
	return string(out)
}

func (x *team) commit(dir, message string) {
	x.Helper()
	x.run(dir, 0, "git", "add", ".")
	x.run(dir, 0, "git", "commit", "--quiet", "--message", message)
}

// clone is what somebody has who has just got the project.
func (x *team) clone(name string) string {
	x.Helper()
	dir := filepath.Join(x.root, name)
	x.run(x.root, 0, "git", "clone", "--quiet", x.far, dir)
	return dir
}

// pipeline clones the project at a branch or tag as continuous integration does, and runs its script.
func (x *team) pipeline(name, at string, exit int) (string, string) {
	x.Helper()
	dir := filepath.Join(x.root, name)
	x.run(x.root, 0, "git", "clone", "--quiet", "--branch", at, x.far, dir)
	return dir, x.run(dir, exit, "sh", "ci.sh")
}

// published is the index that players get from the web server's folder, with all that it names.
func (x *team) published() *index.Index {
	x.Helper()
	i, err := index.Read([]byte(read(x, x.website, index.FileName)))
	require.NoError(x, err)
	for _, dir := range []string{x.address, x.shelf} {
		x.run(x.root, 0, "vornix", "fetch", dir, x.TempDir())
	}
	require.Equal(x, read(x, x.website, index.FileName), read(x, x.shelf, index.FileName))
	return i
}

// The page "Release from continuous integration", as it stands: from bare clones, over OpenSSH,
// Git, nginx and a workshop.
func TestReleasesFromContinuousIntegration(t *testing.T) {
	x := newTeam(t)
	key := filepath.Join(x.root, "signing.key")
	x.run(x.root, 0, "vornix", "key", "new", key)
	x.env = append(x.env, "VORNIX_SIGNING_KEY="+key, "CACHE="+filepath.Join(x.root, "cache"),
		"REPORTS="+filepath.Join(x.root, "reports"))

	// A branch is rehearsed: nothing leaves the machine.
	_, out := x.pipeline("ci-1", "main", 0)
	assert.Contains(t, out, "That was a rehearsal")
	assert.NoFileExists(t, filepath.Join(x.website, "index.json"))
	for _, name := range []string{"check.sarif", "build.sarif"} {
		r, err := sarif.FromString(read(t, filepath.Join(x.root, "reports"), name))
		require.NoError(t, err)
		assert.NoError(t, r.Validate())
	}
	assert.Contains(t, read(t, filepath.Join(x.root, "reports"), "try.xml"), `<testcase name="tram_depot"`)

	// A stranger's branch uses no secret, and builds from the cache.
	x.env = append(x.env, "TRUST=")
	_, out = x.pipeline("ci-2", "main", 0)
	assert.Contains(t, out, "No release and no rehearsal")
	x.env = append(x.env, "TRUST=yes")

	// A tag is released everywhere, and the record comes back to the branch.
	a := x.clone("a")
	x.run(a, 0, "git", "tag", "v1.1.0")
	x.run(a, 0, "git", "push", "--quiet", "origin", "v1.1.0")
	_, out = x.pipeline("ci-3", "v1.1.0", 0)
	assert.Contains(t, out, "valley has version 1.1.0")
	first := x.published()
	assert.Equal(t, int64(1), first.Serial)
	require.Len(t, first.Signatures, 1)
	x.run(a, 0, "git", "pull", "--quiet")
	assert.Contains(t, read(t, a, "releases/1.1.0.toml"), "'website'")
	assert.Contains(t, read(t, a, "vornix.toml"), `version = "1.1.0"`)
	assert.Regexp(t, `not asked: target shelf .* which has not been allowed`, x.run(a, 0, "vornix", "history"))
	x.run(a, 0, "vornix", "trust", "--yes")
	assert.Regexp(t,
		`1\.1\.0 .* here +at target repository, target valley, target shelf, target website, Git remote origin`,
		x.run(a, 0, "vornix", "history"))
	assert.Contains(t, x.run(a, 0, "vornix", "release", "--yes", "--make-items"),
		"tram_depot is at exchange, hidden, with version 1.1.0", "a finished version goes to a further place")
	x.commit(a, "an item at the workshop")
	x.run(a, 0, "git", "push", "--quiet")

	// Somebody who has not pulled can't release, whatever the version; nor can the same version have another content.
	b := x.clone("b")
	edit(t, a, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	x.commit(a, "a new name")
	x.run(a, 0, "git", "tag", "v1.2.0")
	x.run(a, 0, "git", "push", "--quiet", "origin", "main", "v1.2.0")
	_, out = x.pipeline("ci-4", "v1.2.0", 0)
	assert.Contains(t, out, "after fetching 1.1.0 from target website", "no clone had the earlier bundle")
	second := x.published()
	assert.Equal(t, int64(2), second.Serial)
	require.NoError(t, second.Trusted(first.Keys))
	require.Len(t, second.Bundles[0].Patches, 1)
	x.run(b, 0, "vornix", "trust", "--yes")
	edit(t, b, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Barn"`)
	x.run(b, 0, "vornix", "pack")
	for _, command := range []string{"release --yes", "release 1.2.0 --yes", "release 1.3.0 --yes",
		"release 1.3.0 --yes --offline", "deploy valley --yes", "publish exchange --yes", "index write"} {
		out := x.run(b, 3, "vornix", strings.Fields(command)...)
		assert.Regexp(t, `version 1\.[12]\.0`, out, command)
	}
	assert.Equal(t, second, x.published())

	// The key that players know is wanted, in any clone.
	x.run(a, 0, "git", "pull", "--quiet")
	edit(t, a, "maps/tram_depot.vnx", `title="Tram Shed"`, `title="Tram Barn"`)
	x.env = append(x.env, "VORNIX_SIGNING_KEY=")
	assert.Contains(t, x.run(a, 3, "vornix", "release", "1.3.0", "--yes"), "the index is signed, and no key is named")
	assert.Equal(t, second, x.published())
	x.env = append(x.env, "VORNIX_SIGNING_KEY="+key)
	x.run(a, 0, "vornix", "release", "1.3.0", "--yes")
	assert.Equal(t, int64(3), x.published().Serial)

	// Who takes over is told what is lacking, and when nothing is any more.
	x.commit(a, "1.3.0")
	x.run(a, 0, "git", "push", "--quiet")
	heir := x.clone("heir")
	mine := x.env
	x.env = append(x.env, "VORNIX_TRUST_FILE="+filepath.Join(x.root, "heir.json"), "VORNIX_SIGNING_KEY=",
		"WORKSHOP_TOKEN=")
	out = x.run(heir, 1, "vornix", "handover")
	for _, line := range []string{`lacking +key +signing +players know ed25519:`, `lacking +secret +WORKSHOP_TOKEN`,
		`lacking +consent`, `here +record +1\.3\.0`, `here +target +valley +.*login works`, `here +sources +commits`} {
		assert.Regexp(t, line, out)
	}
	x.env = append(x.env, "VORNIX_SIGNING_KEY="+key, "WORKSHOP_TOKEN="+x.token)
	x.run(heir, 0, "vornix", "trust", "--yes")
	assert.Contains(t, x.run(heir, 0, "vornix", "handover"), "has everything it needs")
	assert.NotContains(t, out, x.token, "no secret is shown")
	assert.Contains(t, x.run(heir, 0, "vornix", "release", "--plan"), "1.3.0")
	edit(t, heir, "page.md", "\n", "\nBy the heir.\n")
	assert.Regexp(t, `only +sources +changes`, x.run(heir, 0, "vornix", "handover"))
	x.env = mine

	// Whatever folder of the project is lost, the next release goes on.
	all := []string{"out", ".vornix", "out/releases", "out/index", "out/patches", ".vornix/cache", ".vornix/targets",
		".vornix/ledger.jsonl"}
	for i, lost := range all[:thorough.Or(2, len(all))] {
		require.NoError(t, os.RemoveAll(filepath.Join(a, filepath.FromSlash(lost))))
		if strings.HasPrefix(lost, ".vornix") {
			x.run(a, 0, "vornix", "trust", "--yes")
		}
		edit(t, a, "page.md", "\n", fmt.Sprintf("\nRound %d.\n", i))
		edit(t, a, "maps/tram_depot.vnx", `title="Tram Barn`, `title="Tram Barn+`)
		x.run(a, 0, "vornix", "release", fmt.Sprintf("1.4.%d", i), "--yes")
		now := x.published()
		assert.Equal(t, int64(4+i), now.Serial, "without %s", lost)
		assert.Len(t, now.Bundles[0].Patches, 2, "without %s", lost)
	}
}
