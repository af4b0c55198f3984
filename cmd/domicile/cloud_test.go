//go:build linux && !client

package main

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	random "math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"domicile/internal/callhome"
	"domicile/internal/channel"
	"domicile/internal/credential"
	"domicile/internal/daemons"
	"domicile/internal/daemons/daemonstest"
	"domicile/internal/fault"
	"domicile/internal/records"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/cloud"
	"domicile/internal/site/machine/cloud/provider"
	standin "domicile/internal/standin/cloud"
)

var database *daemons.Postgres

func TestMain(m *testing.M) { os.Exit(daemonstest.Postgres(m, &database)) }

// pretended are instances that call home and have an engine which says that it is there.
type pretended struct {
	mu    sync.Mutex
	given map[string]callhome.FirstBoot
	keys  map[string]ed25519.PrivateKey
	conns map[string]net.Conn
}

func newPretended() *pretended {
	return &pretended{given: map[string]callhome.FirstBoot{}, keys: map[string]ed25519.PrivateKey{}, conns: map[string]net.Conn{}}
}

func (p *pretended) Make(ctx context.Context, id string, _ provider.Size, _, first string) error {
	var given callhome.FirstBoot
	if err := json.Unmarshal([]byte(first), &given); err != nil {
		return err
	}
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	p.mu.Lock()
	p.given[id], p.keys[id] = given, key
	p.mu.Unlock()
	return p.Start(ctx, id)
}

func (p *pretended) Start(_ context.Context, id string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	conn, err := callhome.Dial(p.given[id], p.keys[id])
	if err != nil {
		return err
	}
	p.conns[id] = conn
	go func() {
		_ = channel.Call(conn, func(_ context.Context, _ string, stream net.Conn) { // it ends with the connection
			_, _ = io.WriteString(stream, "HTTP/1.0 200 OK\r\n\r\n")
		})
	}()
	return nil
}

func (p *pretended) Stop(_ context.Context, id string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if conn := p.conns[id]; conn != nil {
		conn.Close()
		delete(p.conns, id)
	}
	return nil
}

func (p *pretended) Remove(ctx context.Context, id string) error { return p.Stop(ctx, id) }

// chandlery is a provider, and a service that rents there.
type chandlery struct {
	at      *standin.Cloud
	account *provider.Account
	maker   *cloud.Maker
	store   *records.Store
	site    string
	locked  atomic.Bool // the account's key is taken no more
}

func newChandlery(t *testing.T, o standin.Options) *chandlery {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	return newChandleryAt(t, o, l, l.Addr().String())
}

// newChandleryAt has instances call at a listener, which they reach as home.
func newChandleryAt(t *testing.T, o standin.Options, l net.Listener, home string) *chandlery {
	t.Helper()
	t.Cleanup(func() { l.Close() })
	store, err := records.Open(t.Context(), database.URL)
	require.NoError(t, err)
	t.Cleanup(store.Close)
	c := &chandlery{store: store, site: "rented-" + rand.Text()}
	o.Region, o.Key, o.Currency, o.Sizes = "north", "key", "EUR", standinSizes
	c.at, err = standin.New(o)
	require.NoError(t, err)
	t.Cleanup(c.at.Close)
	handler := c.at.Handler()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if c.locked.Load() {
			r.Header.Set("Authorization", "Bearer of nobody")
		}
		handler.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	c.account, err = provider.Open(server.URL+"/north", "key")
	require.NoError(t, err)
	seal, err := credential.OpenSeal(t.TempDir())
	require.NoError(t, err)
	r := newRented(home, "test", "", store, seal)
	go func() {
		assert.NoError(t, r.answer(context.WithoutCancel(t.Context()), l, slog.New(slog.DiscardHandler)))
	}()
	pin, err := callhome.Pin(r.key.Public().(ed25519.PublicKey))
	require.NoError(t, err)
	c.maker = cloud.New(cloud.Options{Site: c.site, Installation: "test", Place: c.account.Place, Provider: c.account, Ledger: r.ledger, Lines: r.lines, Home: r.home, Pin: pin, Secret: r.secret, Settling: 500 * time.Millisecond, Folder: disksOf(t, o), Say: func(format string, args ...any) {}})
	t.Cleanup(c.maker.Close)
	return c
}

// disksOf is where disks are made for a provider that keeps some.
func disksOf(t *testing.T, o standin.Options) string {
	if o.Disks == "" {
		return ""
	}
	return t.TempDir()
}

// insist does something again while its fault may pass.
func insist(t *testing.T, what string, do func() error) error {
	t.Helper()
	var err error
	for range 30 {
		if err = do(); err == nil || !fault.IsTransient(err) {
			return err
		}
	}
	return fmt.Errorf("%s: %w", what, err)
}

var dinghy = machine.Shape{Processors: 1, Memory: 1 << 30}

func (c *chandlery) open(t *testing.T) map[string]bool {
	t.Helper()
	bill, err := c.account.Bill(t.Context())
	require.NoError(t, err)
	open := map[string]bool{}
	for _, l := range bill.Lines {
		if l.Open {
			open[l.Instance] = true
		}
	}
	return open
}

func (c *chandlery) rented(t *testing.T) map[string]bool {
	t.Helper()
	list, err := c.store.Rentals(t.Context(), c.site)
	require.NoError(t, err)
	there := map[string]bool{}
	for _, r := range list {
		there[r.Instance] = true
	}
	return there
}

// Two hundred faults while forty instances come, rest, go on and go: afterwards what exists, what
// is written down and what is to be paid are the same.
func TestNoInstanceIsForgottenAndNoneDoubled(t *testing.T) {
	ctx := t.Context()
	c := newChandlery(t, standin.Options{Quota: 60, Lag: 50 * time.Millisecond, Computers: newPretended()})
	seed := random.Uint64()
	t.Log("seed", seed)
	dice := random.New(random.NewPCG(seed, 0))
	kinds := []string{standin.Refuse, standin.Cut, standin.Lose, standin.Nonsense, standin.Late, standin.SlowDown}
	calls := []string{"getOffer", "listInstances", "createInstance", "getInstance", "deleteInstance", "startInstance", "stopInstance"}
	ordered := 0
	order := func() {
		f := standin.Fault{Kind: kinds[dice.IntN(len(kinds))], Call: calls[dice.IntN(len(calls))], Times: 1}
		if dice.IntN(3) == 0 {
			f.Call, f.Kind = "createInstance", []string{standin.Repeat, standin.Full, standin.Fail, standin.Lose}[dice.IntN(4)]
		}
		c.at.Order(f)
		ordered++
	}
	for range 120 {
		order()
	}
	var all errgroup.Group
	all.SetLimit(10)
	for n := range 40 {
		id, takes := fmt.Sprintf("w%d", n+1), dice.IntN(4)
		for range 2 {
			order()
		}
		all.Go(func() error {
			steps := []func() error{
				func() error {
					return insist(t, "made", func() error {
						if err := c.maker.Ensure(ctx, id, dinghy, nil); err != nil {
							return err
						}
						_, err := c.maker.Start(ctx, id)
						return err
					})
				},
				func() error { return insist(t, "marked", func() error { return c.maker.Mark(ctx, id, "made") }) },
				func() error { return insist(t, "stopped", func() error { return c.maker.Stop(ctx, id) }) },
				func() error {
					return insist(t, "started", func() error { _, err := c.maker.Start(ctx, id); return err })
				},
				func() error { return c.maker.Remove(ctx, id) },
			}
			for i, step := range steps {
				if i == len(steps)-1 && takes > 0 {
					break // three of four stay
				}
				if err := step(); err != nil {
					return fmt.Errorf("%s, step %d: %w", id, i, err)
				}
			}
			return nil
		})
	}
	require.NoError(t, all.Wait())
	assert.Equal(t, 200, ordered)
	for name := range c.open(t) { // one of them is taken away
		require.NoError(t, c.at.TakeAway(name))
		break
	}
	settle := func() {
		t.Helper()
		require.Eventually(t, func() bool {
			if c.maker.Sweep(ctx) != nil {
				return false
			}
			_, err := c.maker.List(ctx)
			return err == nil && assert.ObjectsAreEqual(c.open(t), c.rented(t))
		}, 60*time.Second, 100*time.Millisecond, "what is to be paid is what is written down: %v, %v", c.open(t), c.rented(t))
	}
	settle()
	t.Log("faults that did not come", c.at.Left())
	list, err := c.maker.List(ctx)
	require.NoError(t, err)
	assert.Equal(t, len(list), len(c.open(t)))
	assert.GreaterOrEqual(t, len(list), 15)
	for _, m := range list {
		require.NoError(t, insist(t, "removed", func() error { return c.maker.Remove(ctx, m.ID) }))
	}
	settle()
	assert.Empty(t, c.open(t))
	require.NoError(t, insist(t, "swept", func() error { return c.maker.Sweep(ctx) }))
	bill, err := c.account.Bill(ctx)
	require.NoError(t, err)
	ever, err := c.store.RentalsEver(ctx, c.site)
	require.NoError(t, err)
	spent := map[string]int64{}
	for _, r := range ever {
		assert.NotNil(t, r.Ended, r.Token)
		spent[r.Token] += r.Spent
	}
	for _, l := range bill.Lines {
		assert.Equal(t, l.Amount, spent[l.Token], "%s of the order %s", l.Instance, l.Token)
	}
	strange, err := c.maker.Spares(ctx)
	require.NoError(t, err)
	assert.Empty(t, strange)
}

// What a provider takes away is gone, and is said to be; another may be made in its place.
func TestAnInstanceThatIsTakenAway(t *testing.T) {
	ctx := t.Context()
	c := newChandlery(t, standin.Options{Quota: 2, Computers: newPretended()})
	make := func() {
		t.Helper()
		require.NoError(t, c.maker.Ensure(ctx, "w1", dinghy, nil))
		_, err := c.maker.Start(ctx, "w1")
		require.NoError(t, err)
		require.NoError(t, c.maker.Mark(ctx, "w1", "made"))
	}
	make()
	m, found, err := c.maker.Find(ctx, "w1")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, machine.Running, m.State)
	require.NoError(t, c.maker.Ensure(ctx, "w1", dinghy, nil), "again")
	assert.Len(t, c.open(t), 1)
	for name := range c.open(t) {
		require.NoError(t, c.at.TakeAway(name))
	}
	_, err = c.maker.Start(ctx, "w1")
	// The line may still answer for a moment after the instance went.
	if err == nil {
		require.NoError(t, c.maker.Sweep(ctx))
		_, found, err = c.maker.Find(ctx, "w1")
		require.NoError(t, err)
		assert.False(t, found)
	}
	make()
	assert.Len(t, c.open(t), 1)
	assert.Equal(t, "another-size", fault.Code(c.maker.Ensure(ctx, "w1", machine.Shape{Processors: 4, Memory: 4 << 30}, nil)))
}

// An account that is full, a size that nobody has, a first call with a proof that is none.
func TestWhatCannotBeRented(t *testing.T) {
	ctx := t.Context()
	c := newChandlery(t, standin.Options{Quota: 1, Computers: newPretended()})
	require.NoError(t, c.maker.Ensure(ctx, "w1", dinghy, nil))
	err := c.maker.Ensure(ctx, "w2", dinghy, nil)
	assert.Equal(t, "no-room", fault.Code(err))
	assert.ErrorContains(t, err, "as many instances as it may")
	_, found, err := c.maker.Find(ctx, "w2")
	require.NoError(t, err)
	assert.False(t, found, "nothing of it is left")
	assert.Equal(t, "no-size", fault.Code(c.maker.Ensure(ctx, "w3", machine.Shape{Processors: 99, Memory: 1 << 50}, nil)))
	facts, err := c.maker.Examine(ctx)
	require.NoError(t, err)
	assert.Contains(t, facts.What, "1 of 1 taken")
	assert.Equal(t, "0.009 EUR an hour, 6.57 EUR a month", facts.Sizes[0].Price.String())
	r, err := c.store.Rental(ctx, c.site, "w1")
	require.NoError(t, err)
	lines := cloud.NewLines(ledger{c.store}, []byte("another secret"), "")
	assert.ErrorContains(t, lines.Admit(ctx, callhome.Call{Token: "nobody's", Key: make([]byte, 32)}), "nobody ordered")
	_, err = c.maker.Start(ctx, "w1")
	require.NoError(t, err)
	assert.ErrorContains(t, lines.Admit(ctx, callhome.Call{Token: r.Token, Key: make([]byte, 32)}), "another key")
	require.NoError(t, c.maker.Remove(ctx, "w1"))
	assert.ErrorContains(t, lines.Admit(ctx, callhome.Call{Token: r.Token, Key: r.Key}), "nobody ordered")
	// A database that is older than an instance: it is told, and ended only when somebody says so.
	require.Eventually(t, func() bool { return c.maker.Ensure(ctx, "w4", dinghy, nil) == nil }, 10*time.Second, 20*time.Millisecond)
	r, err = c.store.Rental(ctx, c.site, "w4")
	require.NoError(t, err)
	require.NoError(t, c.store.InTx(ctx, func(_ records.Queries, tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "DELETE FROM rentals WHERE token = $1", r.Token)
		return err
	}))
	var strange []machine.Spare
	require.Eventually(t, func() bool {
		require.NoError(t, c.maker.Sweep(ctx))
		strange, err = c.maker.Spares(ctx)
		return err == nil && len(strange) == 1
	}, 10*time.Second, 20*time.Millisecond)
	assert.Contains(t, strange[0].Why, "the records do not know this instance")
	assert.Len(t, c.open(t), 1)
	require.NoError(t, c.maker.RemoveSpare(ctx, "i999"), "what is none of them is not asked for")
	require.NoError(t, c.maker.RemoveSpare(ctx, strange[0].Name))
	assert.Empty(t, c.open(t))
}

// An answer that has the instance of another order takes it from nobody, whether the provider shows
// at once whose it is or later.
func TestAnAnswerWithTheInstanceOfAnother(t *testing.T) {
	ctx := t.Context()
	for _, lag := range []time.Duration{0, 300 * time.Millisecond} {
		c := newChandlery(t, standin.Options{Quota: 9, Lag: lag, Computers: newPretended()})
		c.at.Order(standin.Fault{Call: "createInstance", Kind: standin.Lose, Times: 1})
		require.Error(t, c.maker.Ensure(ctx, "w1", dinghy, nil), "it is made, and nobody knows")
		c.at.Order(standin.Fault{Call: "createInstance", Kind: standin.Repeat, Times: 1})
		if err := c.maker.Ensure(ctx, "w2", dinghy, nil); err != nil { // it is seen at once, or later
			assert.Equal(t, "provider-nonsense", fault.Code(err))
		}
		for _, id := range []string{"w1", "w2"} {
			require.Eventually(t, func() bool {
				if c.maker.Ensure(ctx, id, dinghy, nil) != nil {
					return false
				}
				_, err := c.maker.Start(ctx, id)
				return err == nil
			}, 20*time.Second, 20*time.Millisecond, id)
		}
		var list []provider.Instance
		require.Eventually(t, func() bool { // what was made just now is listed late
			var err error
			list, err = c.account.List(ctx, "")
			return err == nil && len(list) == 2
		}, 20*time.Second, 20*time.Millisecond)
		for _, i := range list {
			r, err := c.store.RentalByToken(ctx, i.Token)
			require.NoError(t, err)
			assert.Equal(t, i.Id, r.Instance)
			assert.Equal(t, i.Tags["workspace"], r.Workspace)
		}
		require.NoError(t, c.maker.Remove(ctx, "w2"))
		_, found, err := c.maker.Find(ctx, "w1")
		require.NoError(t, err)
		assert.True(t, found, "the other one's is left alone")
		assert.Len(t, c.open(t), 1)
	}
}

// An order that is made long after it was written down has its instance all the same, although the
// provider shows it late.
func TestAnOrderThatIsMadeLate(t *testing.T) {
	ctx := t.Context()
	c := newChandlery(t, standin.Options{Quota: 9, Lag: 300 * time.Millisecond, Computers: newPretended()})
	c.at.Order(standin.Fault{Call: "createInstance", Kind: standin.Refuse, Times: 1})
	require.Error(t, c.maker.Ensure(ctx, "w1", dinghy, nil))
	require.NoError(t, c.store.InTx(ctx, func(_ records.Queries, tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "UPDATE rentals SET ordered = now() - interval '1 hour' WHERE site = $1", c.site)
		return err
	}))
	require.NoError(t, c.maker.Ensure(ctx, "w1", dinghy, nil))
	require.NoError(t, c.maker.Mark(ctx, "w1", "made"))
	require.NoError(t, c.maker.Stop(ctx, "w1"), "at once: it is not shown yet")
	_, err := c.maker.Start(ctx, "w1")
	require.NoError(t, err)
	bill, err := c.account.Bill(ctx)
	require.NoError(t, err)
	assert.Len(t, bill.Lines, 1, "it is the same one")
}

// An order whose answer never came is written down while the provider takes the account's key no
// more: it may have been made.
func TestAKeyThatIsTakenNoMore(t *testing.T) {
	ctx := t.Context()
	c := newChandlery(t, standin.Options{Quota: 9, Computers: newPretended()})
	c.at.Order(standin.Fault{Call: "createInstance", Kind: standin.Lose, Times: 1})
	require.Error(t, c.maker.Ensure(ctx, "w1", dinghy, nil))
	c.locked.Store(true)
	assert.Equal(t, "account-refused", fault.Code(c.maker.Ensure(ctx, "w1", dinghy, nil)))
	require.NoError(t, c.maker.Remove(ctx, "w1"), "it is given back later")
	assert.Error(t, c.maker.Sweep(ctx))
	c.locked.Store(false)
	assert.Len(t, c.open(t), 1)
	require.Eventually(t, func() bool { return c.maker.Sweep(ctx) == nil && len(c.open(t)) == 0 }, 10*time.Second, 20*time.Millisecond)
	assert.Empty(t, c.rented(t))
}
