package signature

import (
	"crypto"
	"encoding/base64"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/internal/peer"
)

// Keys and signatures go both ways with a program that is not ours.
func TestKeysOfOthers(t *testing.T) {
	openssl := peer.Need(t, "openssl")
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	pem, public, err := New()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at("ours.pem"), pem, 0o600))
	peer.Run(t, dir, openssl, "genpkey", "-algorithm", "ed25519", "-out", "theirs.pem")
	require.NoError(t, os.Chmod(at("theirs.pem"), 0o600))
	message := []byte("from exactly this to exactly that\n")
	require.NoError(t, os.WriteFile(at("message"), message, 0o600))
	for _, name := range []string{"ours.pem", "theirs.pem"} {
		key, err := ReadKey(at(name))
		require.NoError(t, err)
		s, err := Sign(key, message)
		require.NoError(t, err)
		assert.Equal(t, name == "ours.pem", s.Key == public)
		value, err := base64.StdEncoding.DecodeString(s.Value)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(at("sig"), value, 0o600))
		peer.Run(t, dir, openssl, "pkey", "-in", name, "-pubout", "-out", "public.pem")
		assert.Contains(t,
			peer.Run(t, dir, openssl, "pkeyutl", "-verify", "-pubin", "-inkey", "public.pem", "-rawin", "-in",
				"message", "-sigfile", "sig"), "Successfully")
		peer.Run(t, dir, openssl, "pkeyutl", "-sign", "-inkey", name, "-rawin", "-in", "message", "-out", "sig")
		value, err = os.ReadFile(at("sig"))
		require.NoError(t, err)
		assert.NoError(t, Signature{s.Key, base64.StdEncoding.EncodeToString(value)}.Check(message))
		assert.ErrorContains(t, s.Check([]byte("to something else")), "signature is wrong")
	}
	peer.Run(t, dir, openssl, "genpkey", "-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:1024", "-out", "rsa.pem")
	require.NoError(t, os.Chmod(at("rsa.pem"), 0o600))
	_, err = ReadKey(at("rsa.pem"))
	assert.ErrorContains(t, err, "no private Ed25519 key")
}

// Keys that others can read are refused, words that are none too; trust is by the key, not by the signature alone.
func TestTrust(t *testing.T) {
	pem, public, err := New()
	require.NoError(t, err)
	name := filepath.Join(t.TempDir(), "k")
	require.NoError(t, os.WriteFile(name, pem, 0o644))
	if _, err := ReadKey(name); runtime.GOOS != "windows" {
		assert.Equal(t, fault.Refused, fault.KindOf(err))
	}
	for _, bad := range []string{"", "ed25519:", "rsa:AAAA", public[:20], public + "A", strings.ToUpper(public)} {
		_, err := ParseWord(bad)
		assert.Error(t, err, bad)
		assert.Error(t, Trust(public, []string{bad}), bad)
	}
	assert.NoError(t, Trust(public, []string{public}))
	assert.ErrorContains(t, Trust("", []string{public}), "not signed")
	assert.ErrorContains(t, Trust(public, nil), "not trusted")
}

// A key that OpenSSH's agent holds signs as one in a file does; one that it does not hold, or that
// is of another kind, is said.
func TestKeysOfAnAgent(t *testing.T) {
	agent, add, keygen := peer.Need(t, "ssh-agent"), peer.Need(t, "ssh-add"), peer.Need(t, "ssh-keygen")
	dir := t.TempDir()
	socket := filepath.Join(dir, "s")
	cmd := exec.Command(agent, "-D", "-a", socket)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	for i := 0; ; i++ {
		if _, err := os.Stat(socket); err == nil {
			break
		}
		require.Less(t, i, 200)
		time.Sleep(10 * time.Millisecond)
	}
	t.Setenv("SSH_AUTH_SOCK", socket)
	ask := func(which string) (crypto.Signer, error) {
		conn, err := net.Dial("unix", socket)
		require.NoError(t, err)
		t.Cleanup(func() { conn.Close() })
		return FromAgent(conn, which)
	}
	_, err := ask("")
	assert.ErrorContains(t, err, "holds no Ed25519 key")
	make := func(kind, comment string) {
		peer.Run(t, dir, keygen, "-q", "-t", kind, "-N", "", "-C", comment, "-f", comment)
		peer.Run(t, dir, add, "-q", comment)
	}
	make("ed25519", "highline-2026")
	make("ecdsa", "other")
	key, err := ask("")
	require.NoError(t, err)
	s, err := Sign(key, []byte("the index"))
	require.NoError(t, err)
	require.NoError(t, s.Check([]byte("the index")))
	assert.Error(t, s.Check([]byte("another")))
	make("ed25519", "highline-2027")
	_, err = ask("")
	assert.ErrorContains(t, err, "2 keys that it could be: highline-2026, highline-2027")
	fingerprint := strings.Fields(peer.Run(t, dir, keygen, "-lf", "highline-2026.pub"))[1]
	for _, which := range []string{"highline-2026", fingerprint, s.Key} {
		same, err := ask(which)
		require.NoError(t, err)
		assert.Equal(t, s.Key, Public(same))
	}
	_, err = ask("other")
	assert.ErrorContains(t, err, `holds no key "other"`)
	peer.Run(t, dir, add, "-q", "-D")
	_, err = Sign(key, []byte("the index"))
	assert.ErrorContains(t, err, "could not sign")
}
