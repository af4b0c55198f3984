package webaddress

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"

	"domicile/internal/records"
)

// Beyond loopback and without TLS browsers send no Fetch Metadata: what may be a page of another workspace is
// rejected.
func TestWhoCallsOverPlainHTTP(t *testing.T) {
	s := &Server{o: Options{Domain: "apps.skerry.test", Scheme: "http"}}
	p := place{workspace: records.Workspace{ID: 1}}
	for name, c := range map[string]struct {
		method string
		header http.Header
		want   bool
	}{
		"a bookmark":                      {http.MethodGet, http.Header{"Accept": {"text/html"}}, true},
		"a picture without a referer":     {http.MethodGet, http.Header{"Accept": {"image/*"}}, false},
		"a picture of its own page":       {http.MethodGet, http.Header{"Accept": {"image/*"}, "Referer": {"http://board.apps.skerry.test/x"}}, true},
		"a form of nobody knows where":    {http.MethodPost, http.Header{"Accept": {"text/html"}}, false},
		"a form of its own page":          {http.MethodPost, http.Header{"Origin": {"http://board.apps.skerry.test"}}, true},
		"a form of another site":          {http.MethodPost, http.Header{"Origin": {"http://evil.test"}, "Accept": {"text/html"}}, false},
		"a form of a page without origin": {http.MethodPost, http.Header{"Origin": {"null"}, "Accept": {"text/html"}}, false},
		"a form, by its referer":          {http.MethodPost, http.Header{"Referer": {"http://evil.test/"}, "Accept": {"text/html"}}, false},
	} {
		r := httptest.NewRequest(c.method, "http://board.apps.skerry.test/", nil)
		r.Header = c.header
		assert.Equal(t, c.want, s.mayCall(r, p), name)
	}
}

func TestWhereATicketLeads(t *testing.T) {
	for to, want := range map[string]string{
		"/": "/", "/a?b=//c": "/a?b=//c", "/a/b#c": "/a/b#c", "": "/", "a": "/", "//evil.test": "/", "///evil.test": "/", "/\\evil.test": "/", "/\t/evil.test": "/",
		"/\n/evil.test": "/", "/\r/evil.test": "/", " /a": "/", "http://evil.test": "/", "https:/evil.test": "/", "javascript:alert(1)": "/",
	} {
		assert.Equal(t, want, ownPath(to), "%q", to)
	}
}

func TestCookiesThatLookLikeOurs(t *testing.T) {
	h := http.Header{"Set-Cookie": {"=domicile_session=x; Path=/", " = domicile_visit=x", "domicile_visit", "__Host-domicile_visit=x", "\tdomicile_session=x", "=tide", "tide=high"}}
	narrowCookies(h)
	assert.Equal(t, []string{"=tide", "tide=high"}, h["Set-Cookie"])
}
