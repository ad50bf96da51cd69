// Package signature signs what Vornix hands out, and checks signatures: Ed25519 (RFC 8032), one
// kind of key for patches and the index.
//
// A private key is a PEM file in PKCS #8 (RFC 8410), as other programs make and read it, or is held
// by an SSH agent (agent.go). A public key is written in one word, "ed25519:" and its 32 bytes in
// base64, for a project file or a mail.
package signature

import (
	"crypto"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"vornix/core/base/fault"
)

const prefix = "ed25519:"

// Signature is a signature with the key that made it.
type Signature struct {
	Key   string `json:"key"`       // public key, in one word
	Value string `json:"signature"` // base64
}

// New makes a private key, as the content of its file.
func New() ([]byte, string, error) {
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		return nil, "", err
	}
	der, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return nil, "", err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), Word(public), nil
}

// Word is a public key in one word.
func Word(key ed25519.PublicKey) string { return prefix + base64.StdEncoding.EncodeToString(key) }

// ParseWord reads a public key in one word.
func ParseWord(s string) (ed25519.PublicKey, error) {
	rest, ok := strings.CutPrefix(strings.TrimSpace(s), prefix)
	b, err := base64.StdEncoding.DecodeString(rest)
	if !ok || err != nil || len(b) != ed25519.PublicKeySize {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no public key", s),
			Do: "Give it as 'vornix key show' prints it: " + prefix + " and 44 characters."}
	}
	return b, nil
}

// ReadKey reads a private key's file, which only its owner may read.
func ReadKey(name string) (ed25519.PrivateKey, error) {
	place := fault.Place{File: filepath.ToSlash(name)}
	info, err := os.Stat(name)
	if err != nil && isKeyItself(name) { // an error must not say it
		return nil, &fault.Fault{Kind: fault.Usage, What: "there is a private key where the name of its file must be",
			Why: "Whoever sees the command line or a log would have the key.",
			Do:  "Put the key into a file that only you can read, and name that. If others may have seen the key, make another."}
	}
	if err == nil && runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return nil, &fault.Fault{Kind: fault.Refused, What: "others can read the private key", Place: place,
			Why: "Whoever has it can sign in your name.", Do: "Take it from them: chmod 600 " + filepath.ToSlash(name)}
	}
	if err == nil && !info.Mode().IsRegular() {
		err = fs.ErrInvalid
	}
	data := []byte(nil)
	if err == nil {
		data, err = os.ReadFile(name)
	}
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the private key can't be read", Place: place, Err: err,
			Do: "Check the path; 'vornix key new FILE' makes one."}
	}
	return ParseKey(data, place)
}

// isKeyItself tells the text of a key from the name of a file.
func isKeyItself(s string) bool {
	if strings.Contains(s, "PRIVATE KEY") || strings.ContainsAny(s, "\r\n") {
		return true
	}
	data, err := base64.StdEncoding.DecodeString(s)
	return err == nil && len(data) >= ed25519.SeedSize
}

// ParseKey reads a private key in PEM.
func ParseKey(data []byte, place fault.Place) (ed25519.PrivateKey, error) {
	if block, _ := pem.Decode(data); block != nil && block.Type == "PRIVATE KEY" {
		if key, err := x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
			if key, ok := key.(ed25519.PrivateKey); ok {
				return key, nil
			}
		}
	}
	return nil, &fault.Fault{Kind: fault.Usage, What: "this is no private Ed25519 key in PEM", Place: place,
		Do: "'vornix key new FILE' makes one."}
}

// Public is the public key, in one word, of a key that signs; empty when it is no Ed25519 key.
func Public(key crypto.Signer) string {
	public, ok := key.Public().(ed25519.PublicKey)
	if !ok {
		return ""
	}
	return Word(public)
}

// Sign signs a message with an Ed25519 key: an ed25519.PrivateKey, or one that an agent holds.
func Sign(key crypto.Signer, message []byte) (Signature, error) {
	s := Signature{Key: Public(key)}
	value, err := key.Sign(nil, message, crypto.Hash(0))
	if err != nil {
		return s, &fault.Fault{What: "the key " + s.Key + " could not sign", Err: err,
			Do: "If an agent holds it: unlock it, or add the key again with ssh-add."}
	}
	s.Value = base64.StdEncoding.EncodeToString(value)
	return s, s.Check(message) // an agent may give back anything
}

// Check says whether a signature is right. By whom is another question: Trust answers it.
func (s Signature) Check(message []byte) error {
	key, err := ParseWord(s.Key)
	if err != nil {
		return err
	}
	b, err := base64.StdEncoding.DecodeString(s.Value)
	if err != nil || !ed25519.Verify(key, message, b) {
		return &fault.Fault{Kind: fault.Refused, What: "the signature is wrong",
			Why: "Somebody changed what was signed, or it is damaged.", Do: "Get it again from where you trust it."}
	}
	return nil
}

// Trust holds the key that signed something ("" for nobody) to those that are trusted.
func Trust(signer string, trusted []string) error {
	for _, t := range trusted {
		if _, err := ParseWord(t); err != nil {
			return err
		}
	}
	switch {
	case signer == "":
		return &fault.Fault{Kind: fault.Refused, What: "it is not signed",
			Why: "A signature by a trusted key is demanded here.",
			Do:  "Get it from its authors again, or ask them to sign it."}
	case !slices.ContainsFunc(trusted, func(t string) bool { return strings.TrimSpace(t) == signer }):
		return &fault.Fault{Kind: fault.Refused, What: "it is signed by " + signer + ", which is not trusted here",
			Why: "Anybody can sign with a key of their own.",
			Do:  "If that is the authors' key, add it to the trusted ones."}
	}
	return nil
}
