package main

import (
	"context"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A browser's arguments, which everybody reads, have no ticket; the page has it, for this user alone.
func TestATicketIsNotInABrowsersArguments(t *testing.T) {
	if _, err := exec.LookPath("runuser"); os.Getuid() != 0 || err != nil {
		t.Fatal("this test wants root, to be another user")
	}
	folder := t.TempDir()
	browser := filepath.Join(folder, "browser")
	require.NoError(t, os.WriteFile(browser, []byte("#!/bin/sh\necho \"$@\" >"+folder+"/part && mv "+folder+"/part "+folder+"/arguments\n"), 0o755))
	t.Setenv("BROWSER", browser)
	secret := "http://fares.localhost:4380/.domicile/enter?ticket=one&to=%2F"
	over := make(chan error, 1)
	go func() { over <- openPrivately(t.Context(), secret) }()
	var arguments []byte
	require.Eventually(t, func() bool {
		var err error
		arguments, err = os.ReadFile(filepath.Join(folder, "arguments"))
		return err == nil
	}, 10*time.Second, 5*time.Millisecond)
	at := strings.TrimSpace(string(arguments))
	assert.NotContains(t, at, "ticket")

	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	script := "exec 3<>/dev/tcp/" + strings.Replace(strings.TrimPrefix(at[:strings.LastIndex(at, "/")], "http://"), ":", "/", 1) + "; printf 'GET " + at[strings.LastIndex(at, "/"):] + " HTTP/1.0\\r\\n\\r\\n' >&3; cat <&3"
	got, err := exec.CommandContext(ctx, "runuser", "-u", "nobody", "--", "bash", "-c", script).CombinedOutput()
	require.NoError(t, err, string(got))
	assert.Contains(t, string(got), "404", "another user gets nothing")
	assert.NotContains(t, string(got), "ticket")

	a, err := http.Get(at)
	require.NoError(t, err)
	defer a.Body.Close()
	b := make([]byte, 1000)
	n, _ := a.Body.Read(b)
	assert.Contains(t, string(b[:n]), "ticket=one&amp;to=%2F")
	require.NoError(t, <-over)
	_, err = net.Dial("tcp", strings.TrimPrefix(at[:strings.LastIndex(at, "/")], "http://"))
	assert.Error(t, err, "once")
}
