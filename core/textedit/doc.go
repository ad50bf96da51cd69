// Package textedit changes texts without disturbing what it does not change.
//
// Keys of settings in INI, JSON, TOML and XML are read, set and removed where they stand: comments, order, indentation and line ends stay
// (keys.go, and one file a form). Lines are compared, and changes written and applied in the unified format that diff and patch
// exchange (lines.go, unified.go). Merge brings two changes of one text together, and says where they contradict each other (merge.go).
//
// Lines are compared by the greedy algorithm of E. Myers, "An O(ND) Difference Algorithm and Its Variations" (1986).
package textedit
