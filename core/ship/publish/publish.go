// Package publish brings a project to workshops: it makes items, hidden at first, fills their pages
// and uploads their files, changes them from version to version, and tries what players get.
//
// token.go finds out whose name it is done in, record.go remembers which items are the project's
// (published.toml), goal.go says what an item should be, plan.go compares that with what is there,
// run.go does it, after.go is what comes then: visibility, withdrawal, a try as a player.
//
// Nothing that somebody else wrote is overwritten: for each part of a page the project remembers
// what it published last. What is different from that there, and not in the project, stays; what is
// different in both is a conflict. No second item is made by accident: each has a key by which its
// owner finds it again, also when the answer to its making was lost.
package publish

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/base/credential"
	"vornix/core/base/fault"
	"vornix/core/base/suggest"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/ship/workshop"
)

// Access is what a person and a machine let in with.
type Access struct {
	Env     func(string) string
	Home    string
	Own     string  // folder of this person's own settings, for tokens; empty for none
	Keyring Keyring // nil for none
	Agent   string  // name and version of this program
	// Client changes how workshops are spoken with, in tests.
	Client func(*workshop.Options)
	// Round stands between a client and the network, in tests.
	Round func(http.RoundTripper) http.RoundTripper
	Trust trust.Checker // what a person allowed projects on this machine
}

// Desk is a workshop that is a target of a project.
type Desk struct {
	P       *project.Project
	Name    string // of the target
	Address string
	Client  *workshop.Client
	About   *workshop.About
	Where   string // where the token was found; empty for none

	target project.Target
	access Access
	limits workshop.Limits
}

// Targets are the names of a project's targets that are workshops, sorted.
func Targets(p *project.Project) (list []string) {
	for name, t := range p.File.Targets {
		if t.Kind == "workshop" {
			list = append(list, name)
		}
	}
	slices.Sort(list)
	return list
}

// Find finds the workshop of a target, without speaking to it.
func Find(p *project.Project, name string, a Access) (*Desk, error) {
	t, ok := p.File.Targets[name]
	known := Targets(p)
	if !ok || t.Kind != "workshop" {
		f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("there is no workshop %q among the targets", name),
			Place: fault.Place{File: project.FileName},
			Do: "Its workshops: " + cmp.Or(strings.Join(known, ", "),
				"none; describe one under [target.NAME] with kind = \"workshop\"") + "."}
		if ok {
			f.What, f.Do = fmt.Sprintf("target %q is no workshop, but of the kind %s", name, t.Kind),
				"Use 'vornix deploy "+name+"'."
		} else if near := suggest.Word(name, known); near != "" {
			f.Do = fmt.Sprintf("Did you mean %q?", near)
		}
		return nil, f
	}
	d := &Desk{P: p, Name: name, target: t, access: a, Address: t.URL}
	if !strings.HasPrefix(t.URL, "http://") && !strings.HasPrefix(t.URL, "https://") {
		file := credential.Path(p.Dir, a.Home, t.URL)
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, &fault.Fault{Kind: fault.Unreachable,
				What:  fmt.Sprintf("target %q: the workshop's address is not there", name),
				Place: fault.Place{File: filepath.ToSlash(file)}, Err: errors.Unwrap(err),
				Why: "A stand-in writes it there while it runs.",
				Do: "Start it with 'vornix stand workshop " + filepath.ToSlash(filepath.Dir(file)) +
					"', or correct url of the target."}
		}
		d.Address = strings.TrimSpace(string(data))
	}
	d.Address = strings.TrimSuffix(d.Address, "/")
	return d, nil
}

// Open reaches the workshop of a target. Close must be called.
func Open(ctx context.Context, p *project.Project, name string, a Access) (*Desk, error) {
	d, err := Find(p, name, a)
	if err != nil {
		return nil, err
	}
	token, where, err := a.token(p, name, &d.target, d.Address, false)
	if err != nil {
		return nil, err
	}
	d.Where = where
	if d.Client, err = d.dial(token); err != nil {
		return nil, err
	}
	if d.About, err = d.Client.About(ctx); err != nil {
		d.Client.Close()
		return nil, err
	}
	kind := p.Profile.Workshop.Kind
	limits, ok := d.About.Kinds[kind]
	if !ok {
		d.Client.Close()
		var known []string
		for name := range d.About.Kinds {
			known = append(known, name)
		}
		slices.Sort(known)
		return nil, &fault.Fault{What: fmt.Sprintf("%s takes no items of the kind %q", d.About.Name, kind),
			Place: fault.Place{File: d.Address},
			Do:    "It takes " + strings.Join(known, ", ") + "; the game's profile says the kind under [workshop]."}
	}
	d.limits = limits
	if want := d.target.Account; want != "" && d.About.Account != "" && want != d.About.Account {
		d.Client.Close()
		return nil, &fault.Fault{Kind: fault.Refused,
			What:  fmt.Sprintf("the token in %s is %s's, and target %q wants %s's", where, d.About.Account, name, want),
			Place: p.Doc.At("target", name, "account"), Do: "Use the right token, or correct account of the target."}
	}
	return d, nil
}

func (d *Desk) dial(token string) (*workshop.Client, error) {
	o := workshop.Options{Token: token, Agent: d.access.Agent, Plain: d.target.PlainHTTP, Wrap: d.access.Round}
	if d.access.Client != nil {
		d.access.Client(&o)
	}
	return workshop.Dial(d.Address, o)
}

// Close lets go of the workshop.
func (d *Desk) Close() { d.Client.Close() }

// owner wants the token of somebody who can change items.
func (d *Desk) owner() error {
	if d.About.Account != "" {
		return nil
	}
	return &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("there is no token for %s", d.About.Name),
		Place: fault.Place{File: d.Address},
		Do:    fmt.Sprintf("Get one there, and keep it with 'vornix publish login %s', in the variable that token_env names, or in the file that token_file names.", d.Name)}
}
