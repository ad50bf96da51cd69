package workshop_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/ship/workshop"
)

// says is a workshop that answers everything alike, without a network.
type says struct {
	status int
	kind   string
	body   []byte
}

func (s says) RoundTrip(r *http.Request) (*http.Response, error) {
	return &http.Response{StatusCode: s.status, Status: http.StatusText(s.status), Proto: "HTTP/1.1", ProtoMajor: 1,
		ProtoMinor: 1, Request: r, ContentLength: int64(len(s.body)),
		Header: http.Header{"Content-Type": {s.kind}}, Body: io.NopCloser(bytes.NewReader(s.body))}, nil
}

// Whatever a workshop answers, in whatever status: it is understood, or the error is one that a
// maintainer can act on; nothing of it repaints a terminal.
func FuzzAnswers(f *testing.F) {
	f.Add([]byte(aboutText), uint16(200), true)
	f.Add([]byte(`{"type":"https://vornix.example/problems/limit","title":"too large","status":413,"detail":"at most 3","wrong":[{"field":"title","why":"long"}]}`), uint16(413), false)
	f.Add([]byte(`{"id":"abcdefgh","owner":"mole","kind":"map","version":"1.0.0","revision":3,"visibility":"hidden","page":{"title":"A","pictures":[{"name":"a.png","size":3,"sha256":"`+strings.Repeat("0a", 32)+`"}]}}`), uint16(200), true)
	f.Add([]byte(`{"items":[{"id":"abcdefgh","revision":1}],"next":"/v1/items?after=abcdefgh"}`), uint16(200), true)
	f.Add([]byte(`{"id":"d1d1d1","missing":["`+strings.Repeat("0a", 32)+
		`"],"expires":"2026-01-02T03:04:05Z","state":"checking"}`), uint16(200), true)
	f.Add([]byte(`{"versions":[{"number":1,"version":"1.0.0","files":[{"name":"a","size":1,"sha256":"`+
		strings.Repeat("0a", 32)+`","chunks":[{"size":1,"sha256":"x"}]}]}]}`), uint16(200), true)
	f.Fuzz(func(t *testing.T, body []byte, status uint16, good bool) {
		s := says{status: int(status%500) + 100, kind: "application/problem+json", body: body}
		if good {
			s.status, s.kind = 200, "application/json"
		}
		if s.status < 200 || s.status >= 300 && s.status < 400 { // what the transport itself deals with
			return
		}
		c, err := workshop.Dial("http://127.0.0.1:1",
			workshop.Options{Token: "secret-word", Retries: -1, Wait: time.Microsecond, MostWait: time.Microsecond,
				Wrap: func(http.RoundTripper) http.RoundTripper { return s }})
		require.NoError(t, err)
		ctx, end := context.WithTimeout(context.Background(), 5*time.Second)
		defer end()
		check := func(what string, err error, shown ...string) {
			if err != nil {
				var f *fault.Fault
				var p *workshop.Problem
				if !errors.As(err, &f) && !errors.As(err, &p) {
					t.Fatalf("%s: %v", what, err)
				}
				shown = []string{err.Error()}
			}
			for _, text := range shown {
				if strings.Contains(text, "secret-word") ||
					strings.ContainsFunc(strings.ReplaceAll(text, "\n", ""), unicode.IsControl) {
					t.Fatalf("%s says %q", what, text)
				}
			}
		}
		about, err := c.About(ctx)
		if err == nil {
			check("about", nil, about.ID, about.Name)
		} else {
			check("about", err)
		}
		item, err := c.Item(ctx, "abcdefgh")
		if err == nil {
			check("item", nil, item.ID, item.Owner, item.Version, item.Kind, item.By)
		} else {
			check("item", err)
		}
		_, err = c.Mine(ctx, "key")
		check("mine", err)
		_, err = c.Versions(ctx, "abcdefgh")
		check("versions", err)
		_, err = c.Events(ctx, "abcdefgh")
		check("events", err)
		_, err = c.Draft(ctx, "abcdefgh", "d1d1d1")
		check("draft", err)
	})
}
