// Package bundle packs the tree into bundles, as the game's profile says, and reads them: one archive for the project, one
// a map, or content appended to each compiled map. What an archive is, package zipfile knows.
//
// pack.go decides what goes where and keeps what has not changed, watch.go holds it to the guard, read.go opens bundles.
package bundle
