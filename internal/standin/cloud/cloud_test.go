package cloud

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
	"domicile/internal/site/machine/cloud/provider"
)

// idle are computers that do nothing.
type idle struct{}

func (idle) Make(context.Context, string, provider.Size, string, string) error { return nil }
func (idle) Start(context.Context, string) error                               { return nil }
func (idle) Stop(context.Context, string) error                                { return nil }
func (idle) Remove(context.Context, string) error                              { return nil }

var sizes = []provider.Size{{Name: "dinghy", Processors: 1, MemoryBytes: 1 << 30, DiskBytes: 1 << 30, Hour: 3_600_000, HourOff: new(int64(360_000))}}

func started(t *testing.T, o Options) (*Cloud, *provider.Account, string) {
	t.Helper()
	o.Region, o.Key, o.Currency, o.Sizes, o.Computers = "north", "key", "EUR", sizes, idle{}
	c, err := New(o)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	s := httptest.NewServer(c.Handler())
	t.Cleanup(s.Close)
	a, err := provider.Open(s.URL+"/north", "key")
	require.NoError(t, err)
	return c, a, s.URL
}

func until(t *testing.T, a *provider.Account, id string, state provider.InstanceState) {
	t.Helper()
	require.Eventually(t, func() bool {
		i, err := a.Instance(t.Context(), id)
		return err == nil && i.State == state
	}, 10*time.Second, 5*time.Millisecond, "%s becomes %s", id, state)
}

// One token is one instance; a restart of the stand-in forgets none, and no id comes twice.
func TestOrders(t *testing.T) {
	ctx, o := t.Context(), Options{Quota: 2, File: filepath.Join(t.TempDir(), "instances.json")}
	c, a, _ := started(t, o)
	order := provider.Order{Token: "one", Size: "dinghy", Image: image, Tags: map[string]string{"of": "us"}}
	one, err := a.Create(ctx, order)
	require.NoError(t, err)
	again, err := a.Create(ctx, order)
	require.NoError(t, err)
	assert.Equal(t, one.Id, again.Id)
	order.Token = "two"
	two, err := a.Create(ctx, order)
	require.NoError(t, err)
	order.Token = "three"
	_, err = a.Create(ctx, order)
	assert.Equal(t, "no-room", fault.Code(err))
	order.Token = "one"
	again, err = a.Create(ctx, order)
	require.NoError(t, err, "what was ordered before is not refused")
	assert.Equal(t, one.Id, again.Id)
	until(t, a, one.Id, provider.Running)
	until(t, a, two.Id, provider.Running)
	require.NoError(t, a.Delete(ctx, two.Id))
	require.NoError(t, a.Delete(ctx, two.Id), "again")
	c.Close()
	_, a, _ = started(t, o)
	list, err := a.List(ctx, "of=us")
	require.NoError(t, err)
	require.Len(t, list, 2)
	order.Token = "four"
	four, err := a.Create(ctx, order)
	require.NoError(t, err)
	assert.NotContains(t, []string{one.Id, two.Id}, four.Id)
	none, err := a.List(ctx, "of=others")
	require.NoError(t, err)
	assert.Empty(t, none)
	for _, bad := range []provider.Order{{Token: "x", Size: "barge", Image: image}, {Token: "x", Size: "dinghy", Image: "another"}, {Token: "", Size: "dinghy", Image: image}, {Token: "x", Size: "dinghy", Image: image, Disk: new("none")}, {Token: "x", Size: "dinghy", Image: image, FirstBoot: strings.Repeat("x", 17<<10)}} {
		_, err := a.Create(ctx, bad)
		assert.Equal(t, "provider-refused", fault.Code(err), "%+v", bad)
	}
}

// What runs, what is off and what is gone cost what they should; what failed costs nothing.
func TestBill(t *testing.T) {
	i := &instance{}
	at := func(seconds int) time.Time {
		return time.Date(2026, 3, 20, 12, 0, seconds, 0, time.UTC)
	}
	assert.Zero(t, i.spent(at(0)))
	i.cost(at(0), 3_600_000)
	assert.EqualValues(t, 10_000, i.spent(at(10)))
	i.cost(at(10), 360_000)
	assert.EqualValues(t, 10_000+1_000, i.spent(at(20)))
	i.cost(at(20), -1)
	assert.EqualValues(t, 11_000, i.spent(at(9000)), "it is gone")
	c, a, _ := started(t, Options{Quota: 9})
	c.Order(Fault{Call: "createInstance", Kind: Fail, Times: 1})
	failed, err := a.Create(t.Context(), provider.Order{Token: "one", Size: "dinghy", Image: image})
	require.NoError(t, err)
	until(t, a, failed.Id, provider.Failed)
	bill, err := a.Bill(t.Context())
	require.NoError(t, err)
	require.Len(t, bill.Lines, 1)
	assert.Zero(t, bill.Total)
	assert.False(t, bill.Lines[0].Open)
}

// What was changed is shown late; a long list comes in pages.
func TestWhatIsShownLate(t *testing.T) {
	ctx := t.Context()
	c, a, _ := started(t, Options{Quota: 99, Lag: 200 * time.Millisecond})
	one, err := a.Create(ctx, provider.Order{Token: "one", Size: "dinghy", Image: image})
	require.NoError(t, err)
	_, err = a.Instance(ctx, one.Id)
	assert.Equal(t, "instance-gone", fault.Code(err), "not yet")
	until(t, a, one.Id, provider.Running)
	require.NoError(t, c.TakeAway(one.Id))
	i, err := a.Instance(ctx, one.Id)
	require.NoError(t, err)
	assert.Equal(t, provider.Running, i.State, "still")
	until(t, a, one.Id, provider.Gone)
	assert.Error(t, c.TakeAway(one.Id))
	for n := range 2*pageSize + 3 {
		_, err := a.Create(ctx, provider.Order{Token: strings.Repeat("x", n+1), Size: "dinghy", Image: image})
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool {
		list, err := a.List(ctx, "")
		return err == nil && len(list) == 2*pageSize+4
	}, 10*time.Second, 10*time.Millisecond)
}

// Without the account's key nothing is told, nor done.
func TestWithoutTheKey(t *testing.T) {
	_, _, url := started(t, Options{Quota: 1, Disks: t.TempDir()})
	for _, path := range []string{"/regions/north/offer", "/regions/north/instances", "/regions/north/bill", "/regions/north/disks"} {
		r, err := http.Get(url + path)
		require.NoError(t, err)
		r.Body.Close()
		assert.Equal(t, http.StatusUnauthorized, r.StatusCode, path)
	}
	r, err := http.Post(url+"/faults", "application/json", strings.NewReader("[]"))
	require.NoError(t, err)
	r.Body.Close()
	assert.Equal(t, http.StatusUnauthorized, r.StatusCode)
}

// A disk has a plain name, and is kept as it first was.
func TestDisks(t *testing.T) {
	ctx, folder := t.Context(), t.TempDir()
	_, a, url := started(t, Options{Quota: 1, Disks: filepath.Join(folder, "disks")})
	put := func(name, content string) error {
		return a.PutDisk(ctx, name, func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(content)), nil })
	}
	require.NoError(t, put("deck", "planks"))
	require.NoError(t, put("deck", "other planks"))
	list, err := a.Disks(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.EqualValues(t, len("planks"), list[0].Bytes)
	for _, bad := range []string{"..", ".deck", "Deck", "%2e%2e%2fkey"} {
		q, err := http.NewRequestWithContext(ctx, http.MethodPut, url+"/regions/north/disks/"+bad, strings.NewReader("x"))
		require.NoError(t, err)
		q.Header.Set("Authorization", "Bearer key")
		q.Header.Set("Content-Type", "application/octet-stream")
		r, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		r.Body.Close()
		assert.GreaterOrEqual(t, r.StatusCode, 400, bad)
	}
	files, err := filepath.Glob(filepath.Join(folder, "*"))
	require.NoError(t, err)
	assert.Len(t, files, 1, "nothing beside the folder of disks")
	require.NoError(t, a.DeleteDisk(ctx, "deck"))
	require.NoError(t, a.DeleteDisk(ctx, "deck"), "again")
	list, err = a.Disks(ctx)
	require.NoError(t, err)
	assert.Empty(t, list)
}
