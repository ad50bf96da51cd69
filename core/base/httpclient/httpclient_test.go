package httpclient_test

import (
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/hashicorp/go-retryablehttp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/httpclient"
)

func get(t *testing.T, c *http.Client, address string) (int, error) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address, nil)
	require.NoError(t, err)
	r, err := c.Do(req)
	if err != nil {
		return 0, err
	}
	return r.StatusCode, r.Body.Close()
}

// Redirects are followed ten times and never to http; with a secret, not at all.
func TestRedirects(t *testing.T) {
	plain := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if n := len(r.URL.Path); n > 1 && r.URL.Path != "/end" {
			http.Redirect(w, r, r.URL.Path[:n-1], http.StatusFound)
		}
	}))
	defer plain.Close()
	safe := httptest.NewTLSServer(http.RedirectHandler(plain.URL+"/end", http.StatusFound))
	defer safe.Close()
	trusting := func(r http.RoundTripper) http.RoundTripper {
		r.(*http.Transport).TLSClientConfig = &tls.Config{
			RootCAs: safe.Client().Transport.(*http.Transport).TLSClientConfig.RootCAs}
		return r
	}
	for name, c := range map[string]struct {
		o       httpclient.Options
		address string
		status  int
		err     string
	}{
		"ten":            {httpclient.Options{}, plain.URL + "/" + strings.Repeat("x", 9), 200, ""},
		"eleven":         {httpclient.Options{}, plain.URL + "/" + strings.Repeat("x", 11), 0, "more than 10 times"},
		"to http":        {httpclient.Options{Round: trusting}, safe.URL, 0, httpclient.ErrDowngrade.Error()},
		"with a secret":  {httpclient.Options{Secret: true}, plain.URL + "/x", 302, ""},
		"an unknown key": {httpclient.Options{}, safe.URL, 0, "certificate"},
	} {
		t.Run(name, func(t *testing.T) {
			status, err := get(t, httpclient.New(c.o), c.address)
			if c.err == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, c.err)
			}
			assert.Equal(t, c.status, status)
		})
	}
}

// An answer that does not begin ends the request; each connection is wrapped.
func TestLimits(t *testing.T) {
	hold := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-hold }))
	defer s.Close()
	defer close(hold)
	wrapped := atomic.Int32{}
	c := httpclient.New(httpclient.Options{Answer: 50 * time.Millisecond, Dial: time.Second,
		Conn: func(c net.Conn) net.Conn { wrapped.Add(1); return c }})
	_, err := get(t, c, s.URL)
	assert.ErrorContains(t, err, "timeout")
	assert.Equal(t, int32(1), wrapped.Load())
}

// Failures that pass are repeated, a server's wish to wait for hours is not granted, and the last answer is returned.
func TestRetries(t *testing.T) {
	asked := atomic.Int32{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		w.Header().Set("Retry-After", "7200")
		w.WriteHeader(http.StatusServiceUnavailable)
	}))
	defer s.Close()
	c := httpclient.Retrying(httpclient.Options{},
		httpclient.Retries{Count: 2, Min: time.Millisecond, Max: 5 * time.Millisecond})
	req, err := retryablehttp.NewRequestWithContext(context.Background(), http.MethodGet, s.URL, nil)
	require.NoError(t, err)
	start := time.Now()
	r, err := c.Do(req)
	require.NoError(t, err)
	assert.Equal(t, http.StatusServiceUnavailable, r.StatusCode)
	assert.Equal(t, int32(3), asked.Load())
	assert.Less(t, time.Since(start), 5*time.Second)
	require.NoError(t, r.Body.Close())
}
