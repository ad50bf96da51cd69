package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/zalando/go-keyring"
	"golang.org/x/term"

	"vornix/core/base/fault"
	"vornix/core/make/assembly"
	"vornix/core/ship/deploy"
	"vornix/core/ship/publish"
)

// asking is held while somebody is asked, since several targets may want something at once.
var asking sync.Mutex

// access is what this person and this machine let in with at targets.
func (a *app) access() deploy.Access {
	x := deploy.Access{Env: os.Getenv, Trust: trusted}
	x.Home, _ = os.UserHomeDir()
	x.Host, _ = os.Hostname()
	if u, err := user.Current(); err == nil {
		x.Account = u.Username[strings.LastIndexByte(u.Username, '\\')+1:] // Windows puts the domain before it
	}
	x.Agent = func() (io.ReadWriter, error) { return dialAgent(os.Getenv("SSH_AUTH_SOCK")) }
	if a.out.Terminal && !a.out.JSON && term.IsTerminal(int(os.Stdin.Fd())) {
		x.Ask = a.askSecret
	}
	return x
}

// publishing is what this person and this machine let in with at workshops.
func (a *app) publishing() publish.Access {
	x := publish.Access{Env: os.Getenv, Trust: trusted, Agent: strings.TrimSuffix("vornix/"+released, "/"),
		Keyring: systemKeyring()}
	x.Home, _ = os.UserHomeDir()
	if dir, err := os.UserConfigDir(); err == nil {
		x.Own = filepath.Join(dir, "vornix", "tokens")
	}
	return x
}

// keyringWait is how long the keyring may take, which can ask its owner to unlock it.
const keyringWait = time.Minute

// ring is the system's keyring, given up when it does not answer.
type ring struct{}

// systemKeyring is nil where there is none.
func systemKeyring() publish.Keyring {
	if runtime.GOOS != "windows" && runtime.GOOS != "darwin" && os.Getenv("DBUS_SESSION_BUS_ADDRESS") == "" {
		return nil // asking would start a session of its own
	}
	return ring{}
}

func waited(work func() (string, error)) (string, error) {
	type answer struct {
		secret string
		err    error
	}
	c := make(chan answer, 1)
	go func() {
		secret, err := work()
		c <- answer{secret, err}
	}()
	select {
	case x := <-c:
		return x.secret, x.err
	case <-time.After(keyringWait):
		return "", errors.New("the keyring does not answer")
	}
}

func (ring) Get(service, user string) (string, error) {
	return waited(func() (string, error) { return keyring.Get(service, user) })
}

func (ring) Set(service, user, secret string) error {
	_, err := waited(func() (string, error) { return "", keyring.Set(service, user, secret) })
	return err
}

func (ring) Delete(service, user string) error {
	_, err := waited(func() (string, error) { return "", keyring.Delete(service, user) })
	return err
}

// askSecret asks for something that is not shown.
func (a *app) askSecret(question string) (string, error) {
	asking.Lock()
	defer asking.Unlock()
	if word, ok := a.typed[question]; ok { // a command reaches a target more than once
		return word, nil
	}
	fmt.Fprintf(a.out.Stderr, "%s: ", question)
	word, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(a.out.Stderr)
	if errors.Is(err, io.EOF) || err == nil && len(word) == 0 {
		return "", &fault.Fault{Kind: fault.Refused, What: "nothing was typed"}
	}
	if err == nil {
		if a.typed == nil {
			a.typed = map[string]string{}
		}
		a.typed[question] = string(word)
	}
	return string(word), err
}

// sharedVariable says how this machine takes part in shared results, whatever the project says: off, read or write.
const sharedVariable = "VORNIX_SHARED"

// sharing is how this machine takes part in shared results.
func sharing() assembly.Sharing {
	x := assembly.Sharing{Mode: os.Getenv(sharedVariable), Env: os.Getenv}
	x.Home, _ = os.UserHomeDir()
	return x
}
