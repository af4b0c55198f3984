package daemons

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"
)

// askLimit is how long an engine has to answer: who stops it must not wait for one that hangs.
const askLimit = time.Minute

// ask sends a request to an engine at a unix socket, and reads what it answers; nil: nothing of
// it is wanted. Starting and stopping an engine needs no more of its API than this.
func ask(ctx context.Context, host, method, path string, answer any) error {
	socket := strings.TrimPrefix(host, "unix://")
	c := &http.Client{Timeout: askLimit, Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", socket)
	}}}
	q, err := http.NewRequestWithContext(ctx, method, "http://engine"+path, nil)
	if err != nil {
		return err
	}
	r, err := c.Do(q)
	if err != nil {
		return fmt.Errorf("ask the engine at %s: %w", host, err)
	}
	defer r.Body.Close()
	if r.StatusCode >= 300 {
		return fmt.Errorf("ask the engine at %s for %s: %s", host, path, r.Status)
	}
	if answer == nil {
		return nil
	}
	return json.NewDecoder(r.Body).Decode(answer)
}
