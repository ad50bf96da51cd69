// Package contract holds what goes between a workshop and its clients to the protocol's
// description, docs/workshop/openapi.yaml, in tests.
package contract

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

// Contract is the description.
type Contract struct {
	t        testing.TB
	doc      map[string]any
	compiler *jsonschema.Compiler
	paths    []*regexp.Regexp
	names    []string
	mu       sync.Mutex
	used     map[string]bool // operations and statuses that came by
}

// resource names the protocol's description for the schema compiler. Without a scheme the compiler
// would take it for a file in the working folder, whose path may hold characters that are escaped
// in addresses.
const resource = "vornix:///openapi.json"

// File is the system path of the description.
func File() string {
	_, here, _, _ := runtime.Caller(0)
	return filepath.Join(filepath.Dir(here), "..", "..", "docs", "workshop", "openapi.yaml")
}

var placeholder = regexp.MustCompile(`\{[a-z0-9]+\}`)

// Read reads the description.
func Read(t testing.TB) *Contract {
	data, err := os.ReadFile(File())
	require.NoError(t, err)
	c := &Contract{t: t, compiler: jsonschema.NewCompiler(), used: map[string]bool{}}
	var doc any
	require.NoError(t, yaml.Unmarshal(data, &doc))
	data, err = json.Marshal(doc) // whose numbers and names are those that the schemas' reader knows
	require.NoError(t, err)
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	require.NoError(t, err)
	c.doc = value.(map[string]any)
	c.compiler.AssertFormat()
	require.NoError(t, c.compiler.AddResource(resource, value))
	for path := range c.doc["paths"].(map[string]any) {
		c.names = append(c.names, path)
	}
	slices.SortFunc(c.names, func(a, b string) int { return strings.Count(a, "{") - strings.Count(b, "{") })
	for _, path := range c.names {
		c.paths = append(c.paths, regexp.MustCompile("^"+placeholder.ReplaceAllString(path, "[^/]+")+"$"))
	}
	return c
}

// Operations lists what the description has, as "GET /v1/items/{item}".
func (c *Contract) Operations() (list []string) {
	for _, path := range c.names {
		for method := range c.doc["paths"].(map[string]any)[path].(map[string]any) {
			if method != "parameters" {
				list = append(list, strings.ToUpper(method)+" "+path)
			}
		}
	}
	slices.Sort(list)
	return list
}

// Used lists the operations that came by.
func (c *Contract) Used() (list []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for op := range c.used {
		list = append(list, op)
	}
	slices.Sort(list)
	return list
}

// Wrap holds every exchange of a client to the description.
func (c *Contract) Wrap(next http.RoundTripper) http.RoundTripper { return round{c, next} }

type round struct {
	c    *Contract
	next http.RoundTripper
}

func (x round) RoundTrip(r *http.Request) (*http.Response, error) {
	var body []byte
	if r.Body != nil {
		var err error
		if body, err = io.ReadAll(r.Body); err != nil {
			return nil, err
		}
		r = r.Clone(r.Context())
		r.Body = io.NopCloser(bytes.NewReader(body))
	}
	a, err := x.next.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	if !strings.HasPrefix(r.URL.Path, "/v1") {
		return a, nil
	}
	kind, _, _ := strings.Cut(a.Header.Get("Content-Type"), ";")
	var answer []byte
	if strings.HasSuffix(kind, "json") {
		if answer, err = io.ReadAll(a.Body); err != nil {
			return nil, err
		}
		a.Body = io.NopCloser(bytes.NewReader(answer))
	}
	x.c.check(r, body, a.StatusCode, kind, answer)
	return a, nil
}

// at follows references and names down the description.
func (c *Contract) at(from any, names ...string) (any, string) {
	pointer := ""
	for i := 0; ; i++ {
		m, _ := from.(map[string]any)
		if ref, ok := m["$ref"].(string); ok {
			pointer = ref
			from = any(c.doc)
			for part := range strings.SplitSeq(strings.TrimPrefix(ref, "#/"), "/") {
				from = from.(map[string]any)[part]
			}
			m, _ = from.(map[string]any)
		}
		if i == len(names) {
			return from, pointer
		}
		from = m[names[i]]
		pointer += "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(names[i])
	}
}

func (c *Contract) check(r *http.Request, body []byte, status int, kind string, answer []byte) {
	c.t.Helper()
	i := slices.IndexFunc(c.paths, func(re *regexp.Regexp) bool { return re.MatchString(r.URL.EscapedPath()) })
	if !assert.GreaterOrEqual(c.t, i, 0, "%s is not described", r.URL.Path) {
		return
	}
	method := strings.ToLower(r.Method)
	start := "#/paths/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(c.names[i])
	name := r.Method + " " + c.names[i]
	op := c.doc["paths"].(map[string]any)[c.names[i]].(map[string]any)[method]
	if op == nil && status == http.StatusMethodNotAllowed || !assert.NotNil(c.t, op, "%s is not described", name) {
		return
	}
	c.mu.Lock()
	c.used[name] = true
	c.mu.Unlock()
	schema := func(what string, from any, base string, data []byte, names ...string) {
		found, pointer := c.at(from, names...)
		if !assert.NotNil(c.t, found, "%s of %s is not described", what, name) {
			return
		}
		if strings.HasPrefix(pointer, "/") {
			pointer = base + pointer
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		s, err := c.compiler.Compile(resource + pointer)
		if !assert.NoError(c.t, err) {
			return
		}
		value, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
		if assert.NoError(c.t, err, "%s of %s: %s", what, name, data) {
			assert.NoError(c.t, s.Validate(value), "%s of %s: %s", what, name, data[:min(len(data), 600)])
		}
	}
	if r.Header.Get("Content-Type") == "application/json" && status < 300 { // what is refused need not be right
		if r.Header.Get("Content-Encoding") == "zstd" {
			z, err := zstd.NewReader(bytes.NewReader(body))
			require.NoError(c.t, err)
			defer z.Close()
			body, err = io.ReadAll(z)
			require.NoError(c.t, err)
		}
		schema("the request", op, start+"/"+method, body, "requestBody", "content", "application/json", "schema")
	}
	responses := op.(map[string]any)["responses"].(map[string]any)
	code := strconv.Itoa(status)
	if _, ok := responses[code]; !ok {
		code = "default"
		assert.GreaterOrEqual(c.t, status, 400, "%s answers %d, which is not described", name, status)
	}
	response := fmt.Sprintf("%s/%s/responses/%s", start, method, code)
	if strings.HasSuffix(kind, "json") {
		schema("answer "+code, responses[code], response, answer, "content", kind, "schema")
		return
	}
	described, _ := c.at(responses[code], "content", kind)
	if status != http.StatusNoContent && kind != "" {
		assert.NotNil(c.t, described, "%s answers %d with %s, which is not described", name, status, kind)
	}
}
