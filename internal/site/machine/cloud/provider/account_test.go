package provider

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

func TestAddresses(t *testing.T) {
	for address, want := range map[string][2]string{
		"https://cloud.example.com/north":       {"https://cloud.example.com", "north"},
		"https://cloud.example.com:8443/v1/eu/": {"https://cloud.example.com:8443/v1", "eu"},
		"http://127.0.0.1:4395/north":           {"http://127.0.0.1:4395", "north"},
		"http://[::1]:4395/north":               {"http://[::1]:4395", "north"},
	} {
		base, region, err := ParseAddress(address)
		require.NoError(t, err, address)
		assert.Equal(t, want, [2]string{base, region}, address)
	}
	for _, bad := range []string{"", "cloud.example.com/north", "http://cloud.example.com/north", "https://cloud.example.com", "https://cloud.example.com/", "https://key@cloud.example.com/north", "https://cloud.example.com/no rth", "https://cloud.example.com/north?x=1", "ftp://127.0.0.1/north"} {
		_, _, err := ParseAddress(bad)
		assert.Equal(t, "bad-address", fault.Code(err), bad)
	}
}

// at answers every call in one way.
func at(t *testing.T, answer http.HandlerFunc) *Account {
	t.Helper()
	s := httptest.NewServer(answer)
	t.Cleanup(s.Close)
	a, err := Open(s.URL+"/north", "key")
	require.NoError(t, err)
	return a
}

func said(status int, body string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}
}

const instance = `{"id": "i1", "token": "a", "state": "running", "size": "s", "tags": {}, "created": "2026-03-20T12:00:00Z", "spent": 1}`

func TestAnswersThatCannotBe(t *testing.T) {
	ctx := t.Context()
	for name, body := range map[string]string{
		"no JSON": "<html>", "empty": "", "a list in place of one": "[]", "another order's": strings.Replace(instance, `"a"`, `"b"`, 1), "no id": strings.Replace(instance, "i1", "", 1),
		"a path for an id": strings.Replace(instance, "i1", "../i1", 1), "no such state": strings.Replace(instance, "running", "adrift", 1), "it pays": strings.Replace(instance, `"spent": 1`, `"spent": -1`, 1),
		"without end": strings.Repeat(" ", mostAnswer+1),
	} {
		_, err := at(t, said(http.StatusCreated, body)).Create(ctx, Order{Token: "a"})
		assert.Equal(t, "provider-nonsense", fault.Code(err), name)
		assert.True(t, fault.IsTransient(err), name)
	}
	for name, body := range map[string]string{
		"a size of nothing": `{"currency": "EUR", "images": [], "quota": {"instances": 1, "used": 0}, "sizes": [{"name": "s", "processors": 0, "memoryBytes": 1, "diskBytes": 1, "hour": 1}]}`,
		"who rents is paid": `{"currency": "EUR", "images": [], "quota": {"instances": 1, "used": 0}, "sizes": [{"name": "s", "processors": 1, "memoryBytes": 1, "diskBytes": 1, "hour": -1}]}`,
		"no currency":       `{"currency": "shells", "images": [], "quota": {"instances": 1, "used": 0}, "sizes": []}`,
	} {
		_, err := at(t, said(http.StatusOK, body)).Offer(ctx)
		assert.Equal(t, "provider-nonsense", fault.Code(err), name)
	}
	_, err := at(t, said(http.StatusOK, `{"instances": [`+instance+`,`+instance+`]}`)).List(ctx, "a=b")
	assert.ErrorContains(t, err, "the instance i1 twice")
	_, err = at(t, said(http.StatusOK, instance)).Instance(ctx, "i2")
	assert.ErrorContains(t, err, "another instance")
	_, err = at(t, said(http.StatusOK, `[{"name": "../../etc", "bytes": 1, "used": "2026-03-20T12:00:00Z"}]`)).Disks(ctx)
	assert.Equal(t, "provider-nonsense", fault.Code(err))
}

func TestRefusals(t *testing.T) {
	ctx := t.Context()
	for _, c := range []struct {
		status    int
		body      string
		code      string
		transient bool
	}{
		{401, `{"code": "bad-key", "title": "no such account"}`, "account-refused", false},
		{404, `{"code": "no-such", "title": "gone"}`, "instance-gone", false},
		{409, `{"code": "quota", "title": "8 are yours"}`, "no-room", false},
		{503, `{"code": "no-capacity", "title": "full"}`, "no-room", true},
		{503, `down`, "provider-away", true},
		{302, ``, "provider-away", true},
		{400, `{"code": "bad-order", "title": "no such size"}`, "provider-refused", false},
	} {
		a := at(t, said(c.status, c.body))
		_, err := a.Create(ctx, Order{Token: "a"})
		assert.Equal(t, c.code, fault.Code(err), c.status)
		assert.Equal(t, c.transient, fault.IsTransient(err), c.status)
		assert.ErrorContains(t, err, a.Place)
	}
	_, err := at(t, said(http.StatusNotFound, "")).Offer(ctx)
	assert.Equal(t, "no-region", fault.Code(err))
	assert.Contains(t, fault.Remedy(err), "correct the address")
	s := httptest.NewServer(nil)
	s.Close()
	a, err := Open(s.URL+"/north", "key")
	require.NoError(t, err)
	err = a.Start(ctx, "i1")
	assert.Equal(t, "provider-away", fault.Code(err))
	assert.True(t, fault.IsTransient(err))
}

// The key goes nowhere else, and a pause that is asked for is made.
func TestTheKeyAndThePause(t *testing.T) {
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("another place was asked") }))
	defer other.Close()
	_, err := at(t, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, other.URL, http.StatusTemporaryRedirect)
	}).Offer(t.Context())
	assert.Equal(t, "provider-away", fault.Code(err))
	times := 0
	err = at(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer key", r.Header.Get("Authorization"))
		if times++; times == 1 {
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusTooManyRequests)
			return
		}
		b, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		assert.Equal(t, "planks", string(b), "anew for each try")
		w.WriteHeader(http.StatusNoContent)
	}).PutDisk(t.Context(), "deck", func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("planks")), nil })
	require.NoError(t, err)
	assert.Equal(t, 2, times)
}
