package sign

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/fault"
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
		assert.Contains(t, peer.Run(t, dir, openssl, "pkeyutl", "-verify", "-pubin", "-inkey", "public.pem", "-rawin", "-in", "message", "-sigfile", "sig"), "Successfully")
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
