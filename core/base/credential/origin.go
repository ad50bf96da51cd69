package credential

import (
	"net"
	"net/url"
	"strings"

	"vornix/core/base/fault"
)

// Variable and File name where a secret is, for permissions and messages; empty for none.
func Variable(name string) string {
	if name == "" {
		return ""
	}
	return "the variable " + name
}

// File is like Variable.
func File(name string) string {
	if name == "" {
		return ""
	}
	return "the file " + name
}

// ports are what an address means that names no port.
var ports = map[string]string{"http": "80", "https": "443", "ssh": "22", "nats": "4222", "tls": "4222"}

// Origin is the scheme, host and port of an address (RFC 6454): what a secret is allowed to be sent to.
func Origin(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return address
	}
	scheme, port := strings.ToLower(u.Scheme), u.Port()
	if port == "" {
		port = ports[scheme]
	}
	return scheme + "://" + net.JoinHostPort(strings.ToLower(u.Hostname()), port)
}

// Here says whether a host name or address is this machine's own.
func Here(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Encrypted refuses to send a secret to another machine without encryption, unless plain says that
// the line itself is safe. option is how plain is set, for the message.
func Encrypted(address string, plain bool, option string) error {
	u, err := url.Parse(address)
	if err != nil {
		return err
	}
	switch strings.ToLower(u.Scheme) {
	case "https", "tls", "ssh", "sftp":
		return nil
	}
	if plain || Here(u.Hostname()) {
		return nil
	}
	do := "Use its https address."
	if option != "" {
		do = "Use an encrypted address; in a network of your own set " + option + "."
	}
	return &fault.Fault{Kind: fault.Refused,
		What: "the secret would go to " + u.Host + " over " + u.Scheme + ", where others can read it",
		Why:  "Anyone on the way could use it in your name. Nothing was sent.", Do: do}
}
