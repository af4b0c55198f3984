package gateway

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/records"
)

// telling is an agent that tells where a forward goes.
func telling(c ssh.Conn, channels <-chan ssh.NewChannel, requests <-chan *ssh.Request) {
	passed := make(chan ssh.NewChannel)
	go echoing(c, passed, requests)
	for n := range channels {
		var to direct
		if n.ChannelType() != "direct-tcpip" || ssh.Unmarshal(n.ExtraData(), &to) != nil {
			passed <- n
			continue
		}
		if to.Port == 9 {
			_ = n.Reject(ssh.ConnectionFailed, "nothing answers there")
			continue
		}
		channel, requests, _ := n.Accept()
		go ssh.DiscardRequests(requests)
		_, _ = io.WriteString(channel, to.Host)
		channel.Close()
	}
}

// By the name of a workspace one goes on to it, with nothing more to prove; what is not one's own
// is not there.
func TestOnwardThroughTheGateway(t *testing.T) {
	key := newSigner(t)
	o := &town{t: t, key: key.PublicKey(), state: records.Ready, agent: telling}
	for _, user := range []string{"deck", onwardUser} {
		t.Run("as "+user, func(t *testing.T) {
			c, err := o.dial(t, user, key)
			require.NoError(t, err)
			conn, err := c.Dial("tcp", "deck.domicile:22")
			require.NoError(t, err)
			inner, channels, requests, err := ssh.NewClientConn(conn, "", &ssh.ClientConfig{User: "whoever", HostKeyCallback: ssh.InsecureIgnoreHostKey()})
			require.NoError(t, err)
			s, err := ssh.NewClient(inner, channels, requests).NewSession()
			require.NoError(t, err)
			var out bytes.Buffer
			s.Stdin, s.Stdout = strings.NewReader("through and through"), &out
			var exit *ssh.ExitError
			require.ErrorAs(t, s.Run("echo"), &exit)
			assert.Equal(t, 9, exit.ExitStatus())
			assert.Equal(t, "through and through", out.String())

			for address, want := range map[string]string{"deck.domicile:8080": "localhost", "db.deck.domicile:5432": "db", "db.deck.domicile:22": "db"} {
				conn, err := c.Dial("tcp", address)
				require.NoError(t, err, address)
				b, err := io.ReadAll(conn)
				require.NoError(t, err)
				assert.Equal(t, want, string(b), address)
			}
			for address, want := range map[string]string{"bridge.domicile:22": `You have no workspace "bridge"`, "deck.domicile:9": "nothing answers there", ".domicile:22": "You have no workspace", "a.b.c.domicile:22": "You have no workspace"} {
				_, err := c.Dial("tcp", address)
				var refused *ssh.OpenChannelError
				require.True(t, errors.As(err, &refused), address)
				assert.Contains(t, refused.Message, want, address)
			}
		})
	}
	t.Run("nothing else without a workspace", func(t *testing.T) {
		c, err := o.dial(t, onwardUser, key)
		require.NoError(t, err)
		_, err = c.Dial("tcp", "127.0.0.1:80")
		assert.ErrorContains(t, err, "Here one only goes on")
		s, err := c.NewSession()
		require.NoError(t, err)
		var errs bytes.Buffer
		s.Stderr = &errs
		var exit *ssh.ExitError
		require.ErrorAs(t, s.Run("true"), &exit)
		assert.Contains(t, errs.String(), "ssh -J domicile@")
	})
	t.Run("to one that is stopped", func(t *testing.T) {
		stopped := &town{t: t, key: key.PublicKey(), state: records.Stopped}
		c, err := stopped.dial(t, onwardUser, key)
		require.NoError(t, err)
		_, err = c.Dial("tcp", "deck.domicile:22")
		assert.ErrorContains(t, err, "domicile start deck")
	})
}
