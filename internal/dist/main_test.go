package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// What is published is the same whoever builds it, where and when; it has all that the install page
// names, and its list of hashes and signature are checked by the programs that people have.
func TestWhatIsPublishedIsReproducible(t *testing.T) {
	thorough.Only(t)
	t.Chdir(filepath.Join("..", ".."))
	t.Setenv("SOURCE_DATE_EPOCH", "1796000000")
	system := runtime.GOOS + "/" + runtime.GOARCH
	first, second := t.TempDir(), t.TempDir()
	require.NoError(t, publish("0.1.0", first, []string{system, "windows/amd64"}))
	require.NoError(t, publish("0.1.0", second, []string{system, "windows/amd64"}))
	sums, err := os.ReadFile(filepath.Join(first, SumsFile))
	require.NoError(t, err)
	again, err := os.ReadFile(filepath.Join(second, SumsFile))
	require.NoError(t, err)
	assert.Equal(t, string(sums), string(again))

	name := strings.Fields(string(sums))[1]
	data, err := os.ReadFile(filepath.Join(first, name))
	require.NoError(t, err)
	assert.Equal(t, strings.Fields(string(sums))[0], fmt.Sprintf("%x", sha256.Sum256(data)))
	z, err := gzip.NewReader(bytes.NewReader(data))
	require.NoError(t, err)
	there := map[string]bool{}
	program := filepath.Join(t.TempDir(), "vornix")
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		_, rel, _ := strings.Cut(h.Name, "/")
		there[rel] = true
		if rel == "vornix" {
			content, err := io.ReadAll(r)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(program, content, os.FileMode(h.Mode)))
			assert.NotContains(t, string(content), filepath.Dir(first), "nothing of this machine is in it")
		}
	}
	for _, rel := range []string{"vornix", "README.md", "install.md", "man/man1/vornix.1", "man/man1/vornix-release.1",
		"completion/vornix.bash", "completion/_vornix", "completion/vornix.fish", "completion/vornix.ps1"} {
		assert.True(t, there[rel], rel)
	}
	out, err := exec.Command(program, "--version").Output()
	require.NoError(t, err)
	assert.Regexp(t, `^vornix 0\.1\.0 \(go`, string(out))
	if _, err := os.Stat(".git"); err == nil {
		assert.Regexp(t, `, commit [0-9a-f]{10} of \d{4}-\d\d-\d\d( with changes)?\)`, string(out))
	}

	key := filepath.Join(t.TempDir(), "key")
	peer.Run(t, first, peer.Need(t, "ssh-keygen"), "-q", "-t", "ed25519", "-N", "", "-f", key)
	peer.Run(t, first, peer.Need(t, "ssh-keygen"), "-q", "-Y", "sign", "-f", key, "-n", "vornix-release", SumsFile)
	public, err := os.ReadFile(key + ".pub")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(first, "authors.txt"), append([]byte("vornix "), public...), 0o644))
	check := exec.Command("ssh-keygen", "-Y", "verify", "-f", "authors.txt", "-I", "vornix", "-n", "vornix-release",
		"-s", SumsFile+".sig")
	check.Dir, check.Stdin = first, bytes.NewReader(sums)
	said, err := check.CombinedOutput()
	require.NoError(t, err, string(said))
	assert.Contains(t, string(said), "Good")
}
