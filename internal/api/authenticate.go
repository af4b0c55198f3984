package api

import (
	"context"
	"domicile/internal/listen"
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
		account, hash, err := s.accountOf(r)
		if errors.Is(err, records.ErrNotFound) {
			err = fault.New("not-signed-in", "sign in, or with the command line: domicile login", "The request comes with no valid token")
		}
		if err != nil {
			s.failed(w, r, err)
			return
		}
		listen.Known(r.Context())
		ctx := context.WithValue(r.Context(), accountKey, account)
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, tokenKey, hash)))
	})
}

// maxCookies is how many cookies of one name are tried.
const maxCookies = 20

// accountOf finds the account of a request's token, or of one of its cookies: a program at another port of the host
// may set a cookie of the same name, which a browser may send first. records.ErrNotFound if none counts.
func (s *Server) accountOf(r *http.Request) (a records.Account, hash []byte, err error) {
	tokens := []string{""}
	if token, found := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); found {
		tokens[0] = token
	} else {
		for _, c := range r.CookiesNamed(cookieName) {
			if len(c.Value) == inCookie && len(tokens) <= maxCookies {
				tokens = append(tokens, c.Value+proof(r))
			}
		}
	}
	for _, token := range tokens {
		hash = credential.HashToken(token)
		if a, err = s.o.Store.AccountByToken(r.Context(), hash); !errors.Is(err, records.ErrNotFound) {
			return a, hash, err
		}
	}
	return a, nil, records.ErrNotFound
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

// credentialOf is what a request was authenticated with.
func credentialOf(ctx context.Context) records.Credential {
	hash, _ := ctx.Value(tokenKey).([]byte)
	return records.Credential{Account: account(ctx).ID, Token: string(hash)}
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
