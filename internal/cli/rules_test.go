package cli_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sources parses every Go file below a folder that is no test.
func sources(t *testing.T, dir string, visit func(name string, f *ast.File)) {
	t.Helper()
	set := token.NewFileSet()
	n := 0
	require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(p) != ".go" || strings.HasSuffix(p, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(set, p, nil, 0)
		require.NoError(t, err)
		n++
		visit(filepath.ToSlash(p), f)
		return nil
	}))
	assert.Greater(t, n, 5)
}

// The core computes: it imports no interface, prints nothing, exits nowhere, reads no environment.
func TestTheCoreKnowsNoScreen(t *testing.T) {
	sources(t, "../../core", func(name string, f *ast.File) {
		for _, i := range f.Imports {
			p := strings.Trim(i.Path.Value, `"`)
			assert.False(t, strings.HasPrefix(p, "vornix/internal"), "%s imports %s", name, p)
			assert.NotContains(t,
				[]string{"log", "flag", "github.com/spf13/cobra", "github.com/jedib0t/go-pretty/v6/table"}, p, name)
		}
		calls(f, func(pkg, function string) {
			for _, bad := range []string{"fmt.Print", "fmt.Println", "fmt.Printf", "os.Exit", "os.Getenv",
				"os.LookupEnv", "os.Environ"} {
				assert.NotEqual(t, bad, pkg+"."+function, name)
			}
		})
	})
}

// There is one place that makes HTTP clients, and so one policy for redirects and limits.
func TestOneMakerOfHTTPClients(t *testing.T) {
	for _, dir := range []string{"../../core", "../../internal/cli"} {
		sources(t, dir, func(name string, f *ast.File) {
			if strings.Contains(name, "core/base/httpclient/") {
				return
			}
			calls(f, func(pkg, function string) {
				for _, bad := range []string{"http.DefaultTransport", "http.DefaultClient", "http.Get", "http.Head", "http.Post",
					"http.PostForm", "retryablehttp.NewClient"} {
					assert.NotEqual(t, bad, pkg+"."+function, name)
				}
			})
			ast.Inspect(f, func(n ast.Node) bool {
				if l, ok := n.(*ast.CompositeLit); ok {
					if s, ok := l.Type.(*ast.SelectorExpr); ok && s.Sel.Name == "Client" {
						x, _ := s.X.(*ast.Ident)
						assert.False(t, x != nil && x.Name == "http", "%s makes a client of its own", name)
					}
				}
				return true
			})
		})
	}
}

// Everything that is written goes through safefile. The clean room's own temporary folder is made
// and removed by hand; the pipe of an agent on Windows is no file.
func TestAllWritesAreSafe(t *testing.T) {
	writing := []string{"WriteFile", "Create", "CreateTemp", "OpenFile", "Rename", "Remove", "Mkdir", "MkdirAll",
		"Truncate", "Link", "Symlink", "Chtimes"}
	for _, dir := range []string{"../../core", "../../internal/cli", "../../demo", "../../cmd"} {
		require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
			if err != nil || filepath.Ext(p) != ".go" || strings.HasSuffix(p, "_test.go") ||
				strings.Contains(filepath.ToSlash(p), "core/base/safefile/") || e.Name() == "agent_windows.go" {
				return err
			}
			f, err := parser.ParseFile(token.NewFileSet(), p, nil, 0)
			require.NoError(t, err)
			calls(f, func(pkg, function string) {
				for _, w := range writing {
					assert.NotEqual(t, "os."+w, pkg+"."+function, p)
				}
			})
			return nil
		}))
	}
}

// calls lists the calls of the form package.Function.
func calls(f *ast.File, visit func(pkg, function string)) {
	ast.Inspect(f, func(n ast.Node) bool {
		if s, ok := n.(*ast.SelectorExpr); ok {
			if x, ok := s.X.(*ast.Ident); ok && x.Obj == nil {
				visit(x.Name, s.Sel.Name)
			}
		}
		return true
	})
}

// Every package says in its documentation what it is for.
func TestEveryPackageIsDocumented(t *testing.T) {
	documented := map[string]bool{}
	set := token.NewFileSet()
	for _, dir := range []string{"../../core", "../../internal", "../../demo"} {
		require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() && e.Name() == "node_modules" {
				if err == nil {
					err = fs.SkipDir
				}
				return err
			}
			if filepath.Ext(p) != ".go" || strings.HasSuffix(p, "_test.go") {
				return nil
			}
			f, err := parser.ParseFile(set, p, nil, parser.ParseComments|parser.PackageClauseOnly)
			require.NoError(t, err)
			pkg := filepath.Dir(p)
			documented[pkg] = documented[pkg] || f.Doc != nil && strings.HasPrefix(f.Doc.Text(), "Package "+f.Name.Name)
			return nil
		}))
	}
	for pkg, ok := range documented {
		assert.True(t, ok, "%s has no package documentation", pkg)
	}
}
