package sshline

import (
	"context"
	"errors"
	"io"
	"net"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agentlink/linktest"
	"domicile/internal/connection"
	"domicile/internal/fault"
)

// far is a place that is connected to.
type far struct {
	t      *testing.T
	silent atomic.Bool   // it answers no channel
	wait   chan struct{} // nil: it is opened at once
	opened atomic.Int32
}

var errShut = errors.New("the place is shut")

func (f *far) open(context.Context) (*ssh.Client, error) {
	f.opened.Add(1)
	if f.wait != nil {
		<-f.wait
	}
	stream := linktest.Agent{Channels: func(c connection.NewChannel) {
		if f.silent.Load() {
			return
		}
		var to struct {
			Host string
			Port uint32
			Rest []byte `ssh:"rest"`
		}
		_ = ssh.Unmarshal(c.ExtraData(), &to)
		if to.Port == 9 {
			_ = c.Reject(ssh.ConnectionFailed, "nobody is there")
			return
		}
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go connection.Discard(requests)
		_, _ = io.WriteString(channel, to.Host)
		channel.Close()
	}}.Stream(f.t)
	c, channels, requests, err := ssh.NewClientConn(stream, "", &ssh.ClientConfig{HostKeyCallback: ssh.InsecureIgnoreHostKey(), Auth: []ssh.AuthMethod{ssh.PublicKeys(linktest.Signer(f.t))}})
	if err != nil {
		return nil, err
	}
	return ssh.NewClient(c, channels, requests), nil
}

func asks(ctx context.Context, l *Line[*ssh.Client], target string) (string, error) {
	conn, err := l.Dial(ctx, target)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	b, err := io.ReadAll(conn)
	return string(b), err
}

func TestOneConnectionServesAll(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &far{t: t, wait: make(chan struct{})}
		l := &Line[*ssh.Client]{Open: f.open}
		answers := make(chan string, 10)
		for range 10 {
			go func() {
				said, _ := asks(t.Context(), l, "deck:80")
				answers <- said
			}()
		}
		synctest.Wait() // one opens it, the others wait for that
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		_, err := asks(ctx, l, "deck:80")
		assert.ErrorIs(t, err, context.DeadlineExceeded, "nobody waits longer than he likes")
		close(f.wait)
		for range 10 {
			assert.Equal(t, "deck", <-answers)
		}
		assert.EqualValues(t, 1, f.opened.Load())
		_, err = asks(t.Context(), l, "deck:9")
		assert.Equal(t, "nobody-listens", fault.Code(err))
		assert.EqualValues(t, 1, f.opened.Load(), "a refusal is an answer")
		l.Close()
	})
}

// A connection that does not answer any more, such as that of a machine that slept, is made anew once.
func TestAConnectionThatIsDead(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &far{t: t}
		l := &Line[*ssh.Client]{Open: f.open}
		_, err := asks(t.Context(), l, "deck:80")
		require.NoError(t, err)
		f.silent.Store(true)
		time.AfterFunc(dialLimit-time.Second, func() { f.silent.Store(false) })
		said, err := asks(t.Context(), l, "deck:80")
		require.NoError(t, err)
		assert.Equal(t, "deck", said)
		assert.EqualValues(t, 2, f.opened.Load())
		f.silent.Store(true)
		_, err = asks(t.Context(), l, "deck:80")
		assert.Error(t, err)
		assert.EqualValues(t, 3, f.opened.Load(), "and not again and again")
		l.Close()
	})
}

// What is closed while it is opened is not used, and nobody is kept waiting by that.
func TestALineThatIsClosedMeanwhile(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &far{t: t, wait: make(chan struct{})}
		l := &Line[*ssh.Client]{Open: f.open}
		over := make(chan error, 1)
		go func() {
			_, err := asks(t.Context(), l, "deck:80")
			over <- err
		}()
		synctest.Wait()
		l.Close() // and does not wait
		close(f.wait)
		assert.ErrorIs(t, <-over, errClosed)
		said, err := asks(t.Context(), l, "deck:80")
		require.NoError(t, err)
		assert.Equal(t, "deck", said)
		l.Close()
	})
	l := &Line[*ssh.Client]{Open: func(context.Context) (*ssh.Client, error) { return nil, errShut }}
	_, err := asks(t.Context(), l, "deck:80")
	assert.ErrorIs(t, err, errShut)
	near, _ := net.Pipe()
	assert.ErrorIs(t, l.Join(t.Context(), near, "deck:80"), errShut)
}
