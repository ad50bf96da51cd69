package release

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/gitcmd"
	"vornix/core/config/ledger"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/ship/publish"
	"vornix/core/source/assetgraph"
)

// tagger names a release in the Git repository that the project lies in.
type tagger struct {
	dir, name, message string
	repo               *gitcmd.Folder
	there              bool     // it was made before
	ours               []string // files that releasing itself changes: they are committed with it
}

// openTag finds out whether the release can be tagged; nil when nobody wants that. It changes nothing.
func (s *Session) openTag(ctx context.Context, version string) (*tagger, error) {
	head := s.P.File.Project
	form := s.P.File.Release.Tag
	if s.o.Tag != "" {
		form = s.o.Tag
	}
	if form == "" || form == "none" || s.o.Dry || s.o.Until != "" {
		return nil, nil
	}
	values := map[string]string{"name": head.Name, "version": version}
	t := &tagger{dir: s.P.Dir, name: profile.Fill(form, values), message: head.Title + " " + version,
		ours: []string{project.FileName, publish.RecordFile, profile.Fill(s.P.File.Index.Notes, values),
			ledger.RecordsDir}}
	place := s.P.Doc.At("release", "tag")
	if !gitcmd.Installed() {
		return nil, &fault.Fault{Kind: fault.Usage,
			What: "the release needs a Git tag, and the program git is not installed", Place: place,
			Why: "Nothing was done.", Do: "Install it, or release with --tag none."}
	}
	none := &fault.Fault{Kind: fault.Usage,
		What: "the release needs a Git tag, and the project is not in a Git repository with a commit", Place: place,
		Why: "Nothing was done.", Do: "Make a first commit, or release with --tag none."}
	repo, err := repositoryOf(ctx, s.P, &s.o.Access)
	if err != nil {
		return nil, err
	}
	if repo == nil {
		return nil, none
	}
	if err := repo.Repository.Refused(true); err != nil {
		return nil, err
	}
	t.repo = repo
	if _, err := t.look(ctx, "rev-parse", "--verify", "--quiet", "HEAD"); err != nil {
		return nil, none
	}
	if _, err := t.look(ctx, "check-ref-format", "refs/tags/"+t.name); err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q can't be a Git tag", t.name), Place: place,
			Do: "Name it as in v{version}."}
	}
	_, err = t.look(ctx, "rev-parse", "--verify", "--quiet", "refs/tags/"+t.name)
	t.there = err == nil
	if t.there {
		if versions, err := Versions(s.P); err == nil && !slices.Contains(versions, version) {
			return nil, &fault.Fault{Kind: fault.Refused, What: "the repository has a tag " + t.name + " already",
				Place: place, Why: "It names something that is not this release. Nothing was done.",
				Do: "Choose another version, remove the tag (git tag -d " + t.name + "), or release with --tag none."}
		}
		return t, nil
	}
	return t, t.clean(ctx, s)
}

// clean wants what ships to be committed: else the tag would name something else.
func (t *tagger) clean(ctx context.Context, s *Session) error {
	changed, err := t.list(ctx, "diff", "--name-only", "--relative", "-z", "HEAD", "--", ".")
	if err != nil {
		return err
	}
	fresh, err := t.list(ctx, "ls-files", "--others", "--exclude-standard", "-z", "--", ".")
	if err != nil {
		return err
	}
	if len(fresh) > 0 { // of those only what ships matters
		g, err := s.scan(ctx)
		if err != nil {
			return err
		}
		ships := map[string]bool{}
		for _, a := range assetgraph.Closure(g.Roots()...) {
			for _, f := range append([]string{a.Source}, a.Parts...) {
				ships[f] = true
			}
		}
		fresh = slices.DeleteFunc(fresh, func(f string) bool { return !ships[f] && !s.P.Included(f) })
	}
	open := slices.DeleteFunc(append(changed, fresh...),
		func(f string) bool { return slices.Contains(t.ours, f) || strings.HasPrefix(f, ledger.RecordsDir+"/") })
	if len(open) == 0 {
		return nil
	}
	return &fault.Fault{Kind: fault.Refused,
		What: fmt.Sprintf("%s not committed: %s", Count(len(open), "change"),
			strings.Join(open[:min(len(open), 4)], ", ")),
		Why: "The tag " + t.name + " would not name what goes out. Nothing was done.",
		Do:  "Commit them, or release with --tag none."}
}

// run commits what the release itself changed, and tags that.
func (t *tagger) run(ctx context.Context, p *project.Project) (*Step, error) {
	step := &Step{Name: "tag", Made: []Made{}, Kept: t.there}
	defer timed(step, time.Now())
	if t.there {
		step.Summary = "the repository has the tag " + t.name + " already"
		return step, nil
	}
	var files []string
	for _, f := range t.ours {
		if out, err := t.list(ctx, "status", "--porcelain", "-z", "--", f); err == nil && len(out) > 0 {
			files = append(files, f)
		}
	}
	if len(files) > 0 {
		if _, err := t.git(ctx, append([]string{"add", "--"}, files...)...); err != nil {
			return step, t.failed(err)
		}
		if _, err := t.git(ctx,
			append([]string{"commit", "--quiet", "--message", t.message, "--"}, files...)...); err != nil {
			return step, t.failed(err)
		}
	}
	if _, err := t.git(ctx, "tag", "--annotate", "--message", t.message, t.name); err != nil {
		return step, t.failed(err)
	}
	at, err := t.look(ctx, "rev-parse", "--short", "HEAD")
	if err != nil {
		return step, t.failed(err)
	}
	step.Summary = fmt.Sprintf("%s names commit %s", t.name, at)
	if len(files) > 0 {
		step.Summary += ", in which are " + strings.Join(files, ", ")
	}
	step.Summary += "; git push --follow-tags sends it"
	return step, nil
}

func (t *tagger) failed(err error) error {
	return &fault.Fault{What: "the release is finished, but could not be tagged",
		Place: fault.Place{File: filepath.ToSlash(t.dir)}, Err: err,
		Why: "What players get is right; only the tag is missing.",
		Do:  "Mend what git says, and run the same command again: only the tag is left."}
}

func (t *tagger) git(ctx context.Context, args ...string) (string, error) {
	out, err := t.repo.WithHooks(ctx, args...)
	return strings.TrimSpace(out), err
}

func (t *tagger) look(ctx context.Context, args ...string) (string, error) {
	out, err := t.repo.WithoutHooks(ctx, args...)
	return strings.TrimSpace(out), err
}

func (t *tagger) list(ctx context.Context, args ...string) ([]string, error) {
	out, err := t.repo.WithoutHooks(ctx, args...)
	list := strings.Split(strings.TrimRight(out, "\x00"), "\x00")
	return slices.DeleteFunc(list, func(s string) bool { return s == "" }), err
}
