package peer

import (
	"bytes"
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// SSHD is a running OpenSSH server that lets this account in by a key of its own.
type SSHD struct {
	Address     string // host:port
	Port        int
	User        string
	Home        string // a folder that serves as ~ for clients: .ssh has the key and the known hosts
	Key         string // file of the private key that it lets in
	Fingerprint string // of its own key
	HostKey     string // file
	Log         *bytes.Buffer
}

// StartSSHD starts an OpenSSH server on a free port of this machine, until the test ends. more is added to its configuration.
func StartSSHD(t testing.TB, more string) *SSHD {
	t.Helper()
	program := Need(t, "/usr/sbin/sshd")
	sftp := Need(t, "/usr/lib/openssh/sftp-server")
	account, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	s := &SSHD{User: account.Username, Home: filepath.Join(dir, "home"), Log: &bytes.Buffer{}}
	if err := os.MkdirAll(filepath.Join(s.Home, ".ssh"), 0o700); err != nil {
		t.Fatal(err)
	}
	if account.Uid == "0" {
		_ = os.MkdirAll("/run/sshd", 0o755) // where it gives up its rights
	}
	var host ssh.PublicKey
	s.HostKey, host = newKey(t, filepath.Join(dir, "host"))
	s.Fingerprint = ssh.FingerprintSHA256(host)
	var own ssh.PublicKey
	s.Key, own = newKey(t, filepath.Join(s.Home, ".ssh", "id_ed25519"))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s.Address, s.Port = l.Addr().String(), l.Addr().(*net.TCPAddr).Port
	l.Close()
	put := func(name string, data []byte) string {
		name = filepath.Join(dir, name)
		if err := os.WriteFile(name, data, 0o600); err != nil {
			t.Fatal(err)
		}
		return name
	}
	allowed := put("allowed", ssh.MarshalAuthorizedKey(own))
	put(filepath.Join("home", ".ssh", "known_hosts"), fmt.Appendf(nil, "[127.0.0.1]:%d %s", s.Port, ssh.MarshalAuthorizedKey(host)))
	// SHLVL: so that the account's shell does not read what its owner has set up, which may take long.
	config := put("config", fmt.Appendf(nil, "Port %d\nListenAddress 127.0.0.1\nHostKey %s\nAuthorizedKeysFile %s\nStrictModes no\nPidFile none\nUsePAM no\nPermitRootLogin yes\nMaxStartups 200\nMaxSessions 40\nSubsystem sftp %s\nLogLevel ERROR\nSetEnv SHLVL=2\n%s\n",
		s.Port, s.HostKey, allowed, sftp, more))
	cmd := exec.Command(program, "-D", "-e", "-f", config)
	cmd.Stderr = s.Log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	for range 300 {
		if c, err := net.Dial("tcp", s.Address); err == nil {
			c.Close()
			return s
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatalf("sshd does not answer: %s", s.Log)
	return nil
}

// newKey makes a key pair of OpenSSH's.
func newKey(t testing.TB, name string) (file string, public ssh.PublicKey) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return name, signer.PublicKey()
}
