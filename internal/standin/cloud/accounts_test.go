package cloud

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
	"domicile/internal/site/machine/cloud/provider"
)

// Two accounts in two regions have nothing to do with each other.
func TestAccountsAndRegions(t *testing.T) {
	ctx := t.Context()
	var all Accounts
	for _, key := range []string{"ours", "theirs"} {
		for _, region := range []string{"north", "south"} {
			c, err := New(Options{Region: region, Key: key, Currency: "EUR", Sizes: sizes, Quota: 1, Computers: idle{}})
			require.NoError(t, err)
			t.Cleanup(c.Close)
			all = append(all, c)
		}
	}
	s := httptest.NewServer(all.Handler())
	t.Cleanup(s.Close)
	open := func(region, key string) *provider.Account {
		a, err := provider.Open(s.URL+"/"+region, key)
		require.NoError(t, err)
		return a
	}
	order := provider.Order{Token: "one", Size: "dinghy", Image: image, Tags: map[string]string{"of": "us"}}
	north, err := open("north", "ours").Create(ctx, order)
	require.NoError(t, err)
	until(t, open("north", "ours"), north.Id, provider.Running)
	order.Token = "two"
	_, err = open("north", "ours").Create(ctx, order)
	assert.Equal(t, "no-room", fault.Code(err), "a quota is of one account in one region")

	for _, other := range []*provider.Account{open("south", "ours"), open("north", "theirs"), open("south", "theirs")} {
		list, err := other.List(ctx, "of=us")
		require.NoError(t, err)
		assert.Empty(t, list)
		_, err = other.Instance(ctx, north.Id)
		assert.Error(t, err)
		assert.Error(t, other.Stop(ctx, north.Id))
		same, err := other.Create(ctx, order)
		require.NoError(t, err)
		until(t, other, same.Id, provider.Running)
	}
	ask := func(key, path, body string) int {
		q, err := http.NewRequestWithContext(ctx, http.MethodPost, s.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		q.Header.Set("Authorization", "Bearer "+key)
		a, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		a.Body.Close()
		return a.StatusCode
	}
	const refusal = `[{"call": "getOffer", "kind": "refuse", "times": 1}]`
	assert.Equal(t, http.StatusUnauthorized, ask("nobody's", "/faults", refusal))
	assert.Equal(t, http.StatusNotFound, ask("ours", "/faults?region=west", refusal), "and not in another region")
	assert.Equal(t, http.StatusNotFound, ask("theirs", "/taken/i9?region=south", ""))
	assert.Equal(t, http.StatusOK, ask("ours", "/faults?region=south", refusal))
	for _, at := range [][2]string{{"north", "ours"}, {"south", "theirs"}} {
		_, err := open(at[0], at[1]).Offer(ctx)
		assert.NoError(t, err, "the fault is another's")
	}
	_, err = open("south", "ours").Offer(ctx)
	assert.ErrorContains(t, err, "out of order")
	for _, c := range []struct{ region, key, says string }{{"north", "nobody's", "the key of no account"}, {"west", "ours", "no provider with such a region"}} {
		_, err := open(c.region, c.key).Offer(ctx)
		assert.ErrorContains(t, err, c.says)
	}
}
