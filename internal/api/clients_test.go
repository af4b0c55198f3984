package api_test

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/site"
)

// The programs for people's own machines are there for anybody, with their digests; nothing else of the
// folder, and of the host, is.
func TestProgramsForPeoplesOwnMachines(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	anybody, err := client.Open(h.url, "")
	require.NoError(t, err)
	list := func() []client.ClientProgram {
		t.Helper()
		list, err := client.Answer[[]client.ClientProgram](anybody.ListClients(t.Context()))
		require.NoError(t, err)
		return list
	}
	assert.Empty(t, list(), "none is built")
	program := func(name, text string) {
		t.Helper()
		require.NoError(t, os.WriteFile(filepath.Join(h.clients, name), []byte(text), 0o644))
	}
	program("domicile-linux-amd64", "for linux")
	program("domicile-windows-arm64.exe", "for windows")
	program("notes.txt", "not for anybody")
	require.NoError(t, os.Mkdir(filepath.Join(h.clients, "domicile-linux-arm64"), 0o755))
	get := func(path, known string) (*http.Response, string) {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, h.url+path, nil)
		require.NoError(t, err)
		r.Header.Set("If-None-Match", known)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		b, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer, string(b)
	}
	sum := func(text string) string {
		b := sha256.Sum256([]byte(text))
		return hex.EncodeToString(b[:])
	}
	require.Equal(t, []client.ClientProgram{
		{File: "domicile-linux-amd64", System: client.Linux, Architecture: client.Amd64, Bytes: 9, Sha256: sum("for linux")},
		{File: "domicile-windows-arm64.exe", System: client.Windows, Architecture: client.Arm64, Bytes: 11, Sha256: sum("for windows")},
	}, list())
	answer, text := get("/clients/domicile-windows-arm64.exe", "")
	assert.Equal(t, "for windows", text)
	assert.Contains(t, answer.Header.Get("Content-Disposition"), `"domicile.exe"`)
	answer, _ = get("/clients/domicile-windows-arm64.exe", answer.Header.Get("ETag"))
	assert.Equal(t, http.StatusNotModified, answer.StatusCode)
	for _, other := range []string{"notes.txt", "domicile-linux-arm64", "domicile-darwin-arm64", "..%2fsecret.key", "%2e%2e%2f%2e%2e%2fetc%2fpasswd"} {
		answer, text := get("/clients/"+other, "")
		assert.Equal(t, http.StatusNotFound, answer.StatusCode, other)
		assert.NotContains(t, text, "not for anybody")
	}
	// One that is built anew has another digest at once.
	program("domicile-linux-amd64", "for linux, 2")
	require.NoError(t, os.Chtimes(filepath.Join(h.clients, "domicile-linux-amd64"), time.Time{}, time.Now().Add(time.Minute)))
	assert.Equal(t, sum("for linux, 2"), list()[0].Sha256)
}
