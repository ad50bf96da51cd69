// Package remotecache shares build results between machines: what one of a team has built, or its
// continuous integration, the others fetch instead of building it again.
//
// A Store keeps bytes under names: a folder, a web server with GET, HEAD and PUT (RFC 9110), or an
// object store of NATS JetStream. There are three kinds of entries: records (action results, by
// action key), files (by SHA-256), and parts of long jobs (by their keys).
//
// A Client uses a Store for one build. Get streams an entry; the caller verifies it and calls Reject
// when it is wrong. Put queues entries, which several goroutines upload behind the work. The record
// of a job is uploaded after the files that it names, so that no reader finds it before them; a
// crash in between leaves files without a record, which cost space and nothing else. Writes are
// idempotent: two machines that upload one entry write the same bytes.
//
// No build waits for a store. A store that fails three times in a row, or answers too slowly on
// average, or gave three wrong entries, is not used for the rest of the build (Disabled). Close
// waits for the uploads that are queued, until its context ends.
//
// folder.go, web.go and objects.go are the stores; client.go is the Client; history.go records hit
// rates.
package remotecache
