package api

import (
	"context"
	"domicile/internal/forwarded"
	"net/http"
)

// addressed puts where a request comes from into its context.
func addressed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx := context.WithValue(r.Context(), addressKey, forwarded.Host(r))
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, secureKey, forwarded.OverTLS(r))))
	})
}

func address(ctx context.Context) string {
	a, _ := ctx.Value(addressKey).(string)
	return a
}
