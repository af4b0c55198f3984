package e2e

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hush leads to the service, and can fall silent: nothing gets through and nobody is told, as when a cable is
// pulled. What was sent meanwhile arrives afterwards, as TCP has it.
type hush struct {
	listener net.Listener
	mu       sync.Mutex
	again    *sync.Cond
	silent   bool
}

func newHush(t *testing.T) *hush {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	h := &hush{listener: l}
	h.again = sync.NewCond(&h.mu)
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				h.pass()
				far, err := net.Dial("tcp", strings.TrimPrefix(world.Service.URL, "http://"))
				if err != nil {
					near.Close()
					return
				}
				go func() { _, _ = io.Copy(far, through{near, h}); far.Close() }()
				_, _ = io.Copy(near, through{far, h})
				near.Close()
			}()
		}
	}()
	return h
}

// pass waits while it is silent.
func (h *hush) pass() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for h.silent {
		h.again.Wait()
	}
}

func (h *hush) set(silent bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.silent = silent
	h.again.Broadcast()
}

// through is one side's bytes, and its end, which come when nothing is silent.
type through struct {
	io.Reader
	h *hush
}

func (x through) Read(b []byte) (int, error) {
	n, err := x.Reader.Read(b)
	x.h.pass()
	return n, err
}

// A network that says nothing for half a minute is not noticed; after one of ten minutes all is there again by
// itself, and what could not go on has ended cleanly.
func TestPlacesTheNetworkIsSilent(t *testing.T) {
	u := &ushered{person: anotherPerson(t, "stoker"), config: filepath.Join(t.TempDir(), "config"), said: filepath.Join(t.TempDir(), "said")}
	u.opened = filepath.Join(t.TempDir(), "opened")
	require.NoError(t, os.WriteFile(u.opened+".sh", []byte("#!/bin/sh\n"), 0o755))
	h := newHush(t)
	require.NoError(t, os.WriteFile(u.login, fmt.Appendf(nil, `{"server": "http://%s", "token": %q}`, h.listener.Addr(), u.token), 0o600))
	a := u.provision(t, publish(t, "silentdeck", board, nil), "deck")
	require.Equal(t, 0, a.status, a.err)
	u.begin(t)
	t.Cleanup(func() { u.end(t, syscall.SIGKILL) })
	u.serves(t, 9500)
	eventually(t, 20*time.Second, "the port is here", func() bool { return u.gets(t, "deck", "9500") == "quay\n" })

	for _, x := range []struct {
		silence  time.Duration
		survives bool
	}{{30 * time.Second, true}, {10 * time.Minute, false}} {
		t.Run(x.silence.String(), func(t *testing.T) {
			ticks := exec.CommandContext(t.Context(), "ssh", "-F", u.config, "deck.domicile", "for i in $(seq 400); do echo line $i; sleep 0.1; done; exit 5")
			var said strings.Builder
			ticks.Stdout = &said
			require.NoError(t, ticks.Start())
			<-time.After(5 * time.Second)
			h.set(true)
			<-time.After(x.silence)
			h.set(false)
			_ = ticks.Wait()
			var want strings.Builder
			for i := range 400 {
				fmt.Fprintf(&want, "line %d\n", i+1)
			}
			if x.survives {
				assert.Equal(t, want.String(), said.String())
				assert.Equal(t, 5, ticks.ProcessState.ExitCode())
			} else {
				assert.True(t, strings.HasPrefix(want.String(), said.String()), "what came is what was sent")
				assert.Equal(t, 255, ticks.ProcessState.ExitCode())
			}
			eventually(t, 90*time.Second, "the usher is connected", func() bool { return u.status(t).Connected })
			eventually(t, 90*time.Second, "the port is here", func() bool { return u.gets(t, "deck", "9500") == "quay\n" })
			a := u.at(t, "ssh", "-F", u.config, "deck.domicile", "hostname")
			assert.Equal(t, "deck\n", a.out, a.err)
		})
	}
}
