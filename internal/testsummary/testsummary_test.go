package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is reported decides whether CI fails.
func TestSummary(t *testing.T) {
	const pass = `{"Action":"pass","Package":"vornix/core/a","Test":"TestA"}` + "\n"
	skip := func(said string) string {
		return pass + `{"Action":"output","Package":"vornix/core/a","Test":"TestB","Output":"=== RUN   TestB\n"}` +
			"\n" + said + `{"Action":"skip","Package":"vornix/core/a","Test":"TestB"}` + "\n"
	}
	for name, c := range map[string]struct {
		in     string
		failed bool
		shows  string
	}{
		"passed":         {pass, false, "tests: 1 passed, 0 failed, 0 skipped"},
		"nothing at all": {"", true, "tests: 0 passed"},
		"failed": {pass +
			`{"Action":"output","Package":"vornix/core/a","Test":"TestB","Output":"    a_test.go:7: the reason\n"}` +
			"\n" + `{"Action":"fail","Package":"vornix/core/a","Test":"TestB"}` + "\n",
			true, "FAILED vornix/core/a TestB\n    a_test.go:7: the reason\n"},
		"does not compile": {pass +
			`{"Action":"build-output","ImportPath":"vornix/core/b","Output":"b.go:1: no\n"}` + "\n" +
			`{"Action":"build-fail","ImportPath":"vornix/core/b"}` + "\n", true, "b.go:1: no\n"},
		"a package fails": {pass + `{"Action":"fail","Package":"vornix/core/a"}` + "\n", true,
			"1 passed, 0 failed"},
		"skipped for a reason": {
			skip(`{"Action":"output","Package":"vornix/core/a","Test":"TestB","Output":"    a_test.go:9: nginx is not installed\n"}` + "\n"), false, "      1  nginx is not installed\n         core/a TestB\n"},
		"skipped for none": {skip(""), true, "NO REASON GIVEN"},
		"no tests":         {pass + `{"Action":"skip","Package":"vornix/core/b"}` + "\n", false, "0 skipped"},
	} {
		t.Run(name, func(t *testing.T) {
			out := &strings.Builder{}
			failed, err := summarise(strings.NewReader(c.in), out)
			require.NoError(t, err)
			assert.Equal(t, c.failed, failed)
			assert.Contains(t, out.String(), c.shows)
		})
	}
}
