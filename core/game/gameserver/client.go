package gameserver

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"vornix/core/base/httpclient"
)

// maxAnswer bounds what a server may answer.
const maxAnswer = 16 << 20

// Client asks a game server.
type Client struct {
	base  string
	calls Calls
	http  *http.Client
}

// Calls are how a server is spoken to: the paths under its address, and a token that it wants.
type Calls struct{ Status, Reload, Token string }

// Dial takes a server's address, and asks it once.
func Dial(ctx context.Context, address string, calls Calls) (*Client, error) {
	calls.Status, calls.Reload = cmp.Or(calls.Status, "/status"), cmp.Or(calls.Reload, "/reload")
	c := &Client{base: strings.TrimRight(address, "/"), calls: calls,
		http: httpclient.New(httpclient.Options{Secret: calls.Token != ""})}
	c.http.Timeout = 30 * time.Second
	if _, err := c.Status(ctx); err != nil {
		return nil, err
	}
	return c, nil
}

// Status asks what is loaded.
func (c *Client) Status(ctx context.Context) (*Status, error) {
	return c.ask(ctx, http.MethodGet, c.calls.Status)
}

// Reload makes the server load everything anew.
func (c *Client) Reload(ctx context.Context) (*Status, error) {
	return c.ask(ctx, http.MethodPost, c.calls.Reload)
}

func (c *Client) ask(ctx context.Context, method, path string) (*Status, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, nil)
	if err != nil {
		return nil, err
	}
	if c.calls.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.calls.Token)
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
