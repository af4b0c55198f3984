package sitetest

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/agentlink"
	"domicile/internal/plan"
)

// door lets a workspace make helpers of its own, and find them by their names.
func (p Place) door(t *testing.T) {
	ctx := t.Context()
	c := p.container("doored")
	c.Door = true
	p.make(t, "w8", c)
	require.NoError(t, p.Site.Start(ctx, "w8"))
	link := p.reached(t, "w8")
	defer link.Close()
	listener, err := link.Door(ctx, plan.DoorSocket)
	require.NoError(t, err)
	serving, stop := context.WithCancel(ctx)
	defer stop()
	served := make(chan error, 1)
	go func() { served <- p.can.Doors.ServeDoor(serving, "w8", listener) }()

	ask := func(method, path, body string) string {
		t.Helper()
		return p.inside(t, "w8", fmt.Sprintf(`python3 -c "
import http.client, socket
c = http.client.HTTPConnection('engine')
c.sock = socket.socket(socket.AF_UNIX); c.sock.connect('%s')
c.request('%s', '%s', '%s', {'Content-Type': 'application/json'})
a = c.getresponse(); print(a.status, a.read().decode())"`, plan.DoorSocket, method, path, strings.ReplaceAll(body, `"`, `\"`)))
	}
	assert.Equal(t, "200 OK\n", ask("GET", "/_ping", ""))
	said := ask("POST", "/v1.40/images/create?fromImage="+url.QueryEscape(p.Image), "")
	assert.Regexp(t, "^200 ", said)
	assert.NotContains(t, said, "error")
	assert.Regexp(t, "^201 ", ask("POST", "/v1.40/containers/create?name=cache", fmt.Sprintf(`{"Image": "%s", "Cmd": ["sleep", "300"]}`, p.Image)))
	assert.Regexp(t, "^204 ", ask("POST", "/v1.40/containers/cache/start", ""))
	assert.Contains(t, ask("GET", "/v1.40/containers/json", ""), `"/cache"`)
	assert.Equal(t, "cache\n", p.inside(t, "w8", "getent hosts cache > /dev/null && echo cache"))
	assert.Regexp(t, "^403 ", ask("POST", "/v1.40/containers/create?name=spy", fmt.Sprintf(`{"Image": "%s", "HostConfig": {"Privileged": true}}`, p.Image)))

	stop()
	assert.NoError(t, <-served)
	require.NoError(t, listener.Close())
	assert.Eventually(t, func() bool {
		return p.inside(t, "w8", fmt.Sprintf(`python3 -c "import socket; socket.socket(socket.AF_UNIX).connect('%s')" 2>/dev/null || echo shut`, plan.DoorSocket)) == "shut\n"
	}, 10*time.Second, 50*time.Millisecond, "the door closes with who held it")
}

// reached opens a link to an instance's agent, which may just be started.
func (p Place) reached(t *testing.T, id string) (link *agentlink.Link) {
	t.Helper()
	require.Eventually(t, func() bool {
		var stream net.Conn
		stream, err := p.Site.Connect(t.Context(), id)
		if err == nil {
			link, err = agentlink.Open(t.Context(), stream, p.Key)
		}
		return err == nil
	}, 20*time.Second, 10*time.Millisecond, "the agent answers")
	return link
}
