package webaddress

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agentlink"
	"domicile/internal/agentlink/linktest"
	"domicile/internal/connection"
	"domicile/internal/credential"
	"domicile/internal/guesses"
	"domicile/internal/handed"
	"domicile/internal/records"
	"domicile/internal/splice"
)

// The accounts of the tests.
const (
	skipper = 7
	finn    = 8
)

// quay has workspaces, addresses and a program that listens inside.
type quay struct {
	t       testing.TB
	mu      sync.Mutex
	by      map[string]records.WebAddress
	states  map[int64]string
	tickets map[string]records.Credential
	shut    bool   // accounts are locked
	program string // host:port of the program
	server  *Server
	at      string // host:port of the server
	// together is whether all requests go through one stream to the agent.
	together bool
	handed   handed.Room
}

func newQuay(t testing.TB, program http.Handler) *quay {
	t.Helper()
	q := &quay{t: t, by: map[string]records.WebAddress{}, states: map[int64]string{1: records.Ready, 2: records.Ready}, tickets: map[string]records.Credential{}}
	if program != nil {
		app := httptest.NewServer(program)
		t.Cleanup(app.Close)
		q.program = app.Listener.Addr().String()
	}
	for i, label := range []string{"board", "api", "other"} {
		q.by[label] = records.WebAddress{ID: int64(i + 1), Workspace: int64(1 + i/2), Account: skipper, Port: "8080", Label: label, Protocol: "http", Sharing: records.WebPrivate, Turn: 1}
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(listener.Addr().String())
	require.NoError(t, err)
	q.at = listener.Addr().String()
	q.server = New(t.Context(), Options{Directory: q, Reacher: q, Domain: "localhost", Scheme: "http", Port: port, Console: "http://console", Secret: []byte("tide"), Guesses: guesses.New(), Log: slog.New(slog.DiscardHandler)})
	protocols := new(http.Protocols)
	protocols.SetHTTP1(true)
	protocols.SetUnencryptedHTTP2(true)
	s := &http.Server{Handler: q.server, Protocols: protocols, ReadHeaderTimeout: time.Minute}
	go func() { _ = s.Serve(listener) }()
	t.Cleanup(func() { s.Close() })
	return q
}

func (q *quay) WebAddressByLabel(_ context.Context, label string) (records.WebAddress, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	a, there := q.by[label]
	if !there {
		return a, records.ErrNotFound
	}
	return a, nil
}

func (q *quay) Workspace(_ context.Context, id int64) (records.Workspace, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return records.Workspace{ID: id, Account: skipper, Name: fmt.Sprint("deck", id), State: q.states[id]}, nil
}

func (q *quay) TakeWebTicket(_ context.Context, hash []byte, address int64) (records.Credential, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	key := fmt.Sprintf("%x %d", hash, address)
	account, there := q.tickets[key]
	if !there {
		return account, records.ErrNotFound
	}
	delete(q.tickets, key)
	return account, nil
}

func (q *quay) Ended(_ context.Context, accounts []records.Credential) ([]records.Credential, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.shut {
		return accounts, nil
	}
	return nil, nil
}

// Reach gives a connection to an agent that dials the program, whatever is asked for.
func (q *quay) Reach(ctx context.Context, _ records.Workspace) (*agentlink.Link, error) {
	service := linktest.Signer(q.t)
	agent := linktest.Agent{Alone: func(a *connection.Alone) {
		conn, err := net.Dial("tcp", q.program)
		if err != nil {
			_ = a.Reject(ssh.ConnectionFailed, "nothing answers")
			return
		}
		defer conn.Close()
		_ = handed.WithDescriptor(conn.(*net.TCPConn), a.Grant)
	}, Channels: func(c connection.NewChannel) {
		go func() {
			conn, err := net.Dial("tcp", q.program)
			if err != nil {
				_ = c.Reject(ssh.ConnectionFailed, "nothing answers")
				return
			}
			defer conn.Close()
			channel, requests, err := c.Accept()
			if err != nil {
				return
			}
			defer channel.Close()
			go connection.Discard(requests)
			splice.Both(conn, channel)
		}()
	}}
	link, err := agentlink.Open(ctx, agent.Private(q.t, service.PublicKey()), service)
	if err == nil && !q.together {
		link.Again = func(context.Context) (net.Conn, error) { return agent.Private(q.t, service.PublicKey()), nil }
		link.Place = func() *handed.Place { return q.handed.Enter(1) }
	}
	return link, err
}

// change changes an address.
func (q *quay) change(label string, f func(*records.WebAddress)) {
	q.mu.Lock()
	a := q.by[label]
	f(&a)
	a.Turn++
	q.by[label] = a
	q.mu.Unlock()
	q.server.Forget(label)
}

// url is an address with a path.
func (q *quay) url(label, path string) string { return q.server.URL(label, path) }

// browser is one with no cookies yet. All names lead to this machine.
func (q *quay) browser() *http.Client {
	jar, err := cookiejar.New(nil)
	require.NoError(q.t, err)
	return &http.Client{Jar: jar, Timeout: 20 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", q.at)
		}}}
}

// comes has a browser come in by a ticket of an account.
func (q *quay) comes(c *http.Client, label string, account int64) *http.Response {
	q.t.Helper()
	token := credential.NewToken()
	q.mu.Lock()
	q.tickets[fmt.Sprintf("%x %d", credential.HashToken(token), q.by[label].ID)] = records.Credential{Account: account}
	q.mu.Unlock()
	a, _ := q.get(c, q.url(label, enterPath+"?ticket="+token+"&to=/tides"), nil)
	return a
}

// get asks as a browser that opens a page.
func (q *quay) get(c *http.Client, address string, header http.Header) (*http.Response, string) {
	q.t.Helper()
	r, err := http.NewRequestWithContext(q.t.Context(), http.MethodGet, address, nil)
	require.NoError(q.t, err)
	r.Header.Set("Accept", "text/html")
	for name, values := range header {
		r.Header[name] = values
	}
	a, err := c.Do(r)
	require.NoError(q.t, err)
	defer a.Body.Close()
	b, err := io.ReadAll(a.Body)
	require.NoError(q.t, err)
	return a, string(b)
}

// tells is a program that tells what it was asked.
var tells = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
	http.SetCookie(w, &http.Cookie{Name: "tide", Value: "high", Domain: "localhost", Path: "/"})
	http.SetCookie(w, &http.Cookie{Name: cookieName, Value: "forged", Path: "/"})
	http.SetCookie(w, &http.Cookie{Name: "domicile_session", Value: "forged", Path: "/"})
	fmt.Fprintf(w, "%s %s host=%s for=%s proto=%s cookie=%s", r.Method, r.URL.Path, r.Host, r.Header.Get("X-Forwarded-For"), r.Header.Get("X-Forwarded-Proto"), r.Header.Get("Cookie"))
})

func TestWhoMayComeIn(t *testing.T) {
	q := newQuay(t, tells)
	mine, theirs := q.browser(), q.browser()

	a, _ := q.get(mine, q.url("board", "/tides?day=1"), nil)
	assert.Equal(t, http.StatusFound, a.StatusCode)
	assert.Equal(t, "http://console/open/board?to=%2Ftides%3Fday%3D1", a.Header.Get("Location"))
	a, _ = q.get(mine, q.url("board", "/"), http.Header{"Accept": {"application/json"}})
	assert.Equal(t, http.StatusUnauthorized, a.StatusCode, "a program is not sent about")

	a = q.comes(mine, "board", skipper)
	assert.Equal(t, http.StatusSeeOther, a.StatusCode)
	assert.Equal(t, "/tides", a.Header.Get("Location"))
	a, body := q.get(mine, q.url("board", "/tides"), http.Header{"Cookie": {"domicile_session=secret; mast=tall"}})
	assert.Equal(t, http.StatusOK, a.StatusCode)
	host := strings.TrimPrefix(q.url("board", ""), "http://")
	assert.Equal(t, "GET /tides host="+host+" for=127.0.0.1 proto=http cookie=mast=tall", body, "the program sees no cookie of Domicile's")
	assert.Equal(t, []string{"tide=high; Path=/"}, a.Header.Values("Set-Cookie"), "it sets its own alone, for its own host")

	a = q.comes(theirs, "board", finn)
	assert.Equal(t, http.StatusForbidden, a.StatusCode)
	a, _ = q.get(theirs, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusFound, a.StatusCode)

	// Each address is apart, and a cookie that somebody made up is none.
	a, _ = q.get(mine, q.url("api", "/"), nil)
	assert.Equal(t, http.StatusFound, a.StatusCode)
	at, err := url.Parse(q.url("board", "/"))
	require.NoError(t, err)
	for _, c := range mine.Jar.Cookies(at) {
		if c.Name == cookieName {
			body, mac, _ := strings.Cut(c.Value, ".")
			for _, forged := range []string{c.Value + "x", body + ".", "." + mac, "nonsense"} {
				a, _ = q.get(q.browser(), q.url("board", "/"), http.Header{"Cookie": {cookieName + "=" + forged}})
				assert.Equal(t, http.StatusFound, a.StatusCode)
			}
			a, _ = q.get(q.browser(), q.url("api", "/"), http.Header{"Cookie": {c.String()}})
			assert.Equal(t, http.StatusFound, a.StatusCode, "that of another address")
		}
	}

	q.change("board", func(a *records.WebAddress) { a.Sharing = records.WebTeam })
	a, _ = q.get(mine, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusFound, a.StatusCode, "who came in before a change is out")
	q.comes(theirs, "board", finn)
	a, _ = q.get(theirs, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusOK, a.StatusCode)
	q.mu.Lock()
	q.shut = true
	q.mu.Unlock()
	assert.Eventually(t, func() bool {
		a, _ := q.get(theirs, q.url("board", "/"), nil)
		return a.StatusCode == http.StatusFound
	}, 10*time.Second, 50*time.Millisecond, "an account that is locked")
	a, body = q.get(mine, q.url("nowhere", "/"), nil)
	assert.Equal(t, http.StatusNotFound, a.StatusCode)
	assert.Contains(t, body, "There is no such address")
}

func TestATicketCountsOnceAndLeadsNowhereElse(t *testing.T) {
	q := newQuay(t, tells)
	for to, want := range map[string]string{"/a?b=c": "/a?b=c", "": "/", "//evil.test": "/", `/\evil.test`: "/", "https://evil.test/": "/"} {
		token := credential.NewToken()
		q.tickets[fmt.Sprintf("%x %d", credential.HashToken(token), q.by["board"].ID)] = records.Credential{Account: skipper}
		address := q.url("board", enterPath+"?"+url.Values{"ticket": {token}, "to": {to}}.Encode())
		a, _ := q.get(q.browser(), address, nil)
		assert.Equal(t, want, a.Header.Get("Location"), to)
		a, _ = q.get(q.browser(), address, nil)
		assert.Equal(t, http.StatusUnauthorized, a.StatusCode)
	}
}

func TestALink(t *testing.T) {
	q := newQuay(t, tells)
	until := time.Now().Add(time.Hour)
	q.change("board", func(a *records.WebAddress) {
		a.Sharing, a.Link, a.Until, a.Password = records.WebLink, credential.HashToken("the-link"), &until, credential.HashPassword("gannet")
	})
	c := q.browser()
	a, body := q.get(c, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusUnauthorized, a.StatusCode)
	assert.Contains(t, body, "for who has its link")
	a, _ = q.get(c, q.url("board", enterPath+"?link=another"), nil)
	assert.Equal(t, http.StatusForbidden, a.StatusCode)
	link := q.url("board", enterPath+"?link=the-link")
	a, body = q.get(c, link, nil)
	assert.Equal(t, http.StatusOK, a.StatusCode)
	assert.Contains(t, body, `type="password"`)
	for password, want := range map[string]int{"puffin": http.StatusForbidden, "gannet": http.StatusSeeOther} {
		answer, err := c.PostForm(link, url.Values{"password": {password}})
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, want, answer.StatusCode, password)
	}
	a, _ = q.get(c, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusOK, a.StatusCode)

	// Who guesses is slowed down, as at the sign-in.
	status := 0
	for range 10 {
		answer, err := c.PostForm(link, url.Values{"password": {"puffin"}})
		require.NoError(t, err)
		b, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		answer.Body.Close()
		if status = answer.StatusCode; status == http.StatusTooManyRequests {
			assert.Contains(t, string(b), "try again in")
			break
		}
	}
	assert.Equal(t, http.StatusTooManyRequests, status)

	past := time.Now().Add(-time.Second)
	q.mu.Lock()
	address := q.by["board"]
	address.Until = &past
	q.by["board"] = address
	q.mu.Unlock()
	q.server.Forget("board")
	a, _ = q.get(c, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusUnauthorized, a.StatusCode, "its time is over")
	a, _ = q.get(c, link, nil)
	assert.Equal(t, http.StatusForbidden, a.StatusCode)
}

// A page of another workspace cannot call a program in the visitor's name; one of the same can.
func TestPagesOfOthersCannotCall(t *testing.T) {
	q := newQuay(t, tells)
	c := q.browser()
	q.comes(c, "board", skipper)
	for name, x := range map[string]struct {
		header http.Header
		want   int
	}{
		"its own page":                      {http.Header{"Sec-Fetch-Site": {"same-origin"}, "Sec-Fetch-Mode": {"cors"}}, http.StatusOK},
		"its own page, with its origin":     {http.Header{"Origin": {q.url("board", "")}}, http.StatusOK},
		"the person":                        {http.Header{"Sec-Fetch-Site": {"none"}, "Sec-Fetch-Mode": {"navigate"}}, http.StatusOK},
		"a link in another page":            {http.Header{"Sec-Fetch-Site": {"cross-site"}, "Sec-Fetch-Mode": {"navigate"}, "Sec-Fetch-Dest": {"document"}}, http.StatusOK},
		"a frame of another page":           {http.Header{"Sec-Fetch-Site": {"same-site"}, "Sec-Fetch-Mode": {"navigate"}, "Sec-Fetch-Dest": {"iframe"}, "Referer": {q.url("other", "/")}}, http.StatusForbidden},
		"a frame without a referer":         {http.Header{"Sec-Fetch-Site": {"same-site"}, "Sec-Fetch-Mode": {"navigate"}, "Sec-Fetch-Dest": {"iframe"}}, http.StatusForbidden},
		"an object of another page":         {http.Header{"Sec-Fetch-Site": {"same-site"}, "Sec-Fetch-Mode": {"navigate"}, "Sec-Fetch-Dest": {"object"}}, http.StatusForbidden},
		"a frame of the same workspace":     {http.Header{"Sec-Fetch-Site": {"same-site"}, "Sec-Fetch-Mode": {"navigate"}, "Sec-Fetch-Dest": {"iframe"}, "Referer": {q.url("api", "/")}}, http.StatusOK},
		"a program at another port":         {http.Header{"Origin": {"http://board.localhost:1"}, "Sec-Fetch-Site": {"same-site"}}, http.StatusForbidden},
		"the address over TLS":              {http.Header{"Origin": {strings.Replace(q.url("board", ""), "http:", "https:", 1)}}, http.StatusForbidden},
		"a foreign referer alone":           {http.Header{"Referer": {"http://evil.test/"}, "Accept": {"*/*"}}, http.StatusForbidden},
		"a program that is not a browser":   {http.Header{"Accept": {"*/*"}}, http.StatusOK},
		"another port of the workspace":     {http.Header{"Origin": {q.url("api", "")}, "Sec-Fetch-Site": {"same-site"}}, http.StatusOK},
		"another workspace":                 {http.Header{"Origin": {q.url("other", "")}, "Sec-Fetch-Site": {"same-site"}}, http.StatusForbidden},
		"another workspace, by a picture":   {http.Header{"Sec-Fetch-Site": {"same-site"}, "Sec-Fetch-Mode": {"no-cors"}}, http.StatusForbidden},
		"the console":                       {http.Header{"Origin": {"http://console"}}, http.StatusForbidden},
		"nowhere":                           {http.Header{"Origin": {"null"}}, http.StatusForbidden},
		"a name that looks like it":         {http.Header{"Origin": {"http://board.localhost.evil.test"}}, http.StatusForbidden},
		"one below it":                      {http.Header{"Origin": {"http://x.board.localhost"}}, http.StatusForbidden},
		"the same name without its port":    {http.Header{"Origin": {"http://board.localhost"}}, http.StatusForbidden},
		"another workspace, by its referer": {http.Header{"Referer": {q.url("other", "/")}, "Sec-Fetch-Site": {"same-site"}, "Sec-Fetch-Mode": {"no-cors"}}, http.StatusForbidden},
	} {
		t.Run(name, func(t *testing.T) {
			a, _ := q.get(c, q.url("board", "/"), x.header)
			assert.Equal(t, x.want, a.StatusCode)
		})
	}
}

// Whoever has a link can send any number of requests, and takes nothing from other addresses.
func TestTooManyAtOnce(t *testing.T) {
	s := &Server{live: map[string]map[*visit]bool{}}
	var leave []func()
	for range mostLive {
		l, ok := s.come(&visit{label: "board"})
		require.True(t, ok)
		leave = append(leave, l)
	}
	_, ok := s.come(&visit{label: "board"})
	assert.False(t, ok)
	other, ok := s.come(&visit{label: "other"})
	assert.True(t, ok)
	for _, l := range append(leave, other) {
		l()
	}
	assert.Empty(t, s.live)
}

func TestNamesOfAddresses(t *testing.T) {
	s := &Server{o: Options{Domain: "apps.skerry.test"}}
	for host, want := range map[string]string{"board.apps.skerry.test": "board", "BOARD.apps.skerry.test:443": "board", "board.apps.skerry.test.": "board",
		"apps.skerry.test": "", "skerry.test": "", "a.b.apps.skerry.test": "", "boardapps.skerry.test": "", "127.0.0.1:80": "", "": "", "[::1]:80": ""} {
		label, is := s.Label(host)
		assert.Equal(t, want != "", is, host)
		if is {
			assert.Equal(t, want, label)
		}
	}
}
