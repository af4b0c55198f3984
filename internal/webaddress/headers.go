package webaddress

import (
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"
)

// private tells whether a cookie is Domicile's own: no program sees one or sets one.
func private(name string) bool {
	name = strings.TrimPrefix(strings.TrimPrefix(name, "__Host-"), "__Secure-")
	return strings.HasPrefix(name, "domicile_")
}

// hideCookies takes Domicile's own cookies out of a request. The others stay as they are, in their
// order and spelling.
func hideCookies(r *http.Request) {
	var lines []string
	for _, line := range r.Header.Values("Cookie") {
		var kept []string
		for part := range strings.SplitSeq(line, ";") {
			name, _, _ := strings.Cut(strings.TrimSpace(part), "=")
			if part != "" && !private(name) {
				kept = append(kept, strings.TrimSpace(part))
			}
		}
		if len(kept) > 0 {
			lines = append(lines, strings.Join(kept, "; "))
		}
	}
	r.Header.Del("Cookie")
	for _, line := range lines {
		r.Header.Add("Cookie", line)
	}
}

// narrowCookies has what a program sets hold for its own host alone, and keeps Domicile's own from
// being set.
func narrowCookies(h http.Header) {
	lines := h.Values("Set-Cookie")
	h.Del("Set-Cookie")
	for _, line := range lines {
		parts := strings.Split(line, ";")
		name, value, named := strings.Cut(parts[0], "=")
		name = strings.TrimSpace(name)
		// Browsers send a cookie without a name as its value alone, which may look like one of ours.
		if private(name) || named && name == "" && private(strings.TrimSpace(value)) {
			continue
		}
		kept := parts[:1]
		for _, part := range parts[1:] {
			attribute, _, _ := strings.Cut(strings.TrimSpace(part), "=")
			if !strings.EqualFold(strings.TrimSpace(attribute), "domain") {
				kept = append(kept, part)
			}
		}
		h.Add("Set-Cookie", strings.Join(kept, ";"))
	}
}

// bringHome makes a redirect to the program's own name one within the address.
func bringHome(a *http.Response, target string) {
	to, err := url.Parse(a.Header.Get("Location"))
	if err != nil || to.Host == "" {
		return
	}
	_, port, _ := strings.Cut(target, ":")
	if to.Host != target && to.Host != "localhost:"+port && to.Host != "127.0.0.1:"+port && to.Host != "0.0.0.0:"+port && to.Host != "[::1]:"+port {
		return
	}
	to.Scheme, to.Host, to.User = "", "", nil
	if to.Path == "" {
		to.Path = "/"
	}
	a.Header.Set("Location", to.String())
}

// newTransports keeps the connections of as many addresses as are used at a time.
func newTransports() *expirable.LRU[transportKey, *carrier] {
	return expirable.NewLRU(1000, func(_ transportKey, c *carrier) { c.close() }, 10*time.Minute)
}
