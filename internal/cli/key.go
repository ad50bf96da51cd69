package cli

import (
	"context"
	"crypto"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/signature"
	"vornix/internal/cli/show"
)

// keyVariable names the private key's file for those who do not want to say it each time.
const keyVariable = "VORNIX_SIGNING_KEY"

func (a *app) keyCommand() *cobra.Command {
	cmd := only(&cobra.Command{
		Use:   "key",
		Short: "Make and show the keys that patches and the index are signed with",
		Example: `  vornix key new ~/highline.key
  vornix key show ~/highline.key`,
	})
	cmd.AddCommand(&cobra.Command{
		Use:   "new FILE",
		Short: "Make a private key (Ed25519), and say its public key",
		Long: `New writes a private key into FILE (PEM, PKCS #8), which only you can read, and prints the public key. The public key goes into the
project file, under trusted in [signing], and to whoever wants to check. Keep FILE out of the project and make a copy of it: whoever loses it
can't sign as the same author again.`,
		Example: `  vornix key new ~/highline.key
  vornix key new /media/stick/highline.key --json`,
		Args: between(1, 1, "the file to write"),
		RunE: a.run(func(_ context.Context, answer *show.Answer, args []string) error {
			data, public, err := signature.New()
			if err != nil {
				return err
			}
			if _, err := os.Lstat(args[0]); err == nil {
				return &fault.Fault{Kind: fault.Refused, What: "the file already exists",
					Place: fault.Place{File: filepath.ToSlash(args[0])},
					Why:   "It may hold a key that you need: a key is never overwritten.", Do: "Choose another name."}
			}
			out, err := createOut(args[0], false)
			if err != nil {
				return err
			}
			defer out.close()
			out.Private()
			if _, err := out.Write(data); err != nil {
				return err
			}
			if err := out.Commit(); err != nil {
				return err
			}
			answer.Result = keyAnswer{filepath.ToSlash(args[0]), public}
			a.out.Say("%s holds the private key; its public key is\n%s", filepath.ToSlash(args[0]), public)
			return nil
		}),
	}, &cobra.Command{
		Use:   "show FILE",
		Short: "Say the public key of a private key",
		Long:  `Show prints the public key of a private key's file, or of a key that an SSH agent holds: agent, or agent:COMMENT when it holds several.`,
		Example: `  vornix key show ~/highline.key
  vornix key show agent`,
		Args: between(1, 1, "the file of a private key, or agent"),
		RunE: a.run(func(_ context.Context, answer *show.Answer, args []string) error {
			key, err := signingKey(args[0])
			if err != nil {
				return err
			}
			public := signature.Public(key)
			answer.Result = keyAnswer{filepath.ToSlash(args[0]), public}
			a.out.Say("%s", public)
			return nil
		}),
	})
	return cmd
}

// signingKey is the private key that was named, or that the environment names: its file, or "agent"
// for one that an SSH agent holds; nil for none.
func signingKey(name string) (crypto.Signer, error) {
	if name == "" {
		name = os.Getenv(keyVariable)
	}
	if name == "" {
		return nil, nil
	}
	if which, ok := strings.CutPrefix(name, signature.AgentName); ok && (which == "" || which[0] == ':') {
		conn, err := dialAgent(os.Getenv("SSH_AUTH_SOCK"))
		if err != nil {
			return nil, &fault.Fault{Kind: fault.Usage, What: "there is no SSH agent to sign with", Err: err,
				Do: "Start one (eval $(ssh-agent)) and add the key with ssh-add, or name a key's file."}
		}
		return signature.FromAgent(conn, strings.TrimPrefix(which, ":"))
	}
	key, err := signature.ReadKey(name)
	if err != nil {
		return nil, err
	}
	return key, nil
}

// trusted are the keys whose signatures count here: those that were named, and those of the project
// here. demanded says whether there must be one.
func (a *app) trusted(named []string) (keys []string, demanded bool, err error) {
	if err := trustedWords(named); err != nil {
		return nil, false, err
	}
	keys, demanded = named, len(named) > 0
	if _, err := a.dir(); err != nil {
		return keys, demanded, nil // there is no project here
	}
	p, err := a.load()
	if err != nil {
		return nil, false, err
	}
	return append(keys, p.File.Signing.Trusted...), demanded || p.File.Signing.Required, nil
}

// unsigned refuses to hand out what is not signed where the project demands it.
func unsigned(key crypto.Signer, required bool) error {
	if key != nil || !required {
		return nil
	}
	return &fault.Fault{Kind: fault.Refused, What: "this project signs its patches, and no key is named",
		Why: "[signing] required stands in vornix.toml; players who hold to it would refuse the patch.",
		Do:  "Name the key's file: --key FILE, or in " + keyVariable}
}

// trustedWords makes sure that keys are such.
func trustedWords(keys []string) error {
	for _, k := range keys {
		if _, err := signature.ParseWord(k); err != nil {
			return err
		}
	}
	return nil
}
