package remoteexec

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
)

// State is how a farm stands.
type State struct {
	Servers []string     `json:"servers"`
	Workers []WorkerInfo `json:"workers"`
	Waiting int          `json:"waiting"` // units in the queue that nobody has begun
	Working int          `json:"working"` // units that somebody is at
	Bytes   int64        `json:"bytes"`   // of contents in its store
	Trip    float64      `json:"trip"`    // seconds to the server and back
}

// listen is how long one waits for all workers to say that they are there.
const listen = 700 * time.Millisecond

// Inspect says how a farm stands, as a build of a version would find it.
func Inspect(ctx context.Context, k *Key, version string) (*State, error) {
	l, err := dial(ctx, k, "vornix", answerTimeout)
	if err != nil {
		return nil, err
	}
	defer l.close()
	s := &State{Servers: k.Servers}
	if d, err := l.nc.RTT(); err == nil {
		s.Trip = d.Seconds()
	}
	if s.Workers, err = l.present(ctx, version, listen); err != nil {
		return nil, away(k, err)
	}
	info, err := l.work.Info(ctx)
	if err != nil {
		return nil, away(k, err)
	}
	s.Waiting = int(info.State.Msgs)
	for c := range l.work.ListConsumers(ctx).Info() {
		s.Working += c.NumAckPending
	}
	s.Waiting -= s.Working
	if about, err := l.files.Status(ctx); err == nil {
		s.Bytes = int64(about.Size())
	}
	return s, ctx.Err()
}

// present says which workers are there, by their names. It listens for a while, and for some trips
// to the server more: that is how far away they are.
func (l *connection) present(ctx context.Context, version string, d time.Duration) ([]WorkerInfo, error) {
	var mu sync.Mutex
	list := []WorkerInfo{}
	inbox := l.nc.NewInbox()
	sub, err := l.nc.Subscribe(inbox, func(m *nats.Msg) {
		var h WorkerInfo
		if decode(m.Data, &h) == nil {
			mu.Lock()
			list = append(list, h)
			mu.Unlock()
		}
	})
	if err != nil {
		return nil, err
	}
	defer func() { _ = sub.Unsubscribe() }() // where that fails the connection is at its end
	if err := l.nc.PublishRequest(rollSubject, inbox, pack(presenceRequest{version})); err != nil {
		return nil, err
	}
	if trip, err := l.nc.RTT(); err == nil {
		d += 4 * trip
	}
	sleep(ctx, d)
	mu.Lock()
	defer mu.Unlock()
	slices.SortFunc(list, func(a, b WorkerInfo) int { return strings.Compare(a.Worker, b.Worker) })
	return slices.Clone(list), nil
}
