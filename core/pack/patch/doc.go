// Package patch makes, reads and applies patch files: from exactly this to exactly that (docs/formats/patch.md).
//
// A patch file is a ZIP archive of patch.json, which says what the base must be and what the result
// is, file by file with SHA-256, and the steps from one to the other, and of the data of the steps.
// Make writes one from two sides; Open reads and checks it; Find looks for its base in a folder,
// and for patches that lead from one to another; Apply makes the result beside and puts it in place
// at once (package transaction), from where it can be undone.
//
// format.go is the file format, make.go and side.go make, find.go finds, apply.go applies, text.go is steps on texts.
package patch
