// Package taskgraph runs a build as a graph of jobs with declared inputs and outputs, in parallel,
// each at most once for the same content.
//
// A job's action key is the SHA-256 of its step, the step's version, its recipe, the content of its
// inputs and of the outputs of the jobs that it comes after. The cache has two parts: action results
// by key, and a content-addressed store of files by SHA-256. An action result is written after all
// the contents that it names, so that a result that is found is complete; contents are verified when
// they are used. The result of a run never depends on the order in which jobs finish, on how many
// run at once, or on which machine ran them.
//
// For each job, runJob looks in this order, and stops at the first hit:
//
//  1. The outputs are in place and have the hashes of the last result: up to date.
//  2. The local cache has the action key: a cache hit, placed without running.
//  3. The shared cache has it: fetched, verified, put into the local cache, placed.
//  4. A processor here is free: the job runs here. Otherwise it is submitted to the Executor, and
//     whichever comes first wins, a free processor or a worker. A job that is overdue on its worker
//     runs here as well.
//
// Results of other machines are not trusted: outputs are verified by hash, and the executor says
// which results are to be repeated (Verification). Two results that differ are decided by a run
// here. A worker that was wrong is rejected, and whatever it helped with is removed and rebuilt.
//
// graph.go runs the jobs; task.go is what a running job sees; store.go is the cache; stat.go
// remembers hashes by size and time; shared.go uses the shared cache; remote.go describes actions
// for other machines and submits them; workspace.go is where those machines run them.
package taskgraph
