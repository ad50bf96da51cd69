// Package remoteexec runs the jobs of a build on several machines, through a NATS server with
// JetStream: the team's own, or one that package host starts.
//
// The parts: a work queue holds units (several small jobs, or pieces of one long stage); an object
// store holds contents by SHA-256; requests and replies go over plain subjects (wire.go). A Client
// is a build, a worker is a machine that lends its processors. No part trusts another: each message
// is checked as it is decoded (validate.go), each content against its hash, each result by sample.
//
// A unit goes through these states:
//
//	queued     in the stream; its contents are in the store or inline
//	leased     a worker has it; a heartbeat renews the lease, else the queue redelivers it
//	started    the build has answered "go"; it may still take the unit back
//	reported   the worker has handed in a report and contents; the build has replied
//	ended      acknowledged, or terminated because no one waits for it
//
// The order matters. A worker asks the build before it starts a unit, so that a redelivered unit is
// not run twice for nothing. It uploads outputs before it reports, so that a report never names
// contents that do not exist. It acknowledges the queue only after the build has replied: a worker
// that dies anywhere before that costs one redelivery, and never a result. A build that dies stops
// answering; its units are dropped when they are older than two minutes.
//
// The build never waits for the farm. It runs whatever it has a free processor for, takes units
// back, and stops using a server or a worker that fails several times in a row.
package remoteexec
