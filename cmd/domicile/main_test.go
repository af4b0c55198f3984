package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"al.essio.dev/pkg/shellescape"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

func call(t *testing.T, args ...string) (out, errs string, status int) {
	t.Helper()
	var o, e bytes.Buffer
	status = run(t.Context(), &terminal{strings.NewReader(""), &o, &e}, args)
	return o.String(), e.String(), status
}

func TestFlagsMayStandAnywhere(t *testing.T) {
	cases := map[string][]string{
		"-x 1 a b":     {"1", "a", "b"},
		"a -x 1 b":     {"1", "a", "b"},
		"a b -x=1":     {"1", "a", "b"},
		"a -- -x 2":    {"", "a", "-x", "2"},
		"-x 1 -- -- a": {"1", "--", "a"},
	}
	for line, want := range cases {
		f := flag.NewFlagSet("t", flag.ContinueOnError)
		x := f.String("x", "", "")
		rest, err := parse(f, strings.Fields(line))
		require.NoError(t, err)
		assert.Equal(t, want, append([]string{*x}, rest...), line)
	}
}

func TestEveryCommandHasAnExampleThatFits(t *testing.T) {
	var all []command
	for _, g := range groups() {
		all = append(all, g.commands...)
	}
	overview, _, _ := call(t, "help")
	for _, c := range all {
		if c.summary != "" {
			assert.Contains(t, overview, "\n  "+c.name+" ")
		}
		out, _, status := call(t, c.name, "-h")
		assert.Equal(t, 0, status, c.name)
		assert.Contains(t, out, "Use: domicile "+c.name)
		assert.Contains(t, out, "Example:\n  domicile "+c.name)
		for line := range strings.Lines(c.example) {
			f := flag.NewFlagSet(c.name, flag.ContinueOnError)
			c.setup(f)
			_, err := parse(f, strings.Fields(line)[2:])
			assert.NoError(t, err, line)
		}
	}
}

func TestWrongUse(t *testing.T) {
	t.Setenv("DOMICILE_LOGIN_FILE", filepath.Join(t.TempDir(), "none"))
	cases := map[string]string{
		"nonsense":           `no command "nonsense"`,
		"list extra":         `"extra" is one argument too many`,
		"show":               "NAME is missing",
		"show -nonsense x":   "-nonsense",
		"forward x":          "PORT is missing",
		"forward x http":     "is not PORT",
		"forward x 0":        "no port",
		"forward x 80:99999": "no local port",
		"run x":              "COMMAND is missing",
		"remove x":           "add -yes",
	}
	t.Setenv("DOMICILE_TOKEN", "anybody")
	for line, says := range cases {
		_, errs, status := call(t, strings.Fields(line)...)
		assert.Equal(t, 2, status, line)
		assert.Contains(t, errs, says, line)
	}
	t.Setenv("DOMICILE_TOKEN", "")
	_, errs, status := call(t, "list")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "you are not signed in\nWhat to do: domicile login")
}

func TestAServiceThatDoesNotAnswer(t *testing.T) {
	t.Setenv("DOMICILE_SERVER", "http://127.0.0.1:9")
	t.Setenv("DOMICILE_TOKEN", "x")
	_, errs, status := call(t, "list")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "the service at http://127.0.0.1:9 does not answer")
	assert.NotContains(t, errs, "api/v1", "no inner addresses")
}

func TestTheSignInIsKeptPrivate(t *testing.T) {
	file := filepath.Join(t.TempDir(), "deep", "login.json")
	t.Setenv("DOMICILE_LOGIN_FILE", file)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte("{}"), 0o644))
	require.NoError(t, signIn{Server: "http://x", Token: "secret"}.save())
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode())
	s, err := loadSignIn()
	require.NoError(t, err)
	assert.Equal(t, "secret", s.Token)
}

func TestQuotedArgumentsReachAShellUnchanged(t *testing.T) {
	args := []string{"printf", "%s|", "it's", "two  words", "$HOME", "`id`", "a\nb", "", `\`}
	out, err := exec.CommandContext(t.Context(), "sh", "-c", shellescape.QuoteCommand(args)).Output()
	require.NoError(t, err)
	assert.Equal(t, "it's|two  words|$HOME|`id`|a\nb||\\|", string(out))
}

func TestCheckSaysWhatAndWhere(t *testing.T) {
	folder := t.TempDir()
	text := "{\n  \"image\": \"base:12\",\n  \"forwardPort\": [80]\n}\n"
	require.NoError(t, os.WriteFile(filepath.Join(folder, ".devcontainer.json"), []byte(text), 0o600))
	out, _, status := call(t, "check", "-offline", folder)
	assert.Equal(t, 0, status)
	assert.Contains(t, out, ".devcontainer.json makes:\n  system  the image base:12")
	assert.Contains(t, out, "      3 |   \"forwardPort\": [80]\n        |   ^\n")
	assert.Contains(t, out, "Instead: forwardPorts")
	assert.Contains(t, out, "image  base:12")
	_, _, status = call(t, "check", filepath.Join(folder, "nosuch"))
	assert.Equal(t, 1, status)
	require.NoError(t, os.WriteFile(filepath.Join(folder, ".devcontainer.json"), []byte(`{"image": 1}`), 0o600))
	out, _, status = call(t, "check", "-offline", folder)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "This error must be mended")
}

func TestThePlainViewTellsEachThingOnceAndInOrder(t *testing.T) {
	var b bytes.Buffer
	v := &plainView{out: &b}
	begun, ended := time.Now(), time.Now()
	one := client.Step{Position: 0, Title: "Fetch the source", State: client.StepStateRunning, Started: &begun}
	two := client.Step{Position: 1, Title: "Plan", State: client.StepStateWaiting}
	v.update(client.Run{Steps: []client.Step{one, two}}, []client.LogLine{{Step: 0, Text: "fetching"}})
	v.update(client.Run{Steps: []client.Step{one, two}}, []client.LogLine{{Step: 1, Text: "early"}})
	one.State, one.Ended = client.StepStateDone, &ended
	two.State, two.Started = client.StepStateRunning, &begun
	v.update(client.Run{Steps: []client.Step{one, two}}, nil)
	assert.Equal(t, "Fetch the source\n    fetching\n  done 0.0 s\nPlan\n    early\n", b.String())
}

func TestClip(t *testing.T) {
	assert.Equal(t, "short", clip("short", 20))
	assert.Equal(t, "Fähre nach Lamb …", clip("Fähre nach Lamb Island", 18))
	assert.Equal(t, " [2J", clip("\x1b[2J", 20), "what a program prints cannot steer the terminal")
}

func TestLeftoversAreGroupedByReason(t *testing.T) {
	var list []client.Leftover
	for i := range 7 {
		list = append(list, client.Leftover{Site: "this-host", Kind: "image", Name: fmt.Sprintf("image-%d", i), Bytes: 1 << 20, Why: "no workspace is made from it"})
	}
	list = append(list, client.Leftover{Site: "this-host", Kind: "volume", Name: "v", Why: "its workspace was removed"})
	var out bytes.Buffer
	printLeftovers(&terminal{out: &out}, list, false)
	assert.Contains(t, out.String(), "this-host: 7 images, at least 7 MB: no workspace is made from it\n  image-0\n")
	assert.Contains(t, out.String(), "  and 2 more; -json names all\nthis-host: 1 volume: its workspace was removed\n  v\n")
	assert.Contains(t, out.String(), "frees 7 MB at least")
}

// What the service says is opened as a web page and as nothing else.
func TestWhatIsOpenedInABrowser(t *testing.T) {
	folder := t.TempDir()
	opened := filepath.Join(folder, "opened")
	require.NoError(t, os.WriteFile(opened+".sh", []byte("#!/bin/sh\necho \"$1\" >> "+opened+"\n"), 0o755))
	t.Setenv("BROWSER", opened+".sh")
	for _, bad := range []string{"", "-flag", "file:///etc/passwd", "javascript:alert(1)", "x-program://quay", "http:///", "//quay"} {
		assert.Error(t, browse(t.Context(), bad), bad)
	}
	ctx, cancel := context.WithCancel(t.Context())
	require.NoError(t, browse(ctx, "https://quay.skerry.test/"))
	cancel() // the command ends, and the browser stays
	require.Eventually(t, func() bool { b, _ := os.ReadFile(opened); return string(b) == "https://quay.skerry.test/\n" }, 10*time.Second, 5*time.Millisecond)
	t.Setenv("BROWSER", filepath.Join(folder, "none"))
	assert.ErrorContains(t, browse(t.Context(), "https://quay.skerry.test/"), "no browser can be opened")
}
