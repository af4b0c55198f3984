package wish

import (
	"bytes"
	"encoding/json"
	"net/url"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is wished for is judged by an allow-list: what is not on it is refused, in words.
func TestWhatMayBeWishedFor(t *testing.T) {
	for name, c := range map[string]struct {
		wish Wish
		want string // in the error; empty: it is fine
	}{
		"a page":                        {Wish{Kind: Open, Address: "https://quay.skerry.test/sign-in?x=%20#y"}, ""},
		"a page of the workspace":       {Wish{Kind: Open, Address: "http://localhost:8080/"}, ""},
		"a file":                        {Wish{Kind: Open, Address: "file:///etc/passwd"}, "no web address"},
		"a script":                      {Wish{Kind: Open, Address: "javascript:alert(1)"}, "no web address"},
		"a program's own scheme":        {Wish{Kind: Open, Address: "mailto:a@b"}, "no web address"},
		"no host":                       {Wish{Kind: Open, Address: "https://"}, "no web address"},
		"a flag":                        {Wish{Kind: Open, Address: "--new-window=https://x"}, "no web address"},
		"a user that hides the host":    {Wish{Kind: Open, Address: "https://bank.test@evil.test/"}, "hides where it leads"},
		"a line break":                  {Wish{Kind: Open, Address: "https://x/\nhttps://y/"}, "no web address"},
		"an escape":                     {Wish{Kind: Open, Address: "https://x/\x1b]0;"}, "no web address"},
		"a long one":                    {Wish{Kind: Open, Address: "https://x/" + strings.Repeat("a", LongestAddress)}, "at most"},
		"a file to edit":                {Wish{Kind: Edit, Path: "/workspaces/fares/a b"}, ""},
		"a path that climbs":            {Wish{Kind: Edit, Path: "/workspaces/../etc"}, "no path"},
		"a relative one":                {Wish{Kind: Show, Path: "deck"}, "no path"},
		"one with an escape":            {Wish{Kind: Show, Path: "/deck\x1b[2J"}, "no path"},
		"a text":                        {Wish{Kind: Copy, Text: "ahoy\nthere"}, ""},
		"a text that is too long":       {Wish{Kind: Copy, Text: strings.Repeat("a", LongestText+1)}, "at most"},
		"bytes":                         {Wish{Kind: Copy, Text: "\xff"}, "UTF-8"},
		"a notice":                      {Wish{Kind: Tell, Text: "the tide turns"}, ""},
		"an empty one":                  {Wish{Kind: Tell, Text: " \x1b "}, "empty"},
		"a sign-in":                     {Wish{Kind: Git, Host: "git.skerry.test:8443", User: "skipper", Path: "skerry/fares.git"}, ""},
		"a sign-in by address":          {Wish{Kind: Git, Host: "[::1]:8443"}, ""},
		"a host with another line":      {Wish{Kind: Git, Host: "x\nprotocol=http"}, "no host"},
		"a host with a path":            {Wish{Kind: Git, Host: "x/y"}, "no host"},
		"a user with another line":      {Wish{Kind: Git, Host: "x", User: "a\nhost=y"}, "no host"},
		"a path with another line":      {Wish{Kind: Git, Host: "x", Path: "a\nhost=y"}, "no path"},
		"nothing that is known":         {Wish{Kind: "flags"}, "knows no wish"},
		"nothing":                       {Wish{}, "knows no wish"},
		"a kind that steers a terminal": {Wish{Kind: "\x1b[2J"}, `knows no wish " [2J"`},
	} {
		t.Run(name, func(t *testing.T) {
			err := c.wish.Check()
			if c.want == "" {
				assert.NoError(t, err)
				return
			}
			assert.ErrorContains(t, err, c.want)
		})
	}
}

// However an address is written, it is read as browsers read it: none leads to the person's own machine unseen.
func TestAddressesThatMeanThisMachine(t *testing.T) {
	for text, host := range map[string]string{
		"http://127.1/": "127.0.0.1", "http://0/": "0.0.0.0", "http://0x7f000001/": "127.0.0.1", "http://2130706433/": "127.0.0.1", "http://017700000001/": "127.0.0.1",
		"http://１２７.０.０.１/": "127.0.0.1", "http://127。0。0。1/": "127.0.0.1", "http://LOCALHOST:80/": "localhost", "http://localhost./": "localhost.",
		"http://[::ffff:7f00:1]/": "::ffff:127.0.0.1", "http://[0:0::0]/": "::", "http://127.0.0.1./": "127.0.0.1", "http://app.ⓛocalhost/": "app.localhost",
	} {
		u, err := Address(text)
		if assert.NoError(t, err, text) {
			assert.Equal(t, host, u.Hostname(), text)
			assert.True(t, IsLoopback(u.Hostname()), text)
		}
	}
	for _, text := range []string{"http://%6cocalhost/", "http:\\\\127.0.0.1\\", "http:/127.1", "http:127.1", "http://256.1.1.1/", "http://1.2.3.4.5/", "http://[::1%25lo]/", "http://0x100000000/"} {
		_, err := Address(text)
		assert.Error(t, err, text)
	}
	for _, text := range []string{"http://quay.test/", "http://192.168.1.1/", "http://128.1/"} {
		u, err := Address(text)
		require.NoError(t, err)
		assert.False(t, IsLoopback(u.Hostname()), text)
	}
}

func TestWhereAPageComesBack(t *testing.T) {
	for text, want := range map[string][]int{
		"https://id.test/authorize?redirect_uri=http%3A%2F%2Flocalhost%3A43210%2Fback": {43210},
		"https://id.test/?a=http://127.0.0.1:1/&b=http://[::1]:2/&c=http://x:3":        {1, 2},
		"https://id.test/?a=http://localhost/&b=https://app.localhost/":                {80, 443},
		"https://id.test/?a=localhost:9&b=ftp://localhost:9/&c=http://localhost:0/":    nil,
		"https://id.test/?a=http://localhost:99999/":                                   nil,
	} {
		u, err := url.Parse(text)
		require.NoError(t, err)
		assert.Equal(t, want, ComesBack(u), text)
	}
}

// Git's own words go through, and nothing is put beside them.
func TestGitsWords(t *testing.T) {
	w, wanted, err := ReadGit(strings.NewReader("capability[]=authtype\nprotocol=https\nhost=git.skerry.test\npath=fares.git\nusername=skipper\nwwwauth[]=Basic\n\nhost=late\n"))
	require.NoError(t, err)
	assert.True(t, wanted)
	assert.Equal(t, Wish{Kind: Git, Host: "git.skerry.test", Path: "fares.git", User: "skipper"}, w)
	assert.Equal(t, "protocol=https\nhost=git.skerry.test\npath=fares.git\nusername=skipper\n\n", w.GitAsks())
	_, wanted, err = ReadGit(strings.NewReader("protocol=http\nhost=x\n\n"))
	require.NoError(t, err)
	assert.False(t, wanted, "no sign-in goes over a line that anybody reads")

	user, password, err := ReadSignIn(strings.NewReader("protocol=https\nusername=skipper\npassword=a=b\n"))
	require.NoError(t, err)
	assert.Equal(t, "username=skipper\npassword=a=b\n", Word{User: user, Password: password}.GitHears())
	_, _, err = ReadSignIn(strings.NewReader("protocol=https\n"))
	assert.ErrorContains(t, err, "knows no sign-in")
	assert.Empty(t, Word{User: "a\nhost=y", Password: "b"}.GitHears())
}

func TestAConversation(t *testing.T) {
	var line bytes.Buffer
	require.NoError(t, Write(&line, Wish{Kind: Copy, Text: strings.Repeat("\u2028<", 100)}))
	w, err := Read(&line)
	require.NoError(t, err)
	assert.Equal(t, strings.Repeat("\u2028<", 100), w.Text)
	_, err = Read(strings.NewReader("{tide\n"))
	assert.ErrorContains(t, err, "cannot be read")
	_, err = Read(strings.NewReader(strings.Repeat("a", longestLine+1)))
	assert.Error(t, err)

	var answers bytes.Buffer
	require.NoError(t, Write(&answers, Word{Say: "a moment"}))
	require.NoError(t, Write(&answers, Word{Done: true, Error: "no"}))
	var said []string
	last, err := Words(&answers, func(text string) { said = append(said, text) })
	require.NoError(t, err)
	assert.Equal(t, "no", last.Error)
	assert.Equal(t, []string{"a moment"}, said)
	_, err = Words(&answers, func(string) {})
	assert.ErrorContains(t, err, "unexpected EOF")
}

// FuzzRead has any text be a wish: what comes through can be shown, and is asked for as one line.
func FuzzRead(f *testing.F) {
	for _, w := range []Wish{{Kind: Open, Address: "https://x/"}, {Kind: Copy, Text: "a"}, {Kind: Git, Host: "x", Path: "y"}, {Kind: Edit, Path: "/a"}, {Kind: Tell, Text: "b"}} {
		b, err := json.Marshal(w)
		require.NoError(f, err)
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, said []byte) {
		w, err := Read(bytes.NewReader(said))
		if err != nil {
			return
		}
		assert.False(t, strings.ContainsFunc(w.Says(), func(r rune) bool { return !unicode.IsPrint(r) }), "%q", w.Says())
		if w.Kind == Git {
			assert.LessOrEqual(t, strings.Count(w.GitAsks(), "\n"), 5)
			assert.Equal(t, 1, strings.Count(w.GitAsks(), "\nhost=")+strings.Count(w.GitAsks()[:5], "host="))
		}
	})
}
