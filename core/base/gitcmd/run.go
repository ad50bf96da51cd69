package gitcmd

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
)

// local are the variables by which a git that runs Vornix, from a hook say, points at its own
// repository (git rev-parse --local-env-vars). In a linked working tree, GIT_INDEX_FILE would have
// a deployment write the index of the user's own repository.
var local = []string{"GIT_ALTERNATE_OBJECT_DIRECTORIES", "GIT_CONFIG", "GIT_CONFIG_PARAMETERS", "GIT_CONFIG_COUNT",
	"GIT_OBJECT_DIRECTORY", "GIT_DIR", "GIT_WORK_TREE",
	"GIT_IMPLICIT_WORK_TREE", "GIT_GRAFT_FILE", "GIT_INDEX_FILE", "GIT_NO_REPLACE_OBJECTS", "GIT_REPLACE_REF_BASE",
	"GIT_PREFIX", "GIT_INTERNAL_SUPER_PREFIX",
	"GIT_SHALLOW_FILE", "GIT_COMMON_DIR", "GIT_EXTERNAL_DIFF", "GIT_QUARANTINE_PATH", "GIT_NAMESPACE"}

// always are settings that no repository may choose otherwise. Answers come in git's words for programs.
var always = []string{"-c", "core.autocrlf=false", "-c", "core.safecrlf=false", "-c", "core.quotePath=false", "-c",
	"advice.detachedHead=false",
	"-c", "core.fsmonitor=false", "-c", "protocol.ext.allow=never", "-c", "protocol.fd.allow=never", "-c",
	"submodule.recurse=false", "-c", "safe.bareRepository=explicit"}

// Installed says whether the program git can be run here.
func Installed() bool {
	_, err := exec.LookPath("git")
	return err == nil
}

// gentle is how long git may take to end after it was interrupted: it removes its lock files then,
// which it can't when it is killed.
const gentle = 5 * time.Second

// Run runs git outside of any repository, as for a clone.
func Run(ctx context.Context, dir string, args ...string) (string, error) {
	return run(ctx, dir, "", args)
}

// run runs git in a folder. options stand before the command. The output is as git prints it.
func run(ctx context.Context, dir, stdin string, args []string, options ...string) (string, error) {
	cmd := exec.CommandContext(ctx, "git", slices.Concat(always, options, args)...)
	cmd.Dir = dir
	cmd.Env = environ(cmd.Environ())
	cmd.Stdin = strings.NewReader(stdin)
	cmd.Cancel = func() error {
		if err := cmd.Process.Signal(os.Interrupt); err != nil { // as on Windows
			return cmd.Process.Kill()
		}
		return nil
	}
	cmd.WaitDelay = gentle
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	err := cmd.Run()
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	if errors.Is(err, exec.ErrNotFound) {
		return "", &fault.Fault{Kind: fault.Unreachable, What: "the program git is not installed",
			Do: "Install git; Vornix uses it to talk to repositories."}
	}
	if err != nil {
		text := strings.TrimSpace(said.String())
		if text == "" {
			text = strings.TrimSpace(out.String())
		}
		return out.String(), &Error{Command: args[0], Said: text, Out: out.String()}
	}
	return out.String(), nil
}

// environ is the environment without what points at another repository.
func environ(list []string) []string {
	list = slices.DeleteFunc(list, func(v string) bool {
		name, _, _ := strings.Cut(v, "=")
		return slices.Contains(local, name) || strings.HasPrefix(name, "GIT_CONFIG_KEY_") ||
			strings.HasPrefix(name, "GIT_CONFIG_VALUE_")
	})
	return append(list, "LC_ALL=C", "GIT_TERMINAL_PROMPT=0")
}

// Error is what git said when it failed.
type Error struct{ Command, Said, Out string }

func (e *Error) Error() string {
	lines := strings.Split(e.Said, "\n")
	if len(lines) > 4 {
		lines = append(lines[:3:3], lines[len(lines)-1])
	}
	return "git " + e.Command + ": " + strings.Join(lines, " / ")
}
