package compare

import (
	"context"
	"hash/maphash"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/plan"
)

// alike gives two workspaces that differ in nothing.
func alike() (a, b Workspace) {
	side := func(name string) Workspace {
		return Workspace{Name: name,
			Facts:  map[Kind]map[string]string{Definition: {"image": "quay.test/base:12", "onCreateCommand": "make"}, Image: {"image": "quay.test/base:12@sha256:aa"}, Source: {"commit": "c0ffee"}, Site: {"name": "local"}, Limit: {"memory": "2 GB"}},
			Checks: []Result{{Name: "sailings", OK: true, Expected: "exit status 0", Found: "exit status 0"}},
			Inside: Inside{Variable: {"PATH": "/usr/bin", "LANG": "C"}, Tool: {"python3": "Python 3.11.2"}, Package: {"tree": "2.1", "libc6": "2.36"}, Pip: {"six": "1.16.0"}, System: {"kernel": "6.1", "the machine": "x86_64"}, Limit: {"open files": "1024"}}}
	}
	return side("tide"), side("ebb")
}

func TestWhatIsAlikeIsSaid(t *testing.T) {
	a, b := alike()
	r := Sides(a, b)
	assert.Empty(t, r.Differences)
	assert.ElementsMatch(t, []Kind{Check, Source, Definition, Image, Variable, Tool, Pip, Package, System, Limit, Site}, r.Same, "and what was not seen is not claimed: npm, gem")
}

func TestTheLikeliestCulpritComesFirst(t *testing.T) {
	for name, c := range map[string]struct {
		change func(a, b *Workspace)
		want   []string // kind and name
		why    string   // of the first
	}{
		"a package by hand before a version of a tool": {func(a, b *Workspace) {
			b.Inside[Pip]["requests"] = "2.32.3"
			b.Inside[Tool]["python3"] = "Python 3.12.0"
		}, []string{"pip requests", "tool python3"}, "by hand"},
		"what a check names before all else": {func(a, b *Workspace) {
			b.Checks[0] = Result{Name: "sailings", Expected: "exit status 0", Found: "exit status 1: No module named six"}
			delete(b.Inside[Pip], "six")
			b.Inside[Variable]["LANG"] = "de_DE.UTF-8"
			b.Facts[Definition]["onCreateCommand"] = "true"
		}, []string{"check sailings", "pip six", "definition onCreateCommand", "variable LANG"}, "this is what shows"},
		"an image that moved, and what came with it": {func(a, b *Workspace) {
			b.Facts[Image]["image"] = "quay.test/base:12@sha256:bb"
			b.Inside[Package]["libc6"] = "2.37"
		}, []string{"image image", "package libc6"}, "the same name gave two images"},
		"the processor before what is told of it": {func(a, b *Workspace) {
			b.Inside[System]["the machine"] = "aarch64"
			b.Facts[Definition]["image"] = "other"
			b.Inside[System]["kernel"] = "6.2"
		}, []string{"system the machine", "definition image", "system kernel"}, "another processor"},
		"limits of both kinds": {func(a, b *Workspace) {
			b.Facts[Limit]["memory"] = "1 GB"
			b.Inside[Limit]["open files"] = "64"
		}, []string{"limit memory", "limit open files"}, "ended or waits"},
		"what one has and the other has not": {func(a, b *Workspace) {
			delete(a.Facts[Definition], "onCreateCommand")
		}, []string{"definition onCreateCommand"}, "definitions that differ"},
	} {
		t.Run(name, func(t *testing.T) {
			a, b := alike()
			c.change(&a, &b)
			r := Sides(a, b)
			var got []string
			for _, d := range r.Differences {
				got = append(got, string(d.Kind)+" "+d.Name)
				assert.NotEmpty(t, d.Why)
			}
			require.Equal(t, c.want, got)
			assert.Contains(t, r.Differences[0].Why, c.why)
		})
	}
}

// One that does not run is compared by what it was made from, and nothing is claimed of the rest.
func TestOneThatDoesNotRun(t *testing.T) {
	a, b := alike()
	b.Inside, b.Unseen = nil, "it is stopped"
	b.Facts[Definition]["image"] = "other"
	r := Sides(a, b)
	require.Len(t, r.Differences, 2)
	assert.Equal(t, Definition, r.Differences[0].Kind)
	assert.Equal(t, "open files", r.Differences[1].Name)
	assert.NotContains(t, r.Same, Package)
}

func TestOnlyWhatIsSmallAndPlainIsRead(t *testing.T) {
	seed := maphash.MakeSeed()
	in, whole := Read([]byte("noise\n@@ system\nkernel 6.1\nthe machine x86_64\n@@ variable\nLANG=C\nQUAY_TOKEN=gannet\nEMPTY=\nTWO=a\x1eb\nDOMICILE_WORKSPACE=tide\nHOSTNAME=tide\nnonsense\n"+
		"@@ tool\nevil \x1b]0;title\x07 1.0\nlong "+strings.Repeat("x", 1000)+"\nnone \n@@ nowhere\na b\n@@ end\n@@ pip\nlate 1\n"), seed)
	assert.True(t, whole)
	assert.Equal(t, map[string]string{"kernel": "6.1", "the machine": "x86_64"}, in[System])
	token := in[Variable]["QUAY_TOKEN"]
	assert.Equal(t, map[string]string{"LANG": "C", "QUAY_TOKEN": token, "EMPTY": "", "TWO": "a b"}, in[Variable])
	assert.NotContains(t, token, "gannet")
	assert.NotContains(t, in[Tool]["evil"], "\x1b")
	assert.Less(t, len(in[Tool]["long"]), 400)
	assert.NotContains(t, in[Tool], "none")
	assert.NotContains(t, in, Pip, "nothing comes behind the end")

	again, _ := Read([]byte("@@ variable\nQUAY_TOKEN=gannet\n@@ end\n"), seed)
	other, _ := Read([]byte("@@ variable\nQUAY_TOKEN=puffin\n@@ end\n"), seed)
	assert.Equal(t, token, again[Variable]["QUAY_TOKEN"], "one seed, one value: not told, but the same")
	assert.NotEqual(t, token, other[Variable]["QUAY_TOKEN"])

	in, whole = Read([]byte("@@ tool\ngit git version 2.4\n@@ package\ntree 2.1\nlib"), seed)
	assert.False(t, whole)
	assert.Contains(t, in, Tool)
	assert.NotContains(t, in, Package, "what was cut off would differ everywhere")
}

// The script runs in a plain shell and prints what Read reads.
func TestTheScript(t *testing.T) {
	c := exec.CommandContext(t.Context(), "setsid", "--wait", "/bin/sh", "-c", script(600)) // the programs of this machine may be many, and busy
	c.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin", "QUAY=north\nsouth", "HOME=/"}
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	in, whole := Read(out, maphash.MakeSeed())
	require.True(t, whole, string(out))
	assert.NotEmpty(t, in[System]["kernel"])
	assert.Contains(t, in[System]["distribution"], "Debian")
	assert.Equal(t, "north south", in[Variable]["QUAY"])
	assert.Contains(t, in[Tool]["bash"], "GNU bash")
	assert.NotEmpty(t, in[Package]["bash"])
	assert.NotEmpty(t, in[Limit]["open files"])
}

// A program that says no version, and waits, is ended with the script; what was found before counts.
func TestAScriptThatIsHeldUp(t *testing.T) {
	programs := t.TempDir()
	for name, does := range map[string]string{"curl": "exec sleep 600", "dpkg-query": "", "python3": "", "npm": "", "gem": ""} {
		require.NoError(t, os.WriteFile(filepath.Join(programs, name), []byte("#!/bin/sh\n"+does+"\n"), 0o755))
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, "setsid", "--wait", "/bin/sh", "-c", "PATH="+programs+":$PATH\n"+script(3))
	c.WaitDelay = time.Second
	out, err := c.CombinedOutput() // until nobody has its output any more
	assert.Error(t, err)
	require.NoError(t, ctx.Err(), "it ended itself")
	in, whole := Read(out, maphash.MakeSeed())
	assert.False(t, whole)
	assert.NotEmpty(t, in[Limit]["open files"])
}

// What a plan tells does not tell of secrets, nor of names that each workspace has of its own.
func TestFactsOfAPlan(t *testing.T) {
	value := "gannet"
	p := &plan.Plan{ImageName: "base:12", Image: "base:12@sha256:aa", Container: plan.Container{Hostname: "tide", Env: map[string]string{"QUAY_PASSWORD": "puffin", "QUAY": "north"},
		Settings: plan.Settings{Mounts: []plan.Mount{{Type: "volume", Source: "domicile-w7-cache", Target: "/cache"}}, Memory: 2 << 30, CapAdd: []string{"SYS_PTRACE", "NET_RAW"}}},
		Session: plan.Session{User: "crew", Env: map[string]*string{"API_TOKEN": &value, "GONE": nil}}}
	f := Facts(p)
	assert.Equal(t, map[string]string{"image": "base:12", "containerEnv QUAY_PASSWORD": "(not told)", "containerEnv QUAY": "north", "mount /cache": "volume", "capAdd": "NET_RAW, SYS_PTRACE", "remoteUser": "crew",
		"remoteEnv API_TOKEN": "(not told)", "remoteEnv GONE": "taken away"}, f[Definition])
	assert.Equal(t, "base:12@sha256:aa", f[Image]["image"])
	assert.Equal(t, map[string]string{"memory": "2 GB"}, f[Limit])
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("@@ system\nkernel 6.1\n@@ variable\nA=b\n@@ end\n"))
	f.Add([]byte("@@ pip\n\x1b[2J x\n"))
	seed := maphash.MakeSeed()
	f.Fuzz(func(t *testing.T, out []byte) {
		in, whole := Read(out, seed)
		if whole && !strings.Contains(string(out), "@@ end") {
			t.Errorf("whole without an end: %q", out)
		}
		for kind, facts := range in {
			for name, value := range facts {
				if strings.ContainsAny(name+value, "\n\x1b\x00") {
					t.Errorf("%s: %q is %q", kind, name, value)
				}
			}
		}
		Sides(Workspace{Inside: in}, Workspace{Inside: Inside{}})
	})
}
