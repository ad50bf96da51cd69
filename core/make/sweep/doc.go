// Package sweep finds stray files and quarantines them.
//
// A Plan (plan.go) lists the stray files with the rule that each breaks (rules.go), and those that
// stay with the reason. Files that Git tracks (git.go), or that something needs, stay unless they
// are named. Run (run.go) moves files with package quarantine, from where they can be restored, and
// deletes batches that are older than the project keeps them.
package sweep
