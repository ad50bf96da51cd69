package farm

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
)

// State is how a farm stands.
type State struct {
	Servers []string `json:"servers"`
	Workers []Here   `json:"workers"`
	Waiting int      `json:"waiting"` // units in the queue that nobody has begun
	Working int      `json:"working"` // units that somebody is at
	Bytes   int64    `json:"bytes"`   // of contents in its store
	Trip    float64  `json:"trip"`    // seconds to the server and back
}

// listen is how long one waits for all workers to say that they are there.
const listen = 700 * time.Millisecond

// Look says how a farm stands, as a build of a version would find it.
func Look(ctx context.Context, k *Key, version string) (*State, error) {
	l, err := dial(ctx, k, "vornix", answer)
	if err != nil {
		return nil, err
	}
	defer l.close()
	s := &State{Servers: k.Servers, Workers: []Here{}}
	if d, err := l.nc.RTT(); err == nil {
		s.Trip = d.Seconds()
	}
	var mu sync.Mutex
	inbox := l.nc.NewInbox()
	sub, err := l.nc.Subscribe(inbox, func(m *nats.Msg) {
		var h Here
		if json.Unmarshal(m.Data, &h) == nil {
			mu.Lock()
			s.Workers = append(s.Workers, h)
			mu.Unlock()
		}
	})
	if err != nil {
		return nil, away(k, err)
	}
	if err := l.nc.PublishRequest(rollSubject, inbox, pack(roll{version})); err != nil {
		return nil, away(k, err)
	}
	sleep(ctx, listen)
	_ = sub.Unsubscribe() // the connection ends anyway
	mu.Lock()
	defer mu.Unlock()
	slices.SortFunc(s.Workers, func(a, b Here) int { return strings.Compare(a.Worker, b.Worker) })
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
