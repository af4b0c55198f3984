package e2e

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// program is a development server with live reload: its page shows a file, and shows it anew when
// that changes. It tells what it was asked, and takes what is sent to it.
const program = `import hashlib, http.server, os, sys, time
class H(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def log_message(self, *a): pass
    def say(self, text, kind="text/html", more=()):
        b = text.encode()
        self.send_response(200); self.send_header("Content-Type", kind); self.send_header("Content-Length", str(len(b)))
        for n, v in more: self.send_header(n, v)
        self.end_headers(); self.wfile.write(b)
    def do_GET(self):
        if self.path == "/changes":
            self.send_response(200); self.send_header("Content-Type", "text/event-stream"); self.send_header("Connection", "close"); self.end_headers()
            was = os.stat("board.txt").st_mtime_ns
            while True:
                time.sleep(0.1)
                if os.stat("board.txt").st_mtime_ns != was:
                    self.wfile.write(b"data: changed\n\n"); self.wfile.flush(); self.close_connection = True; return
        if self.path == "/asked": return self.say("cookie=" + str(self.headers.get("Cookie")) + " host=" + self.headers["Host"], "text/plain", [("Set-Cookie", "domicile_session=forged; Path=/"), ("Set-Cookie", "wide=1; Domain=localhost; Path=/")])
        self.say("<body><p>" + open("board.txt").read() + "</p><script>new EventSource('/changes').onmessage = () => location.reload()</script>")
    def do_POST(self):
        h, left = hashlib.sha256(), int(self.headers["Content-Length"])
        while left:
            b = self.rfile.read(min(left, 1 << 20)); left -= len(b); h.update(b)
        self.say(h.hexdigest(), "text/plain")
http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), H).serve_forever()
`

// entry asks the command line for an address by which a browser comes in.
func (p *person) entry(t *testing.T, name, port string) string {
	t.Helper()
	a := p.domicile(t, "web", name, port, "-json")
	require.Equal(t, 0, a.status, a.err)
	var e client.WebEntry
	require.NoError(t, json.Unmarshal([]byte(a.out), &e))
	return e.Url
}

// address is the web address of a port.
func (p *person) address(t *testing.T, name, port string) client.WebAddress {
	t.Helper()
	list, err := client.Answer[[]client.WebAddress](p.api.ListWebAddresses(t.Context(), name))
	require.NoError(t, err)
	for _, a := range list {
		if a.Port == port {
			return a
		}
	}
	t.Fatalf("%s has no web address in %s", port, name)
	return client.WebAddress{}
}

func browser(t testing.TB) *http.Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &http.Client{Jar: jar, Transport: &http.Transport{DialContext: toLoopback}}
}

func fetched(t *testing.T, c *http.Client, address string) (int, string) {
	t.Helper()
	a, err := c.Get(address)
	require.NoError(t, err)
	defer a.Body.Close()
	b, err := io.ReadAll(a.Body)
	require.NoError(t, err)
	return a.StatusCode, string(b)
}

func TestWebAddresses(t *testing.T) {
	t.Parallel()
	source := publish(t, "webboard", `{"image": "BASE", "remoteUser": "crew", "forwardPorts": [9000]}`, map[string]string{"program.py": program, "board.txt": "10:15 North Quay"})
	a := skipper.provision(t, source, "webboard")
	require.Equal(t, 0, a.status, a.err)
	a = skipper.provision(t, source, "webother")
	require.Equal(t, 0, a.status, a.err)
	begin := func(name string) {
		skipper.inside(t, name, "setsid -f python3 program.py 9000 >/dev/null 2>&1 </dev/null")
	}

	p := openBrowser(t)
	t.Run("a page waits for the program, and reloads when a file changes", func(t *testing.T) {
		p.does(chromedp.Navigate(skipper.entry(t, "webboard", "9000")))
		p.shows("Nothing listens at port 9000 of webboard yet")
		begin("webboard")
		p.shows("10:15 North Quay")
		skipper.inside(t, "webboard", "echo 10:40 Lamb Island > board.txt")
		p.shows("10:40 Lamb Island")
	})
	begin("webother")
	t.Run("a program that tries for the console's session, and for another's, has neither", func(t *testing.T) {
		q := openBrowser(t)
		q.signIn(skipper)
		q.does(chromedp.Navigate(skipper.entry(t, "webother", "9000")))
		q.shows("10:15 North Quay")
		run := func(script string) string {
			text, err := chromedp.Run(q.ctx, chromedp.Evaluate[string](script, chromedp.EvalAwaitPromise))
			require.NoError(t, err)
			return text
		}
		q.does(chromedp.Navigate(skipper.address(t, "webother", "9000").Url + "asked"))
		q.shows("cookie=None host=webother-")
		assert.Empty(t, run("document.cookie.replace(/wide=1/, '')"), "of Domicile's nothing is seen")
		assert.Empty(t, run("(document.cookie = 'domicile_session=x; domain=localhost; path=/', document.cookie.includes('domicile_session') ? 'set' : '')"))
		for _, address := range []string{world.Service.URL + "/api/v1/account", skipper.address(t, "webboard", "9000").Url} {
			for _, mode := range []string{"cors", "no-cors"} {
				said := run(fmt.Sprintf("fetch(%q, {credentials: 'include', mode: %q}).then(r => r.text()).then(t => t.includes('Lamb') || t.includes('skipper') ? t : '', e => '')", address, mode))
				assert.Empty(t, said, "%s %s", mode, address)
			}
		}
		// What a browser sends to another port of the console's host is worth nothing there.
		q.does(chromedp.Navigate(world.Service.URL))
		q.does(see("nav"))
		cookie := run("(async () => (await cookieStore?.getAll?.() ?? []).map(c => c.name + '=' + c.value).join(';'))()")
		assert.NotContains(t, cookie, "domicile_session", "no page reads it")
	})
	t.Run("half of a session is none", func(t *testing.T) {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, world.Service.URL+"/api/v1/session", strings.NewReader(fmt.Sprintf(`{"name":%q,"password":%q}`, skipper.name, skipper.password)))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		var token client.Token
		require.NoError(t, json.NewDecoder(answer.Body).Decode(&token))
		require.Len(t, answer.Cookies(), 1)
		cookie := answer.Cookies()[0]
		ask := func(change func(*http.Request)) int {
			r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, world.Service.URL+"/api/v1/account", nil)
			require.NoError(t, err)
			change(r)
			a, err := http.DefaultClient.Do(r)
			require.NoError(t, err)
			a.Body.Close()
			return a.StatusCode
		}
		assert.Equal(t, http.StatusUnauthorized, ask(func(r *http.Request) { r.AddCookie(cookie) }))
		assert.Equal(t, http.StatusUnauthorized, ask(func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+cookie.Value) }))
		assert.Equal(t, http.StatusUnauthorized, ask(func(r *http.Request) { r.Header.Set("Domicile-Proof", *token.Proof) }))
		assert.Equal(t, http.StatusOK, ask(func(r *http.Request) { r.AddCookie(cookie); r.Header.Set("Domicile-Proof", *token.Proof) }))
	})
	t.Run("who may come in is chosen, seen and recorded", func(t *testing.T) {
		mine := browser(t)
		status, body := fetched(t, mine, skipper.entry(t, "webboard", "9000"))
		assert.Equal(t, http.StatusOK, status)
		assert.Contains(t, body, "Lamb Island")
		u, err := url.Parse(skipper.address(t, "webboard", "9000").Url)
		require.NoError(t, err)
		label, _, _ := strings.Cut(u.Host, ".")
		status, _ = finn.request(t, http.MethodPost, "/api/v1/web/"+label, "")
		assert.Equal(t, http.StatusNotFound, status, "another account learns nothing of it")
		for _, args := range [][]string{{"web", "webboard", "9000"}, {"web", "webboard"}, {"web", "webboard", "9000", "-for", "team"}, {"web", "webboard", "9000", "-close"}} {
			assert.Equal(t, 1, finn.domicile(t, args...).status, "%v", args)
		}

		a := skipper.domicile(t, "web", "webboard", "9000", "-for", "team")
		require.Equal(t, 0, a.status, a.err)
		assert.Contains(t, a.out, "is for the team")
		theirs := browser(t)
		entry, err := client.Answer[client.WebEntry](finn.api.EnterWebAddress(t.Context(), label, &client.EnterWebAddressParams{}))
		require.NoError(t, err)
		status, _ = fetched(t, theirs, entry.Url)
		assert.Equal(t, http.StatusOK, status)
		status, _ = fetched(t, mine, u.String())
		assert.Equal(t, http.StatusUnauthorized, status, "who came in before a change comes in anew")

		a = skipper.domicile(t, "web", "webboard", "9000", "-for", "link", "-hours", "2", "-json")
		require.Equal(t, 0, a.status, a.err)
		var shared client.WebAddress
		require.NoError(t, json.Unmarshal([]byte(a.out), &shared))
		stranger := browser(t)
		status, body = fetched(t, stranger, *shared.Link)
		assert.Equal(t, http.StatusOK, status)
		assert.Contains(t, body, "Lamb Island")
		status, _ = fetched(t, theirs, u.String())
		assert.Equal(t, http.StatusUnauthorized, status)
		list := skipper.domicile(t, "web", "webboard").out
		assert.Regexp(t, `9000 +`+u.String()+` +who has the link, until`, list)
		changes := skipper.address(t, "webboard", "9000").Changes
		require.Len(t, changes, 2)
		assert.Equal(t, "skipper", changes[0].By)
		assert.Contains(t, changes[0].What, "by a link until")
		assert.Equal(t, "for the team", changes[1].What)

		// What is large goes through, and is what it was.
		const megabytes = 256
		h := sha256.New()
		r, w := io.Pipe()
		go func() {
			block := make([]byte, 1<<20)
			out := bufio.NewWriter(io.MultiWriter(w, h))
			for i := range megabytes {
				block[0] = byte(i)
				_, _ = out.Write(block)
			}
			_ = out.Flush()
			w.Close()
		}()
		q, err := http.NewRequestWithContext(t.Context(), http.MethodPost, u.String(), r)
		require.NoError(t, err)
		q.ContentLength = megabytes << 20
		begun := time.Now()
		answer, err := stranger.Do(q)
		require.NoError(t, err)
		b, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, hex.EncodeToString(h.Sum(nil)), string(b))
		t.Logf("%d MB up in %s", megabytes, time.Since(begun).Round(time.Millisecond))

		require.Equal(t, 0, skipper.domicile(t, "web", "webboard", "9000", "-close").status)
		status, _ = fetched(t, stranger, u.String())
		assert.Equal(t, http.StatusNotFound, status)
		assert.Equal(t, "No port of webboard has a web address. To give it one: domicile web webboard PORT\n", skipper.domicile(t, "web", "webboard").out)
	})
	t.Run("bad input", func(t *testing.T) {
		for line, says := range map[string]string{"webboard 0": "no port", "webboard x": "no port", "nosuch 80": "nosuch", "webboard 80 -for everybody": "", "webboard 80 -for team -hours 3": "are for links", "webboard 81 -close": "has no web address", "webboard elsewhere.test:80": "has no service"} {
			a := skipper.domicile(t, append([]string{"web"}, strings.Fields(line)...)...)
			assert.NotEqual(t, 0, a.status, line)
			assert.Contains(t, a.err, says, line)
		}
	})
}

// toLoopback leads all names to this machine, as browsers do with those below localhost.
func toLoopback(ctx context.Context, network, address string) (net.Conn, error) {
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	return (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort("127.0.0.1", port))
}
