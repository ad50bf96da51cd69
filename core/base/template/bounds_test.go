package template_test

import (
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/template"
)

// A template costs a bounded amount, whatever it holds, and says what is too much.
func TestTemplatesAreBounded(t *testing.T) {
	twice := `{{$x := "0123456789abcdef"}}` + strings.Repeat(`{{$x = printf "%s%s" $x $x}}`, 40) + `{{len $x}}`
	for name, c := range map[string]struct{ source, why string }{
		"an empty loop":    {`{{range 100000000000}}{{end}}`, "go round more than"},
		"a loop in a loop": {`{{range 1000000}}{{range 1000000}}{{end}}{{end}}`, "go round more than"},
		"a loop in a condition": {`{{with 1}}{{if true}}{{range 100000000000}}{{end}}{{end}}{{end}}`,
			"go round more than"},
		"a loop's other branch": {`{{range .none}}{{else}}{{range 100000000000}}{{end}}{{end}}`, "go round more than"},
		"a template that calls": {`{{define "a"}}{{template "a"}}{{end}}{{template "a"}}`,
			"call each other more than"},
		"doubled text":     {twice, "of text on the way"},
		"doubled by print": {strings.ReplaceAll(twice, `printf "%s%s"`, "print"), "of text on the way"},
		"one argument often": {`{{$f := "` + strings.Repeat("%[1]s", 100000) + `"}}{{printf $f .long}}`,
			"of text on the way"},
		"a wide directive":       {`{{printf "%1000000000d" 1}}`, "a width of printf"},
		"a precise directive":    {`{{printf "%.999999f" 1.0}}`, "a width of printf"},
		"a width as an argument": {`{{printf "%*d" 1000000 1}}`, "width from an argument"},
		"much output":            {`{{range 900000}}{{$.long}}{{end}}`, "becomes larger than"},
		"a long template":        {strings.Repeat("x", 2<<20), "is larger than"},
	} {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			begin := time.Now()
			f, err := template.NewFile("a.txt", c.source, "none")
			if err == nil {
				_, err = f.Fill(map[string]any{"none": []string{}, "long": strings.Repeat("y", 100000)})
			}
			assert.ErrorContains(t, err, c.why)
			assert.Less(t, time.Since(begin), 20*time.Second, "it would take hours")
			runtime.ReadMemStats(&after)
			assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(2<<30))
		})
	}
	f, err := template.NewFile("a.txt",
		`{{range $i, $m := .maps}}{{printf "%-8s|%03d" $m $i}} {{html "<"}}{{join $.maps ","}};{{end}}`, "none")
	require.NoError(t, err)
	for range 3 { // each time anew
		got, err := f.Fill(map[string]any{"maps": []string{"a", "b"}})
		require.NoError(t, err)
		assert.Equal(t, "a       |000 &lt;a,b;b       |001 &lt;a,b;", got)
	}
}
