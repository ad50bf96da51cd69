// Package core holds the computation of Vornix, without interface code, in ten floors.
//
// From the bottom: base (errors, safe files, transactions), format (file formats), config (profile,
// project, trust, ledger), source (map sources and what refers to what), compile (the map
// compiler), game (what a game does with the result), make (the task graph and what it runs), pack
// (bundles, patches, installers), ship (index, deployment, publishing, download), release (the
// steps in order). A package imports its own floor and those below, never above; layout_test.go
// checks that, tests included.
package core
