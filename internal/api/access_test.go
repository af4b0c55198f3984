package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/fault"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/visible"
)

// Who has an account is not found out by handing things over to names.
func TestNamesAreNotTriedByHandingOver(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	skipper := h.person(t, "skipper")
	me, err := client.Answer[client.Account](skipper.GetAccount(t.Context()))
	require.NoError(t, err)
	s, err := h.store.AddSnapshot(t.Context(), records.Snapshot{Kind: records.Personal, Account: me.Id, Name: "tide", Site: h.name, Source: h.source, Plan: json.RawMessage("{}"), Done: json.RawMessage("{}"), Digest: "d"})
	require.NoError(t, err)
	require.NoError(t, h.store.KeepSnapshot(t.Context(), s.ID, json.RawMessage(`{}`), 1))
	hand := func(name string) error {
		_, err := client.Answer[struct{}](skipper.HandSnapshot(t.Context(), s.ID, client.HandTo{Account: name}))
		return err
	}
	codes := map[string]int{}
	for i := range 20 {
		codes[fault.Code(hand(fmt.Sprintf("nobody-%d", i)))]++
	}
	assert.Less(t, codes["no-account"], 7)
	assert.Greater(t, codes["slowed-down"], 12)
	h.person(t, "finn")
	assert.Equal(t, "slowed-down", fault.Code(hand("finn-of-"+t.Name())), "a name that is there looks the same")
}

// A name may hold anything when it is typed: none is an error of the service, and none
// reaches a terminal from the list of sign-ins.
func TestWhatIsTypedAsAName(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	nobody, err := client.Open(h.url, "")
	require.NoError(t, err)
	in := func(name string) string {
		_, err := client.Answer[client.Account](nobody.SignIn(t.Context(), client.Credentials{Name: name, Password: "all-hands-on-deck"}))
		return fault.Code(err)
	}
	for _, name := range []string{"", "odd\x00name", "odd\x1b[2Jname", "odd' or 1=1", strings.Repeat("odd", 200)} {
		assert.Contains(t, []string{"wrong-password", "bad-request"}, in(name), "%q", name)
	}
	seen, err := h.store.SignIns(t.Context(), 0, 50)
	require.NoError(t, err)
	odd := 0
	for _, s := range seen {
		assert.Equal(t, visible.Text(s.Name), s.Name)
		if strings.HasPrefix(s.Name, "odd") {
			odd++
		}
	}
	assert.GreaterOrEqual(t, odd, 4)

	skipper := h.person(t, "skipper")
	_, err = client.Answer[client.Token](skipper.AddToken(t.Context(), client.NewToken{Label: "of\x00zero"}))
	assert.Equal(t, "bad-label", fault.Code(err))
}

// What an administrator does about accounts is nobody else's.
func TestAccountsAreAnAdministrators(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	finn := h.person(t, "finn")
	name := "finn-of-" + t.Name()
	ctx := t.Context()
	for what, ask := range map[string]func() (*http.Response, error){
		"lock":   func() (*http.Response, error) { return finn.LockAccount(ctx, name, client.Locked{Locked: true}) },
		"remove": func() (*http.Response, error) { return finn.RemoveAccount(ctx, name) },
		"password": func() (*http.Response, error) {
			return finn.ResetPassword(ctx, name, client.NewPassword{Password: "all-hands-on-deck"})
		},
		"list": func() (*http.Response, error) { return finn.ListAccounts(ctx) },
		"add": func() (*http.Response, error) {
			return finn.AddAccount(ctx, client.NewAccount{Name: "x", Password: "all-hands-on-deck"})
		},
	} {
		_, err := client.Answer[any](ask())
		assert.Equal(t, "not-administrator", fault.Code(err), what)
	}
	days := 400
	_, err := client.Answer[client.Token](finn.AddToken(ctx, client.NewToken{Label: "long", Days: &days}))
	assert.Equal(t, "bad-days", fault.Code(err))
	days = 3
	_, err = client.Answer[client.Token](finn.AddToken(ctx, client.NewToken{Label: "brief", Days: &days}))
	require.NoError(t, err)
	list, err := client.Answer[[]client.TokenInfo](finn.ListTokens(ctx))
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.True(t, list[0].Current)
	assert.InDelta(t, 72, list[1].Expires.Sub(list[1].Created).Hours(), 0.1)
}

// Behind TLS a session's cookie never leaves it, and the browser is told to stay.
func TestCookiesBehindTLS(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	for proto, secure := range map[string]bool{"https": true, "": false, "https from elsewhere": false} {
		q := httptest.NewRequest(http.MethodGet, "/api/v1/setup", nil)
		q.Header.Set("X-Forwarded-Proto", proto)
		if proto == "https from elsewhere" {
			q.Header.Set("X-Forwarded-Proto", "https")
			q.RemoteAddr = "203.0.113.9:4000"
		}
		w := httptest.NewRecorder()
		h.handler.ServeHTTP(w, q)
		assert.Equal(t, secure, w.Header().Get("Strict-Transport-Security") != "", proto)
		policy := w.Header().Get("Content-Security-Policy")
		for _, part := range []string{"base-uri 'none'", "form-action 'self'", "frame-ancestors 'none'", "object-src 'none'"} {
			assert.Contains(t, policy, part)
		}
		// The setup is another test's; a wrong code sets no cookie either way.
		q = httptest.NewRequest(http.MethodPost, "/api/v1/session", strings.NewReader(`{"name":"nobody","password":"nothing-at-all"}`))
		q.Header.Set("Content-Type", "application/json")
		w = httptest.NewRecorder()
		h.handler.ServeHTTP(w, q)
		assert.Empty(t, w.Result().Cookies())
	}
}
