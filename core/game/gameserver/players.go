package gameserver

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"sync"
	"time"

	"vornix/core/base/httpclient"
)

// Players is how simulated players fare. Each joins the server again and again: asks what is
// played, gets the map's bundle from the server unless it has it, and plays. One that gets
// something else than the server says it plays has failed.
type Players struct {
	Count  int    `json:"count"`
	Joined int    `json:"joined"`        // times
	Loaded int64  `json:"loaded"`        // bytes that they got
	Failed int    `json:"failed"`        // times
	Why    string `json:"why,omitempty"` // of the last one that failed
}

// crowd counts for the players.
type crowd struct {
	mu sync.Mutex
	Players
}

func (c *crowd) told(count int) *Players {
	c.mu.Lock()
	defer c.mu.Unlock()
	p := c.Players
	p.Count = count
	return &p
}

// often is how long a player plays before it joins again.
const often = 40 * time.Millisecond

// play is one player's life.
func (c *crowd) play(ctx context.Context, s *Server, number int) {
	client := httpclient.New(httpclient.Options{})
	client.Timeout = 10 * time.Second
	have := map[string]bool{}
	tick := time.NewTicker(often + time.Duration(number%7)*3*time.Millisecond)
	defer tick.Stop()
	defer client.CloseIdleConnections()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		n, err := join(ctx, client, s, have)
		if ctx.Err() != nil {
			return
		}
		c.mu.Lock()
		c.Joined++
		c.Loaded += n
		if err != nil {
			c.Failed++
			c.Why = err.Error()
		}
		c.mu.Unlock()
		if err != nil {
			s.say("player %d failed: %v", number, err)
		}
	}
}

// join gets what is played. What changes while it is got is asked for anew, as a game's client does, once.
func join(ctx context.Context, client *http.Client, s *Server, have map[string]bool) (n int64, err error) {
	for range 3 {
		st := s.Status()
		if st.Playing == "" {
			return n, nil
		}
		m := st.Find(st.Playing)
		if m == nil || have[m.SHA256] {
			return n, nil
		}
		var sum string
		var got int64
		sum, got, err = load(ctx, client, s.URL+"/files/"+url.PathEscape(m.Bundle))
		n += got
		if err == nil && sum == m.SHA256 {
			have[sum] = true
			return n, nil
		}
		if err == nil {
			err = fmt.Errorf("%s is not the file that the server says it plays", m.Bundle)
		}
		select { // the server may be about to notice
		case <-ctx.Done():
			return n, ctx.Err()
		case <-time.After(2 * settled):
		}
	}
	return n, err
}

func load(ctx context.Context, client *http.Client, address string) (sum string, n int64, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", 0, err
	}
	resp, err := client.Do(req)
	if err != nil {
		return "", 0, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return "", 0, fmt.Errorf("the server answered %s", resp.Status)
	}
	h := sha256.New()
	n, err = io.Copy(h, resp.Body)
	return hex.EncodeToString(h.Sum(nil)), n, err
}
