package transport_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/webdav"

	"vornix/core/ship/transport"
	"vornix/internal/peer"
)

var ctx = context.Background()

// source writes a file to send and says what it is.
func source(t *testing.T, data []byte) (file, sum string) {
	t.Helper()
	file = filepath.Join(t.TempDir(), "source")
	require.NoError(t, os.WriteFile(file, data, 0o666))
	h := sha256.Sum256(data)
	return file, hex.EncodeToString(h[:])
}

func login(s *peer.SSHD) *transport.Login {
	return &transport.Login{Host: "127.0.0.1", Port: s.Port, User: s.User, Home: s.Home}
}

// sites are all places that can be written to, each with the folder of this machine that it leads to.
func sites(t *testing.T, f func(t *testing.T, s transport.Site, root string)) {
	t.Run("folder", func(t *testing.T) {
		root := t.TempDir()
		s, err := transport.OpenFolder(root)
		require.NoError(t, err)
		defer s.Close()
		f(t, s, root)
	})
	for name, config := range map[string]string{"sftp": "", "sftp without a shell": "ForceCommand internal-sftp",
		"sftp by its own subsystem": "ForceCommand internal-sftp -P copy-data,hardlink,posix-rename,statvfs"} {
		t.Run(name, func(t *testing.T) {
			root := t.TempDir()
			s, err := transport.OpenSFTP(ctx, login(peer.StartSSHD(t, config)), root)
			require.NoError(t, err)
			defer s.Close()
			f(t, s, root)
		})
	}
	for name, start := range map[string]func(t testing.TB, root string) string{"webdav of Go": goDAV,
		"webdav of Apache": peer.Apache, "webdav of nginx": peer.NginxDAV} {
		t.Run(name, func(t *testing.T) {
			root := t.TempDir()
			s, err := transport.OpenWebDAV(ctx, start(t, root), peer.DAVUser)
			require.NoError(t, err)
			defer s.Close()
			f(t, s, root)
		})
	}
}

// goDAV is a server that every machine with Go has.
func goDAV(t testing.TB, root string) string {
	h := &webdav.Handler{Prefix: "/get", FileSystem: webdav.Dir(root), LockSystem: webdav.NewMemLS()}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if name, password, _ := r.BasicAuth(); url.UserPassword(name, password).String() != peer.DAVUser.String() {
			w.Header().Set("WWW-Authenticate", `Basic realm="files"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		h.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	return server.URL + "/get"
}

func TestEverySiteDoesTheSame(t *testing.T) {
	sites(t, func(t *testing.T, s transport.Site, root string) {
		read := func(rel string) string {
			data, err := os.ReadFile(filepath.Join(root, filepath.FromSlash(rel)))
			require.NoError(t, err)
			return string(data)
		}
		list, err := s.List(ctx, []string{"levels", "."})
		require.NoError(t, err)
		assert.Empty(t, list)
		_, err = s.Stat(ctx, "levels/a.map")
		assert.ErrorIs(t, err, fs.ErrNotExist)
		_, err = s.Read(ctx, "levels/a.map", 100)
		assert.ErrorIs(t, err, fs.ErrNotExist)

		r := rand.New(rand.NewPCG(1, 2))
		for i, size := range []int{0, 1, 5000, 1_300_000} {
			data := make([]byte, size)
			for i := range data {
				data[i] = byte(r.Uint32())
			}
			if i == 3 {
				copy(data[100_000:], bytes.Repeat([]byte("a line that shrinks\n"), 60000)) // worth compressing
			}
			file, sum := source(t, data)
			var seen int64
			to := fmt.Sprintf("levels/it's %d.map", i)
			_, err := s.Upload(ctx,
				transport.Upload{To: to, Size: int64(size), SHA256: sum, Source: file,
					Advanced: func(n int64) { seen += n }})
			require.NoError(t, err)
			assert.Equal(t, string(data), read(to))
			assert.Equal(t, int64(size), seen)
			sums, err := s.Hash(ctx, []string{to, "levels/none"})
			require.NoError(t, err)
			assert.Equal(t, map[string]string{to: sum}, sums)
			info, err := s.Stat(ctx, to)
			require.NoError(t, err)
			assert.Equal(t, int64(size), info.Size)
		}
		list, err = s.List(ctx, []string{"levels", "nowhere"})
		require.NoError(t, err)
		require.Len(t, list, 4)
		assert.True(t, slices.ContainsFunc(list,
			func(i transport.Info) bool { return i.Path == "levels/it's 2.map" && i.Size == 5000 }))
		one, err := s.Stat(ctx, "levels/it's 2.map")
		require.NoError(t, err)
		assert.Contains(t, list, one, "a list and a look say the same, also of the time")

		require.NoError(t, s.Write(ctx, "lists/maps.txt", []byte("one\n")))
		require.NoError(t, s.Write(ctx, "lists/maps.txt", []byte("two\n")))
		assert.Equal(t, "two\n", read("lists/maps.txt"))
		require.NoError(t, s.Create(ctx, "lock", []byte("mine")))
		assert.ErrorIs(t, s.Create(ctx, "lock", []byte("yours")), fs.ErrExist)
		assert.Equal(t, "mine", read("lock"))
		require.NoError(t, s.Copy(ctx, "levels/it's 3.map", "safe/x/3"))
		require.NoError(t, s.Link(ctx, "levels/it's 0.map", "safe/x/0"))
		require.NoError(t, s.Copy(ctx, "levels/it's 0.map", "safe/x/0"), "over what is there")
		require.NoError(t, s.Link(ctx, "lists/maps.txt", "levels/it's 3.map"), "over what is there")
		assert.Equal(t, "two\n", read("levels/it's 3.map"))
		assert.Len(t, read("safe/x/3"), 1_300_000)
		require.NoError(t, s.Rename(ctx, "safe/x/3", "levels/new/there.map"),
			"into a folder that is not there yet, and")
		require.NoError(t, s.Rename(ctx, "levels/new/there.map", "levels/it's 1.map"), "over what is there")
		assert.Len(t, read("levels/it's 1.map"), 1_300_000)
		require.Error(t, s.Rename(ctx, "levels/none", "levels/other"))
		require.NoError(t, s.Remove(ctx, "lock"))
		require.NoError(t, s.Remove(ctx, "lock"), "what is gone is gone")
		assert.NoFileExists(t, filepath.Join(root, "lock"))
		data, err := s.Read(ctx, "lists/maps.txt", 100)
		require.NoError(t, err)
		assert.Equal(t, "two\n", string(data))
		_, err = s.Read(ctx, "lists/maps.txt", 2)
		assert.ErrorContains(t, err, "larger than")

		file, _ := source(t, []byte("other"))
		_, err = s.Upload(ctx, transport.Upload{To: "x", Size: 4, SHA256: "0", Source: file})
		assert.ErrorContains(t, err, "changed while")
		stopped, cancel := context.WithCancel(ctx)
		cancel()
		_, err = s.Upload(stopped, transport.Upload{To: "x", Size: 5, SHA256: "0", Source: file})
		assert.True(t, errors.Is(err, context.Canceled), "%v", err)
	})
}

// What a cut left of an upload is not sent again; when it was something else, the hash says so.
func TestUploadsGoOn(t *testing.T) {
	root := t.TempDir()
	s, err := transport.OpenSFTP(ctx, login(peer.StartSSHD(t, "ForceCommand internal-sftp")), root)
	require.NoError(t, err)
	defer s.Close()
	data := make([]byte, 900_000)
	r := rand.New(rand.NewPCG(9, 9))
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	file, sum := source(t, data)
	require.NoError(t, os.WriteFile(filepath.Join(root, "x"), data[:600_000], 0o666))
	var seen int64
	sent, err := s.Upload(ctx,
		transport.Upload{To: "x", Size: 900_000, SHA256: sum, Source: file, Advanced: func(n int64) { seen += n }})
	require.NoError(t, err)
	assert.Equal(t, transport.Sent{Bytes: 300_000, Reused: 600_000}, sent)
	assert.Equal(t, int64(900_000), seen)
	got, err := os.ReadFile(filepath.Join(root, "x"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, got))
	require.NoError(t, os.WriteFile(filepath.Join(root, "x"), bytes.Repeat([]byte("else "), 1000), 0o666))
	_, err = s.Upload(ctx, transport.Upload{To: "x", Size: 900_000, SHA256: sum, Source: file})
	require.NoError(t, err)
	sums, err := s.Hash(ctx, []string{"x"})
	require.NoError(t, err)
	assert.NotEqual(t, sum, sums["x"])
	free, err := s.Free(ctx)
	require.NoError(t, err)
	assert.Positive(t, free)
}
