// Package gamefs sees bundles as a game does: opens archives and maps that carry one, and follows
// what a compiled map needs from file to file, with nothing known of the project that made them.
//
// bundle.go opens one bundle, follow.go goes after what a map needs.
package gamefs
