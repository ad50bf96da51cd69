package cli_test

import (
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// How many functions have more than 80 lines, and more than six parameters. Neither number may rise;
// lower it when one was split.
const (
	longFunctions  = 51
	wideSignatures = 16
)

// files visits the Go files of the project.
func files(t *testing.T, visit func(name string, data []byte)) {
	t.Helper()
	n := 0
	for _, dir := range []string{"../../core", "../../internal", "../../demo", "../../cmd", "../../bench"} {
		require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
			if err == nil && e.IsDir() && e.Name() == "node_modules" {
				return fs.SkipDir
			}
			if err != nil || filepath.Ext(p) != ".go" {
				return err
			}
			data, err := os.ReadFile(p)
			require.NoError(t, err)
			n++
			visit(filepath.ToSlash(p), data)
			return nil
		}))
	}
	assert.Greater(t, n, 500)
}

// Lines have up to 120 columns, with four for a tab. In a longer line, the rest has up to 100 beside what
// can't be broken: literals, the blanks that align a table, and raw strings of several lines.
func TestLinesAreShort(t *testing.T) {
	columns := func(s string) int { return len([]rune(s)) + 3*strings.Count(s, "\t") }
	files(t, func(name string, data []byte) {
		lines := strings.Split(string(data), "\n")
		literal := make([]int, len(lines)+1) // columns of a line's literals, by line from 1
		set := token.NewFileSet()
		f := set.AddFile(name, -1, len(data))
		var s scanner.Scanner
		s.Init(f, data, nil, 0)
		for {
			pos, kind, text := s.Scan()
			if kind == token.EOF {
				break
			}
			at, long := f.Line(pos), strings.Count(text, "\n")
			if kind == token.STRING && long > 0 {
				for i := range long + 1 {
					literal[at+i] = 1 << 20
				}
			} else if kind == token.STRING {
				literal[at] += columns(text)
			}
		}
		for i, l := range lines {
			if n := columns(l); n > 120 {
				aligned := n - columns(regexp.MustCompile(` {2,}`).ReplaceAllString(l, " "))
				assert.LessOrEqual(t, n-aligned-literal[i+1], 100, "%s:%d has %d columns", name, i+1, n)
			}
		}
	})
}

// Functions are short and have few parameters.
func TestFunctionsAreShort(t *testing.T) {
	long, wide := 0, 0
	files(t, func(name string, data []byte) {
		if strings.HasSuffix(name, "_test.go") || strings.HasPrefix(name, "../../bench") {
			return
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, name, data, 0)
		require.NoError(t, err)
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil {
				continue
			}
			n := set.Position(fn.End()).Line - set.Position(fn.Pos()).Line + 1
			assert.LessOrEqual(t, n, 120, "%s: %s has %d lines", name, fn.Name.Name, n)
			if n > 80 {
				long++
			}
			if fn.Type.Params.NumFields() > 6 {
				wide++
			}
		}
	})
	assert.Equal(t, longFunctions, long, "functions of more than 80 lines")
	assert.Equal(t, wideSignatures, wide, "functions with more than six parameters")
}
