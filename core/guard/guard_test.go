package guard

import (
	"encoding/binary"
	"fmt"
	"math/rand"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
)

func TestNames(t *testing.T) {
	for name, want := range map[string]Sort{
		"maps/a.vnx": Source, "art/Wall.PSD": Source, "vornix.toml": Source, "x/.git/config": Source, "a.blend1": Source, "t/wall.texture.toml": Source,
		"maps/a.vnx~": Backup, "notes.bak": Backup, "Thumbs.db": Backup, ".#lock": Backup, ".vornix/ledger.jsonl": Backup,
		"id_ed25519": Secret, "deploy/server.PEM": Secret, ".env": Secret, ".env.local": Secret, "a/.ssh/known_hosts": Secret,
		"maps/a.vnm": "", "sounds/key.wav": "", "keys.txt": "", "id_rsa.txt": "", "materials/wood.toml": "", "logs/wood.png": "", "gitter/a.txt": "",
		"x.swp": Backup, "x.swo": Backup, "#x#": Backup, "a.rej": Backup, "a.part": Backup, "a.log": Backup, "desktop.ini": Backup, ".DS_Store": Backup, "ehthumbs.db": Backup, "_netrc": Secret, ".npmrc": Secret, "a.ppk": Secret, "bazaar.token": Secret,
		"id_rsa": Secret, "x.aup3": Source, "x.ora": Source, "id_card.png": "", "settings.ini": "", "a.database": "",
	} {
		h, ok := Name(name)
		assert.Equal(t, want != "", ok, name)
		assert.Equal(t, want, h.Sort, name)
	}
}

// secret pieces are put together here, so that no tool takes this file for a leak.
var (
	key   = "-----BEGIN OPENSSH " + "PRIVATE KEY-----\nb3BlbnNzaC1rZXk\n"
	drawn = func(prefix string, n int) string { return prefix + strings.Repeat("a1B2", n)[:n] }
)

var leaks = []struct {
	content string
	sort    Sort
}{
	{key, Secret}, {"-----BEGIN " + "PRIVATE KEY-----", Secret}, {"-----BEGIN PGP " + "PRIVATE KEY BLOCK-----", Secret}, {"-----BEGIN RSA " + "PRIVATE KEY-----", Secret},
	{drawn("gh"+"p_", 36), Secret}, {drawn("glp"+"at-", 20), Secret}, {"vornix-" + "token-" + strings.Repeat("ab23", 8), Secret}, {"AK" + "IAQ2W3E4R5T6Y7U8I9 ", Secret}, {"ey" + "JhbGciOiJIUzI1NiJ9.ey" + "JzdWIiOiIxMjM0NTY3ODkwIn0.dozjgNryP4J3jVmNHl0w5N_XgL0n3I9", Secret},
	{"password = \"hunter22\"\n", Secret}, {"api_key: 9f8e7d6c5b4a\n", Secret},
	{"/home/mirella/maps/a.png", Home}, {"C:\\Users\\Mirella\\maps", Home}, {`"C:\\Users\\Mirella\\maps"`, Home}, {"/Users/mirella/x", Home},
}

var harmless = []string{
	"-----BEGIN PUBLIC KEY-----", "-----BEGIN CERTIFICATE-----", "the private key is under the mat", "ghp_short", "AKIA", "eyJust a word",
	"password = \"\"", "password: ********", "secret = passage", "api_key = YOUR_KEY_HERE", "/home/user/maps", "/home/", "/Users/Shared/x", "C:\\Users\\Public\\x", "go home/now", "station/hum",
}

// Leaks are found wherever they stand: in text, between bytes that are none, in UTF-16, across any border of two writes. What is said
// never holds them.
func TestLeaksAreFoundAnywhere(t *testing.T) {
	for _, leak := range leaks {
		hits := Scan([]byte("first line\n" + leak.content))
		if assert.Len(t, hits, 1, "%q", leak.content) {
			assert.Equal(t, leak.sort, hits[0].Sort)
			assert.Equal(t, 2, hits[0].Line, "%q", leak.content)
			tail := strings.TrimRight(leak.content, "\"\n -")
			assert.NotContains(t, hits[0].String(), tail[len(tail)-6:], "what is said of a secret does not hold it")
		}
		setting := strings.Contains(leak.content, " = ") || strings.Contains(leak.content, ": ")
		if setting {
			continue // only where there is text
		}
		noise := make([]byte, 3000)
		rng := rand.New(rand.NewSource(1))
		rng.Read(noise)
		noise[5] = 0
		all := append(append(append([]byte{}, noise...), leak.content...), noise...)
		hits = Scan(all)
		if assert.Len(t, hits, 1, "%q in noise", leak.content) {
			assert.Contains(t, hits[0].String(), fmt.Sprint("at byte ", hits[0].At))
		}
		for range 60 {
			var s Scanner
			for rest := all; len(rest) > 0; {
				n := min(1+rng.Intn(900), len(rest))
				_, _ = s.Write(rest[:n])
				rest = rest[n:]
			}
			assert.NotEmpty(t, s.Hits, "%q in parts", leak.content)
			assert.Equal(t, hits[0].At, s.Hits[0].At)
		}
		if leak.sort == Home && !strings.Contains(leak.content, `\\`) || leak.content == key {
			var b []byte
			for _, u := range utf16.Encode([]rune("x" + leak.content)) {
				b = binary.LittleEndian.AppendUint16(b, u)
			}
			assert.Len(t, Scan(b), 1, "%q in UTF-16", leak.content)
		}
	}
	for _, s := range harmless {
		assert.Empty(t, Scan([]byte("x "+s+" y")), "%q", s)
	}
	assert.Len(t, Scan([]byte(strings.Repeat("/home/mirella/a\n", 100))), mostHits)
}
