package recipe

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The script runs for real, on files of a folder in place of the image's own.
func TestTheUserGetsTheFolderOwnersNumbers(t *testing.T) {
	const passwd = "root:x:0:0::/root:/bin/sh\ncrew:x:1000:1000::/none:/bin/sh\nmate:x:1001:1001::/none:/bin/sh\n"
	const group = "root:x:0:\ncrew:x:1000:\nmate:x:1001:\n"
	cases := map[string]struct {
		remote    string
		uid, gid  int
		want, grp string
	}{
		"free numbers":              {"crew", 2005, 2006, "crew:x:2005:2006:", "crew:x:2006:"},
		"by number":                 {"1000:1000", 2005, 2006, "crew:x:2005:2006:", "crew:x:2006:"},
		"another user has it":       {"crew", 1001, 1001, "crew:x:1000:1000:", "crew:x:1000:"},
		"another group has it":      {"crew", 2005, 1001, "crew:x:2005:1000:", "crew:x:1000:"},
		"root keeps its own":        {"root", 2005, 2006, "root:x:0:0:", "root:x:0:"},
		"the image has no such one": {"ghost", 2005, 2006, "crew:x:1000:1000:", "crew:x:1000:"},
	}
	for name, c := range cases {
		folder := t.TempDir()
		at := func(file string) string { return filepath.Join(folder, file) }
		require.NoError(t, os.WriteFile(at("passwd"), []byte(passwd), 0o600))
		require.NoError(t, os.WriteFile(at("group"), []byte(group), 0o600))
		r := (&Recipe{Base: "b", RemoteUser: c.remote}).WithUser(c.uid, c.gid)
		script := strings.NewReplacer("/etc/passwd", at("passwd"), "/etc/group", at("group")).Replace(r.UserScript(""))
		out, err := exec.Command("/bin/sh", "-c", script).CombinedOutput()
		require.NoError(t, err, "%s: %s", name, out)
		b, err := os.ReadFile(at("passwd"))
		require.NoError(t, err)
		assert.Contains(t, string(b), c.want, name)
		b, err = os.ReadFile(at("group"))
		require.NoError(t, err)
		assert.Contains(t, string(b), c.grp, name)
	}
}

func TestAnImageWithSecretsIsItsAccountsOwn(t *testing.T) {
	r := (&Recipe{Base: "b"}).sealed()
	assert.NotEqual(t, r.Tag(), r.For(1).Tag())
	assert.NotEqual(t, r.For(1).Tag(), r.For(2).Tag())
	assert.Equal(t, r.For(1).Tag(), r.For(1).For(1).Tag())
	assert.NotEqual(t, r.Tag(), r.WithUser(5, 5).Tag())
}

func TestBuildOptions(t *testing.T) {
	refused := map[string]string{"--secret": "give its id alone", "--secret=type=env": "has no id", "--secret=id=a,src=/etc/passwd": "names a file of the host", "--network=host": "another network", "--ssh=default": "no equivalent"}
	for option, says := range refused {
		assert.ErrorContains(t, (&Dockerfile{}).options([]string{option}), says, option)
	}
	d := &Dockerfile{}
	require.NoError(t, d.options([]string{"--secret", "id=token,env=TOKEN", "--label", "a=b", "--no-cache", "--target=x", "--add-host", "h:1.2.3.4", "--network", "none"}))
	assert.Equal(t, []string{"token"}, d.Secrets)
	assert.Equal(t, map[string]string{"a": "b"}, d.Labels)
	assert.True(t, d.NoCache && d.NoNetwork)
	assert.Equal(t, "x", d.Target)
}

func TestLabelsJoin(t *testing.T) {
	added := []json.RawMessage{json.RawMessage(`{"id":"b"}`)}
	for base, want := range map[string]string{"": `[{"id":"b"}]`, `{"id":"a"}`: `[{"id":"a"},{"id":"b"}]`, ` [{"id":"a"}] `: `[{"id":"a"},{"id":"b"}]`} {
		got, err := Label(base, added)
		require.NoError(t, err)
		assert.JSONEq(t, want, got)
	}
	_, err := Label("{", added)
	assert.ErrorContains(t, err, "is no JSON")
}

func TestScriptQuotesAndOrders(t *testing.T) {
	r := &Recipe{RemoteUser: "it's"}
	s := r.Script(Layer{Options: map[string]string{"B": "2", "A": "x'y"}}, "keeper")
	assert.Contains(t, s, `_CONTAINER_USER=keeper _REMOTE_USER='it'"'"'s'`)
	assert.Less(t, strings.Index(s, `export A='x'"'"'y'`), strings.Index(s, "export B=2"))
}
