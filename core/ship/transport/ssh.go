package transport

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/kevinburke/ssh_config"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"vornix/core/base/fault"
)

// Login says how to reach a server by SSH. What is empty is taken from the user's ssh_config, and
// then from what is usual.
type Login struct {
	Host  string // name or address; may be an alias of ssh_config
	Port  int
	User  string
	Key   string   // file of a private key
	Pins  []string // fingerprints of the server's key, as in SHA256:…; when there are any, no other key counts
	Jumps []string // servers to go through, as user@host:port; "none" for none

	Home     string                               // of the user, whose .ssh folder is read
	Account  string                               // the user's name on this machine
	Agent    func() (io.ReadWriter, error)        // connects to an SSH agent; nil for none
	Password func(who string) (string, error)     // asks for a password; nil for none
	Unlock   func(keyFile string) (string, error) // asks for the words that protect a key; nil for none
	Wait     time.Duration                        // how long a connection may take (default 15 s)
	Dial     func(ctx context.Context, network, address string) (net.Conn, error)
}

// hop is one server on the way, with everything known about it.
type hop struct {
	login    *Login
	name     string // as the user wrote it
	host     string
	port     int
	user     string
	keys     []string
	onlyKeys bool // IdentitiesOnly
	known    []string
	alias    string // HostKeyAlias
	pins     []string
}

func (h *hop) address() string { return net.JoinHostPort(h.host, strconv.Itoa(h.port)) }
func (h *hop) String() string  { return h.user + "@" + h.host + portSuffix(h.port) }

func portSuffix(port int) string {
	if port == 22 {
		return ""
	}
	return ":" + strconv.Itoa(port)
}

// config reads the user's ssh_config; an empty one when there is none.
func (l *Login) config() (*ssh_config.Config, error) {
	name := filepath.Join(l.Home, ".ssh", "config")
	f, err := os.Open(name)
	if l.Home == "" || errors.Is(err, fs.ErrNotExist) {
		return &ssh_config.Config{}, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	c, err := ssh_config.Decode(f)
	if err != nil {
		return nil, &fault.Fault{What: "this ssh_config can't be read", Place: fault.Place{File: name}, Err: err,
			Do: "Correct it; 'ssh -G HOST' says what OpenSSH makes of it."}
	}
	return c, nil
}

// resolve finds out how a host is reached.
func (l *Login) resolve(c *ssh_config.Config, name, user string, port int) (*hop, []string, error) {
	get := func(key string) string {
		v, err := c.Get(name, key)
		if err != nil {
			return ""
		}
		return strings.Trim(v, `"`)
	}
	h := &hop{login: l, name: name, host: name, port: port, user: user}
	if v := get("HostName"); v != "" {
		h.host = strings.ReplaceAll(v, "%h", name)
	}
	if h.port == 0 {
		h.port, _ = strconv.Atoi(get("Port"))
	}
	if h.port == 0 {
		h.port = 22
	}
	if h.user == "" {
		h.user = get("User")
	}
	if h.user == "" {
		h.user = l.Account
	}
	h.alias = get("HostKeyAlias")
	h.onlyKeys = strings.EqualFold(get("IdentitiesOnly"), "yes")
	keys, _ := c.GetAll(name, "IdentityFile")
	for _, k := range keys {
		h.keys = append(h.keys, l.path(k))
	}
	if len(h.keys) == 0 && l.Home != "" {
		for _, k := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			h.keys = append(h.keys, filepath.Join(l.Home, ".ssh", k))
		}
	}
	for _, key := range []string{"UserKnownHostsFile", "GlobalKnownHostsFile"} {
		for _, f := range strings.Fields(get(key)) {
			h.known = append(h.known, l.path(f))
		}
	}
	if get("UserKnownHostsFile") == "" && l.Home != "" {
		h.known = append(h.known, filepath.Join(l.Home, ".ssh", "known_hosts"),
			filepath.Join(l.Home, ".ssh", "known_hosts2"))
	}
	h.known = append(h.known, "/etc/ssh/ssh_known_hosts")
	if p := get("ProxyCommand"); p != "" && !strings.EqualFold(p, "none") {
		return nil, nil,
			&fault.Fault{What: fmt.Sprintf("ssh_config reaches %s by a ProxyCommand, which Vornix does not run", name),
				Place: fault.Place{File: filepath.Join(l.Home, ".ssh", "config")},
				Do:    "Write ProxyJump there instead, or jump = [\"user@host\"] in the target."}
	}
	var jumps []string
	if j := get("ProxyJump"); j != "" && !strings.EqualFold(j, "none") {
		jumps = strings.Split(j, ",")
	}
	return h, jumps, nil
}

// path makes a path of ssh_config one of this system.
func (l *Login) path(s string) string {
	s = strings.Trim(s, `"`)
	for _, home := range []string{"~/", "%d/", "${HOME}/"} {
		if rest, ok := strings.CutPrefix(s, home); ok {
			return filepath.Join(l.Home, filepath.FromSlash(rest))
		}
	}
	return s
}

// way is all servers on the way, the last one the one to reach.
func (l *Login) way() ([]*hop, error) {
	c, err := l.config()
	if err != nil {
		return nil, err
	}
	last, jumps, err := l.resolve(c, l.Host, l.User, l.Port)
	if err != nil {
		return nil, err
	}
	if last.user == "" {
		return nil, &fault.Fault{Kind: fault.Usage, What: "nobody says as whom to log in at " + l.Host,
			Do: "Write user = \"...\" in the target."}
	}
	if l.Key != "" {
		last.keys, last.onlyKeys = []string{l.path(l.Key)}, true
	}
	last.pins = l.Pins
	if len(l.Jumps) > 0 {
		jumps = slices.DeleteFunc(slices.Clone(l.Jumps), func(s string) bool { return s == "none" })
	}
	var list []*hop
	for _, j := range jumps {
		user, host, port, err := SplitHost(strings.TrimSpace(j))
		if err != nil {
			return nil, err
		}
		h, _, err := l.resolve(c, host, user, port)
		if err != nil {
			return nil, err
		}
		list = append(list, h)
	}
	return append(list, last), nil
}

// SplitHost takes user@host:port apart.
func SplitHost(s string) (user, host string, port int, err error) {
	s = strings.TrimPrefix(s, "ssh://")
	if at := strings.LastIndex(s, "@"); at >= 0 {
		user, s = s[:at], s[at+1:]
	}
	host = s
	if h, p, splitErr := net.SplitHostPort(s); splitErr == nil {
		if port, err = strconv.Atoi(p); err != nil || port < 1 || port > 65535 {
			return "", "", 0,
				&fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no port", p), Do: "Write user@host:port."}
		}
		host = h
	}
	if host == "" || strings.HasPrefix(host, "-") {
		return "", "", 0,
			&fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q names no host", s), Do: "Write user@host:port."}
	}
	return user, host, port, nil
}

// Connect logs in, through all servers on the way. close ends all of it.
func (l *Login) Connect(ctx context.Context) (client *ssh.Client, where string, err error) {
	hops, err := l.way()
	if err != nil {
		return nil, "", err
	}
	wait := l.Wait
	if wait == 0 {
		wait = 15 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	where = "sftp://" + hops[len(hops)-1].String()
	var before []*ssh.Client
	for _, h := range hops {
		next, err := h.connect(ctx, client)
		if err != nil {
			for _, c := range before {
				c.Close()
			}
			return nil, where, err
		}
		before, client = append(before, next), next
	}
	go func() { // the way is given up with its last part
		_ = client.Wait()
		for _, c := range before {
			c.Close()
		}
	}()
	return client, where, nil
}

func (h *hop) unreachable(err error) error {
	f := &fault.Fault{Kind: fault.Unreachable, What: fmt.Sprintf("%s can't be reached", h), Err: cause(err),
		Do: "Look whether the server is up and its address and port are right: ssh -p " + strconv.Itoa(h.port) + " " +
			h.user + "@" + h.host}
	var op *net.OpError
	if errors.As(err, &op) {
		f.Err = op.Err
	}
	if errors.Is(err, context.DeadlineExceeded) || os.IsTimeout(err) {
		f.Err = errors.New("it did not answer in time")
	}
	return f
}

// connect logs in at one server, through another one if there is one.
func (h *hop) connect(ctx context.Context, through *ssh.Client) (*ssh.Client, error) {
	var conn net.Conn
	var err error
	switch {
	case through != nil:
		conn, err = through.DialContext(ctx, "tcp", h.address())
	case h.login.Dial != nil:
		conn, err = h.login.Dial(ctx, "tcp", h.address())
	default:
		conn, err = (&net.Dialer{KeepAlive: 15 * time.Second}).DialContext(ctx, "tcp", h.address())
	}
	if err != nil {
		return nil, h.unreachable(err)
	}
	if deadline, ok := ctx.Deadline(); ok && through == nil {
		_ = conn.SetDeadline(deadline)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	check, algorithms, err := h.hostKeys()
	if err != nil {
		conn.Close()
		return nil, err
	}
	a := &auth{hop: h}
	var hostKey error
	config := &ssh.ClientConfig{User: h.user, Auth: a.methods(), HostKeyAlgorithms: algorithms,
		ClientVersion: "SSH-2.0-Vornix",
		HostKeyCallback: func(name string, remote net.Addr, key ssh.PublicKey) error {
			hostKey = check(name, remote, key)
			return hostKey
		}}
	c, chans, reqs, err := ssh.NewClientConn(conn, h.knownName(), config)
	a.close()
	if err != nil {
		conn.Close()
		if hostKey != nil {
			return nil, hostKey
		}
		if a.err != nil {
			return nil, a.err
		}
		if strings.Contains(err.Error(), "unable to authenticate") {
			return nil, &fault.Fault{Kind: fault.Unreachable,
				What: fmt.Sprintf("%s lets nobody in with what was offered: %s", h, a.offered()),
				Do:   "Add the key to the server's authorized_keys, start an agent that has it, name it with key = \"...\" in the target, or give a password by password_env."}
		}
		if strings.Contains(err.Error(), "no common algorithm") {
			return nil, &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("%s and Vornix have no way in common to talk in secret", h), Err: err,
				Do: "Bring the server's OpenSSH up to date; if its host key is of another kind than the one known here, see ssh-keygen -R."}
		}
		return nil, h.unreachable(err)
	}
	if through == nil {
		_ = conn.SetDeadline(time.Time{})
	}
	return ssh.NewClient(c, chans, reqs), nil
}

func (h *hop) knownName() string {
	if h.alias != "" {
		return net.JoinHostPort(h.alias, "22")
	}
	return h.address()
}

// hostKeys makes the check of the server's key, and says which kinds of keys are known of it.
func (h *hop) hostKeys() (ssh.HostKeyCallback, []string, error) {
	if len(h.pins) > 0 {
		return func(_ string, _ net.Addr, key ssh.PublicKey) error {
			got := ssh.FingerprintSHA256(key)
			for _, pin := range h.pins {
				if subtle.ConstantTimeCompare([]byte(strings.TrimRight(pin, "=")), []byte(got)) == 1 {
					return nil
				}
			}
			return h.wrongKey(key, "the target's host_key is "+strings.Join(h.pins, " or "))
		}, nil, nil
	}
	var files []string
	for _, f := range h.known {
		if _, err := os.Stat(f); err == nil {
			files = append(files, f)
		}
	}
	check, err := knownhosts.New(files...)
	if err != nil {
		return nil, nil, &fault.Fault{What: "the file of known hosts can't be read", Err: err, Do: "Correct the line."}
	}
	// A key that nobody has: the answer says which kinds are known.
	var algorithms []string
	var want *knownhosts.KeyError
	if err := check(h.knownName(), &net.TCPAddr{IP: net.IPv4zero}, noKey{}); errors.As(err, &want) {
		for _, k := range want.Want {
			kind := k.Key.Type()
			if kind == ssh.KeyAlgoRSA {
				algorithms = append(algorithms, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
			}
			algorithms = append(algorithms, kind)
		}
	}
	return func(name string, remote net.Addr, key ssh.PublicKey) error {
		err := check(name, remote, key)
		var bad *knownhosts.KeyError
		if !errors.As(err, &bad) {
			var revoked *knownhosts.RevokedError
			if errors.As(err, &revoked) {
				return h.wrongKey(key, "this key is marked as revoked")
			}
			return err
		}
		if len(bad.Want) == 0 {
			return &fault.Fault{Kind: fault.Refused,
				What:  fmt.Sprintf("the server %s is not known yet: its key is %s", h, ssh.FingerprintSHA256(key)),
				Place: fault.Place{File: strings.Join(files, ", ")},
				Why:   "Whoever is between could pretend to be it. Nothing was sent.",
				Do:    fmt.Sprintf("Compare the key with what the server's owner says (there: ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub), then write host_key = [%q] in the target, or log in once with ssh.", ssh.FingerprintSHA256(key))}
		}
		return h.wrongKey(key,
			fmt.Sprintf("%s line %d knows %s", bad.Want[0].Filename, bad.Want[0].Line,
				ssh.FingerprintSHA256(bad.Want[0].Key)))
	}, algorithms, nil
}

func (h *hop) wrongKey(key ssh.PublicKey, known string) error {
	return &fault.Fault{Kind: fault.Refused,
		What: fmt.Sprintf("the server %s shows another key than the one that is known: %s", h,
			ssh.FingerprintSHA256(key)),
		Why: "Either the server was set up anew, or somebody is between (" + known + "). Nothing was sent.",
		Do:  "Ask the server's owner. If the new key is right, put it in place of the old one."}
}

// noKey is a public key that no server has.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte{} }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }

// auth offers what may let somebody in, in the order in which OpenSSH does: the agent's keys, files, a password.
type auth struct {
	hop    *hop
	agents []io.Closer
	tried  []string
	err    error // that ends the try: no password where one is needed
}

func (a *auth) offered() string {
	if len(a.tried) == 0 {
		return "nothing (no agent, no key file, no password)"
	}
	return strings.Join(a.tried, ", ")
}

func (a *auth) close() {
	for _, c := range a.agents {
		c.Close()
	}
}

func (a *auth) methods() []ssh.AuthMethod {
	l := a.hop.login
	list := []ssh.AuthMethod{ssh.PublicKeysCallback(a.signers)}
	if l.Password != nil {
		ask := func() (string, error) {
			a.tried = append(a.tried, "a password")
			word, err := l.Password(a.hop.String())
			if err != nil {
				a.err = err
			}
			return word, err
		}
		list = append(list, ssh.PasswordCallback(ask),
			ssh.KeyboardInteractive(func(_, _ string, questions []string, echos []bool) ([]string, error) {
				answers := make([]string, len(questions))
				for i := range questions {
					if !echos[i] {
						var err error
						if answers[i], err = ask(); err != nil {
							return nil, err
						}
					}
				}
				return answers, nil
			}))
	}
	return list
}

func (a *auth) signers() (list []ssh.Signer, err error) {
	l := a.hop.login
	var fromAgent []ssh.Signer
	if l.Agent != nil {
		if conn, err := l.Agent(); err == nil {
			if c, ok := conn.(io.Closer); ok {
				a.agents = append(a.agents, c)
			}
			fromAgent, _ = agent.NewClient(conn).Signers()
		}
	}
	var own [][]byte
	for _, file := range a.hop.keys {
		signer, public, err := a.key(file, fromAgent)
		if err != nil {
			a.err = err
			return nil, err
		}
		if public != nil {
			own = append(own, public)
		}
		if signer != nil && !slices.ContainsFunc(fromAgent, func(s ssh.Signer) bool {
			return string(s.PublicKey().Marshal()) == string(signer.PublicKey().Marshal())
		}) {
			list = append(list, signer)
			a.tried = append(a.tried, "the key "+file)
		}
	}
	for _, s := range fromAgent {
		if a.hop.onlyKeys &&
			!slices.ContainsFunc(own, func(p []byte) bool { return string(p) == string(s.PublicKey().Marshal()) }) {
			continue
		}
		a.tried = append(a.tried, "the agent's "+ssh.FingerprintSHA256(s.PublicKey()))
		list = append(list, s)
	}
	return list, nil
}

// key reads a private key. A file that is not there is no error, unless the target names it; one
// that words protect is left to the agent when nobody can be asked.
func (a *auth) key(file string, fromAgent []ssh.Signer) (ssh.Signer, []byte, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if a.hop.login.Key != "" && file == a.hop.login.path(a.hop.login.Key) {
			return nil, nil,
				&fault.Fault{Kind: fault.Usage, What: "the target's key is not there", Place: fault.Place{File: file},
					Do: "Correct key = \"...\" of the target."}
		}
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	signer, err := ssh.ParsePrivateKey(data)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		var public []byte
		if locked.PublicKey != nil {
			public = locked.PublicKey.Marshal()
		}
		held := slices.ContainsFunc(fromAgent,
			func(s ssh.Signer) bool { return string(s.PublicKey().Marshal()) == string(public) })
		if a.hop.login.Unlock == nil || held {
			return nil, public, nil
		}
		words, err := a.hop.login.Unlock(file)
		if err != nil {
			return nil, public, err
		}
		if words == "" {
			return nil, public, nil
		}
		if signer, err = ssh.ParsePrivateKeyWithPassphrase(data, []byte(words)); err != nil {
			return nil, nil,
				&fault.Fault{Kind: fault.Refused, What: "the words do not open the key", Place: fault.Place{File: file},
					Do: "Try again, or let an agent hold the key."}
		}
		return signer, signer.PublicKey().Marshal(), nil
	}
	if err != nil {
		if public, _, _, _, pubErr := ssh.ParseAuthorizedKey(data); pubErr == nil {
			return nil, public.Marshal(), nil // IdentityFile may name the public half of a key that the agent has
		}
		return nil, nil,
			&fault.Fault{What: "this is no private key", Place: fault.Place{File: file}, Err: err,
				Do: "Name another file."}
	}
	return signer, signer.PublicKey().Marshal(), nil
}
