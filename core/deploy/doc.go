// Package deploy brings bundles to servers: planned, whole, verified, undoable.
//
// A deployment is staged beside what is there, verified by hash, and then switched file by file, bundles before lists,
// so that a list never names a map that isn't whole. Before the switch a journal is written into the target; a run that
// was killed is undone by the next one. What was replaced stays in the target's own safe place, for Rollback.
//
// plan.go compares, apply.go switches and undoes, list.go edits lists without touching foreign lines. This version
// reaches targets that are folders.
package deploy
