// Package remotecache keeps results of builds where more than one machine reaches them: what one of
// a team has made, or its continuous integration, the others take instead of making it again.
//
// A Store is such a place: a folder, a web server that takes GET, HEAD and PUT (RFC 9110), or an
// object store of NATS JetStream. It keeps bytes under names, as core/make/taskgraph gives them. A
// Line goes to a Store for one build: what is taken is read through at once, what is given goes out
// behind the work, and a place that is away or slow is left alone, so that no build waits for it.
//
// folder.go, web.go and objects.go are the stores; line.go is the Line; record.go remembers how much it was worth.
package remotecache
