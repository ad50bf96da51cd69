// Package group runs functions at once, as golang.org/x/sync/errgroup and sync.WaitGroup do, with
// one difference: a panic in one of them does not end the program. It is raised again where
// somebody waits for them, as a *Panic, so that one guard at the door of a program is enough.
package group

import (
	"context"
	"fmt"
	"runtime/debug"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
)

// Panic is a panic of a function that ran in a goroutine of its own.
type Panic struct {
	Value any
	Stack []byte // of that goroutine
}

func (p *Panic) Error() string { return fmt.Sprint(p.Value) }

// Caught calls f and gives its panic, or nil.
func Caught(f func()) (p *Panic) {
	defer func() {
		if r := recover(); r != nil {
			var ok bool
			if p, ok = r.(*Panic); !ok { // one that was raised again keeps its first stack
				p = &Panic{r, debug.Stack()}
			}
		}
	}()
	f()
	return nil
}

// first keeps the first panic.
type first struct{ p atomic.Pointer[Panic] }

func (f *first) call(do func()) *Panic {
	p := Caught(do)
	if p != nil {
		f.p.CompareAndSwap(nil, p)
	}
	return p
}

func (f *first) raise() {
	if p := f.p.Load(); p != nil {
		panic(p)
	}
}

// Group is an errgroup.Group.
type Group struct {
	group errgroup.Group
	with  *errgroup.Group // set by WithContext
	first first
}

// WithContext makes a group whose context ends when one of its functions fails, or when Wait returns.
func WithContext(ctx context.Context) (*Group, context.Context) {
	with, ctx := errgroup.WithContext(ctx)
	return &Group{with: with}, ctx
}

func (g *Group) inner() *errgroup.Group {
	if g.with != nil {
		return g.with
	}
	return &g.group
}

// SetLimit bounds how many functions run at once.
func (g *Group) SetLimit(n int) { g.inner().SetLimit(n) }

// Go runs a function, as soon as the limit allows it.
func (g *Group) Go(do func() error) {
	g.inner().Go(func() (err error) {
		if p := g.first.call(func() { err = do() }); p != nil {
			return p // the others end too
		}
		return err
	})
}

// Wait waits for all functions and gives the first error. It panics when one of them did.
func (g *Group) Wait() error {
	err := g.inner().Wait()
	g.first.raise()
	return err
}

// All is a sync.WaitGroup.
type All struct {
	group sync.WaitGroup
	first first
}

// Go runs a function.
func (a *All) Go(do func()) { a.group.Go(func() { a.first.call(do) }) }

// Wait waits for all functions. It panics when one of them did.
func (a *All) Wait() {
	a.group.Wait()
	a.first.raise()
}
