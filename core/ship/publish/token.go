package publish

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"vornix/core/base/credential"
	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/ship/workshop"
)

// Keyring keeps secrets for a person, as systems do.
type Keyring interface {
	Get(service, user string) (string, error)
	Set(service, user, secret string) error
	Delete(service, user string) error
}

// service is what Vornix is called in keyrings.
const service = "vornix"

// whyOwn is what others could do with a token.
const whyOwn = "Anyone with the token can publish under your name."

// token finds the token of a target: in the environment, in its file, in the keyring, in this
// person's own folder. where says where it was, for people; a token itself is never said. player
// asks for the second account's. Having none is not an error.
//
// A variable or a file that the project names is read for an origin that a person allowed and for
// no other. What 'publish login' keeps is kept for an address, by a person.
func (a *Access) token(p *project.Project, target string, t *project.Target, address string, player bool) (token,
	where string, err error) {
	env, file, user := t.TokenEnv, t.TokenFile, address
	if player {
		env, file, user = t.PlayerTokenEnv, t.PlayerTokenFile, address+" player"
	}
	if env != "" && a.Env != nil {
		if token := strings.TrimSpace(a.Env(env)); token != "" {
			if err := a.allowed(p, target, credential.Variable(env), address); err != nil {
				return "", "", err
			}
			return credential.Check(token, "the variable "+env)
		}
	}
	if file != "" {
		if err := a.allowed(p, target, credential.File(file), address); err != nil {
			return "", "", err
		}
		name := credential.Path(p.Dir, a.Home, file)
		data, err := credential.Read(name, whyOwn)
		if err != nil {
			return "", "", err
		}
		return credential.Check(strings.TrimSpace(string(data)), filepath.ToSlash(name))
	}
	if a.Keyring != nil {
		if token, err := a.Keyring.Get(service, user); err == nil && token != "" {
			return credential.Check(token, "the system's keyring")
		}
	}
	if a.Own != "" {
		name := filepath.Join(a.Own, ownFile(user))
		data, err := credential.Read(name, whyOwn)
		switch {
		case err == nil:
			return credential.Check(strings.TrimSpace(string(data)), filepath.ToSlash(name))
		case !errors.Is(err, fs.ErrNotExist):
			return "", "", err
		}
	}
	return "", "", nil
}

// allowed refuses to send a secret that a person has not allowed for this origin.
func (a *Access) allowed(p *project.Project, target, from, address string) error {
	want := trust.Secret(p, target, from, address)
	missing, err := a.Trust.Missing(p, want)
	if err != nil || len(missing) == 0 {
		return err
	}
	return &fault.Fault{Kind: fault.Refused,
		What: fmt.Sprintf("target %q %s, which has not been allowed on this machine", target,
			strings.Join(want.Lines, ", ")), Place: want.Place,
		Why: "A stranger may have written the project. Nothing was sent.",
		Do:  "See what it would do, and allow it once: vornix trust"}
}

// ownFile is the name of the file in a person's own folder that holds a token.
func ownFile(user string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '.' || r == '-' {
			return r
		}
		return '_'
	}, strings.ToLower(user)) + ".token"
}

// Keep keeps a token for a target's workshop: in the keyring, or where there is none in a file of
// this person's own folder. It says where.
func (d *Desk) Keep(token string, player bool) (where string, err error) {
	token = strings.TrimSpace(token)
	if _, _, err := credential.Check(token, "what was typed"); err != nil || token == "" {
		return "", cmp.Or(err,
			error(&fault.Fault{Kind: fault.Usage, What: "there is no token", Do: "Type or paste it."}))
	}
	user := d.user(player)
	if k := d.access.Keyring; k != nil && k.Set(service, user, token) == nil {
		return "the system's keyring", nil
	}
	if d.access.Own == "" {
		return "", &fault.Fault{What: "there is no keyring, and no folder for settings",
			Do: "Set the variable that token_env names, or write a file that token_file names."}
	}
	dir, err := safefile.MakeDir(d.access.Own)
	if err != nil {
		return "", err
	}
	defer dir.Close()
	f, err := dir.Create(ownFile(user))
	if err != nil {
		return "", err
	}
	defer f.Abort()
	f.Private()
	if _, err := f.Write([]byte(token + "\n")); err != nil {
		return "", err
	}
	return filepath.ToSlash(dir.Join(ownFile(user))), f.Commit()
}

// Forget forgets the token that Keep kept. Having kept none is not an error.
func (d *Desk) Forget(player bool) error {
	user := d.user(player)
	if d.access.Keyring != nil {
		_ = d.access.Keyring.Delete(service, user) // it may have none
	}
	if d.access.Own == "" {
		return nil
	}
	dir, err := safefile.OpenDir(d.access.Own)
	if err != nil {
		return nil // nothing was ever kept
	}
	defer dir.Close()
	return dir.RemoveFile(ownFile(user))
}

func (d *Desk) user(player bool) string {
	if player {
		return d.Address + " player"
	}
	return d.Address
}

// Whose asks the workshop whose token that is.
func (d *Desk) Whose(ctx context.Context, token string) (*workshop.About, error) {
	if _, _, err := credential.Check(token, "what was typed"); err != nil {
		return nil, err
	}
	c, err := d.dial(token)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return c.About(ctx)
}
