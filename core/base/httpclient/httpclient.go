// Package httpclient makes the HTTP clients of all packages, so that there is one policy for
// redirects, retries and time limits.
//
// A client whose requests carry a secret follows no redirect: the secret belongs to the address
// that the user named. Any other client follows up to ten, and never from https to http. TLS is
// Go's default (1.2 or later, certificates verified). An answer must begin within a limit; how long
// its body may take is its reader's decision (package stall).
package httpclient

import (
	"cmp"
	"context"
	"errors"
	"net"
	"net/http"
	"time"

	"github.com/hashicorp/go-retryablehttp"
)

// ErrDowngrade is the error of a redirect from https to http.
var ErrDowngrade = errors.New("the server redirects from https to http, where others can change the content")

// errLoop is the error of an eleventh redirect.
var errLoop = errors.New("the server redirects more than 10 times")

// Options of a client. The zero value has Go's own limits.
type Options struct {
	Secret  bool          // requests carry a token or a password: redirects are returned, not followed
	Answer  time.Duration // in which an answer must begin; 0: no limit
	Dial    time.Duration // for a connection; 0: 30 s
	PerHost int           // idle connections kept per host; 0: 2
	Raw     bool          // no transparent compression: bytes are counted as they are sent
	// Conn wraps each new connection; Round the transport. nil: neither.
	Conn  func(net.Conn) net.Conn
	Round func(http.RoundTripper) http.RoundTripper
}

// New makes a client.
func New(o Options) *http.Client {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.ResponseHeaderTimeout, t.MaxIdleConnsPerHost, t.DisableCompression = o.Answer, o.PerHost, o.Raw
	if o.Dial > 0 || o.Conn != nil {
		dialer := &net.Dialer{Timeout: cmp.Or(o.Dial, 30*time.Second), KeepAlive: 30 * time.Second}
		t.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := dialer.DialContext(ctx, network, address)
			if err == nil && o.Conn != nil {
				conn = o.Conn(conn)
			}
			return conn, err
		}
	}
	c := &http.Client{Transport: t, CheckRedirect: follow}
	if o.Round != nil {
		c.Transport = o.Round(t)
	}
	if o.Secret {
		c.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	}
	return c
}

func follow(req *http.Request, via []*http.Request) error {
	if len(via) >= 10 {
		return errLoop
	}
	if via[0].URL.Scheme == "https" && req.URL.Scheme != "https" {
		return ErrDowngrade
	}
	return nil
}

// Retries of a request that failed for a reason that passes.
type Retries struct {
	Count    int           // after the first request
	Min, Max time.Duration // between two requests; a server that asks for more (Retry-After) gets Max
}

// Retrying makes a client that repeats requests. The last answer is returned as it is, whatever its status.
func Retrying(o Options, r Retries) *retryablehttp.Client {
	c := retryablehttp.NewClient()
	c.HTTPClient, c.Logger, c.ErrorHandler = New(o), nil, retryablehttp.PassthroughErrorHandler
	c.RetryMax, c.RetryWaitMin, c.RetryWaitMax = max(r.Count, 0), r.Min, r.Max
	c.Backoff = func(lowest, limit time.Duration, n int, r *http.Response) time.Duration {
		return min(retryablehttp.DefaultBackoff(lowest, limit, n, r), limit)
	}
	return c
}
