package api

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"domicile/internal/credential"
	"domicile/internal/fault"
	"domicile/internal/records"
)

const (
	cookieName = "domicile_session"
	cookieLife = 30 * 24 * time.Hour
	// tokenLife is how long a token counts that says nothing else.
	tokenLife = 90 * 24 * time.Hour
)

type contextKey int

const (
	accountKey contextKey = iota
	tokenKey
	addressKey
	secureKey // the person's side of the connection is TLS
)

// open are the operations for who has not signed in yet.
var open = map[string]bool{
	"GET /api/v1/setup": true, "POST /api/v1/setup": true, "POST /api/v1/session": true, "GET /api/v1/version": true, "GET /api/v1/clients": true,
}

// authenticate finds the account of a request's token or cookie.
func (s *Server) authenticate(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if open[r.Method+" "+r.URL.Path] {
			next.ServeHTTP(w, r)
			return
		}
		token, found := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if cookie, err := r.Cookie(cookieName); !found && err == nil {
			token = cookie.Value + proof(r)
		}
		hash := credential.HashToken(token)
		account, err := s.o.Store.AccountByToken(r.Context(), hash)
		if errors.Is(err, records.ErrNotFound) {
			err = fault.New("not-signed-in", "sign in, or with the command line: domicile login", "The request comes with no valid token")
		}
		if err != nil {
			s.failed(w, r, err)
			return
		}
		ctx := context.WithValue(r.Context(), accountKey, account)
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, tokenKey, hash)))
	})
}

// inCookie is how much of a token the console's cookie holds, in characters. A browser sends it to
// whatever listens at another port of the host, such as a program of a workspace that is forwarded
// there: alone it is worth nothing. The rest is known to pages of the console's own origin.
const inCookie = 18

// proof is the rest of the token whose beginning the cookie is.
func proof(r *http.Request) string {
	if p := r.Header.Get("Domicile-Proof"); p != "" {
		return p
	}
	return r.URL.Query().Get("proof")
}

// account is whose request it is; authenticate has put it there.
func account(ctx context.Context) records.Account {
	a, _ := ctx.Value(accountKey).(records.Account)
	return a
}

// signedIn is an answer that sets the console's cookie.
type signedIn struct {
	Token
	secure bool
}

func (a signedIn) write(w http.ResponseWriter) error {
	http.SetCookie(w, &http.Cookie{Name: cookieName, Value: a.Token.Token[:inCookie], Path: "/", MaxAge: int(cookieLife.Seconds()),
		HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: a.secure})
	a.Proof = new(a.Token.Token[inCookie:])
	return SignIn201JSONResponse(a.Token).VisitSignInResponse(w)
}

// VisitSignInResponse writes the answer of signIn.
func (a signedIn) VisitSignInResponse(w http.ResponseWriter) error { return a.write(w) }

// VisitMakeFirstAccountResponse writes the answer of makeFirstAccount.
func (a signedIn) VisitMakeFirstAccountResponse(w http.ResponseWriter) error { return a.write(w) }
