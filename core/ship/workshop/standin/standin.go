// Package standin is a small workshop to test against: items, drafts, versions, pictures, followers
// and accounts, kept in a folder, and a plain web page for each item that shows what players see.
// docs/workshop/openapi.yaml describes what it speaks.
//
// standin.go starts and ends it, store.go is the folder, items.go and drafts.go answer makers,
// give.go hands out files and pages, request.go reads requests and refuses bad ones, fail.go goes
// wrong on demand.
//
// Nothing that a client sends is believed. A change is one file that is written and renamed into
// its place, so a workshop that is killed comes up again with the state before it or after it.
package standin

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pelletier/go-toml/v2"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/game/gameserver"
	"vornix/core/ship/workshop"
)

// Files in a workshop's folder.
const (
	AddressFile  = "stand-workshop.url" // its address, while it runs
	SettingsFile = "workshop.toml"      // its name, and what it takes
	TokensDir    = "tokens"             // a file with the token of each account that was made by it
	accountsFile = "accounts.json"      // hashes of the tokens
)

// TokenStart is what the tokens of a stand-in begin with, so that they are known when they lie about.
const TokenStart = "vornix-token-"

// Options for Start.
type Options struct {
	Listen   string                     // address to listen on; empty: a free port on this machine only
	Accounts []string                   // that are made when they are not there
	Name     string                     // of a new workshop
	Kinds    map[string]workshop.Limits // of items, in a new workshop
	Fail     Failure                    // from the beginning
	Patience time.Duration              // how long a request may take to come (default 30 s)
	// how long a draft is checked before the answer is that it is being checked (default 5 s)
	Answer time.Duration
}

// Settings is the content of SettingsFile.
type Settings struct {
	ID    string                     `toml:"id"`
	Name  string                     `toml:"name"`
	Kinds map[string]workshop.Limits `toml:"kind"`
}

// Workshop is a running stand-in.
type Workshop struct {
	URL      string
	o        Options
	settings Settings
	dir      *safefile.Dir
	lock     *safefile.Lock
	http     *http.Server
	listener net.Listener
	stop     context.CancelFunc
	running  sync.WaitGroup

	mu       sync.RWMutex // of what follows
	accounts map[string]string
	items    map[string]*entry
	keys     map[string]string // id by owner and key
	fails    []Failure
	checks   map[string]*check // drafts that are being checked, and those that were refused
}

// Start opens the workshop in the folder dir, making it when it is not there, and answers over HTTP until Close.
func Start(dir string, o Options) (*Workshop, error) {
	o.Patience, o.Answer = cmp.Or(o.Patience, 30*time.Second), cmp.Or(o.Answer, 5*time.Second)
	if err := o.Fail.check(); err != nil {
		return nil, err
	}
	w := &Workshop{o: o, accounts: map[string]string{}, items: map[string]*entry{}, keys: map[string]string{},
		checks: map[string]*check{}}
	if o.Fail.Mode != "" {
		w.fails = []Failure{o.Fail}
	}
	var err error
	if w.dir, err = safefile.MakeDir(dir); err != nil {
		return nil, err
	}
	if w.lock, err = safefile.Acquire(dir, "vornix stand workshop"); err != nil {
		w.dir.Close()
		return nil, err
	}
	if w.lock.Unclean {
		w.dir.CleanTemp()
	}
	if err = w.readSettings(); err == nil {
		err = w.readAccounts()
	}
	if err == nil {
		err = w.readItems()
	}
	if err == nil {
		err = w.tidy(time.Now())
	}
	if err == nil {
		if w.listener, err = gameserver.Listen(dir, o.Listen); err != nil {
			err = &fault.Fault{Kind: fault.Unreachable, What: "the stand-in can't listen on " + o.Listen, Err: err,
				Do: "Choose another address with --listen, or leave it out for a free one."}
		}
	}
	if err == nil {
		w.URL = "http://" + w.listener.Addr().String()
		err = w.dir.WriteFile(AddressFile, []byte(w.URL+"\n"))
	}
	if err != nil {
		if w.listener != nil {
			w.listener.Close()
		}
		w.lock.Release()
		w.dir.Close()
		return nil, err
	}
	ctx, stop := context.WithCancel(context.Background())
	w.stop = stop
	w.http = &http.Server{Handler: gameserver.OwnHost(o.Listen)(w.handler()), ReadHeaderTimeout: o.Patience,
		IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 16 << 10}
	w.running.Go(func() { _ = w.http.Serve(w.listener) }) // ends with ErrServerClosed when Close is called
	w.running.Go(func() { w.count(ctx) })
	return w, nil
}

// Close ends it.
func (w *Workshop) Close() error {
	w.stop()
	err := w.http.Close()
	w.running.Wait()
	w.writeCounts()
	_ = w.dir.RemoveFile(AddressFile) // nobody answers there any more
	w.lock.Release()
	return errors.Join(err, w.dir.Close())
}

// Settings are what the workshop is set to.
func (w *Workshop) Settings() Settings { return w.settings }

func (w *Workshop) readSettings() error {
	data, err := w.dir.ReadFile(SettingsFile)
	if errors.Is(err, fs.ErrNotExist) {
		w.settings = Settings{ID: random(10), Name: cmp.Or(w.o.Name, "The Workbench"), Kinds: w.o.Kinds}
		if len(w.settings.Kinds) == 0 {
			w.settings.Kinds = map[string]workshop.Limits{"mod": Usual()}
		}
		if data, err = toml.Marshal(w.settings); err != nil {
			return err
		}
		return w.dir.WriteFile(SettingsFile,
			[]byte("# What this workshop takes. 'vornix stand workshop' reads it when it starts.\n\n"), data)
	}
	if err != nil {
		return err
	}
	if err := toml.Unmarshal(data, &w.settings); err != nil || w.settings.ID == "" || len(w.settings.Kinds) == 0 {
		return &fault.Fault{What: "the workshop's settings can't be read",
			Place: fault.Place{File: w.dir.Join(SettingsFile)}, Err: err,
			Do: "Correct the file, or remove it for a new one."}
	}
	return nil
}

// Usual are limits as many workshops have them.
func Usual() workshop.Limits {
	return workshop.Limits{
		Title: 80, Description: 8000, Notes: 4000, Markdown: workshop.Markdown{Heading: 2, Links: []string{"https"}},
		MostTags: 8, LongestTag: 24, MostNeeds: 20,
		Pictures: workshop.PictureLimits{Most: 10, Forms: []string{"jpeg", "png"}, MostBytes: 1_000_000, LeastWidth: 64,
			LeastHeight: 24, MostWidth: 3840, MostHeight: 2160},
		Files:    workshop.FileLimits{Most: 20, MostBytes: 2_000_000_000},
		Required: []string{"description", "pictures", "tags"},
	}
}

func (w *Workshop) readAccounts() error {
	data, err := w.dir.ReadFile(accountsFile)
	if err == nil {
		err = json.Unmarshal(data, &w.accounts)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return &fault.Fault{What: "the workshop's accounts can't be read",
			Place: fault.Place{File: w.dir.Join(accountsFile)}, Err: err,
			Do: "Remove the file, and accounts are made anew."}
	}
	made := false
	for _, name := range w.o.Accounts {
		if !workshop.IsAccount(name) {
			return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no name of an account", name),
				Do: "Use small letters, digits and dashes."}
		}
		if slices.Contains(slices.Collect(maps.Values(w.accounts)), name) {
			continue
		}
		token := TokenStart + random(32)
		f, err := w.dir.Create(TokensDir + "/" + name)
		if err != nil {
			return err
		}
		f.Private()
		if _, err := f.Write([]byte(token + "\n")); err != nil {
			f.Abort()
			return err
		}
		if err := f.Commit(); err != nil {
			return err
		}
		w.accounts[hashOf(token)] = name
		made = true
	}
	if !made {
		return nil
	}
	if data, err = json.MarshalIndent(w.accounts, "", "  "); err != nil {
		return err
	}
	return w.dir.WriteFile(accountsFile, data)
}

// Accounts are the names of those that have one.
func (w *Workshop) Accounts() []string { return slices.Sorted(maps.Values(w.accounts)) }

func hashOf(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// random is a word of n letters and digits that nobody can guess.
func random(n int) string {
	const letters = "abcdefghijkmnpqrstuvwxyz23456789" // 32 of them
	b := make([]byte, n)
	_, _ = rand.Read(b) // it never fails
	var s strings.Builder
	for _, x := range b {
		s.WriteByte(letters[x%32])
	}
	return s.String()
}
