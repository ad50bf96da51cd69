// Package taskgraph is the build graph: jobs with declared inputs and outputs, run side by side,
// each done at most once for the same content.
//
// A job's key is the hash of its step, the step's version, its recipe, the content of its inputs and of the outputs of
// the jobs it comes after. Results are kept under that key in a cache, so that going back to an older source costs a
// copy. A stat cache remembers the hash of every file by its size and time, so that what has not changed is not read.
// The result of a run never depends on the order in which jobs finish or on how many run at once.
//
// graph.go runs the jobs; task.go is what a running job sees; store.go keeps results; stat.go is the stat cache.
package taskgraph
