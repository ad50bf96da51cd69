// Package host runs the server of a farm: NATS with JetStream, as a library. It makes what a farm needs the first time: a token, a certificate of its own,
// and the key file that is handed out.
package host

import (
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
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"

	"vornix/core/farm"
	"vornix/core/fault"
	"vornix/core/safefile"
	"vornix/core/text"
)

// Files in a host's folder.
const (
	KeyFile   = "farm.key" // what is handed out
	certFile  = "certificate.pem"
	ownFile   = "certificate-key.pem"
	tokenFile = "token"
	dataDir   = "data"
)

// certName is the name in the certificate of a host, whatever its address is.
const certName = "vornix-farm"

// DefaultPort is that of NATS.
const DefaultPort = 4222

// mostMessage is how large a message may be, in bytes: contents up to a part of it go along without a trip of their own.
const mostMessage = 8 << 20

// Options for Start.
type Options struct {
	Dir    string   // where it keeps everything, a system path
	Listen string   // HOST:PORT; an empty host is all of the machine's addresses
	Names  []string // by which others reach it, for the key; nil: its addresses
	Plain  bool     // without encryption
	Limits farm.Limits
	Said   func(text string) // told what the server warns of; nil: nobody wants to know
}

// Host is a running server.
type Host struct {
	s    *server.Server
	Key  *farm.Key
	File string // the key file, a system path
	dir  *safefile.Dir
	lock *safefile.Lock
}

// Start starts the server of a farm.
func Start(ctx context.Context, o Options) (*Host, error) {
	at, port, err := net.SplitHostPort(o.Listen)
	n, bad := strconv.Atoi(port)
	if err != nil || bad != nil || n < 0 || n > 65535 {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no address to listen at", o.Listen), Do: "Say HOST:PORT, or :PORT for all addresses of this machine."}
	}
	lock, err := safefile.Acquire(o.Dir, "vornix farm host")
	if err != nil {
		var held *fault.Fault
		if errors.As(err, &held) && held.Kind == fault.Refused {
			held.Why, held.Do = "Two servers would write over each other's files in "+text.Printable(o.Dir)+".", "Use that one, or give this one a folder of its own with --dir."
		}
		return nil, err
	}
	dir, err := safefile.MakeDir(o.Dir)
	if err != nil {
		lock.Release()
		return nil, err
	}
	h := &Host{dir: dir, lock: lock, File: dir.Join(KeyFile)}
	if err := h.start(ctx, o, at, n); err != nil {
		h.Stop()
		return nil, err
	}
	return h, nil
}

func (h *Host) start(ctx context.Context, o Options, at string, port int) error {
	token, err := h.token()
	if err != nil {
		return err
	}
	if port == 0 {
		port = server.RANDOM_PORT
	}
	options := &server.Options{Host: at, Port: port, Authorization: token, JetStream: true, StoreDir: h.dir.Join(dataDir), NoSigs: true, MaxPayload: mostMessage, ServerName: "vornix-farm",
		JetStreamMaxMemory: 256 << 20, JetStreamMaxStore: 1 << 40, WriteDeadline: 10 * time.Second, PingInterval: 5 * time.Second, MaxPingsOut: 2}
	k := &farm.Key{Token: token}
	scheme := "nats"
	if o.Plain {
		k.Plain = true
	} else {
		scheme = "tls"
		pair, text, err := h.certificate()
		if err != nil {
			return err
		}
		options.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}}
		options.TLSTimeout = 5
		k.Certificate, k.Name = text, certName
	}
	if h.s, err = server.NewServer(options); err != nil {
		return fmt.Errorf("starting the farm's server: %w", err)
	}
	log := &warnings{said: o.Said}
	h.s.SetLogger(log, false, false)
	h.s.Start()
	if !h.s.ReadyForConnections(15 * time.Second) {
		return &fault.Fault{What: "the farm's server does not start at " + o.Listen, Err: log.last(), Do: "Look whether another program listens there; --listen :PORT takes another port."}
	}
	names := o.Names
	if len(names) == 0 {
		names = addresses(at)
	}
	_, real, err := net.SplitHostPort(h.s.Addr().String())
	if err != nil {
		return err
	}
	for _, name := range names {
		k.Servers = append(k.Servers, scheme+"://"+net.JoinHostPort(name, real))
	}
	h.Key = k
	if err := h.prepare(ctx, o.Limits, token); err != nil {
		return fmt.Errorf("making the farm's queue and store: %w", err)
	}
	data, err := k.Encode()
	if err != nil {
		return err
	}
	return h.dir.WritePrivate(KeyFile, data)
}

// prepare makes the stream and the bucket, from inside: no network has to be there.
func (h *Host) prepare(ctx context.Context, limits farm.Limits, token string) error {
	nc, err := nats.Connect("", nats.InProcessServer(h.s), nats.Token(token))
	if err != nil {
		return err
	}
	defer nc.Close()
	return farm.Prepare(ctx, nc, limits)
}

// Stop stops the server; what it knows is kept.
func (h *Host) Stop() {
	if h.s != nil {
		h.s.Shutdown()
		h.s.WaitForShutdown()
	}
	h.dir.Close()
	h.lock.Release()
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

// certificate is the host's own, made the first time.
func (h *Host) certificate() (pair tls.Certificate, text string, err error) {
	cert, err := h.dir.ReadFile(certFile)
	if errors.Is(err, fs.ErrNotExist) {
		if err = h.certify(); err == nil {
			cert, err = h.dir.ReadFile(certFile)
		}
	}
	if err != nil {
		return pair, "", err
	}
	key, err := h.dir.ReadFile(ownFile)
	if err != nil {
		return pair, "", err
	}
	pair, err = tls.X509KeyPair(cert, key)
	if err != nil {
		err = &fault.Fault{What: "the host's certificate can't be used", Place: fault.Place{File: h.dir.Join(certFile)}, Err: err, Do: "Delete it and its key, start the host again, and hand out the new farm.key."}
	}
	return pair, string(cert), err
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
	about := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: certName}, DNSNames: []string{certName}, NotBefore: now.Add(-24 * time.Hour), NotAfter: now.AddDate(20, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, about, about, &key.PublicKey, key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	if err := h.dir.WritePrivate(ownFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})); err != nil {
		return err
	}
	return h.dir.WritePrivate(certFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

// addresses are those by which others may reach this machine: where it listens, or its name and all that are not its own alone.
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
	slices.SortStableFunc(list, func(a, b string) int { return strings.Count(a, ":") - strings.Count(b, ":") }) // IPv4 first: shorter to read
	if name, err := os.Hostname(); err == nil && len(list) > 0 {
		list = append(list, name)
	}
	return append(list, "127.0.0.1")
}

// warnings passes on what the server warns of.
type warnings struct {
	said func(string)

	mu   sync.Mutex
	fail error // the last one that was as bad as can be
}

func (w *warnings) say(format string, v ...any) {
	if w.said != nil {
		w.said(fmt.Sprintf(format, v...))
	}
}

// last is why the server stopped.
func (w *warnings) last() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.fail
}

func (w *warnings) Fatalf(format string, v ...any) {
	w.mu.Lock()
	w.fail = fmt.Errorf(format, v...)
	w.mu.Unlock()
}

func (w *warnings) Noticef(string, ...any)         {}
func (w *warnings) Debugf(string, ...any)          {}
func (w *warnings) Tracef(string, ...any)          {}
func (w *warnings) Warnf(format string, v ...any)  { w.say(format, v...) }
func (w *warnings) Errorf(format string, v ...any) { w.say(format, v...) }
