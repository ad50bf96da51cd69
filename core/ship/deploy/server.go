package deploy

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"vornix/core/base/credential"
	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/core/config/trust"
	"vornix/core/game/gameserver"
)

// serverPlace is how the game server of a target is asked.
type serverPlace struct {
	address string // or the name of a file in the target's folder that holds it; empty: nobody is asked
	call    profile.Call
	wait    int // seconds that it may take to notice
}

// dial finds the target's server, when it has one that is to be asked.
func (t *Target) dial(ctx context.Context, without bool) (*gameserver.Client, error) {
	if t.server.address == "" || without {
		return nil, nil
	}
	address := t.server.address
	if !strings.Contains(address, "://") {
		if err := safefile.CheckPath(address); err != nil {
			return nil, err
		}
		data, err := t.site.Read(ctx, address, 4096)
		if err != nil && !absent(err) {
			return nil, t.explain("read", address, err)
		}
		if err != nil {
			return nil, t.silent("no game server runs in "+t.where+" (it would have written "+address+")", nil)
		}
		address = strings.TrimSpace(string(data))
	}
	token := t.access.env(t.about.TokenEnv)
	if token != "" {
		// An address from a file on the server is an origin like any other: consent for one does not cover the next.
		if err := t.allowed(trust.Secret(t.p, t.Name, credential.Variable(t.about.TokenEnv), address)); err != nil {
			return nil, err
		}
		if err := credential.Encrypted(address, false, ""); err != nil {
			return nil, onTarget(t.Name, err)
		}
	}
	c, err := gameserver.Dial(ctx, address,
		gameserver.Calls{Token: token, Status: t.server.call.Status, Reload: t.server.call.Reload})
	if err != nil {
		return nil, t.silent("the game server at "+address+" does not answer", err)
	}
	return c, nil
}

func (t *Target) silent(what string, err error) error {
	do := "Start the server, or correct 'server' of the target."
	if t.Folder() != "" {
		do += " A stand-in starts with: vornix stand server " + t.Folder()
	}
	return &fault.Fault{Kind: fault.Unreachable, What: fmt.Sprintf("target %q: %s", t.Name, what), Err: err,
		Why: "Without its answer nobody knows whether players can load the map. Nothing was changed.",
		Do:  do + " (To copy the files without asking a server: --without-server.)"}
}

// askServer asks whether the maps of the bundles are loaded, after telling it to load anew when
// that is needed. wait is how long it may take to notice.
func askServer(ctx context.Context, c *gameserver.Client, bundles []GoalFile, changed bool,
	wait time.Duration) (*gameserver.Status, error) {
	until := time.Now().Add(wait)
	for {
		st, err := c.Status(ctx)
		if err == nil && (changed || wrong(st, bundles) != "") {
			st, err = c.Reload(ctx)
		}
		if err != nil {
			return nil, &fault.Fault{Kind: fault.Unreachable, What: "the game server stopped answering", Err: err}
		}
		text := wrong(st, bundles)
		if text == "" {
			return st, nil
		}
		if time.Now().After(until) {
			return st, errors.New(text)
		}
		select {
		case <-ctx.Done():
			return st, ctx.Err()
		case <-time.After(min(time.Second, wait/4)):
		}
	}
}

// wrong says which maps the server does not have loaded from these bundles.
func wrong(st *gameserver.Status, bundles []GoalFile) string {
	var reasons []string
	for _, b := range bundles {
		for _, name := range b.Maps {
			switch m := st.Find(name); {
			case m == nil:
				reasons = append(reasons, name+": the server does not have it")
			case !m.Loaded:
				reasons = append(reasons, name+": "+m.Error)
			case m.SHA256 != "" && m.SHA256 != b.SHA256:
				reasons = append(reasons, name+": the server has it from another file than the one that was deployed")
			}
		}
	}
	if len(reasons) > 4 {
		reasons = append(reasons[:3], fmt.Sprintf("and %d more", len(reasons)-3))
	}
	return strings.Join(reasons, "; ")
}
