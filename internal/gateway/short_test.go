package gateway

import (
	"runtime"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/records"
)

// short answers sessions whose program is over at once.
func short(_ ssh.Conn, channels <-chan ssh.NewChannel, requests <-chan *ssh.Request) {
	go ssh.DiscardRequests(requests)
	for c := range channels {
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				_ = r.Reply(true, nil)
				_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{3}))
				channel.Close()
			}
		}()
	}
}

// However short a command is, its request is answered before its channel ends.
func TestShortCommands(t *testing.T) {
	key := newSigner(t)
	o := &town{t: t, key: key.PublicKey(), state: records.Ready, agent: short}
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(8)) // more threads than cores: they overtake each other
	var all sync.WaitGroup
	for range 4 {
		c, err := o.dial(t, "deck", key)
		require.NoError(t, err)
		all.Go(func() {
			for range 500 {
				s, err := c.NewSession()
				if !assert.NoError(t, err) {
					return
				}
				var exit *ssh.ExitError
				if err := s.Run("true"); !assert.ErrorAs(t, err, &exit) || !assert.Equal(t, 3, exit.ExitStatus()) {
					return
				}
			}
		})
	}
	all.Wait()
}
