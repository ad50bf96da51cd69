package remoteexec

import (
	"bytes"
	"cmp"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"strings"
	"text/template"

	"github.com/nats-io/nats.go"

	"vornix/core/base/credential"
	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/tomlfile"
)

// Key is what a machine has to know to take part in a farm: where its server is, and what lets in
// there. It is a file of its own, which the server's owner hands out, and not the project's: no
// project can lead a machine to a farm.
type Key struct {
	Servers     []string `toml:"servers" jsonschema:"required,description=Addresses of the farm's server: tls://HOST:PORT\\, or nats://HOST:PORT without encryption"`
	Token       string   `toml:"token" jsonschema:"description=The token that lets in"`
	User        string   `toml:"user" jsonschema:"description=A user of the server\\, instead of a token"`
	Password    string   `toml:"password" jsonschema:"description=The user's password"`
	Credentials string   `toml:"credentials" jsonschema:"description=The content of a NATS user's credentials file\\, instead of a token"`
	Certificate string   `toml:"certificate" jsonschema:"description=The certificate of the server\\, or of who signed it\\, as PEM; without it those that this machine trusts count"`
	Name        string   `toml:"name" jsonschema:"description=The name in the server's certificate\\, where it is not that of the address"`
	OwnCert     string   `toml:"own_certificate" jsonschema:"description=This machine's certificate\\, as PEM\\, for servers that ask for one"`
	OwnKey      string   `toml:"own_key" jsonschema:"description=The private key of that\\, as PEM"`
	Plain       bool     `toml:"plain" jsonschema:"description=Whether the token may go to another machine without encryption"`
}

// ReadKey reads a key file, which nobody else may read.
func ReadKey(file string) (*Key, error) {
	data, err := credential.ReadFile(file, maxKey,
		"Whoever has the farm's key can send work to all of its machines, and results to your builds.")
	var f *fault.Fault
	if errors.As(err, &f) { // it is said of a token's file there
		f.What = strings.NewReplacer("the token's file", "the farm's key", "for a token", "for a key").Replace(f.What)
		if f.Kind == fault.Usage {
			f.Do = "Copy the farm.key that 'vornix farm host' wrote, or name another file."
		}
	}
	if err != nil {
		return nil, err
	}
	k := &Key{}
	_, list := tomlfile.Decode(filepath.ToSlash(file), data, k)
	if len(list) > 0 {
		for i := range list {
			list[i].Excerpt = "" // it may be the token
		}
		return nil, &finding.Failure{What: "the farm's key can't be used", Findings: list}
	}
	return k, k.check(fault.Place{File: filepath.ToSlash(file)})
}

// maxKey is how large a key file may be, in bytes: it holds some certificates.
const maxKey = 64 << 10

func (k *Key) check(place fault.Place) error {
	wrong := func(format string, args ...any) error {
		return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf(format, args...), Place: place,
			Do: "Take the file that 'vornix farm host' wrote, or see docs/farm.md."}
	}
	if len(k.Servers) == 0 {
		return wrong("the farm's key names no server")
	}
	ways := 0
	for _, given := range []bool{k.Token != "", k.User != "" || k.Password != "", k.Credentials != ""} {
		if given {
			ways++
		}
	}
	if ways > 1 {
		return wrong("the farm's key has more than one of token, user and credentials")
	}
	if (k.OwnCert == "") != (k.OwnKey == "") {
		return wrong("own_certificate and own_key go together")
	}
	for _, s := range k.Servers {
		u, err := url.Parse(s)
		switch {
		case err != nil || u.Host == "" || u.Scheme != "tls" && u.Scheme != "nats":
			return wrong("%q is not a farm address; write tls://HOST:PORT or nats://HOST:PORT", s)
		case u.User != nil:
			return wrong("a secret does not belong into an address; use token, or user and password")
		}
		if ways > 0 {
			if err := credential.Encrypted(s, k.Plain, "plain = true in the key"); err != nil {
				var f *fault.Fault
				if errors.As(err, &f) {
					f.Place = place
				}
				return err
			}
		}
	}
	return nil
}

// options are what the key means to the library that connects.
func (k *Key) options() ([]nats.Option, error) {
	var list []nats.Option
	switch {
	case k.Token != "":
		list = append(list, nats.Token(k.Token))
	case k.User != "":
		list = append(list, nats.UserInfo(k.User, k.Password))
	case k.Credentials != "":
		list = append(list, nats.UserCredentialBytes([]byte(k.Credentials)))
	}
	c := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: k.Name}
	if k.Certificate != "" {
		if c.RootCAs = x509.NewCertPool(); !c.RootCAs.AppendCertsFromPEM([]byte(k.Certificate)) {
			return nil, errors.New("the certificate in the farm's key is none")
		}
	}
	if k.OwnCert != "" {
		own, err := tls.X509KeyPair([]byte(k.OwnCert), []byte(k.OwnKey))
		if err != nil {
			return nil, fmt.Errorf("own_certificate and own_key in the farm's key do not work: %w", err)
		}
		c.Certificates = []tls.Certificate{own}
	}
	if strings.HasPrefix(k.Servers[0], "tls://") {
		list = append(list, nats.Secure(c))
	}
	return list, nil
}

// Where says where the farm is.
func (k *Key) Where() string {
	u, err := url.Parse(k.Servers[0])
	if err != nil {
		return k.Servers[0]
	}
	return cmp.Or(u.Host, k.Servers[0])
}

// Encode writes a key file.
func (k *Key) Encode() ([]byte, error) {
	var b bytes.Buffer
	t, err := template.New("key").Parse(`# The key of a farm of Vornix. Whoever has it can build on the farm's machines and work in the farm: give it to nobody else.
servers = [{{range $i, $s := .Servers}}{{if $i}}, {{end}}{{printf "%q" $s}}{{end}}]
{{with .Token}}token = {{printf "%q" .}}
{{end}}{{with .Name}}name = {{printf "%q" .}}
{{end}}{{if .Plain}}plain = true
{{end}}{{with .Certificate}}certificate = """
{{.}}"""
{{end}}`)
	if err == nil {
		err = t.Execute(&b, k)
	}
	return b.Bytes(), err
}
