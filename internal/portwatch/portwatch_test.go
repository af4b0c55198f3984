package portwatch

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/agentlink/linktest"
	"domicile/internal/connection"
	"domicile/internal/records"
)

// quay is a workspace whose agent says what the test has it say.
type quay struct {
	t       *testing.T
	mu      sync.Mutex
	away    bool
	reached int
	channel ssh.Channel
	link    *agentlink.Link

	services []string
	beside   func(ctx context.Context, service string, f func(wire.ListeningReport)) error
}

var errAway = errors.New("nobody is here")

// Listening is Sources'.
func (q *quay) Listening(ctx context.Context, w records.Workspace, service string, f func(wire.ListeningReport)) error {
	if service != "" {
		return q.beside(ctx, service, f)
	}
	link, err := q.reach(ctx)
	if err != nil {
		return err
	}
	defer link.Close()
	return link.Quiet().Listening(ctx, f)
}

// Beside is Sources'.
func (q *quay) Beside(context.Context, records.Workspace) ([]string, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.services, nil
}

func (q *quay) reach(ctx context.Context) (*agentlink.Link, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.reached++
	if q.away {
		return nil, errAway
	}
	l, err := agentlink.Open(ctx, linktest.Agent{Channels: func(c connection.NewChannel) {
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go connection.Discard(requests)
		q.mu.Lock()
		q.channel = channel
		q.mu.Unlock()
		q.says(8080)
	}}.Stream(q.t), linktest.Signer(q.t))
	q.link = l
	return l, err
}

func (q *quay) times() int {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.reached
}

func (q *quay) now() *agentlink.Link {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.link
}

// says has the agent say that programs listen at these ports.
func (q *quay) says(ports ...int) {
	q.mu.Lock()
	defer q.mu.Unlock()
	r := wire.ListeningReport{}
	for _, p := range ports {
		r.Listeners = append(r.Listeners, wire.Listener{Network: "tcp", Port: p})
	}
	_ = json.NewEncoder(q.channel).Encode(r)
}

func (q *quay) gone(gone bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.away = gone
	if gone {
		q.link.Close()
	}
}

func numbers(r wire.ListeningReport) (list []int) {
	for _, l := range r.Listeners {
		list = append(list, l.Port)
	}
	return list
}

func TestAWorkspaceIsWatchedWhileSomebodyWantsToKnow(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q, w := &quay{t: t}, records.Workspace{ID: 7, Name: "quayboard"}
		told := make(chan string, 100)
		ctx, cancel := context.WithCancel(t.Context())
		x := New(ctx, q, func(w records.Workspace) { told <- w.Name }, slog.New(slog.DiscardHandler))
		release := x.Keep(w)
		r, err := x.Report(t.Context(), w)
		require.NoError(t, err)
		assert.Equal(t, []int{8080}, numbers(r.ListeningReport))
		assert.Equal(t, "quayboard", <-told)

		q.says(8080, 9000)
		assert.Equal(t, "quayboard", <-told)
		r, err = x.Report(t.Context(), w)
		require.NoError(t, err)
		assert.Equal(t, []int{8080, 9000}, numbers(r.ListeningReport))
		assert.Equal(t, 1, q.times(), "one connection serves all")

		q.gone(true)
		<-told
		_, err = x.Report(t.Context(), w)
		assert.Error(t, err, "what was known does not hold any more")
		<-time.After(time.Minute) // of the bubble
		assert.Less(t, q.times(), 12, "it is tried again with growing pauses")
		q.gone(false)
		<-told
		r, err = x.Report(t.Context(), w)
		require.NoError(t, err)
		assert.Equal(t, []int{8080}, numbers(r.ListeningReport))

		release()
		release() // again is nothing
		<-time.After(lingers / 2)
		_, err = x.Report(t.Context(), w)
		require.NoError(t, err)
		<-time.After(2 * lingers)
		synctest.Wait()
		assert.Empty(t, x.open)
		assert.Error(t, q.now().Conn.Wait(), "nobody wants to know any more")
		cancel()
	})
}

// Where nobody answers, who asks learns why, and is not kept.
func TestAnAgentThatIsAway(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := &quay{t: t, away: true}
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		x := New(ctx, q, func(records.Workspace) {}, slog.New(slog.DiscardHandler))
		begun := time.Now()
		_, err := x.Report(t.Context(), records.Workspace{ID: 7})
		assert.ErrorIs(t, err, errAway)
		assert.Zero(t, time.Since(begun))
	})
}

// What listens in the services beside a workspace is known while they run, whatever its own agent
// says; who is named anew is looked into, and who is not any more is forgotten.
func TestServicesAreWatchedToo(t *testing.T) {
	t.Run("who asks first waits for their first word, and not for one who says nothing", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			q := &quay{t: t, services: []string{"db", "mute", "asleep"}}
			q.beside = func(ctx context.Context, service string, f func(wire.ListeningReport)) error {
				if service == "asleep" {
					return errAway
				}
				if service == "db" {
					<-time.After(time.Second) // it takes a while
					f(wire.ListeningReport{})
				}
				<-ctx.Done()
				return ctx.Err()
			}
			ctx, cancel := context.WithCancel(t.Context())
			x := New(ctx, q, func(records.Workspace) {}, slog.New(slog.DiscardHandler))
			begun := time.Now()
			r, err := x.Report(t.Context(), records.Workspace{ID: 7})
			require.NoError(t, err)
			assert.Equal(t, besideLimit, time.Since(begun))
			assert.Equal(t, []string{"db"}, slices.Collect(maps.Keys(r.Beside)))
			cancel()
			synctest.Wait()
		})
	})
	synctest.Test(t, func(t *testing.T) {
		ends := map[string]chan bool{"db": make(chan bool), "cache": make(chan bool)}
		q, w := &quay{t: t, services: []string{"db", "asleep"}}, records.Workspace{ID: 7, Name: "quayboard"}
		q.beside = func(ctx context.Context, service string, f func(wire.ListeningReport)) error {
			if ends[service] == nil {
				return errAway
			}
			f(wire.ListeningReport{Listeners: []wire.Listener{{Network: "tcp", Port: len(service)}}})
			select {
			case <-ctx.Done():
			case <-ends[service]:
			}
			return errAway
		}
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		x := New(ctx, q, func(records.Workspace) {}, slog.New(slog.DiscardHandler))
		defer x.Keep(w)()
		knows := func() []string {
			synctest.Wait()
			r, err := x.Report(t.Context(), w)
			require.NoError(t, err)
			return slices.Sorted(maps.Keys(r.Beside))
		}
		assert.Equal(t, []string{"db"}, knows())
		ends["db"] <- true
		assert.Empty(t, knows(), "it ended")
		<-time.After(againMost)
		assert.Equal(t, []string{"db"}, knows(), "it started again")
		q.mu.Lock()
		q.services = []string{"cache"}
		q.mu.Unlock()
		<-time.After(2 * relistEvery)
		assert.Equal(t, []string{"cache"}, knows())
		cancel()
		synctest.Wait()
	})
}
