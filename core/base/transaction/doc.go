// Package transaction changes several files of a folder that is not Vornix's own, such as an
// installed game, so that all of it happens or nothing, and can be undone.
//
// Everything new is written beside first (Stage), what is replaced is kept, each content once, and
// a journal says what is going to happen before it does. Open finishes, or takes back, what a run
// that was killed left. Each change is a Record; Undo brings back what was there before, and
// refuses where somebody else changed a file since. All this lies in the folder Dir, beside what it
// speaks of.
package transaction
