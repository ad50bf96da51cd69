// Command mutants asks whether a package's tests would notice a mistake: it makes small mistakes in
// the package, one at a time, runs the package's own tests on each, and lists the mistakes that no
// test noticed.
//
//	VORNIX_TESTS=all go run ./bench/mutants -n 60 ./core/base/transaction ./core/ship/deploy ./core/ship/fetch
//
// Mistakes are made in copies (go test -overlay); the working tree stays as it is. Which ones are
// made depends on -seed alone.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// mutant is a mistake: do makes it in the syntax tree, and undo takes it back.
type mutant struct {
	file     *source
	line     int
	what     string
	do, undo func()
}

// source is a file of the package.
type source struct {
	name string
	tree *ast.File
	set  *token.FileSet
}

func main() {
	n := flag.Int("n", 60, "at most this `number` of mistakes in each package")
	seed := flag.Uint64("seed", 1, "which mistakes are made")
	limit := flag.Duration("limit", 5*time.Minute, "time that the tests of one mistake may take")
	at := flag.String("at", "",
		"only mistakes at these `places`, as in core/base/transaction/transaction.go:12,core/base/diff/merge.go:9")
	lowest := flag.Float64("least", 0, "exit with 1 when a smaller share of the mistakes was noticed")
	flag.Parse()
	failed := false
	for _, dir := range flag.Args() {
		share, err := try(dir, *n, *seed, *limit, *at)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		failed = failed || share < *lowest
	}
	if failed {
		os.Exit(1)
	}
}

// try makes mistakes in one package and says which share of them its tests noticed.
func try(dir string, n int, seed uint64, limit time.Duration, at string) (float64, error) {
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		return 0, err
	}
	var all []mutant
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") || strings.Contains(name, "_windows") {
			continue
		}
		s := &source{name: name, set: token.NewFileSet()}
		if s.tree, err = parser.ParseFile(s.set, name, nil, parser.ParseComments); err != nil {
			return 0, err
		}
		all = append(all, s.mutants()...)
	}
	if len(all) == 0 {
		return 0, fmt.Errorf("%s has no Go files to make mistakes in", dir)
	}
	if out, ok, err := test(dir, "", nil, limit); err != nil || !ok {
		return 0, errors.Join(fmt.Errorf("the tests of %s fail without any mistake\n%s", dir, out), err)
	}
	r := rand.New(rand.NewPCG(seed, 0))
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	noticed, tried := 0, 0
	for _, m := range all {
		if tried == n {
			break
		}
		if place := fmt.Sprintf("%s:%d", filepath.ToSlash(m.file.name), m.line); at != "" &&
			!slices.Contains(strings.Split(at, ","), place) {
			continue
		}
		var b bytes.Buffer
		m.do()
		err := format.Node(&b, m.file.set, m.file.tree)
		m.undo()
		if err != nil {
			return 0, err
		}
		out, ok, err := test(dir, m.file.name, b.Bytes(), limit)
		switch {
		case err != nil:
			return 0, err
		case strings.Contains(out, "[build failed]") || strings.Contains(out, "[setup failed]"):
			continue // the compiler noticed it
		case !ok:
			noticed++
		default:
			fmt.Printf("survived  %s:%d  %s\n", filepath.ToSlash(m.file.name), m.line, m.what)
		}
		tried++
	}
	if tried == 0 {
		return 0, fmt.Errorf("%s: no mistake that compiles was found", dir)
	}
	share := float64(noticed) / float64(tried)
	fmt.Printf("%s: %d of %d mistakes were noticed (%.0f %%)\n", filepath.ToSlash(dir), noticed, tried, 100*share)
	return share, nil
}

// test runs a package's tests, with other content for one of its files. ok says whether they passed.
func test(dir, file string, content []byte, limit time.Duration) (out string, ok bool, err error) {
	args := []string{"test", "-count=1", "-failfast", "-timeout", limit.String()}
	if file != "" {
		temp, err := os.MkdirTemp("", "mutant")
		if err != nil {
			return "", false, err
		}
		defer os.RemoveAll(temp)
		full, err := filepath.Abs(file)
		if err != nil {
			return "", false, err
		}
		other, overlay := filepath.Join(temp, "mutant.go"), filepath.Join(temp, "overlay.json")
		list, err := json.Marshal(map[string]map[string]string{"Replace": {full: other}})
		if err != nil {
			return "", false, err
		}
		if err := errors.Join(os.WriteFile(other, content, 0o600), os.WriteFile(overlay, list, 0o600)); err != nil {
			return "", false, err
		}
		args = append(args, "-overlay", overlay)
	}
	ctx, cancel := context.WithTimeout(context.Background(), limit+time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "go", append(args, "./"+filepath.ToSlash(filepath.Clean(dir)))...)
	text, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return string(text), false, nil // failed, or hung: both are noticed
	}
	return string(text), err == nil, err
}

// opposites of operators.
var opposites = map[token.Token]token.Token{token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.LEQ,
	token.LEQ: token.LSS, token.GTR: token.GEQ, token.GEQ: token.GTR,
	token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD}

// mutants are all mistakes that can be made in the file.
func (s *source) mutants() (list []mutant) {
	add := func(at ast.Node, what string, do, undo func()) {
		list = append(list, mutant{s, s.set.Position(at.Pos()).Line, what, do, undo})
	}
	ast.Inspect(s.tree, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.BinaryExpr:
			if other, ok := opposites[x.Op]; ok {
				was := x.Op
				add(x, fmt.Sprintf("%s instead of %s", other, was), func() { x.Op = other }, func() { x.Op = was })
			}
		case *ast.IfStmt:
			was := x.Cond
			add(x, "the condition the other way round",
				func() { x.Cond = &ast.UnaryExpr{Op: token.NOT, X: &ast.ParenExpr{X: was}} }, func() { x.Cond = was })
		case *ast.ReturnStmt:
			if k := len(x.Results) - 1; k >= 0 {
				if id, ok := x.Results[k].(*ast.Ident); ok && id.Name == "err" {
					add(x, "no error is returned", func() { x.Results[k] = ast.NewIdent("nil") },
						func() { x.Results[k] = id })
				}
			}
		case *ast.BlockStmt:
			for i, st := range x.List {
				var call ast.Expr
				switch st := st.(type) {
				case *ast.ExprStmt:
					call = st.X
				case *ast.AssignStmt:
					if id, ok := st.Lhs[0].(*ast.Ident); ok && len(st.Lhs) == 1 && id.Name == "_" {
						call = st.Rhs[0]
					}
				}
				if _, ok := call.(*ast.CallExpr); ok {
					add(st, "a call is left out", func() { x.List[i] = &ast.EmptyStmt{Semicolon: st.Pos()} },
						func() { x.List[i] = st })
				}
			}
		}
		return true
	})
	return list
}
