// Package storeurl checks the addresses of shared caches: a folder, a web server (http, https) or a
// NATS bucket (nats, tls).
package storeurl

import (
	"net/url"
	"strings"
)

// Kind returns the kind of an address: "folder", "web" or "nats"; empty for any other.
func Kind(address string) string {
	switch scheme, _, found := strings.Cut(address, "://"); {
	case !found:
		return "folder"
	case scheme == "http" || scheme == "https":
		return "web"
	case scheme == "nats" || scheme == "tls":
		return "nats"
	}
	return ""
}

// Check returns the reason why an address is not valid, for people; empty when it is valid.
func Check(address string) string {
	kind := Kind(address)
	if kind == "folder" {
		return ""
	}
	u, err := url.Parse(address)
	switch {
	case kind == "":
		return "it begins with none of http://, https://, nats:// and tls://, and is no folder either"
	case err != nil || u.Host == "":
		return "it is no address"
	case u.User != nil:
		return "a secret does not belong here; use token_env or token_file"
	case u.RawQuery != "" || u.Fragment != "":
		return "an address with ? or # names no folder"
	case kind == "nats" && !bucketName(strings.Trim(u.Path, "/")):
		return "it ends in the name of a bucket, letters, digits, - and _, as in nats://farm.example/results"
	}
	return ""
}

func bucketName(s string) bool {
	return s != "" && len(s) <= 64 &&
		strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") == ""
}
