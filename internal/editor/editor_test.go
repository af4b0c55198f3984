package editor

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var deck = Place{Host: "quay.skerry.test", Port: 4322, User: "deck", Address: "deck.domicile", Workspace: "deck", Path: "/src/a deck/ü?.txt"}

func TestLinks(t *testing.T) {
	for link, want := range map[string]string{
		"ssh://{user}@{host}:{port}{path}":   "ssh://deck@quay.skerry.test:4322/src/a%20deck/%C3%BC%3F.txt",
		"sftp://{address}{path}":             "sftp://deck.domicile/src/a%20deck/%C3%BC%3F.txt",
		"x-editor+ssh://open?ws={workspace}": "x-editor+ssh://open?ws=deck",
		"javascript:alert('{path}')":         "",
		"JavaScript:alert(1)":                "",
		"data:text/html,x":                   "",
		"file:///etc/passwd":                 "",
		"https://elsewhere.test/{path}":      "",
		"no scheme":                          "",
		"ssh://{token}@{host}":               "",
		"ssh://{host}/\"onmouseover=\"x":     "",
		"ssh://{host}/ with a space":         "",
		"//elsewhere.test":                   "",
		"ssh://{host}:{port}/{":              "ssh://quay.skerry.test:4322/{",
	} {
		got, err := Link(link, deck)
		assert.Equal(t, want, got, link)
		assert.Equal(t, want == "", err != nil, link)
	}
}

func TestCommands(t *testing.T) {
	got, err := Command(`vim "scp://{address}/{path}" -c 'set ro'`, deck)
	require.NoError(t, err)
	assert.Equal(t, []string{"vim", "scp://deck.domicile//src/a deck/ü?.txt", "-c", "set ro"}, got, "a path with spaces is one word")
	for _, bad := range []string{"", "  ", "{path}", "vim 'x", "vim {token}", "vim\nrm"} {
		_, err := Command(bad, deck)
		assert.Error(t, err, "%q", bad)
	}
	flag := deck
	flag.Path = "-c:!rm"
	_, err = Command("vim {path}", flag)
	assert.ErrorContains(t, err, "taken for a flag")
}

func FuzzLink(f *testing.F) {
	f.Add("ssh://{user}@{host}{path}", "/src/deck")
	f.Fuzz(func(t *testing.T, link, path string) {
		p := deck
		p.Path = path
		got, err := Link(link, p)
		if err == nil {
			assert.NotContains(t, got, " ")
			assert.NotContains(t, got, "\"")
			assert.NotContains(t, got, "<")
		}
	})
}
