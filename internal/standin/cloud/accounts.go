package cloud

import (
	"crypto/subtle"
	"net/http"
	"strings"
)

// Accounts serve several accounts in several regions, each as a Cloud of its own: what one has, another
// neither sees nor pays.
type Accounts []*Cloud

// Handler serves all of them: who asks is known by the key, and where by the path. Orders of faults and
// what is taken away are for the region that the query names; without, for the account's first.
func (a Accounts) Handler() http.Handler {
	handlers := make([]http.Handler, len(a))
	for i, c := range a {
		handlers[i] = c.Handler()
	}
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		region := q.URL.Query().Get("region")
		if _, path, found := strings.Cut(q.URL.Path, "/regions/"); found {
			region, _, _ = strings.Cut(path, "/")
		}
		wrong := badKey
		for i, c := range a {
			if !c.knows(q) {
				continue
			}
			if region == "" || c.o.Region == region {
				handlers[i].ServeHTTP(w, q)
				return
			}
			wrong = noRegion(region)
		}
		tell(w, wrong)
	})
}

var badKey = problem{http.StatusUnauthorized, "bad-key", "this is the key of no account"}

// knows tells whether a request has the account's key.
func (c *Cloud) knows(q *http.Request) bool {
	return subtle.ConstantTimeCompare([]byte(q.Header.Get("Authorization")), []byte("Bearer "+c.o.Key)) == 1
}
