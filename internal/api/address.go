package api

import (
	"context"
	"net"
	"net/http"
)

// addressed puts where a request comes from into its context.
func addressed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.RemoteAddr)
		if err != nil {
			host = r.RemoteAddr
		}
		ctx := context.WithValue(r.Context(), addressKey, host)
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, secureKey, r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https")))
	})
}

func address(ctx context.Context) string {
	a, _ := ctx.Value(addressKey).(string)
	return a
}
