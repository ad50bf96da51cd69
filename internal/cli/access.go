package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"strings"
	"sync"

	"golang.org/x/term"

	"vornix/core/deploy"
	"vornix/core/fault"
)

// asking is held while somebody is asked, since several targets may want something at once.
var asking sync.Mutex

// access is what this person and this machine let in with at targets.
func (a *app) access() deploy.Access {
	x := deploy.Access{Env: os.Getenv}
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

// askSecret asks for something that is not shown.
func (a *app) askSecret(question string) (string, error) {
	asking.Lock()
	defer asking.Unlock()
	fmt.Fprintf(a.out.Stderr, "%s: ", question)
	word, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(a.out.Stderr)
	if errors.Is(err, io.EOF) || err == nil && len(word) == 0 {
		return "", &fault.Fault{Kind: fault.Refused, What: "nothing was typed"}
	}
	return string(word), err
}
