package transport

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/gofrs/flock"

	"vornix/core/base/fault"
	"vornix/core/base/gitcmd"
	"vornix/core/base/safefile"
)

// Git is a folder of a Git repository's working tree: a clone that Vornix keeps, or one of the
// user's own. What is changed in it reaches others by Publish. The program git does the work, so
// that remotes, credentials, hooks and signing are those that the user has set up.
type Git struct {
	*Folder
	o    GitOptions
	work string // the working tree
	repo *gitcmd.Folder
	held *flock.Flock // of a clone of Vornix's own, when no other run has it
}

// GitOptions say which repository.
type GitOptions struct {
	URL    string // of the remote; empty for a working tree of the user's own
	Tree   string // system path of the working tree
	Branch string // empty: the one that is checked out
	Folder string // in the working tree; empty for its root
	Remote string // name (default origin)
	Push   bool
	Author string // "Name <address>"; empty: as Git is set up

	// Allowed says whether a person allowed what a repository can make git run here. nil: nothing is allowed.
	Allowed func(*gitcmd.Repository) (bool, error)
}

// ErrBehind says that somebody else's commits contradict this one: plan again on what is there now.
var ErrBehind = errors.New("somebody else changed the same files in the repository meanwhile")

// OpenGit opens the folder in the working tree. A clone that Vornix keeps is brought up to what its
// remote has; a working tree of the user's own is only looked at, until Refresh.
func OpenGit(ctx context.Context, o GitOptions) (*Git, error) {
	if o.Remote == "" {
		o.Remote = "origin"
	}
	g := &Git{o: o, work: o.Tree}
	if err := g.open(ctx); err != nil {
		if g.held != nil {
			_ = g.held.Unlock()
		}
		return nil, err
	}
	return g, nil
}

func (g *Git) open(ctx context.Context) error {
	o := &g.o
	if !gitcmd.Installed() {
		return &fault.Fault{Kind: fault.Unreachable, What: "the program git is not installed here",
			Do: "Install it; it is what talks to the repository."}
	}
	if o.URL != "" {
		g.unlock()
		if err := g.clone(ctx); err != nil {
			return err
		}
	} else if repo, err := gitcmd.Find(ctx, o.Tree); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &fault.Fault{Kind: fault.Unreachable, What: "this is not a working tree of a Git repository",
			Place: fault.Place{File: o.Tree}, Err: err,
			Do: "Correct the path, clone the repository there, or name its url instead."}
	} else if err := g.found(repo); err != nil {
		return err
	}
	if err := g.repo.Repository.Refused(false); err != nil {
		return err
	}
	folder := filepath.Join(g.work, filepath.FromSlash(o.Folder))
	open := safefile.OpenDir
	if o.URL != "" {
		if _, err := g.Refresh(ctx); err != nil {
			return err
		}
		open = safefile.MakeDir
	} else {
		branch, err := g.branch(ctx)
		if err == nil {
			err = g.ready(ctx, branch)
		}
		if err != nil {
			return err
		}
		if info, err := os.Stat(folder); err != nil || !info.IsDir() {
			return &fault.Fault{Kind: fault.Unreachable, What: "the folder is not there: " + o.Folder,
				Place: fault.Place{File: g.work}, Why: "Nothing was changed.",
				Do: "Correct folder of the target, or make it by hand if it is meant to be new."}
		}
	}
	d, err := open(folder)
	if err != nil {
		return err
	}
	g.Folder = &Folder{dir: d}
	return nil
}

func (g *Git) String() string {
	where := g.o.URL
	if where == "" {
		where = g.work
	}
	if g.o.Folder != "" {
		where += " folder " + g.o.Folder
	}
	return where
}

// unlock removes what a git that was killed left locked in a clone of Vornix's own. The clone is
// held meanwhile; where another run holds it, its locks are none of ours.
func (g *Git) unlock() {
	gitDir := filepath.Join(g.work, ".git")
	if info, err := os.Lstat(gitDir); err != nil || !info.IsDir() {
		return
	}
	l := flock.New(g.work + ".lock")
	if ok, err := l.TryLock(); err != nil || !ok {
		return
	}
	g.held = l
	d, err := safefile.OpenDir(gitDir)
	if err != nil {
		return
	}
	defer d.Close()
	for _, folder := range []string{".", "refs"} {
		_ = fs.WalkDir(d.FS(), folder, func(p string, e fs.DirEntry, err error) error {
			switch {
			case err != nil:
			case e.IsDir() && folder == "." && p != ".":
				return fs.SkipDir
			case !e.IsDir() && strings.HasSuffix(p, ".lock"):
				_ = d.RemoveFile(p) // git says so when it is still there
			}
			return nil
		})
	}
}

// Close lets go of the working tree.
func (g *Git) Close() error {
	if g.held != nil {
		_ = g.held.Unlock()
	}
	return g.Folder.Close()
}

// look runs git without hooks, for what only looks or only concerns a clone of Vornix's own.
func (g *Git) look(ctx context.Context, args ...string) (string, error) {
	out, err := g.repo.WithoutHooks(ctx, args...)
	return strings.TrimRight(out, "\n"), err
}

// git runs git with the repository's hooks.
func (g *Git) git(ctx context.Context, args ...string) (string, error) {
	out, err := g.repo.WithHooks(ctx, args...)
	return strings.TrimRight(out, "\n"), err
}

// Refused says why nothing can be committed or pushed before a person has allowed it: the repository's hooks would run.
func (g *Git) Refused() error { return g.repo.Repository.Refused(true) }

// found has git work in the repository that the working tree belongs to, with what it could run allowed or not.
func (g *Git) found(repo *gitcmd.Repository) error {
	if len(repo.Risks) > 0 && g.o.Allowed != nil {
		var err error
		if repo.Allowed, err = g.o.Allowed(repo); err != nil {
			return err
		}
	}
	g.repo = repo.In(g.work)
	return nil
}

func (g *Git) unreachable(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	return &fault.Fault{Kind: fault.Unreachable, What: "the Git repository can't be reached: " + g.o.URL, Err: err,
		Do: "Try 'git ls-remote " + g.o.URL +
			"': it must work without asking for anything (an SSH agent, or a credential helper)."}
}

// clone makes the working tree, unless it exists. The clone is Vornix's own: one that can run
// programs was not made by Vornix, and is replaced.
func (g *Git) clone(ctx context.Context) error {
	// A repository on this machine runs its own hooks when something is pushed to it.
	far, err := gitcmd.Local(ctx, g.o.URL, g.work)
	if err != nil {
		return g.unreachable(err)
	}
	gitDir := filepath.Join(g.work, ".git")
	if near, err := gitcmd.Find(ctx, g.work); err == nil && near.GitDir == gitDir && near.Common == gitDir &&
		len(near.Within(gitDir)) == 0 {
		near.Risks = nil // the others are those of far
		if url, err := near.WithoutHooks(ctx, "config", "--get", "remote."+g.o.Remote+".url"); err == nil &&
			strings.TrimSpace(url) == g.o.URL {
			return g.reaches(near, far)
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	parent, err := safefile.MakeDir(filepath.Dir(g.work))
	if err != nil {
		return err
	}
	defer parent.Close()
	// one of another address, or one that was not finished
	if err := parent.RemoveTree(filepath.Base(g.work)); err != nil {
		return err
	}
	if err := g.reaches(&gitcmd.Repository{}, far); err != nil {
		return err
	}
	if err := g.repo.Repository.Refused(false); err != nil {
		return err
	}
	if _, err := gitcmd.Run(ctx, parent.Path(), "clone", "--no-checkout", "--template=", "--origin", g.o.Remote, "--",
		g.o.URL, g.work); err != nil {
		return g.unreachable(err)
	}
	near := &gitcmd.Repository{Work: g.work, GitDir: gitDir, Common: gitDir}
	return g.reaches(near, far)
}

// reaches has git work in the clone, with the risks of the repository that it was cloned from.
func (g *Git) reaches(near, far *gitcmd.Repository) error {
	if far != nil {
		near.Risks = append(near.Risks, far.Risks...)
	}
	return g.found(near)
}

// branch is the one that is deployed to.
func (g *Git) branch(ctx context.Context) (string, error) {
	if g.o.Branch != "" {
		return g.o.Branch, nil
	}
	name, err := g.look(ctx, "symbolic-ref", "--short", "HEAD")
	if err != nil {
		return "", &fault.Fault{Kind: fault.Refused, What: "no branch is checked out", Place: fault.Place{File: g.work},
			Do: "Write branch = \"...\" in the target, or check one out."}
	}
	return name, nil
}

// Refresh brings the working tree up to what the remote has, and says whether that changed anything.
func (g *Git) Refresh(ctx context.Context) (moved bool, err error) {
	branch, err := g.branch(ctx)
	if err != nil {
		return false, err
	}
	before, _ := g.look(ctx, "rev-parse", "--verify", "--quiet", "HEAD")
	if g.o.URL != "" {
		err = g.take(ctx, branch)
	} else if err = g.ready(ctx, branch); err == nil && g.o.Push {
		err = g.follow(ctx, branch)
	}
	after, _ := g.look(ctx, "rev-parse", "--verify", "--quiet", "HEAD")
	return before != after, err
}

// take makes the clone what the remote has, whatever was in it. No hook has a say in that: the clone is Vornix's own.
func (g *Git) take(ctx context.Context, branch string) error {
	if _, err := g.look(ctx, "fetch", "--prune", "--tags", "--force", g.o.Remote); err != nil {
		return g.unreachable(err)
	}
	at := g.o.Remote + "/" + branch
	if _, err := g.look(ctx, "rev-parse", "--verify", "--quiet", "refs/remotes/"+at); err != nil {
		// A new branch, or a repository with nothing in it.
		if _, err := g.look(ctx, "symbolic-ref", "HEAD", "refs/heads/"+branch); err != nil {
			return err
		}
		_, _ = g.look(ctx, "update-ref", "-d", "refs/heads/"+branch)
		_, err = g.look(ctx, "read-tree", "--empty")
		return err
	}
	if _, err := g.look(ctx, "checkout", "--force", "-B", branch, at); err != nil {
		return err
	}
	_, err := g.look(ctx, "clean", "-fdq", "--exclude=lock.json") // whoever refreshes may hold it
	return err
}

// ready says why nothing can be committed in the user's own working tree.
func (g *Git) ready(ctx context.Context, branch string) error {
	if now, err := g.look(ctx, "symbolic-ref", "--short", "HEAD"); err == nil && now != branch {
		return &fault.Fault{Kind: fault.Refused,
			What:  fmt.Sprintf("the branch %s is checked out, and the target wants %s", now, branch),
			Place: fault.Place{File: g.work}, Why: "Nothing was changed.", Do: "git switch " + branch}
	}
	if staged, err := g.look(ctx, "diff", "--cached", "--name-only"); err == nil && staged != "" {
		return &fault.Fault{Kind: fault.Refused,
			What:  "something is staged for a commit there: " + strings.ReplaceAll(staged, "\n", ", "),
			Place: fault.Place{File: g.work},
			Why:   "It would become part of the deployment's commit. Nothing was changed.",
			Do:    "Commit it, or take it back with 'git restore --staged .'."}
	}
	return nil
}

// follow brings the user's own working tree up to what others have pushed, when nothing there stands against it.
func (g *Git) follow(ctx context.Context, branch string) error {
	if _, err := g.git(ctx, "fetch", g.o.Remote); err != nil {
		return g.unreachable(err)
	}
	at := g.o.Remote + "/" + branch
	if _, err := g.look(ctx, "rev-parse", "--verify", "--quiet", "refs/remotes/"+at); err != nil {
		return nil
	}
	if behind, err := g.look(ctx, "rev-list", "--count", "HEAD.."+at); err == nil && behind == "0" {
		return nil // it may be ahead: what is not pushed yet goes along
	}
	if _, err := g.git(ctx, "merge", "--ff-only", "--quiet", at); err != nil {
		return &fault.Fault{Kind: fault.Refused, What: "the working tree can't be brought up to " + at,
			Place: fault.Place{File: g.work}, Err: err, Why: "Nothing was changed.",
			Do: "Bring it in order there (git status, git pull --rebase), then deploy again."}
	}
	return nil
}

// Own says whether the working tree is one of the user's own.
func (g *Git) Own() bool { return g.o.URL == "" }

// Commit is what a Publish made.
type Commit struct {
	ID     string // empty when there was nothing to commit
	Tag    string
	Tries  int // pushes, of which all but the last were too late
	Pushed bool
}

// Publish commits the paths, which are in the site's folder, and pushes. A push that comes too late
// is tried again after a rebase. When the others' commits contradict it, the commit is taken back
// and the error is ErrBehind; any other failure takes it back too.
func (g *Git) Publish(ctx context.Context, message, tag string, rels []string) (*Commit, error) {
	branch, err := g.branch(ctx)
	if err != nil {
		return nil, err
	}
	before, _ := g.look(ctx, "rev-parse", "--verify", "--quiet", "HEAD")
	var list bytes.Buffer
	for _, rel := range rels {
		list.WriteString(":(top,literal)" + strings.TrimPrefix(g.o.Folder+"/"+rel, "/") + "\x00")
	}
	names := filepath.Join(g.work, ".git")
	if info, err := os.Stat(names); err != nil || !info.IsDir() { // a linked working tree
		if names, err = g.look(ctx, "rev-parse", "--absolute-git-dir"); err != nil {
			return nil, err
		}
	}
	d, err := safefile.OpenDir(names)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	if err := d.WriteFile("vornix-paths", list.Bytes()); err != nil {
		return nil, err
	}
	defer func() { _ = d.Remove("vornix-paths") }()
	if _, err := g.git(ctx, "add", "--all", "--force", "--pathspec-from-file="+d.Join("vornix-paths"),
		"--pathspec-file-nul"); err != nil {
		return nil, err
	}
	c := &Commit{Tag: tag}
	if _, err := g.look(ctx, "diff", "--cached", "--quiet"); err != nil || before == "" {
		args := []string{"commit", "--quiet", "--message", message}
		if g.o.Author != "" {
			args = append(args, "--author", g.o.Author)
		}
		if _, err := g.git(ctx, args...); err != nil {
			g.back(ctx, before)
			f := &fault.Fault{What: "the commit was not made", Place: fault.Place{File: g.work}, Err: err,
				Do: "Look at what Git says; a hook may have refused it. Then deploy again."}
			if strings.Contains(err.Error(), "user.name") || strings.Contains(err.Error(), "empty ident") {
				f.Do = "Tell Git who you are: git config --global user.name \"...\" and user.email \"...\"."
			}
			return nil, f
		}
		if c.ID, err = g.look(ctx, "rev-parse", "HEAD"); err != nil {
			return nil, err
		}
	}
	if !g.o.Push {
		return c, g.tag(ctx, c, before)
	}
	for c.Tries = 1; ; c.Tries++ {
		if err := g.tag(ctx, c, before); err != nil {
			return nil, err
		}
		args := []string{"push", "--porcelain", "--atomic", g.o.Remote, "HEAD:refs/heads/" + branch}
		if c.Tag != "" {
			args = append(args, "refs/tags/"+c.Tag)
		}
		_, err := g.git(ctx, args...)
		if err == nil {
			c.Pushed = true
			return c, nil
		}
		said := ""
		var failed *gitcmd.Error
		if errors.As(err, &failed) {
			said = failed.Out + failed.Said
		}
		late := strings.Contains(said, "[rejected]") && !strings.Contains(said, "[remote rejected]")
		if late && c.Tries < 5 {
			if err = g.rebase(ctx, c, branch); err == nil {
				// From here on the commit lies on the others': should it be taken back, theirs stay.
				if before, err = g.look(ctx, "rev-parse", "--verify", "--quiet",
					"refs/remotes/"+g.o.Remote+"/"+branch); err == nil {
					continue
				}
			}
		}
		g.untag(ctx, c)
		g.back(ctx, before)
		if errors.Is(err, ErrBehind) || ctx.Err() != nil {
			return nil, err
		}
		f := &fault.Fault{Kind: fault.Unreachable, What: "the push did not arrive at " + g.o.Remote,
			Place: fault.Place{File: g.String()}, Err: err,
			Why: "The commit was taken back; nobody sees anything of it.",
			Do:  "Look at what Git says, and deploy again."}
		if strings.Contains(said, "[remote rejected]") {
			f.Kind, f.What, f.Do = fault.Refused, "the repository's server refused the push",
				"Its rules or hooks say why: a protected branch, a size, a name. Mend that, and deploy again."
		}
		return nil, f
	}
}

// rebase puts the commit on top of what others have pushed.
func (g *Git) rebase(ctx context.Context, c *Commit, branch string) error {
	g.untag(ctx, c)
	if _, err := g.git(ctx, "fetch", g.o.Remote); err != nil {
		return g.unreachable(err)
	}
	if _, err := g.git(ctx, "rebase", "--quiet", "--autostash", g.o.Remote+"/"+branch); err != nil {
		files, _ := g.look(ctx, "diff", "--name-only", "--diff-filter=U")
		_, _ = g.git(context.WithoutCancel(ctx), "rebase", "--abort")
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%w: %s", ErrBehind, strings.ReplaceAll(files, "\n", ", "))
	}
	id, err := g.look(ctx, "rev-parse", "HEAD")
	c.ID = id
	return err
}

// back takes the commit back; in a working tree of the user's own, what else is changed there stays.
func (g *Git) back(ctx context.Context, before string) {
	ctx = context.WithoutCancel(ctx)
	if before == "" {
		_, _ = g.git(ctx, "update-ref", "-d", "HEAD")
		_, _ = g.git(ctx, "rm", "-r", "--cached", "--quiet", "--ignore-unmatch", ".")
		return
	}
	_, _ = g.git(ctx, "reset", "--quiet", "--soft", before)
	_, _ = g.git(ctx, "reset", "--quiet") // the files stay: the deployment puts them back itself
}

// tag names the commit. A tag that is there already stays where it is.
func (g *Git) tag(ctx context.Context, c *Commit, before string) error {
	if c.Tag == "" {
		return nil
	}
	if at, err := g.look(ctx, "rev-parse", "--verify", "--quiet", "refs/tags/"+c.Tag+"^{commit}"); err == nil {
		if at != c.ID {
			c.Tag = ""
		}
		return nil
	}
	if _, err := g.git(ctx, "tag", "--no-sign", c.Tag); err != nil {
		g.back(ctx, before)
		return &fault.Fault{What: "the tag was not made: " + c.Tag, Place: fault.Place{File: g.work}, Err: err,
			Do: "Correct tag = \"...\" in the target."}
	}
	return nil
}

func (g *Git) untag(ctx context.Context, c *Commit) {
	if c.Tag != "" {
		_, _ = g.git(context.WithoutCancel(ctx), "tag", "--delete", c.Tag)
	}
}

// claimRef is the ref in the remote repository by which a release of a project claims it.
func claimRef(project string) string { return "refs/vornix/claims/" + project }

// Pushes says whether what is committed is pushed.
func (g *Git) Pushes() bool { return g.o.Push }

// Claim makes a ref in the remote repository that holds data, in one step: an fs.ErrExist when it
// holds something else than was, empty for nothing. A repository whose server takes no such refs is
// not claimed; its pushes are still one after the other. id is for Unclaim.
func (g *Git) Claim(ctx context.Context, project string, data []byte, was string) (id string, err error) {
	gitDir, err := g.look(ctx, "rev-parse", "--absolute-git-dir")
	if err != nil {
		return "", err
	}
	d, err := safefile.OpenDir(gitDir)
	if err != nil {
		return "", err
	}
	defer d.Close()
	if err := d.WriteFile("vornix-claim", data); err != nil {
		return "", err
	}
	defer func() { _ = d.Remove("vornix-claim") }()
	if id, err = g.look(ctx, "hash-object", "-w", "--no-filters", "--", d.Join("vornix-claim")); err != nil {
		return "", err
	}
	return g.pushClaim(ctx, project, id, was)
}

// Unclaim removes the claim with the id.
func (g *Git) Unclaim(ctx context.Context, project, id string) error {
	_, err := g.pushClaim(ctx, project, "", id)
	return err
}

func (g *Git) pushClaim(ctx context.Context, project, id, was string) (string, error) {
	ref := claimRef(project)
	_, err := g.git(ctx, "push", "--porcelain", "--no-verify", "--force-with-lease="+ref+":"+was, g.o.Remote,
		id+":"+ref)
	var failed *gitcmd.Error
	if !errors.As(err, &failed) {
		return id, err
	}
	switch said := failed.Out + failed.Said; {
	case strings.Contains(said, "[rejected]"), strings.Contains(said, "failed to update ref"),
		strings.Contains(said, "cannot lock ref"):
		return "", fs.ErrExist
	case strings.Contains(said, "[remote rejected]"):
		return "", nil
	}
	return "", g.unreachable(err)
}

// Claimed reads the claim; id is empty where there is none.
func (g *Git) Claimed(ctx context.Context, project string) (id string, data []byte, err error) {
	said, err := g.look(ctx, "ls-remote", g.o.Remote, claimRef(project))
	if err != nil {
		return "", nil, g.unreachable(err)
	}
	id, _, _ = strings.Cut(said, "\t")
	if id == "" {
		return "", nil, nil
	}
	if _, err := g.look(ctx, "fetch", "--quiet", "--no-tags", "--no-write-fetch-head", "--refmap=", g.o.Remote,
		claimRef(project)); err != nil {
		return "", nil, g.unreachable(err)
	}
	out, err := g.look(ctx, "cat-file", "blob", id)
	if err != nil {
		return id, nil, nil // another one was made meanwhile
	}
	return id, []byte(out), nil
}

// Older looks for a file's earlier content, by its SHA-256, in the history, and puts it at to.
func (g *Git) Older(ctx context.Context, rel, sum, to string) (bool, error) {
	name := strings.TrimPrefix(g.o.Folder+"/"+rel, "/")
	commits, err := g.look(ctx, "log", "--format=%H", "--", ":(top,literal)"+name)
	if err != nil {
		return false, nil // nothing has been committed yet
	}
	for commit := range strings.FieldsSeq(commits) {
		out, err := g.repo.WithoutHooks(ctx, "cat-file", "blob", commit+":"+name) // whose line ends are not touched
		if err != nil {
			continue // there it was removed
		}
		if h := sha256.Sum256([]byte(out)); hex.EncodeToString(h[:]) == sum {
			return true, g.Write(ctx, to, []byte(out))
		}
	}
	return false, ctx.Err()
}
