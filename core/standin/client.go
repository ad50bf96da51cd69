package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vornix/core/fault"
	"vornix/core/safefile"
)

// maxAnswer bounds what a server may answer.
const maxAnswer = 16 << 20

// Client asks a game server.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// Dial finds a server by its address, or by the file in its folder dir that holds the address, and asks it once. An
// error is an Unreachable fault.
func Dial(ctx context.Context, server, dir, token string) (*Client, error) {
	unreachable := func(what string, err error) error {
		return &fault.Fault{Kind: fault.Unreachable, What: what, Err: err,
			Why: "Without its answer nobody knows whether players can load the map. Nothing was changed.",
			Do:  "Start the server, or correct 'server' of the target. A stand-in starts with: vornix stand server " + dir}
	}
	if !strings.Contains(server, "://") {
		if err := safefile.CheckPath(server); err != nil {
			return nil, err
		}
		data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(server)))
		if err != nil {
			return nil, unreachable("no game server runs in "+dir+" (it would have written "+server+")", nil)
		}
		server = strings.TrimSpace(string(data))
	}
	c := &Client{base: strings.TrimRight(server, "/"), token: token, http: &http.Client{Timeout: 30 * time.Second}}
	if _, err := c.Status(ctx); err != nil {
		return nil, unreachable("the game server at "+server+" does not answer", err)
	}
	return c, nil
}

// Status asks what is loaded.
func (c *Client) Status(ctx context.Context) (*Status, error) {
	return c.ask(ctx, http.MethodGet, "/status")
}

// Reload makes the server load everything anew.
func (c *Client) Reload(ctx context.Context) (*Status, error) {
	return c.ask(ctx, http.MethodPost, "/reload")
}

func (c *Client) ask(ctx context.Context, method, path string) (*Status, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, nil)
	if err != nil {
		return nil, err
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	if err != nil {
		return nil, err
	}
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answered %s to %s %s", resp.Status, method, path)
	}
	s := &Status{}
	if err := json.Unmarshal(data, s); err != nil {
		return nil, fmt.Errorf("its answer to %s %s can't be read: %w", method, path, err)
	}
	return s, nil
}
