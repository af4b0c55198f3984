package webaddress

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"domicile/internal/forwarded"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"domicile/internal/credential"
	"domicile/internal/fault"
	"domicile/internal/records"
)

const (
	// enterPath is where a ticket or a link is shown; programs never see it.
	enterPath = "/.domicile/enter"
	// cookieName is that of who came in. Over TLS it has a prefix by which no other host can set it.
	cookieName = "domicile_visit"
	// visitLife is how long who came in by a ticket need not show another.
	visitLife = 12 * time.Hour
)

// visit is somebody who came in, and what is known of it.
type visit struct {
	Address int64     `json:"address"`
	Account int64     `json:"account,omitempty"` // 0: by the link
	Token   []byte    `json:"token,omitempty"`   // the hash of the session that opened the address
	Turn    int       `json:"turn"`
	Until   time.Time `json:"until"`

	label string
	end   context.CancelFunc
}

// valid tells whether the visit counts for an address as it is now.
func (v visit) valid(p place) bool {
	a := p.address
	if v.Address != a.ID || v.Turn != a.Turn || time.Now().After(v.Until) {
		return false
	}
	switch a.Sharing {
	case records.WebTeam:
		return v.Account != 0
	case records.WebLink:
		return v.Account == a.Account || v.Account == 0 && a.Until != nil && time.Now().Before(*a.Until)
	}
	return v.Account == a.Account
}

// sealed writes a visit so that nobody else can.
func (s *Server) sealed(v visit) string {
	b, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	return base64.RawURLEncoding.EncodeToString(b) + "." + base64.RawURLEncoding.EncodeToString(s.sign(b))
}

func (s *Server) sign(b []byte) []byte {
	h := hmac.New(sha256.New, s.o.Secret)
	h.Write(b)
	return h.Sum(nil)
}

func (s *Server) unsealed(text string) (v visit, ok bool) {
	body, mac, _ := strings.Cut(text, ".")
	b, err := base64.RawURLEncoding.DecodeString(body)
	if err != nil {
		return v, false
	}
	signed, err := base64.RawURLEncoding.DecodeString(mac)
	if err != nil || !hmac.Equal(signed, s.sign(b)) {
		return v, false
	}
	return v, json.Unmarshal(b, &v) == nil
}

// proven reads a visit that was sealed here. It remembers those that were, for each request shows one.
func (s *Server) proven(text string) (visit, bool) {
	if v, known := s.shown.Get(text); known {
		return v, true
	}
	v, ok := s.unsealed(text)
	if ok {
		s.shown.Add(text, v)
	}
	return v, ok
}

func visitCookie(r *http.Request) string {
	if forwarded.OverTLS(r) {
		return "__Host-" + cookieName
	}
	return cookieName
}

// admitted tells who comes, where that one may come in.
func (s *Server) admitted(r *http.Request, p place) (visit, bool) {
	for _, c := range r.CookiesNamed(visitCookie(r)) {
		if v, ok := s.proven(c.Value); ok && v.valid(p) && !s.hasEnded(r.Context(), v) {
			return v, true
		}
	}
	return visit{}, false
}

// turnAway sends a person's browser to the console, to prove who comes; others are told.
func (s *Server) turnAway(w http.ResponseWriter, r *http.Request, p place) {
	switch {
	case !navigates(r):
		say(w, r, notice{status: http.StatusUnauthorized, title: "Not signed in", text: "Open the address in a browser first."})
	case p.address.Sharing == records.WebLink:
		say(w, r, notice{status: http.StatusUnauthorized, title: "This address is for who has its link", text: "Open the link that you were given, or sign in as its owner.", console: s.o.Console + "/open/" + p.address.Label})
	default:
		http.Redirect(w, r, s.o.Console+"/open/"+p.address.Label+"?to="+url.QueryEscape(r.URL.RequestURI()), http.StatusFound)
	}
}

// navigates tells whether a person's browser opens a page.
func navigates(r *http.Request) bool {
	return (r.Method == http.MethodGet || r.Method == http.MethodHead) && strings.Contains(r.Header.Get("Accept"), "text/html")
}

// enter takes a ticket, or the link and its password.
func (s *Server) enter(w http.ResponseWriter, r *http.Request, p place) {
	q := r.URL.Query()
	to := ownPath(q.Get("to"))
	v := visit{Address: p.address.ID, Turn: p.address.Turn, Until: time.Now().Add(visitLife)}
	if ticket := q.Get("ticket"); ticket != "" {
		by, err := s.o.Directory.TakeWebTicket(r.Context(), credential.HashToken(ticket), p.address.ID)
		if err != nil {
			say(w, r, notice{status: http.StatusUnauthorized, title: "This ticket is used or too old", text: "Open the port once more.", console: s.o.Console + "/open/" + p.address.Label})
			return
		}
		v.Account, v.Token = by.Account, []byte(by.Token)
	} else if !s.byLink(w, r, p, &v) {
		return
	}
	if !v.valid(p) {
		say(w, r, notice{status: http.StatusForbidden, title: "This address is not for you", text: "Its owner can open it for the team, or by a link."})
		return
	}
	http.SetCookie(w, &http.Cookie{Name: visitCookie(r), Value: s.sealed(v), Path: "/", Expires: v.Until, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: forwarded.OverTLS(r)})
	w.Header().Set("Referrer-Policy", "no-referrer")
	w.Header().Set("Cache-Control", "no-store")
	http.Redirect(w, r, to, http.StatusSeeOther)
}

// ownPath is a path with a query of this address; "/" for what a browser could take for another host. Browsers drop
// tabs and line ends and read "\" as "/" (WHATWG URL, section 4.4).
func ownPath(to string) string {
	if strings.ContainsFunc(to, func(r rune) bool { return r <= ' ' || r == '\\' || r == 0x7f }) {
		return "/"
	}
	u, err := url.Parse(to)
	if err != nil || u.Scheme != "" || u.Host != "" || u.User != nil || !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") {
		return "/"
	}
	return to
}

// byLink tells whether the link counts; where it does not yet, it has answered.
func (s *Server) byLink(w http.ResponseWriter, r *http.Request, p place, v *visit) bool {
	a := p.address
	link := r.URL.Query().Get("link")
	if a.Sharing != records.WebLink || a.Until == nil || time.Now().After(*a.Until) || subtle.ConstantTimeCompare(credential.HashToken(link), a.Link) != 1 {
		say(w, r, notice{status: http.StatusForbidden, title: "This link does not count any more", text: "Ask who gave it to you for another one."})
		return false
	}
	if a.Until.Before(v.Until) {
		v.Until = *a.Until
	}
	if a.Password == "" {
		return true
	}
	n := notice{status: http.StatusOK, title: "A password, please", text: "Who gave you this link has it.", ask: true}
	if r.Method == http.MethodPost {
		r.Body = http.MaxBytesReader(w, r.Body, 4096)
		right, err := s.guessed(r, a, r.PostFormValue("password"))
		switch {
		case right:
			return true
		case err != nil:
			n.status, n.text = http.StatusTooManyRequests, err.Error()+". "+fault.ToDo(fault.Remedy(err))
		default:
			n.status, n.text = http.StatusForbidden, "That is not it."
		}
	}
	say(w, r, n)
	return false
}

// guessed tells whether a password is the link's, at the pace that earlier tries allow.
func (s *Server) guessed(r *http.Request, a records.WebAddress, password string) (right bool, err error) {
	from := forwarded.Host(r)
	name := "link " + a.Label
	wait, end, err := s.o.Guesses.Begin(r.Context(), name, from)
	if err != nil {
		return false, err
	}
	if wait > 0 {
		return false, fault.New("slowed-down", fmt.Sprintf("try again in %s", wait.Round(time.Second)+time.Second), "There were too many wrong passwords")
	}
	defer end()
	if err := s.o.Guesses.Work(r.Context(), func() { right = credential.CheckPassword(a.Password, password) }); err != nil {
		return false, err
	}
	s.o.Guesses.Ended(name, from, right)
	return right, nil
}
