package remoteexec

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"vornix/core/base/fault"
	"vornix/core/base/humanize"
)

// connection is a connection to a farm's server.
type connection struct {
	nc     *nats.Conn
	js     jetstream.JetStream
	work   jetstream.Stream
	files  jetstream.ObjectStore
	most   int // bytes of a message
	closed bool
}

// Limits of what a farm's server keeps for a farm.
type Limits struct {
	Bytes int64         // of contents; 0: no limit
	Keep  time.Duration // of contents; 0: a day
}

// dial connects to a farm. The connection mends itself when it is cut.
func dial(ctx context.Context, k *Key, name string, patience time.Duration) (*connection, error) {
	options, err := k.options()
	if err != nil {
		return nil, err
	}
	options = append(options, nats.Name(name), nats.Timeout(patience),
		nats.ErrorHandler(func(*nats.Conn, *nats.Subscription, error) {}), nats.MaxReconnects(-1),
		nats.ReconnectWait(time.Second), nats.ReconnectJitter(200*time.Millisecond, time.Second),
		nats.PingInterval(3*time.Second), nats.MaxPingsOutstanding(2), nats.DrainTimeout(2*time.Second))
	nc, err := nats.Connect(joined(k.Servers), options...)
	if err != nil {
		return nil, away(k, err)
	}
	l := &connection{nc: nc, most: int(nc.MaxPayload()) - 4096}
	ctx, cancel := context.WithTimeout(ctx, patience+answerTimeout)
	defer cancel()
	if l.js, err = jetstream.New(nc); err == nil {
		err = l.open(ctx)
	}
	if err != nil {
		nc.Close()
		return nil, away(k, err)
	}
	return l, nil
}

func joined(servers []string) string {
	var b bytes.Buffer
	for i, s := range servers {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(s)
	}
	return b.String()
}

// away says why a farm is out of reach.
func away(k *Key, err error) error {
	f := &fault.Fault{What: "the farm at " + humanize.Printable(k.Where()) + " is out of reach", Err: err,
		Do: "Look whether its host runs ('vornix farm host'), and whether this machine may get there."}
	switch {
	case errors.Is(err, nats.ErrAuthorization), errors.Is(err, nats.ErrAuthExpired):
		f.What, f.Do = "the farm at "+humanize.Printable(k.Where())+" does not let this machine in",
			"Get its key anew from who runs the host."
	case full(err):
		f.Do = "Give JetStream more room at that server (max_file_store)."
	case errors.Is(err, jetstream.ErrJetStreamNotEnabled), errors.Is(err, jetstream.ErrJetStreamNotEnabledForAccount):
		f.Do = "Switch JetStream on at that server."
	}
	return f
}

// full says whether the server has no room for what it should keep.
func full(err error) bool {
	const noRoom, noRoomInAccount = 10047, 10002
	var api *jetstream.APIError
	return errors.As(err, &api) && (api.ErrorCode == noRoom || api.ErrorCode == noRoomInAccount)
}

// Prepare makes the farm's stream and bucket on a server where they are not, and gives the bucket its limits.
func Prepare(ctx context.Context, k *Key, limits Limits) error {
	options, err := k.options()
	if err != nil {
		return err
	}
	nc, err := nats.Connect(joined(k.Servers), append(options, nats.Timeout(answerTimeout))...)
	if err != nil {
		return err
	}
	defer nc.Close()
	js, err := jetstream.New(nc)
	if err != nil {
		return err
	}
	if _, err := js.CreateOrUpdateObjectStore(ctx, bucket(limits)); err != nil {
		return fmt.Errorf("the store of contents: %w", err)
	}
	return (&connection{nc: nc, js: js}).open(ctx)
}

// bucket is how contents are kept.
func bucket(limits Limits) jetstream.ObjectStoreConfig {
	limit := limits.Bytes
	if limit == 0 {
		limit = -1
	}
	return jetstream.ObjectStoreConfig{Bucket: bucketName,
		Description: "Contents on their way between machines of Vornix", TTL: cmp.Or(limits.Keep, 24*time.Hour),
		MaxBytes: limit}
}

// open finds the stream and the bucket, or makes them.
func (l *connection) open(ctx context.Context) (err error) {
	l.work, err = l.js.Stream(ctx, streamName)
	if errors.Is(err, jetstream.ErrStreamNotFound) {
		l.work, err = l.js.CreateStream(ctx,
			jetstream.StreamConfig{Name: streamName, Description: "Units of work of Vornix",
				Subjects: []string{workSubject + ".*.*"}, Retention: jetstream.WorkQueuePolicy,
				Storage: jetstream.FileStorage, MaxAge: waits, MaxMsgs: 100_000, MaxBytes: 256 << 20,
				Discard: jetstream.DiscardNew})
	}
	if err != nil {
		return fmt.Errorf("the queue of work: %w", err)
	}
	l.files, err = l.js.ObjectStore(ctx, bucketName)
	if errors.Is(err, jetstream.ErrBucketNotFound) {
		l.files, err = l.js.CreateObjectStore(ctx, bucket(Limits{}))
	}
	if err != nil {
		return fmt.Errorf("the store of contents: %w", err)
	}
	return nil
}

// consumer is the queue of those who take units of a version.
func (l *connection) consumer(ctx context.Context, version string) (jetstream.Consumer, error) {
	t := token(version)
	return l.js.CreateOrUpdateConsumer(ctx, streamName,
		jetstream.ConsumerConfig{Durable: consumerName + "-" + t, FilterSubject: workSubject + "." + t + ".*",
			InactiveThreshold: 24 * time.Hour, AckPolicy: jetstream.AckExplicitPolicy, AckWait: leaseTimeout,
			MaxDeliver: deliveries, MaxAckPending: 100_000, MaxWaiting: 10_000})
}

// has says whether a content is there.
func (l *connection) has(ctx context.Context, c content) bool {
	info, err := l.files.GetInfo(ctx, c.SHA256)
	return err == nil && int64(info.Size) == c.Size
}

// put stores a content.
func (l *connection) put(ctx context.Context, c content, r io.Reader) error {
	ctx, moved, end := watched(ctx)
	defer end()
	_, err := l.files.Put(ctx, jetstream.ObjectMeta{Name: c.SHA256}, &moving{r, moved})
	return err
}

const (
	// longest is how long a content may be on its way, stalled how long nothing of it may move.
	longest = time.Hour
	stalled = 15 * time.Second
)

// watched is a context that ends when nothing has moved for a while.
func watched(parent context.Context) (ctx context.Context, moved, end func()) {
	ctx, cancel := context.WithTimeout(parent, longest)
	t := time.AfterFunc(stalled, cancel)
	return ctx, func() { t.Reset(stalled) }, func() { t.Stop(); cancel() }
}

// moving tells of every read.
type moving struct {
	r     io.Reader
	moved func()
}

func (m *moving) Read(b []byte) (int, error) {
	n, err := m.r.Read(b)
	m.moved()
	return n, err
}

// get writes a content to w. Who gets it checks what came.
func (l *connection) get(ctx context.Context, c content, w io.Writer) error {
	ctx, moved, end := watched(ctx)
	defer end()
	r, err := l.files.Get(ctx, c.SHA256)
	if err != nil {
		return err
	}
	defer r.Close()
	n, err := io.Copy(w, &moving{io.LimitReader(r, c.Size+1), moved})
	if err == nil && n != c.Size {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// request asks somebody and reads the answer.
func (l *connection) request(ctx context.Context, subject string, question any, into message) error {
	ctx, cancel := context.WithTimeout(ctx, answerTimeout)
	defer cancel()
	m, err := l.nc.RequestWithContext(ctx, subject, pack(question))
	if err != nil {
		return err
	}
	return decode(m.Data, into)
}

func (l *connection) close() {
	if !l.closed {
		l.closed = true
		l.nc.Close()
	}
}
