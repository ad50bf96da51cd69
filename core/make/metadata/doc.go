// Package metadata makes metadata files: it fills the fields that a game profile declares from the
// project and from what is really inside, checks them, and writes the files in the forms that the
// profile asks for; it notices what somebody changed in them by hand, and reads the files of
// others.
//
// facts.go is what is computed, texts.go are the languages, fields.go gives each field its value,
// check.go holds them to the rules; structure.go and form.go write the files, keep.go guards those
// that were changed by hand, read.go reads what is there.
package metadata
