package signature

import (
	"crypto"
	"crypto/ed25519"
	"fmt"
	"io"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"vornix/core/base/fault"
)

// AgentName names the keys that an SSH agent holds, where the file of a key could stand: "agent",
// or "agent:" and which one.
const AgentName = "agent"

// held is a key that an agent holds.
type held struct {
	agent  agent.Agent
	key    *agent.Key
	public ed25519.PublicKey
}

// Public is the Ed25519 public key.
func (h *held) Public() crypto.PublicKey { return h.public }

// Sign lets the agent sign. An agent's signature over ssh-ed25519 is that of RFC 8032 over the very message (RFC 8709).
func (h *held) Sign(_ io.Reader, message []byte, _ crypto.SignerOpts) ([]byte, error) {
	s, err := h.agent.Sign(h.key, message)
	if err != nil {
		return nil, err
	}
	if s.Format != ssh.KeyAlgoED25519 {
		return nil, fmt.Errorf("the agent signed as %s", s.Format)
	}
	return s.Blob, nil
}

// FromAgent asks the SSH agent at the other end of a connection for a key: by its comment, its
// fingerprint (SHA256:...), its public key in one word, or, with which empty, the only one that can
// sign. The key signs as long as the connection is open, which nothing else may use.
func FromAgent(conn io.ReadWriter, which string) (crypto.Signer, error) {
	client := agent.NewClient(conn)
	keys, err := client.List()
	if err != nil {
		return nil, &fault.Fault{What: "the SSH agent does not say which keys it has", Err: err,
			Do: "Unlock it, or start it again."}
	}
	var names []string
	var found []*held
	for _, k := range keys {
		public, err := ssh.ParsePublicKey(k.Blob)
		if err != nil {
			continue // of a kind that only newer agents know
		}
		crypt, ok := public.(ssh.CryptoPublicKey)
		if !ok {
			continue
		}
		raw, ok := crypt.CryptoPublicKey().(ed25519.PublicKey)
		if !ok || k.Type() != ssh.KeyAlgoED25519 {
			continue
		}
		names = append(names, k.Comment)
		if which == "" || slices.Contains([]string{k.Comment, ssh.FingerprintSHA256(public), Word(raw)}, which) {
			found = append(found, &held{client, k, raw})
		}
	}
	if len(found) == 1 {
		return found[0], nil
	}
	f := &fault.Fault{Kind: fault.Usage, What: "the SSH agent holds no Ed25519 key",
		Do: "Add one: ssh-add ~/.ssh/id_ed25519"}
	switch {
	case len(found) > 1:
		f.What, f.Do = fmt.Sprintf("the SSH agent holds %d keys that it could be: %s", len(found),
			strings.Join(names, ", ")),
			"Say which, by its comment or fingerprint: agent:COMMENT ('ssh-add -l' lists them)."
	case len(names) > 0:
		f.What, f.Do = fmt.Sprintf("the SSH agent holds no key %q", which), "It holds: "+strings.Join(names, ", ")
	}
	return nil, f
}
