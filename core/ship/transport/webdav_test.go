package transport_test

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/ship/transport"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// davServers are the servers that WebDAV is tried with.
var davServers = []struct {
	name   string
	start  func(t testing.TB, root string) string
	atomic bool // a PUT replaces a file in one step
}{{"Go", goDAV, false}, {"Apache", peer.Apache, true}, {"nginx", peer.NginxDAV, true}}

func openDAV(t *testing.T, address string) *transport.WebDAV {
	t.Helper()
	s, err := transport.OpenWebDAV(ctx, address, peer.DAVUser)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// Of several that create the same file, one does; what a killed one left in the way goes by itself.
func TestAFileIsCreatedOnce(t *testing.T) {
	defer transport.LeftBehind(transport.LeftBehind(300 * time.Millisecond))
	for _, server := range davServers {
		t.Run(server.name, func(t *testing.T) {
			root := t.TempDir()
			address := server.start(t, root)
			for round := range 5 {
				var won atomic.Int32
				var content atomic.Value
				var all sync.WaitGroup
				for i := range 6 {
					all.Go(func() {
						mine := fmt.Sprintf("%d", i)
						switch err := openDAV(t, address).Create(ctx, fmt.Sprintf("state/lock%d", round),
							[]byte(mine)); {
						case err == nil:
							won.Add(1)
							content.Store(mine)
						default:
							assert.ErrorIs(t, err, fs.ErrExist)
						}
					})
				}
				all.Wait()
				assert.Equal(t, int32(1), won.Load())
				data, err := openDAV(t, address).Read(ctx, fmt.Sprintf("state/lock%d", round), 100)
				require.NoError(t, err)
				assert.Equal(t, content.Load(), string(data))
			}
			s := openDAV(t, address)
			entries, err := os.ReadDir(filepath.Join(root, "state"))
			require.NoError(t, err)
			assert.Len(t, entries, 5, "no guard stays")
			require.NoError(t, os.Mkdir(filepath.Join(root, "state", "new.vornix-create"), 0o777))
			require.NoError(t, os.Chmod(filepath.Join(root, "state", "new.vornix-create"), 0o777))
			require.NoError(t, s.Create(ctx, "state/new", []byte("x")))
			assert.NoDirExists(t, filepath.Join(root, "state", "new.vornix-create"))
		})
	}
}

// Who reads while a small file is replaced gets the old one or the new one, whole.
func TestAReplacedFileIsNeverHalf(t *testing.T) {
	for _, server := range davServers {
		if !server.atomic {
			continue
		}
		t.Run(server.name, func(t *testing.T) {
			address := server.start(t, t.TempDir())
			s := openDAV(t, address)
			version := func(i int) []byte { return bytes.Repeat([]byte{byte('a' + i)}, 200_000) }
			require.NoError(t, s.Write(ctx, "index.json", version(0)))
			done := make(chan bool)
			var reads atomic.Int32
			go func() {
				defer close(done)
				reader := openDAV(t, address)
				for last := byte(0); last != 'k'; {
					data, err := reader.Read(ctx, "index.json", 1<<20)
					if !assert.NoError(t, err) || !assert.Len(t, data, 200_000) ||
						!assert.Equal(t, 200_000, bytes.Count(data, data[:1])) {
						return
					}
					last = data[0]
					reads.Add(1)
				}
			}()
			for i := 1; i <= 10; i++ {
				require.NoError(t, s.Write(ctx, "staged/new", version(i)))
				switch i % 3 {
				case 0:
					require.NoError(t, s.Rename(ctx, "staged/new", "index.json"))
				case 1:
					require.NoError(t, s.Copy(ctx, "staged/new", "index.json"))
				case 2:
					require.NoError(t, s.Write(ctx, "index.json", version(i)))
				}
			}
			<-done
			t.Logf("%d reads", reads.Load())
		})
	}
}

// A line that is cut at any place leaves nothing that the same call does not put right.
func TestWebDAVOverALineThatIsCut(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	data := make([]byte, 300_000)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	file, sum := source(t, data)
	for _, server := range davServers[1:] {
		t.Run(server.name, func(t *testing.T) {
			root := t.TempDir()
			address, err := url.Parse(server.start(t, root))
			require.NoError(t, err)
			line, err := peer.NewLine(address.Host)
			require.NoError(t, err)
			defer line.Close()
			address.Host = line.Address
			s := openDAV(t, address.String())
			require.NoError(t, s.Write(ctx, "bundle", []byte("the old one")))
			again := func(what string, do func() error) {
				t.Helper()
				for try := 0; ; try++ {
					err := do()
					if err == nil {
						return
					}
					require.ErrorIs(t, err, transport.ErrLost, what)
					require.Less(t, try, 3, what)
					line.After(-1, false)
				}
			}
			for i := range thorough.Or(10, 60) {
				line.After(int64(r.IntN(320_000)), false)
				to := fmt.Sprintf("staged/%d", i)
				again("upload", func() error {
					_, err := s.Upload(ctx, transport.Upload{To: to, Size: int64(len(data)), SHA256: sum, Source: file})
					return err
				})
				line.After(int64(r.IntN(3000)), false)
				again("move", func() error {
					err := s.Rename(ctx, to, fmt.Sprintf("bundle%d", i))
					if errors.Is(err, fs.ErrNotExist) { // moved by the try that was cut
						return nil
					}
					return err
				})
				line.After(-1, false)
				got, err := os.ReadFile(filepath.Join(root, fmt.Sprintf("bundle%d", i)))
				require.NoError(t, err)
				require.True(t, bytes.Equal(data, got))
			}
		})
	}
}

// What can't be a WebDAV folder, and whoever lies, gets one clear error and no password.
func TestWebDAVThatIsNone(t *testing.T) {
	var elsewhere atomic.Int32
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere.Add(1) }))
	defer other.Close()
	answer := func(code int, body string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(code)
			_, _ = w.Write([]byte(body))
		}
	}
	const folder = `<D:multistatus xmlns:D="DAV:"><D:response><D:href>/get/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>`
	for _, c := range []struct {
		name   string
		handle http.HandlerFunc
		kind   fault.Kind
		want   string
	}{
		{"wrong password", answer(401, ""), fault.Unreachable, "does not accept this user name and password"},
		{"no such folder", answer(404, ""), fault.Unreachable, "does not exist on the server"},
		{"a busy server", answer(503, ""), fault.Unreachable, "can't answer now"},
		{"a plain web server", answer(405, ""), fault.Usage, "not a WebDAV folder"},
		{"a page for everything", answer(200, "<html>"), fault.Usage, "not a WebDAV folder"},
		{"no properties", answer(207, `<D:multistatus xmlns:D="DAV:"></D:multistatus>`), fault.Unreachable,
			"does not exist on the server"},
		{"not XML", answer(207, "\x00\x01"), fault.Usage, "PROPFIND can't be read"},
		{"half an answer", answer(207, folder), fault.Usage, "PROPFIND can't be read"},
		{"another server", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, other.URL+"/get/", http.StatusTemporaryRedirect)
		}, fault.Usage, "redirects to " + other.URL},
	} {
		t.Run(c.name, func(t *testing.T) {
			server := httptest.NewServer(c.handle)
			defer server.Close()
			_, err := transport.OpenWebDAV(ctx, server.URL+"/get", peer.DAVUser)
			require.Error(t, err)
			assert.ErrorContains(t, err, c.want)
			assert.Equal(t, c.kind, fault.KindOf(err), "%v", err)
		})
	}
	assert.Zero(t, elsewhere.Load())
	_, err := transport.OpenWebDAV(ctx, "http://downloads.example/get", peer.DAVUser)
	assert.Equal(t, fault.Refused, fault.KindOf(err), "a password is not sent in the open")
	_, err = transport.OpenWebDAV(ctx, "ftp://downloads.example/get", nil)
	assert.Equal(t, fault.Usage, fault.KindOf(err))

	file := func(href string) string {
		return `<D:response><D:href>` + href +
			`</D:href><D:propstat><D:prop><D:getcontentlength>5</D:getcontentlength><D:getlastmodified>Mon, 30 Nov 2026 10:00:00 GMT</D:getlastmodified></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>`
	}
	endless := false
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodDelete || r.Method == http.MethodPut {
			w.WriteHeader(http.StatusInsufficientStorage)
			return
		}
		w.WriteHeader(207)
		_, _ = fmt.Fprint(w,
			folder+file("/get/a.map")+file("/get/..")+file("/get/%2e%2e%2fb")+file("/get/c%00d")+
				file("/elsewhere/e.map"))
		for endless {
			if _, err := fmt.Fprint(w, strings.Repeat(file("/get/"+strings.Repeat("x", 1000)), 1000)); err != nil {
				return
			}
		}
		_, _ = fmt.Fprint(w, `</D:multistatus>`)
	}))
	defer server.Close()
	s, err := transport.OpenWebDAV(ctx, server.URL+"/get", nil)
	require.NoError(t, err)
	list, err := s.List(ctx, []string{"."})
	require.NoError(t, err)
	var names []string
	for _, i := range list {
		names = append(names, i.Path)
	}
	assert.Equal(t, []string{"a.map", "b", "e.map"}, names,
		"whatever the server says, they are names in the folder that was asked for")
	err = transport.Explain(s, "write", "a.map", s.Write(ctx, "a.map", []byte("x")))
	assert.ErrorContains(t, err, "disk is full")
	endless = true
	_, err = s.List(ctx, []string{"."})
	assert.Error(t, err, "an answer has an end")
}

// A server that stops in the middle of a file, or accepts no more of one, is given up.
func TestAWebServerThatFallsSilent(t *testing.T) {
	defer transport.Silent(transport.Silent(150 * time.Millisecond))
	over := make(chan bool)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.Method {
		case "PROPFIND":
			w.WriteHeader(http.StatusMultiStatus)
			_, _ = fmt.Fprint(w,
				`<D:multistatus xmlns:D="DAV:"><D:response><D:href>/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response></D:multistatus>`)
			return
		case http.MethodGet:
			w.Header().Set("Content-Length", "1000")
			_, _ = w.Write([]byte("half of it"))
			w.(http.Flusher).Flush()
		}
		<-over
	}))
	defer server.Close()
	defer close(over)
	dav, err := transport.OpenWebDAV(ctx, server.URL, nil)
	require.NoError(t, err)
	web, err := transport.OpenWeb(server.URL)
	require.NoError(t, err)
	for _, s := range []transport.Site{dav, web} {
		var b bytes.Buffer
		assert.ErrorIs(t, s.Get(ctx, "a.map", &b), transport.ErrLost)
		assert.Equal(t, "half of it", b.String())
	}
	data := make([]byte, 64<<20) // more than a connection keeps on its way
	file, sum := source(t, data)
	_, err = dav.Upload(ctx, transport.Upload{To: "a.map", Size: int64(len(data)), SHA256: sum, Source: file})
	assert.ErrorIs(t, err, transport.ErrLost)
}
