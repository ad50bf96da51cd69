// Package host runs the server of a farm: the program nats-server with JetStream, as a child
// process. The first time it makes what a farm needs: a token, a certificate of its own, and the
// key file that is handed out.
//
// The server is a program of its own, as git and ssh are, since only the one machine that hosts a
// farm needs it: as a library it made everybody's program a quarter larger.
package host

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/humanize"
	"vornix/core/base/safefile"
	"vornix/core/make/remoteexec"
)

// Files in a host's folder.
const (
	KeyFile   = "farm.key" // what is handed out
	certFile  = "certificate.pem"
	ownFile   = "certificate-key.pem"
	tokenFile = "token"
	confFile  = "server.conf"
	dataDir   = "data"
)

// program is the server's name, as its makers and Debian call it.
const program = "nats-server"

// certName is the name in the certificate of a host, whatever its address is.
const certName = "vornix-farm"

// DefaultPort is that of NATS.
const DefaultPort = 4222

// maxMessage is how large a message may be, in bytes: contents up to a part of it go along without
// a trip of their own.
const maxMessage = 8 << 20

// patience is how long the server may take to start.
const patience = 15 * time.Second

// Options for Start.
type Options struct {
	Dir    string   // where it keeps everything, a system path
	Server string   // the program nats-server; empty: the one in PATH
	Listen string   // HOST:PORT; an empty host is all of the machine's addresses
	Names  []string // by which others reach it, for the key; nil: its addresses
	Plain  bool     // without encryption
	Limits remoteexec.Limits
	Said   func(text string) // told what the server warns of; nil: not told
}

// Host is a running server.
type Host struct {
	Key  *remoteexec.Key
	File string // the key file, a system path

	dir  *safefile.Dir
	lock *safefile.Lock
	cmd  *exec.Cmd
	log  *warnings
	gone chan struct{} // closed when the server has exited; nil before it starts
}

// Start starts the server of a farm.
func Start(ctx context.Context, o Options) (*Host, error) {
	at, port, err := net.SplitHostPort(o.Listen)
	n, bad := strconv.Atoi(port)
	if err != nil || bad != nil || n < 0 || n > 65535 {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is not an address to listen at", o.Listen),
			Do: "Say HOST:PORT, or :PORT for all addresses of this machine."}
	}
	server, err := exec.LookPath(cmp.Or(o.Server, program))
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the program " + cmp.Or(o.Server, program) + " was not found",
			Err: err,
			Why: "It is the message server that a farm's host runs; only the host needs it.",
			Do:  "Install it (Debian: apt install nats-server; every system: nats.io), or name it with --server."}
	}
	lock, err := safefile.Acquire(o.Dir, "vornix farm host")
	if err != nil {
		var held *fault.Fault
		if errors.As(err, &held) && held.Kind == fault.Refused {
			held.Why, held.Do = "Two servers would write over each other's files in "+humanize.Printable(o.Dir)+".",
				"Use that one, or give this one a folder of its own with --dir."
		}
		return nil, err
	}
	dir, err := safefile.MakeDir(o.Dir)
	if err != nil {
		lock.Release()
		return nil, err
	}
	h := &Host{dir: dir, lock: lock, File: dir.Join(KeyFile)}
	if err := h.start(ctx, o, server, at, n); err != nil {
		h.Stop()
		return nil, err
	}
	return h, nil
}

func (h *Host) start(ctx context.Context, o Options, server, at string, port int) error {
	token, err := h.token()
	if err != nil {
		return err
	}
	if port == 0 {
		// Another program may take the port before the server listens there; then the server reports it and exits.
		if port, err = freePort(at); err != nil {
			return err
		}
	}
	k := &remoteexec.Key{Token: token, Plain: o.Plain}
	scheme := "nats"
	if !o.Plain {
		scheme = "tls"
		if k.Certificate, err = h.certificate(); err != nil {
			return err
		}
		k.Name = certName
	}
	listen := net.JoinHostPort(at, strconv.Itoa(port))
	if err := h.dir.WritePrivate(confFile, h.settings(listen, token, o.Plain)); err != nil {
		return err
	}
	h.log = &warnings{said: o.Said}
	h.cmd = exec.Command(server, "-c", h.dir.Join(confFile))
	h.cmd.Dir, h.cmd.Stderr, h.cmd.Stdout = h.dir.Path(), h.log, h.log
	endsWithUs(h.cmd)
	if err := h.cmd.Start(); err != nil {
		return fmt.Errorf("starting %s: %w", server, err)
	}
	h.gone = make(chan struct{})
	go func() {
		defer close(h.gone)
		_ = h.cmd.Wait() // what it said is in the log
	}()
	names := o.Names
	if len(names) == 0 {
		names = addresses(at)
	}
	for _, name := range names {
		k.Servers = append(k.Servers, scheme+"://"+net.JoinHostPort(name, strconv.Itoa(port)))
	}
	if err := h.prepare(ctx, o, k, at, port); err != nil {
		return err
	}
	h.Key = k
	data, err := k.Encode()
	if err != nil {
		return err
	}
	return h.dir.WritePrivate(KeyFile, data)
}

// settings are the server's, in its own language. Strings in double quotes know the escapes of Go's
// %q that occur in paths.
func (h *Host) settings(listen, token string, plain bool) []byte {
	b := fmt.Appendf(nil,
		"# Written by 'vornix farm host' at each start.\nserver_name: vornix-farm\nlisten: %q\nauthorization { token: %q }\nmax_payload: %d\n", listen, token, maxMessage)
	b = fmt.Appendf(b,
		"write_deadline: \"10s\"\nping_interval: \"5s\"\nping_max: 2\njetstream { store_dir: %q, max_memory_store: %d, max_file_store: %d }\n", h.dir.Join(dataDir), 256<<20, int64(1)<<40)
	if !plain {
		b = fmt.Appendf(b, "tls { cert_file: %q, key_file: %q, timeout: 5 }\n", h.dir.Join(certFile),
			h.dir.Join(ownFile))
	}
	return b
}

// prepare waits until the server answers, and makes the stream and the bucket.
func (h *Host) prepare(ctx context.Context, o Options, k *remoteexec.Key, at string, port int) error {
	if ip := net.ParseIP(at); at == "" || ip != nil && ip.IsUnspecified() {
		at = "127.0.0.1"
	}
	here := *k
	here.Servers = []string{"tls://" + net.JoinHostPort(at, strconv.Itoa(port))}
	if o.Plain {
		here.Servers[0] = "nats://" + net.JoinHostPort(at, strconv.Itoa(port))
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		err := remoteexec.Prepare(ctx, &here, o.Limits)
		select {
		case <-h.gone: // whatever answered there was another program
			return &fault.Fault{What: "the farm's server does not start at " + o.Listen, Err: h.log.last(),
				Do: "Look whether another program listens there; --listen :PORT takes another port."}
		default:
		}
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.Canceled) {
				return ctx.Err()
			}
			return &fault.Fault{What: "the farm's server does not answer at " + o.Listen,
				Err: errors.Join(err, h.log.last()),
				Do:  "Look at what it says above, and whether a firewall keeps this machine from its own address."}
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Process is the server's process id.
func (h *Host) Process() int { return h.cmd.Process.Pid }

// Gone is closed when the server has exited, as it does when Stop is called.
func (h *Host) Gone() <-chan struct{} { return h.gone }

// Failure is why the server exited by itself.
func (h *Host) Failure() error {
	return &fault.Fault{What: "the farm's server has exited", Err: h.log.last(),
		Why: "Builds continue without help until it runs again.",
		Do:  "Look at its messages above, and start the host again: the queue and the contents are kept."}
}

// Stop stops the server; what it knows is kept.
func (h *Host) Stop() {
	if h.gone != nil {
		// as on Windows, which has no such signal; the store survives a kill
		if h.cmd.Process.Signal(os.Interrupt) != nil {
			_ = h.cmd.Process.Kill()
		}
		select {
		case <-h.gone:
		case <-time.After(patience):
			_ = h.cmd.Process.Kill()
			<-h.gone
		}
	}
	h.dir.Close()
	h.lock.Release()
}

// freePort is one at which nothing listens now.
func freePort(at string) (int, error) {
	l, err := net.Listen("tcp", net.JoinHostPort(at, "0"))
	if err != nil {
		return 0, &fault.Fault{Kind: fault.Usage, What: "nothing can listen at " + at, Err: err,
			Do: "Name an address of this machine with --listen."}
	}
	return l.Addr().(*net.TCPAddr).Port, l.Close()
}

// token is the token that lets in, made the first time.
func (h *Host) token() (string, error) {
	data, err := h.dir.ReadFile(tokenFile)
	if err == nil && len(strings.TrimSpace(string(data))) >= 32 {
		return strings.TrimSpace(string(data)), nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	b := make([]byte, 24)
	if _, err := rand.Read(b); err != nil {
		return "", err
	}
	token := hex.EncodeToString(b)
	return token, h.dir.WritePrivate(tokenFile, []byte(token+"\n"))
}

// certificate is the host's own as PEM, made the first time.
func (h *Host) certificate() (text string, err error) {
	cert, err := h.dir.ReadFile(certFile)
	if errors.Is(err, fs.ErrNotExist) {
		if err = h.certify(); err == nil {
			cert, err = h.dir.ReadFile(certFile)
		}
	}
	if err != nil {
		return "", err
	}
	key, err := h.dir.ReadFile(ownFile)
	if err != nil {
		return "", err
	}
	if _, err = tls.X509KeyPair(cert, key); err != nil {
		err = &fault.Fault{What: "the host's certificate can't be used", Place: fault.Place{File: h.dir.Join(certFile)},
			Err: err, Do: "Delete it and its key, start the host again, and hand out the new farm.key."}
	}
	return string(cert), err
}

// certify makes a certificate (X.509, ECDSA over P-256) that vouches for itself.
func (h *Host) certify() error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return err
	}
	now := time.Now()
	about := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: certName},
		DNSNames: []string{certName}, NotBefore: now.Add(-24 * time.Hour), NotAfter: now.AddDate(20, 0, 0),
		KeyUsage:    x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, about, about, &key.PublicKey, key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	if err := h.dir.WritePrivate(ownFile,
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})); err != nil {
		return err
	}
	return h.dir.WritePrivate(certFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

// addresses are those by which others may reach this machine: where it listens, or its name and all
// that are not its own alone.
func addresses(at string) (list []string) {
	if ip := net.ParseIP(at); at != "" && (ip == nil || !ip.IsUnspecified()) {
		return []string{at}
	}
	found, err := net.InterfaceAddrs()
	if err == nil {
		for _, a := range found {
			if n, ok := a.(*net.IPNet); ok && !n.IP.IsLoopback() && !n.IP.IsLinkLocalUnicast() {
				list = append(list, n.IP.String())
			}
		}
	}
	// IPv4 first: shorter to read
	slices.SortStableFunc(list, func(a, b string) int { return strings.Count(a, ":") - strings.Count(b, ":") })
	if name, err := os.Hostname(); err == nil && len(list) > 0 {
		list = append(list, name)
	}
	return append(list, "127.0.0.1")
}

// warnings reads the server's log, passes on its warnings and errors, and remembers the last of them.
type warnings struct {
	said func(string)

	mu   sync.Mutex
	part []byte // of a line whose end has not come yet
	text string
}

// logLine is a line of the server's log that is a warning or worse: [PID] DATE TIME [LEVEL] TEXT. A
// message before the log begins has no such head.
var logLine = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(?:\[\d+\] \S+ \S+ \[(?:WRN|ERR|FTL)\] |nats-server: )(.*)$`)
})

// longestLine is how much of a line is kept, in bytes.
const longestLine = 4096

func (w *warnings) Write(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, c := range b {
		switch {
		case c != '\n' && len(w.part) < longestLine:
			w.part = append(w.part, c)
		case c == '\n':
			if m := logLine().FindSubmatch(bytes.TrimRight(w.part, "\r")); m != nil {
				w.text = string(m[1])
				if w.said != nil {
					w.said(w.text)
				}
			}
			w.part = w.part[:0]
		}
	}
	return len(b), nil
}

// last is the last warning or error.
func (w *warnings) last() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.text == "" {
		return nil
	}
	return errors.New(w.text)
}
