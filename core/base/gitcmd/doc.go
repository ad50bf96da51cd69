// Package gitcmd runs the program git in repositories that may have come from a stranger.
//
// A repository is more than data: its configuration and its hooks name programs, and git runs them,
// some of them (core.fsmonitor) in commands that only look. So Find locates a repository without
// git's help and lists everything in it that can make git run a program, send a secret or read from
// elsewhere (Risks). WithoutHooks and WithHooks refuse a repository with such risks until the
// caller says that a person has allowed exactly these (Allowed).
//
// What the person who runs Vornix has set up for all repositories (system and global configuration,
// credential helpers, signing) is used as it is.
//
// Invariants: git never searches for a repository itself, since it is given --git-dir and
// --work-tree; it never sees the variables by which an outer git points at its own repository (git
// rev-parse --local-env-vars); it never asks a question; the transports ext and fd, which run
// commands, are off.
package gitcmd
