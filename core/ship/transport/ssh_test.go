package transport_test

import (
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"vornix/core/base/fault"
	"vornix/core/ship/transport"
	"vornix/internal/peer"
)

func reached(t *testing.T, l *transport.Login) {
	t.Helper()
	root := t.TempDir()
	s, err := transport.OpenSFTP(ctx, l, root)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Write(ctx, "here", []byte("yes")))
	assert.FileExists(t, filepath.Join(root, "here"))
}

func refused(t *testing.T, l *transport.Login) *fault.Fault {
	t.Helper()
	_, err := transport.OpenSFTP(ctx, l, t.TempDir())
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.NotEmpty(t, f.Do)
	return f
}

// What OpenSSH's own programs take from the user's files is taken by Vornix: aliases, keys, known hosts, jumps.
func TestTheUsersSSHConfiguration(t *testing.T) {
	s, hop := peer.StartSSHD(t, ""), peer.StartSSHD(t, "")
	require.NoError(t, os.WriteFile(hop.Allowed, must(os.ReadFile(s.Allowed)), 0o600))
	known, err := os.ReadFile(filepath.Join(s.Home, ".ssh", "known_hosts"))
	require.NoError(t, err)
	more, err := os.ReadFile(filepath.Join(hop.Home, ".ssh", "known_hosts"))
	require.NoError(t, err)
	put := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(s.Home, ".ssh", name), []byte(text), 0o600))
	}
	put("known_hosts", string(known)+string(more))
	require.NoError(t, os.Rename(s.Key, filepath.Join(s.Home, ".ssh", "deploy_key")))
	put("config", fmt.Sprintf("Host valley\n  HostName 127.0.0.1\n  Port %d\n  User %s\n  IdentityFile ~/.ssh/deploy_key\n\nHost ridge\n  HostName 127.0.0.1\n  Port %d\n  User %s\n  IdentityFile ~/.ssh/deploy_key\n\nHost far\n  HostName 127.0.0.1\n  Port %[1]d\n  User %[2]s\n  IdentityFile ~/.ssh/deploy_key\n  ProxyJump ridge\n\nHost odd\n  ProxyCommand nc %%h %%p\n", s.Port, s.User, hop.Port, hop.User))
	reached(t, &transport.Login{Host: "valley", Home: s.Home})
	reached(t, &transport.Login{Host: "far", Home: s.Home})
	reached(t, &transport.Login{Host: "valley", Jumps: []string{"ridge"}, Home: s.Home})
	f := refused(t, &transport.Login{Host: "valley", Jumps: []string{fmt.Sprintf("%s@127.0.0.1:1", s.User)},
		Home: s.Home})
	assert.Equal(t, fault.Unreachable, f.Kind)
	f = refused(t, &transport.Login{Host: "odd", User: "x", Home: s.Home})
	assert.Contains(t, f.What, "ProxyCommand")
	f = refused(t, &transport.Login{Host: "127.0.0.1", Port: s.Port, User: s.User, Home: s.Home})
	assert.Contains(t, f.What, "lets nobody in")

	// Host keys: unknown, changed, pinned.
	put("known_hosts", "")
	f = refused(t, &transport.Login{Host: "valley", Home: s.Home})
	assert.Equal(t, fault.Refused, f.Kind)
	assert.Contains(t, f.What, s.Fingerprint)
	assert.Contains(t, f.Do, "host_key")
	reached(t, &transport.Login{Host: "valley", Home: s.Home, Pins: []string{"SHA256:other", s.Fingerprint}})
	put("known_hosts", strings.Replace(string(more), fmt.Sprint(hop.Port), fmt.Sprint(s.Port), 1))
	f = refused(t, &transport.Login{Host: "valley", Home: s.Home})
	assert.Contains(t, f.What, "another key than the one that is known")
	assert.Contains(t, f.Why, "known_hosts")
	put("known_hosts", "@revoked * "+strings.SplitN(string(known), " ", 2)[1])
	f = refused(t, &transport.Login{Host: "valley", Home: s.Home})
	assert.Equal(t, fault.Refused, f.Kind)

	// A key that words protect, and one that is none.
	put("known_hosts", string(known))
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte("moles dig"))
	require.NoError(t, err)
	put("locked", string(pem.EncodeToMemory(block)))
	public, err := ssh.NewPublicKey(private.Public())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.Allowed, ssh.MarshalAuthorizedKey(public), 0o600))
	words := "moles dig"
	l := &transport.Login{Host: "valley", Home: s.Home, Key: "~/.ssh/locked",
		Unlock: func(file string) (string, error) { return words, nil }}
	reached(t, l)
	words = "voles dig"
	assert.Contains(t, refused(t, l).What, "do not open")
	put("locked", "no key at all")
	assert.Contains(t, refused(t, l).What, "no private key")
	l.Key = "~/.ssh/none"
	assert.Equal(t, fault.Usage, refused(t, l).Kind)
	put("config", "Host valley\n  Port many\n  Match exec \"rm -rf\"\n")
	refused(t, &transport.Login{Host: "valley", User: "x", Home: s.Home})
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func TestAnAgentsKey(t *testing.T) {
	agent, add := peer.Need(t, "ssh-agent"), peer.Need(t, "ssh-add")
	s := peer.StartSSHD(t, "")
	socket := filepath.Join(t.TempDir(), "agent")
	cmd := exec.Command(agent, "-D", "-a", socket)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool { _, err := os.Stat(socket); return err == nil }, 5*time.Second,
		5*time.Millisecond)
	load := exec.Command(add, s.Key)
	load.Env = append(os.Environ(), "SSH_AUTH_SOCK="+socket)
	out, err := load.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.Remove(s.Key))
	l := &transport.Login{Host: "127.0.0.1", Port: s.Port, User: s.User, Home: s.Home}
	refused(t, l)
	l.Agent = func() (io.ReadWriter, error) { return net.Dial("unix", socket) }
	reached(t, l)
	l.Agent = func() (io.ReadWriter, error) { return nil, errors.New("no agent") }
	refused(t, l)
}

// A server that asks for a password, and has none of OpenSSH's extensions nor a shell: another program than OpenSSH.
func TestAPasswordAndAPlainServer(t *testing.T) {
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	host, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	config := &ssh.ServerConfig{KeyboardInteractiveCallback: func(_ ssh.ConnMetadata,
		ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
		answers, err := ask("", "", []string{"Password: "}, []bool{false})
		if err != nil || len(answers) != 1 || answers[0] != "tunnel" {
			return nil, errors.New("no")
		}
		return nil, nil
	}}
	config.AddHostKey(host)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go serve(conn, config)
		}
	}()
	word := "tunnel"
	var asked []string
	login := &transport.Login{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, User: "mole",
		Pins: []string{ssh.FingerprintSHA256(host.PublicKey())}, Password: func(who string) (string, error) {
			asked = append(asked, who)
			return word, nil
		}}
	reached(t, login)
	assert.Contains(t, asked[0], "mole@127.0.0.1")
	root := t.TempDir()
	s, err := transport.OpenSFTP(ctx, login, root)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Write(ctx, "a/list", []byte("one")))
	require.NoError(t, s.Write(ctx, "a/list", []byte("two")))
	require.NoError(t, s.Copy(ctx, "a/list", "b"))
	sums, err := s.Hash(ctx, []string{"b"})
	require.NoError(t, err)
	_, sum := source(t, []byte("two"))
	assert.Equal(t, sum, sums["b"])
	word = "funnel"
	f := refused(t, login)
	assert.Contains(t, f.What, "a password")
	login.Password = func(string) (string, error) {
		return "",
			&fault.Fault{Kind: fault.Usage, What: "none", Do: "set it"}
	}
	assert.Equal(t, fault.Usage, refused(t, login).Kind)
}

func serve(conn net.Conn, config *ssh.ServerConfig) {
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for c := range channels {
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				ok := r.Type == "subsystem" && strings.HasSuffix(string(r.Payload), "sftp")
				_ = r.Reply(ok, nil)
				if ok {
					if server, err := sftp.NewServer(channel); err == nil {
						go func() { _ = server.Serve() }()
					}
				}
			}
		}()
	}
}

func TestWhereAServerIs(t *testing.T) {
	for text, want := range map[string][3]any{
		"valley":                    {"", "valley", 0},
		"crew@valley":               {"crew", "valley", 0},
		"crew@valley:2222":          {"crew", "valley", 2222},
		"ssh://crew@valley:2222":    {"crew", "valley", 2222},
		"a@b@valley":                {"a@b", "valley", 0},
		"crew@[2001:db8::1]:22":     {"crew", "2001:db8::1", 22},
		"crew@2001:db8::1":          {"crew", "2001:db8::1", 0},
		"crew@valley:70000":         {},
		"crew@valley:many":          {},
		"crew@":                     {},
		"-oProxyCommand=rm":         {},
		"crew@-oProxyCommand=rm:22": {},
	} {
		user, host, port, err := transport.SplitHost(text)
		if want == [3]any{} {
			assert.Equal(t, fault.Usage, fault.KindOf(err), text)
			continue
		}
		require.NoError(t, err, text)
		assert.Equal(t, want, [3]any{user, host, port}, text)
	}
}
