// Package bundle packs the tree into bundles, as the game's profile says, and reads them: one
// archive for the project, one a map, or content appended to each compiled map. What an archive is,
// package zipfile knows.
//
// pack.go decides what goes where and reuses bundles that have not changed; watch.go checks their
// content with package leakscan.
package bundle
