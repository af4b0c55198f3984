package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	contract "domicile/api"
	"domicile/internal/client"
)

// Each system's programs get what is said to them as arguments or as input, never as part of a script.
func TestDesktopsOfAllSystems(t *testing.T) {
	folder := t.TempDir()
	t.Setenv("PATH", folder)
	for _, name := range []string{"wl-copy", "xclip", "pbcopy", "clip", "osascript", "notify-send"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte("#!/bin/sh\n/bin/cat > "+folder+"/got\nfor x; do echo \"$x\" >> "+folder+"/got; done\n"), 0o755))
	}
	got := func() string {
		t.Helper()
		b, err := os.ReadFile(filepath.Join(folder, "got"))
		require.NoError(t, err)
		return string(b)
	}
	for system, x := range map[string]struct{ variable, program, given string }{
		"linux":   {"DISPLAY", "xclip", "low tide ✓-selection\nclipboard\n"},
		"freebsd": {"WAYLAND_DISPLAY", "wl-copy", "low tide ✓"},
		"darwin":  {"", "pbcopy", "low tide ✓"},
		"windows": {"", "clip", "\xff\xfel\x00o\x00w\x00 \x00t\x00i\x00d\x00e\x00 \x00\x13\x27"},
	} {
		t.Setenv("DISPLAY", "")
		t.Setenv("WAYLAND_DISPLAY", "")
		d := desktopFor(system)
		if x.variable != "" {
			_, is := d.clipboardProgram()
			assert.False(t, is, "%s without a screen", system)
			assert.False(t, d.screen())
			t.Setenv(x.variable, ":1")
		}
		assert.True(t, d.screen())
		c, is := d.clipboardProgram()
		require.True(t, is, system)
		assert.Equal(t, x.program, c.command[0])
		_, err := ask(t.Context(), desktopLimit, c.encode("low tide ✓"), c.command...)
		require.NoError(t, err)
		assert.Equal(t, x.given, got(), system)
	}
	const sly = `"; do shell script "rm" -- <b>`
	require.NoError(t, desktopFor("darwin").tell(t.Context(), "Skerry", sly))
	assert.Regexp(t, `end run\nSkerry\n`+"(?s).*", got())
	assert.Contains(t, got(), "\n"+sly+"\n")
	require.NoError(t, desktopFor("linux").tell(t.Context(), "Skerry", sly))
	assert.Contains(t, got(), "&lt;b&gt;", "marks are none there")
	assert.Empty(t, desktopFor("windows").notice)
}

func TestWhetherClientAndServiceFit(t *testing.T) {
	assert.Empty(t, unfit(client.Version{Contract: contract.Version}, "http://quay"))
	assert.Contains(t, unfit(client.Version{}, "http://quay"), "an earlier one")
	says := unfit(client.Version{Contract: "99"}, "http://quay")
	assert.Contains(t, says, "contract 99")
	assert.Contains(t, says, "http://quay/clients")
	assert.Contains(t, string(contract.Document), "\n  version: \""+contract.Version+"\"\n")
}
