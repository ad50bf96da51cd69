// Package sweep finds stray files and moves them to a safe place, from which they come back.
//
// A Plan (plan.go) says of each file why it is stray, and of those that are left alone why they are; rules.go has the rules. Nothing
// that Git tracks (git.go) or that something needs is in it, unless somebody named it. safe.go moves files into a dated folder with a manifest,
// and brings them back: each move is a rename, written down before it is done, so that a run that was killed can be undone too.
package sweep
