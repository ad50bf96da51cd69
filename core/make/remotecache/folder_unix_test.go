//go:build unix

package remotecache

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Where a folder lets its group write, so does everything that is made in it: else the next user's
// results would be refused there, whatever umask the first one had.
func TestAFolderOfSeveralUsers(t *testing.T) {
	old := syscall.Umask(0o022)
	defer syscall.Umask(old)
	for _, c := range []struct{ folder, made, file os.FileMode }{{0o775, 0o775, 0o664}, {0o755, 0o755, 0o644}} {
		dir := t.TempDir()
		require.NoError(t, os.Chmod(dir, c.folder))
		s, err := openFolder(dir, Location{Address: dir})
		require.NoError(t, err)
		name := nameOf(Files, strings.Repeat("ab", 32))
		require.NoError(t, s.Write(context.Background(), name, 3, bytes.NewReader([]byte("abc"))))
		require.NoError(t, s.Close())
		at := filepath.Join(dir, filepath.FromSlash(name))
		info, err := os.Stat(at)
		require.NoError(t, err)
		assert.Equal(t, c.file, info.Mode().Perm())
		for at = filepath.Dir(at); at != dir; at = filepath.Dir(at) {
			info, err := os.Stat(at)
			require.NoError(t, err)
			assert.Equal(t, c.made, info.Mode().Perm(), at)
		}
	}
}
