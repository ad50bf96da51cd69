// Package remoteexec has builds done by several machines. A farm is a server of NATS with
// JetStream, the team's own or one that package host starts: units of work are messages in a work
// queue there, contents go through an object store by their hashes, and what is said between a
// build and a worker are requests.
//
// A build joins as a Crew: it offers jobs, and pieces of the long stages of maps, and takes what
// comes back when it is what it should be. A Worker takes units from the queue, asks the build
// whether they are still wanted, does them, and hands in what came of them. Either may come and go
// at any time: whatever is not handed in is done by somebody else, in the end by the build itself.
package remoteexec
