package api_test

import (
	"bufio"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/credential"
	"domicile/internal/fault"
	"domicile/internal/records"
	"domicile/internal/site"
)

// What was opened with a credential ends with it: an event stream with its token, with the password, and with the
// account.
func TestAnEventStreamEndsWithItsCredential(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	ctx := t.Context()
	for what, end := range map[string]func(a records.Account, c *client.Service, id int64) error{
		"the token is revoked": func(a records.Account, _ *client.Service, id int64) error { return h.store.RemoveToken(ctx, a.ID, id) },
		"somebody signs out": func(_ records.Account, c *client.Service, _ int64) error {
			_, err := client.Answer[struct{}](c.SignOut(ctx))
			return err
		},
		"another password is set": func(a records.Account, _ *client.Service, _ int64) error {
			return h.store.RemoveTokens(ctx, a.ID, []byte{})
		},
		"the account is locked": func(a records.Account, _ *client.Service, _ int64) error { return h.store.SetLocked(ctx, a.ID, true) },
	} {
		t.Run(what, func(t *testing.T) {
			account, err := h.store.AddAccount(ctx, "finn"+credential.NewName(), "hash", false)
			require.NoError(t, err)
			token := credential.NewToken()
			require.NoError(t, h.store.AddToken(ctx, account.ID, credential.HashToken(token), "test", time.Hour, 9))
			tokens, err := h.store.Tokens(ctx, account.ID)
			require.NoError(t, err)
			c, err := client.Open(h.url, token)
			require.NoError(t, err)
			q, err := http.NewRequestWithContext(ctx, http.MethodGet, h.url+"/api/v1/events", nil)
			require.NoError(t, err)
			q.Header.Set("Authorization", "Bearer "+token)
			a, err := http.DefaultClient.Do(q)
			require.NoError(t, err)
			defer a.Body.Close()
			stream := bufio.NewScanner(a.Body)
			require.True(t, stream.Scan(), "it stands")
			require.NoError(t, end(account, c, tokens[0].ID))
			over := make(chan bool)
			go func() {
				for stream.Scan() {
				}
				close(over)
			}()
			select {
			case <-over:
			case <-time.After(20 * time.Second):
				t.Fatal("it goes on")
			}
		})
	}
}

// Whoever comes through a proxy counts as who it is, and wrong set-up codes keep nobody out.
func TestWrongCodesKeepNobodyOut(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	hash := credential.HashPassword("tide-and-timetable")
	name := "keeper" + credential.NewName()
	_, err := h.store.AddAccount(t.Context(), name, hash, false)
	require.NoError(t, err)
	ask := func(path, body, sender string) *httptest.ResponseRecorder {
		q := httptest.NewRequest(http.MethodPost, "/api/v1/"+path, strings.NewReader(body))
		q.Header.Set("Content-Type", "application/json")
		q.Header.Set("X-Forwarded-For", sender)
		w := httptest.NewRecorder()
		h.handler.ServeHTTP(w, q)
		return w
	}
	for range 40 {
		w := ask("setup", `{"code": "guess", "name": "evil", "password": "long-enough-password"}`, "198.51.100.1")
		assert.Contains(t, w.Body.String(), "setup-done", "after the set-up no code is looked at")
		w = ask("setup", `{"code": "only-once", "name": "evil", "password": "long-enough-password"}`, "198.51.100.1")
		assert.Contains(t, w.Body.String(), "setup-done", "nor the right one")
	}
	right := fmt.Sprintf(`{"name": %q, "password": "tide-and-timetable"}`, name)
	assert.Equal(t, http.StatusCreated, ask("session", right, "198.51.100.1").Code)
	for range 30 {
		ask("session", fmt.Sprintf(`{"name": "nobody%s", "password": "wrong-wrong"}`, credential.NewName()), "198.51.100.1")
	}
	assert.Equal(t, http.StatusTooManyRequests, ask("session", right, "198.51.100.1").Code, "who guesses waits")
	assert.Equal(t, http.StatusCreated, ask("session", right, "198.51.100.2").Code, "and nobody else behind the same proxy")
}

// What an account keeps is bounded, in number and in length.
func TestWhatAnAccountKeepsIsBounded(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	finn := h.person(t, "finn")
	ctx := t.Context()
	for _, label := range []string{strings.Repeat("x", 101), "red \x1b[31m", "two\nlines"} {
		_, err := client.Answer[client.Token](finn.AddToken(ctx, client.NewToken{Label: label}))
		assert.Equal(t, "bad-label", fault.Code(err), "%v", err)
	}
	var err error
	for range 300 {
		if _, err = client.Answer[client.Token](finn.AddToken(ctx, client.NewToken{Label: "nightly"})); err != nil {
			break
		}
	}
	assert.Equal(t, "full", fault.Code(err), "%v", err)
	list, err := client.Answer[[]client.TokenInfo](finn.ListTokens(ctx))
	require.NoError(t, err)
	assert.Len(t, list, 200)
	_, err = client.Answer[client.Key](finn.AddKey(ctx, client.NewKey{PublicKey: "ssh-ed25519 " + strings.Repeat("A", 10000)}))
	assert.Equal(t, "bad-key", fault.Code(err), "%v", err)
}

// A second cookie of the same name signs nobody out, wherever it stands.
func TestASecondCookieOfTheSameName(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	account, err := h.store.AddAccount(t.Context(), "finn"+credential.NewName(), "hash", false)
	require.NoError(t, err)
	token := credential.NewToken()
	require.NoError(t, h.store.AddToken(t.Context(), account.ID, credential.HashToken(token), "test", time.Hour, 9))
	for _, cookies := range []string{"domicile_session=%s", "domicile_session=123456789012345678; domicile_session=%s", "domicile_session=%s; domicile_session=x", "domicile_session=; domicile_session=%s"} {
		q := httptest.NewRequest(http.MethodGet, "/api/v1/account", nil)
		q.Header.Set("Cookie", fmt.Sprintf(cookies, token[:18]))
		q.Header.Set("Domicile-Proof", token[18:])
		w := httptest.NewRecorder()
		h.handler.ServeHTTP(w, q)
		assert.Equal(t, http.StatusOK, w.Code, cookies)
	}
}
