// Package fetch is the player's side of a version index: it brings what the index names into a
// folder, keeps it up to date, and checks that what is published is whole.
//
// state.go is what is remembered of a folder, plan.go finds out what is missing, fetch.go gets and
// installs it, watch.go does so again and again, check.go verifies all that an index names.
//
// Nothing that comes over the net is believed. An index counts by its signature (package
// signature), which is held to the keys that were seen first or were named; by its serial number,
// which never falls; and by its age. A file counts by its size and SHA-256. All files of a version
// take their places at once (package transaction), and the version before is kept to go back to.
package fetch
