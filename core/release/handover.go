package release

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os/exec"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/gitcmd"
	"vornix/core/base/signature"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/ship/deploy"
	"vornix/core/ship/publish"
)

// States of what a release needs.
const (
	Here    = "here"    // it is here, and works
	Lacking = "lacking" // it is not here, or does not work
	Only    = "only"    // only this machine has it
)

// Need is something that whoever releases the project must have.
type Need struct {
	What   string `json:"what"`  // record, sources, key, secret, consent, target, workshop, bundles, program
	Name   string `json:"name"`  // which
	State  string `json:"state"` // one of the states
	Detail string `json:"detail"`
	Do     string `json:"do,omitempty"` // how to get it
}

// Handover lists what a release of the project needs, and tries each on this machine. It changes
// nothing, and shows no secret. The same on a successor's machine says what is still lacking there.
func Handover(ctx context.Context, p *project.Project, o Options) ([]Need, error) {
	list := &handoverList{}
	history, err := ReadHistory(ctx, p, o)
	if err != nil {
		return nil, err
	}
	for _, step := range []func(context.Context, *project.Project, Options, *History) error{
		list.sources, list.records, list.keys, list.secrets, list.consent, list.targets, list.workshops, list.programs,
	} {
		if err := step(ctx, p, o, history); err != nil {
			return nil, err
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	return list.list, nil
}

type handoverList struct{ list []Need }

func (n *handoverList) add(what, name, state, detail, do string) {
	n.list = append(n.list, Need{what, name, state, detail, do})
}

// failed adds what does not work, with the error's own way out.
func (n *handoverList) failed(what, name string, err error) {
	do := ""
	var f *fault.Fault
	if errors.As(err, &f) {
		do = f.Do
	}
	n.add(what, name, Lacking, err.Error(), do)
}

// sources are what Git does not have anywhere else.
func (n *handoverList) sources(ctx context.Context, p *project.Project, o Options, _ *History) error {
	repo, err := repositoryOf(ctx, p, &o.Access)
	if err != nil {
		n.failed("sources", "Git", err)
		return nil
	}
	if repo == nil {
		n.add("sources", "this folder", Only, "the project is in no Git repository",
			"Hand over the whole folder but for out/ and .vornix/, or put it into a repository.")
		return nil
	}
	look := func(args ...string) string {
		out, err := repo.WithoutHooks(ctx, args...)
		if err != nil {
			return "?"
		}
		return strings.TrimSpace(out)
	}
	if look("rev-parse", "--is-shallow-repository") == "true" {
		n.add("sources", "history", Lacking, "the clone is shallow, so it can't be told which versions it contains",
			"git fetch --unshallow")
	}
	if changed := look("status", "--porcelain", "--", "."); changed != "" {
		n.add("sources", "changes", Only, Count(strings.Count(changed, "\n")+1, "file")+" not committed",
			"Commit and push them, or take them back.")
	}
	switch ahead := look("rev-list", "--count", "@{upstream}..HEAD"); ahead {
	case "0":
		n.add("sources", "commits", Here, "all are pushed", "")
	case "?":
		n.add("sources", "commits", Only, "the branch is pushed nowhere", "git push --set-upstream REMOTE BRANCH")
	default:
		n.add("sources", "commits", Only, ahead+" not pushed", "git push --follow-tags")
	}
	return nil
}

// records are those of finished versions, with the bundles that patches are made from.
func (n *handoverList) records(ctx context.Context, p *project.Project, o Options, h *History) error {
	for _, x := range h.Places {
		if x.Error != "" && x.Kind != "target" && x.Kind != "workshop" { // those are tried below
			n.failed("record", x.Name, x.err)
		}
	}
	last := p.File.Release.PatchesFrom()
	for i, k := range h.Versions {
		switch {
		case len(k.Other) > 0:
			n.add("record", k.Version, Lacking, "another content has this number at "+strings.Join(k.Other, ", "),
				"Find out which one players should have.")
		case !k.Recorded:
			n.add("record", k.Version, Lacking, "it has no record in "+ledger.RecordsDir+"/",
				"git pull, or: vornix history --adopt")
		case i < last && !k.Bundles && len(k.At) == 0:
			n.add("bundles", k.Version, Lacking,
				"no place that answers has its bundles, so no patch can be made from it",
				"Copy out/releases/"+k.Version+" from a machine that has it.")
		case i < last && k.Bundles && len(k.At) == 0:
			n.add("bundles", k.Version, Only, "no other place that answers has its bundles",
				"Hand over out/releases/"+k.Version+".")
		case i < last:
			n.add("record", k.Version, Here, "recorded, and its bundles can be had", "")
		}
	}
	return nil
}

// keys are those that players know the index by.
func (n *handoverList) keys(_ context.Context, p *project.Project, o Options, h *History) error {
	known, err := knownKeys(p, h.Places)
	if err != nil {
		return err
	}
	if len(known) == 0 {
		if p.File.Signing.Required && len(o.Keys) == 0 {
			n.add("key", "signing", Lacking, "vornix.toml requires signatures, and no key is named",
				"Name it: --key FILE, or VORNIX_SIGNING_KEY")
		}
		return nil
	}
	for _, k := range o.Keys {
		if public := signature.Public(k); slices.Contains(known, public) {
			n.add("key", "signing", Here, "players know "+public, "")
			return nil
		}
	}
	detail := "players know " + strings.Join(known, " and ")
	if len(o.Keys) > 0 {
		detail += ", which the named key is not"
	}
	n.add("key", "signing", Lacking, detail,
		"Get the key over a safe channel, and name it: --key FILE, or VORNIX_SIGNING_KEY. Or change keys: vornix index sign --key OLD --key NEW")
	return nil
}

// secrets are the variables that the project names.
func (n *handoverList) secrets(_ context.Context, p *project.Project, o Options, _ *History) error {
	names := map[string]string{}
	for name, t := range p.File.Targets {
		for _, v := range []string{t.PasswordEnv, t.TokenEnv, t.PlayerTokenEnv} {
			if v != "" {
				names[v] = "target " + name
			}
		}
	}
	if v := p.File.Shared.TokenEnv; v != "" {
		names[v] = "shared results"
	}
	for _, v := range slices.Sorted(maps.Keys(names)) {
		if o.Access.Env != nil && o.Access.Env(v) != "" {
			n.add("secret", v, Here, "set, for "+names[v], "")
		} else {
			n.add("secret", v, Lacking, "the variable is not set; "+names[v]+" wants it",
				"Get a token or password of your own there, and set it.")
		}
	}
	return nil
}

// consent is what a person has to allow on this machine.
func (n *handoverList) consent(ctx context.Context, p *project.Project, o Options, _ *History) error {
	all, err := trust.All(ctx, p, o.Access.Home)
	if err != nil {
		n.failed("consent", "trust", err)
		return nil
	}
	missing, err := o.Access.Trust.Missing(p, all...)
	if err != nil {
		return err
	}
	if len(missing) > 0 {
		n.add("consent", "trust", Lacking,
			Count(len(missing), "thing")+" that the project wants to do here is not allowed yet", "vornix trust")
	} else if len(all) > 0 {
		n.add("consent", "trust", Here, "everything that the project does here is allowed", "")
	}
	return nil
}

func (n *handoverList) targets(ctx context.Context, p *project.Project, o Options, _ *History) error {
	for _, name := range Targets(p) {
		t, err := deploy.Open(ctx, p, name, o.Access)
		if err == nil {
			err = t.Writable(ctx)
			t.Close()
		}
		if err != nil {
			n.failed("target", name, err)
			continue
		}
		n.add("target", name, Here, t.String()+": login works, and it is not locked", "")
	}
	return nil
}

func (n *handoverList) workshops(ctx context.Context, p *project.Project, o Options, _ *History) error {
	for _, name := range publish.Targets(p) {
		d, err := publish.Open(ctx, p, name, o.Publish)
		if err != nil {
			n.failed("workshop", name, err)
			continue
		}
		account := d.About.Account
		d.Close()
		if account == "" {
			n.add("workshop", name, Lacking, "no token is set", "vornix publish login "+name)
			continue
		}
		state, detail, do := Here, "the token is "+account+"'s", ""
		for _, s := range publish.Survey(ctx, p, name, o.Publish) {
			if s.Error != "" {
				state, detail, do = Lacking, s.Error,
					"Ask the owner of the items for a token, or to transfer them to you."
			}
		}
		n.add("workshop", name, state, detail, do)
	}
	return nil
}

// programs are what the project runs.
func (n *handoverList) programs(_ context.Context, p *project.Project, _ Options, _ *History) error {
	git := p.File.Release.Tag != ""
	for _, t := range p.File.Targets {
		git = git || t.Kind == "git"
	}
	if git && !gitcmd.Installed() {
		n.add("program", "git", Lacking, "it is not installed", "Install it.")
	}
	for _, s := range p.File.Steps {
		if len(s.Command) == 0 || strings.ContainsAny(s.Command[0], `/\{`) {
			continue // the project's own
		}
		if _, err := exec.LookPath(s.Command[0]); err != nil {
			n.add("program", s.Command[0], Lacking, fmt.Sprintf("the step %q runs it, and it is not installed", s.Name),
				"Install it.")
		}
	}
	return nil
}
