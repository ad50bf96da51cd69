package remotecache

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// objects is a store in an object store of NATS JetStream, which a bucket is called there.
type objects struct {
	p      Location
	server string
	bucket string

	mu   sync.Mutex
	line *nats.Conn
	open jetstream.ObjectStore
}

func openObjects(p Location) (Store, error) {
	u, err := url.Parse(p.Address)
	if err != nil {
		return nil, err
	}
	return &objects{p: p, server: u.Scheme + "://" + u.Host, bucket: strings.Trim(u.Path, "/")}, nil
}

// longest is how long one object may take: the library gives up after some seconds otherwise. That
// nothing moves is seen by the Client.
const longest = time.Hour

// store connects, once, and makes the bucket if it is not there.
func (o *objects) store(ctx context.Context) (jetstream.ObjectStore, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.open != nil {
		return o.open, nil
	}
	if o.line == nil {
		options := []nats.Option{nats.Name("vornix"), nats.Timeout(patience / 2), nats.MaxReconnects(2)}
		if user, password, ok := strings.Cut(o.p.Secret, ":"); ok {
			options = append(options, nats.UserInfo(user, password))
		} else if o.p.Secret != "" {
			options = append(options, nats.Token(o.p.Secret))
		}
		if o.p.Credentials != nil {
			options = append(options, nats.UserCredentialBytes(o.p.Credentials))
		}
		line, err := nats.Connect(o.server, options...)
		if errors.Is(err, nats.ErrAuthorization) || errors.Is(err, nats.ErrAuthExpired) {
			err = fmt.Errorf("%w: %w", fs.ErrPermission, err)
		}
		if errors.Is(err, nats.ErrNoServers) || errors.Is(err, nats.ErrTimeout) {
			err = fmt.Errorf("%w: %w", errAway, err)
		}
		if err != nil {
			return nil, err
		}
		o.line = line
	}
	js, err := jetstream.New(o.line)
	if err != nil {
		return nil, err
	}
	s, err := js.ObjectStore(ctx, o.bucket)
	if errors.Is(err, jetstream.ErrBucketNotFound) {
		if o.p.ReadOnly {
			return nil, &fs.PathError{Op: "open", Path: o.bucket, Err: fs.ErrNotExist}
		}
		c := jetstream.ObjectStoreConfig{Bucket: o.bucket, Description: "Results of builds, made by Vornix",
			TTL: time.Duration(o.p.Limits.Days) * 24 * time.Hour, MaxBytes: -1}
		if o.p.Limits.Bytes > 0 {
			c.MaxBytes = o.p.Limits.Bytes
		}
		s, err = js.CreateObjectStore(ctx, c)
	}
	if err != nil {
		return nil, err
	}
	o.open = s
	return s, nil
}

// there says in the words of files that an object is not there.
func there(name string, err error) error {
	if errors.Is(err, jetstream.ErrObjectNotFound) {
		return &fs.PathError{Op: "read", Path: name, Err: fs.ErrNotExist}
	}
	return err
}

func (o *objects) Read(ctx context.Context, name string) (io.ReadCloser, error) {
	s, err := o.store(ctx)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, longest)
	r, err := s.Get(ctx, name)
	if err != nil {
		cancel()
		return nil, there(name, err)
	}
	return &object{r, cancel}, nil
}

// object is one that is being read.
type object struct {
	jetstream.ObjectResult
	cancel context.CancelFunc
}

func (o *object) Close() error {
	defer o.cancel()
	return o.ObjectResult.Close()
}

func (o *objects) Has(ctx context.Context, name string) (bool, error) {
	s, err := o.store(ctx)
	if err != nil {
		return false, err
	}
	_, err = s.GetInfo(ctx, name)
	if errors.Is(err, jetstream.ErrObjectNotFound) {
		return false, nil
	}
	return err == nil, err
}

func (o *objects) Write(ctx context.Context, name string, size int64, content io.Reader) error {
	s, err := o.store(ctx)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	info, err := s.Put(ctx, jetstream.ObjectMeta{Name: name}, content)
	if err == nil && int64(info.Size) != size {
		_ = s.Delete(ctx, name)
		err = io.ErrUnexpectedEOF
	}
	return err
}

func (o *objects) Close() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.line != nil {
		o.line.Close()
	}
	return nil
}
