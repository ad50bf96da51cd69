package deploy

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/base/credential"
	"vornix/core/base/fault"
	"vornix/core/base/gitcmd"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/ship/transport"
)

// Access is what the person who deploys lets in with. The zero value has nothing: enough for folders.
type Access struct {
	Env     func(string) string
	Home    string                                   // whose .ssh folder is read
	Account string                                   // name on this machine
	Host    string                                   // of this machine, for the lock
	Agent   func() (io.ReadWriter, error)            // an SSH agent; nil for none
	Ask     func(question string) (string, error)    // asks for something secret; nil where no person can be asked
	Dial    func(site transport.Site) transport.Site // wraps a site, in tests
	Trust   trust.Checker                            // what a person allowed projects on this machine
}

// Repository says whether a person allowed what a repository makes git run.
func (a *Access) Repository(p *project.Project, repo *gitcmd.Repository) (bool, error) {
	missing, err := a.Trust.Missing(p, trust.Repository(repo))
	return err == nil && len(missing) == 0, err
}

func (a *Access) env(name string) string {
	if a.Env == nil || name == "" {
		return ""
	}
	return a.Env(name)
}

// By is who deploys, as histories and locks show it.
func (a *Access) By() string {
	switch {
	case a.Account == "":
		return a.Host
	case a.Host == "":
		return a.Account
	}
	return a.Account + "@" + a.Host
}

// Target is an open target of a project.
type Target struct {
	Name    string
	Project string
	Title   string
	about   project.Target
	profile *profile.Profile
	access  Access
	site    transport.Site
	where   string // for people
	cache   string // system path of a folder that remembers records
	state   string // of the project
	keep    int
	server  serverPlace
	git     *transport.Git
	p       *project.Project
	lock    *lock // while the target is held
}

// ownDir is the folder in a target in which Vornix keeps state, journal, lock and safe place.
const ownDir = project.TargetDir

func (t *Target) own(name string) string { return path.Join(ownDir, t.Project, name) }

// Find gives a target's description by its name.
func Find(p *project.Project, name string) (project.Target, error) {
	t, ok := p.File.Targets[name]
	if ok && t.Kind == "workshop" {
		return t, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("target %q is a workshop", name),
			Place: p.Doc.At("target", name),
			Do:    fmt.Sprintf("Items are made and changed by 'vornix publish %s'.", name)}
	}
	if ok {
		return t, nil
	}
	f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("the project has no target %q", name),
		Place: fault.Place{File: project.FileName},
		Do:    fmt.Sprintf("Describe it under [target.%s].", name)}
	known := slices.DeleteFunc(slices.Sorted(maps.Keys(p.File.Targets)),
		func(name string) bool { return p.File.Targets[name].Kind == "workshop" })
	if near := suggest.Word(name, known); near != "" {
		f.Do = fmt.Sprintf("Did you mean %q?", near)
	} else if len(known) > 0 {
		f.Do = "Its targets: " + strings.Join(known, ", ") + "."
	}
	return t, f
}

// Open reaches a target. Close it.
func Open(ctx context.Context, p *project.Project, name string, a Access) (*Target, error) {
	about, err := Find(p, name)
	if err != nil {
		return nil, err
	}
	t := &Target{p: p, Name: name, Project: p.File.Project.Name, Title: p.File.Project.Title, about: about,
		profile: p.Profile, access: a, keep: about.Keep,
		state: p.State(), cache: filepath.Join(p.State(), "targets", name)}
	if t.keep == 0 {
		t.keep = 5
	}
	local := filepath.FromSlash(about.Path)
	if about.Path != "" && !filepath.IsAbs(local) {
		local = filepath.Join(p.Dir, local)
	}
	switch about.Kind {
	case "folder":
		if info, err := os.Stat(local); err != nil || !info.IsDir() {
			return nil, &fault.Fault{Kind: fault.Unreachable,
				What:  fmt.Sprintf("the folder of target %q does not exist: %s", name, local),
				Place: p.Doc.At("target", name, "path"),
				Why:   "A folder that Vornix made itself might be a misspelt one that no server looks into. Nothing was changed.",
				Do:    "Correct the path, mount the folder, or make it by hand if it is meant to be new."}
		}
		t.site, err = transport.OpenFolder(local)
	case "sftp":
		t.site, err = transport.OpenSFTP(ctx, t.login(), about.Path)
	case "git":
		o := transport.GitOptions{URL: about.URL, Tree: local, Branch: about.Branch, Folder: about.Folder,
			Push: about.Push == nil || *about.Push, Author: about.Author,
			Allowed: func(repo *gitcmd.Repository) (bool, error) { return a.Repository(p, repo) }}
		if about.URL != "" {
			o.Tree = filepath.Join(p.State(), "git", name)
			if o.Branch == "" {
				o.Branch = "main"
			}
			if !strings.Contains(o.URL, "://") && !strings.Contains(o.URL, ":") &&
				!filepath.IsAbs(filepath.FromSlash(o.URL)) {
				o.URL = filepath.Join(p.Dir, filepath.FromSlash(o.URL))
			}
		}
		if t.git, err = transport.OpenGit(ctx, o); err == nil {
			t.site = t.git
		}
	case "webdav":
		var user *url.Userinfo
		if about.User != "" {
			var password string
			if ask := t.password(map[string]string{}); ask != nil {
				if password, err = ask(about.User + " at " + about.URL); err != nil {
					return nil, onTarget(name, err)
				}
			}
			user = url.UserPassword(about.User, password)
		}
		t.site, err = transport.OpenWebDAV(ctx, about.URL, user)
	case "web":
		t.site, err = transport.OpenWeb(about.URL)
	}
	if err != nil {
		return nil, onTarget(name, err)
	}
	// the working tree is what the repository has, whatever was under way in it
	if about.Kind == "git" && about.URL != "" {
		if err := t.site.Remove(ctx, t.own(journalFile)); err != nil {
			return nil, onTarget(name, err)
		}
	}
	t.where = t.site.String()
	if a.Dial != nil {
		t.site = a.Dial(t.site)
	}
	t.server = serverPlace{address: about.Server, call: p.Profile.Server.Call, wait: about.Wait}
	if about.Kind == "git" && about.Wait == 0 {
		t.server.wait = 30
	}
	return t, nil
}

// onTarget says which target an error is about.
func onTarget(name string, err error) error {
	var f *fault.Fault
	switch {
	case err == nil || errors.Is(err, context.Canceled):
		return err
	case !errors.As(err, &f):
		return fmt.Errorf("target %q: %w", name, err)
	case !strings.Contains(f.What, fmt.Sprintf("%q", name)):
		g := *f
		g.What = fmt.Sprintf("target %q: %s", name, f.What)
		return &g
	}
	return err
}

// Close lets go of the target.
func (t *Target) Close() { _ = t.site.Close() }

// String is where the target is, for people.
func (t *Target) String() string { return t.where }

// Folder is the system path of a target that is a folder; empty for others.
func (t *Target) Folder() string {
	if t.about.Kind == "folder" {
		return t.where
	}
	return ""
}

// login says how the server is reached.
func (t *Target) login() *transport.Login {
	a := &t.access
	l := &transport.Login{Host: t.about.Host, Port: t.about.Port, User: t.about.User, Key: t.about.Key,
		Pins: t.about.HostKey, Jumps: t.about.Jump,
		Home: a.Home, Account: a.Account, Agent: a.Agent}
	if l.Key != "" && !filepath.IsAbs(filepath.FromSlash(l.Key)) && !strings.HasPrefix(l.Key, "~/") {
		l.Key = filepath.Join(filepath.Dir(t.state), filepath.FromSlash(l.Key))
	}
	asked := map[string]string{} // one question, even when the connection is renewed
	l.Password = t.password(asked)
	if a.Ask != nil {
		l.Unlock = func(file string) (string, error) { return once(asked, "words that protect "+file, a.Ask) }
	}
	return l
}

// password says how the password of an account is had; nil where there is none. asked remembers answers of a person.
func (t *Target) password(asked map[string]string) func(who string) (string, error) {
	a := &t.access
	switch {
	case t.about.PasswordEnv != "":
		return func(who string) (string, error) {
			if err := t.allowed(trust.Secret(t.p, t.Name, credential.Variable(t.about.PasswordEnv),
				t.about.Login())); err != nil {
				return "", err
			}
			if word := a.env(t.about.PasswordEnv); word != "" {
				return word, nil
			}
			f := &fault.Fault{Kind: fault.Usage,
				What: fmt.Sprintf("the environment variable %s, which should hold the password for %s, is empty",
					t.about.PasswordEnv, who), Do: "Set it."}
			if t.about.Kind == "sftp" {
				f.Do = "Set it, or use a key."
			}
			return "", f
		}
	case a.Ask != nil:
		return func(who string) (string, error) { return once(asked, "password for "+who, a.Ask) }
	}
	return nil
}

// allowed refuses what a person has to allow first.
func (t *Target) allowed(want trust.Permission) error {
	missing, err := t.access.Trust.Missing(t.p, want)
	if err != nil || len(missing) == 0 {
		return err
	}
	return &fault.Fault{Kind: fault.Refused,
		What: fmt.Sprintf("target %q %s, which has not been allowed on this machine", t.Name,
			strings.Join(want.Lines, ", ")), Place: want.Place,
		Why: "A stranger may have written the project. Nothing was sent or run.",
		Do:  "See what it would do, and allow it once: vornix trust"}
}

func once(known map[string]string, question string, ask func(string) (string, error)) (string, error) {
	if word, ok := known[question]; ok {
		return word, nil
	}
	word, err := ask(question)
	if err == nil {
		known[question] = word
	}
	return word, err
}

// readOnly says that nothing can be brought there.
func (t *Target) readOnly() bool {
	r, ok := t.site.(transport.ReadOnly)
	return ok && r.ReadOnly()
}

// explain says what went wrong with a file of the target.
func (t *Target) explain(doing, rel string, err error) error {
	return onTarget(t.Name, transport.Explain(t.site, doing, rel, err))
}

// absent says whether an error is that a file is not there.
func absent(err error) bool { return errors.Is(err, fs.ErrNotExist) }
