package peer

import (
	"bytes"
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"net"
	"net/netip"
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
	Allowed     string // file of the public keys that it lets in
	Log         *bytes.Buffer
}

// StartSSHD starts an OpenSSH server on a free port of this machine, until the test ends. more is
// added to its configuration.
func StartSSHD(t testing.TB, more string) *SSHD {
	t.Helper()
	Need(t, sshdProgram)
	Need(t, sftpProgram)
	s, stop, err := RunSSHD(t.TempDir(), more)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	return s
}

// Where Debian has OpenSSH's server and its part for SFTP.
const (
	sshdProgram = "/usr/sbin/sshd"
	sftpProgram = "/usr/lib/openssh/sftp-server"
)

// RunSSHD starts an OpenSSH server that keeps its files in dir; stop ends it.
func RunSSHD(dir, more string) (s *SSHD, stop func(), err error) {
	account, err := user.Current()
	if err != nil {
		return nil, nil, err
	}
	s = &SSHD{User: account.Username, Home: filepath.Join(dir, "home"), Log: &bytes.Buffer{}}
	if err := os.MkdirAll(filepath.Join(s.Home, ".ssh"), 0o700); err != nil {
		return nil, nil, err
	}
	if account.Uid == "0" {
		_ = os.MkdirAll("/run/sshd", 0o755) // where it gives up its rights
	}
	var host, own ssh.PublicKey
	if s.HostKey, host, err = NewSSHKey(filepath.Join(dir, "host")); err != nil {
		return nil, nil, err
	}
	s.Fingerprint = ssh.FingerprintSHA256(host)
	if s.Key, own, err = NewSSHKey(filepath.Join(s.Home, ".ssh", "id_ed25519")); err != nil {
		return nil, nil, err
	}
	if s.Address, err = FreeAddress(); err != nil {
		return nil, nil, err
	}
	s.Port = int(netip.MustParseAddrPort(s.Address).Port())
	s.Allowed = filepath.Join(dir, "allowed")
	// SHLVL: so that the account's shell does not read what its owner has set up, which may take long.
	config := fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %s\nAuthorizedKeysFile %s\nStrictModes no\nPidFile none\nUsePAM no\nPermitRootLogin yes\nMaxStartups 200\nMaxSessions 40\nLoginGraceTime 20\nSubsystem sftp %s\nLogLevel ERROR\n%s\nSetEnv SHLVL=2\n",
		s.Port, s.HostKey, s.Allowed, sftpProgram, more)
	for name, text := range map[string][]byte{s.Allowed: ssh.MarshalAuthorizedKey(own),
		filepath.Join(dir, "config"): []byte(config),
		filepath.Join(s.Home, ".ssh", "known_hosts"): fmt.Appendf(nil, "[127.0.0.1]:%d %s", s.Port,
			ssh.MarshalAuthorizedKey(host))} {
		if err := os.WriteFile(name, text, 0o600); err != nil {
			return nil, nil, err
		}
	}
	cmd := exec.Command(sshdProgram, "-D", "-e", "-f", filepath.Join(dir, "config"))
	cmd.Stderr = s.Log
	cmd.WaitDelay = time.Second // a child whose login was cut off holds the log open for as long as logins may take
	if err := cmd.Start(); err != nil {
		return nil, nil, err
	}
	stop = func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	for range 300 {
		if c, err := net.Dial("tcp", s.Address); err == nil {
			c.Close()
			return s, stop, nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	stop()
	return nil, nil, fmt.Errorf("sshd does not answer: %s", s.Log)
}

// NewSSHKey writes a new private key in OpenSSH's form.
func NewSSHKey(name string) (file string, public ssh.PublicKey, err error) {
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		return "", nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return "", nil, err
	}
	if err := os.WriteFile(name, pem.EncodeToMemory(block), 0o600); err != nil {
		return "", nil, err
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return "", nil, err
	}
	return name, signer.PublicKey(), nil
}
