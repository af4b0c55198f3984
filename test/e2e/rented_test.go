package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/site/machine/cloud/provider"
)

// A workspace in a rented instance is like any other. What it costs is known before it is made;
// what the provider takes away is said to be gone; and nothing is paid for afterwards.
func TestPlacesARentedInstance(t *testing.T) {
	image := machineImage(t)
	flags, err := world.StartProvider(t.Context(), image, 0, 0)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, world.Provider.Stop())
		world.Provider = nil
	})
	account, err := provider.Open(world.Provider.Address, key(t, world.Provider.KeyFile))
	require.NoError(t, err)
	open := func() (list []provider.BillLine) {
		bill, err := account.Bill(t.Context())
		require.NoError(t, err)
		for _, l := range bill.Lines {
			if l.Open {
				list = append(list, l)
			}
		}
		return list
	}

	// Without a place where instances call, there is nothing to rent; with a wrong key neither.
	a := skipper.domicile(t, "sites", "add", "rented", world.Provider.Address, "-key", world.Provider.KeyFile)
	assert.Contains(t, a.err, "start the service with -home")
	assert.NotContains(t, skipper.domicile(t, "sites").out, "rented", "nothing is left of it")
	serveWith(t, flags...)
	wrong := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(wrong, []byte("neap"), 0o600))
	assert.Contains(t, skipper.domicile(t, "sites", "add", "rented", world.Provider.Address, "-key", wrong).err, "does not take the account's key")
	assert.Contains(t, finn.domicile(t, "sites", "add", "rented", world.Provider.Address, "-key", world.Provider.KeyFile).err, "administrator")
	assert.Contains(t, skipper.domicile(t, "sites", "add", "rented", "http://cloud.example.com/north", "-key", wrong).err, "over https alone")
	a = skipper.domicile(t, "sites", "add", "rented", world.Provider.Address, "-key", world.Provider.KeyFile)
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.out, "rented can hold workspaces")
	assert.NotContains(t, skipper.domicile(t, "sites", "-json").out, key(t, world.Provider.KeyFile))
	assert.Contains(t, skipper.domicile(t, "sites", "change", "rented", "-sizes", "tiny=1:1gb").err, "those that its provider has")
	assert.Contains(t, skipper.domicile(t, "sites", "change", "rented", "-key", wrong).err, "does not take the account's key")
	assert.Contains(t, skipper.domicile(t, "sites", "change", "this-host", "-key", wrong).err, "none of rented instances")

	source := publish(t, "chartered", `{"image": "BASE", "remoteUser": "crew", "privileged": true, "forwardPorts": [8080], "onCreateCommand": "echo made > made",
		"postStartCommand": "nohup python3 -m http.server 8080 > /dev/null 2>&1 &", "customizations": {"domicile": {"checks": {"python": {"command": "python3 --version"}}}}}`, map[string]string{"deck": "planks\n"})
	plan := skipper.domicile(t, "plan", source, "-site", "rented").out
	assert.Contains(t, plan, "0.009 EUR an hour while it runs, 6.57 EUR a month", "before anything is made")
	assert.Contains(t, plan, "it asks to be privileged: allowed, because this machine is yours alone.")
	assert.Empty(t, open())
	assert.Contains(t, skipper.domicile(t, "plan", publish(t, "cheaper", `{"image": "BASE"}`, nil)).out, "Not at rented: it costs 0.009 EUR an hour")

	a = skipper.provision(t, source, "chartered", "-site", "rented")
	require.Equal(t, 0, a.status, a.err)
	t.Cleanup(func() { forget(t, "chartered") })
	assert.Equal(t, "crew\nmade\nplanks", skipper.inside(t, "chartered", "id -un; cat made deck"))
	w := skipper.workspace(t, "chartered")
	require.NotNil(t, w.Checks)
	assert.True(t, (*w.Checks)[0].Ok)
	assert.Contains(t, skipper.domicile(t, "list").out, "EUR an hour")
	assert.Len(t, open(), 1)
	// Of the service's host it reaches the place where it calls, and nothing that listens beside it.
	_, port, _ := strings.Cut(strings.TrimPrefix(world.Service.URL, "http://"), ":")
	assert.NotContains(t, skipper.inside(t, "chartered", "timeout 9 python3 -c 'import socket; socket.create_connection((\"10.0.2.2\", "+port+"), 5); print(\"reached\")' 2>&1 || true"), "reached")
	assert.Equal(t, "no", skipper.inside(t, "chartered", "ls /var/lib/domicile/first-boot.json 2>/dev/null || echo no"), "what the instance was given is not the workspace's")

	// The service is killed: the instance calls the next one.
	world.Service.Kill()
	serveWith(t, flags...)
	eventually(t, 60*time.Second, "it is reached again", func() bool { return skipper.domicile(t, "run", "chartered", "--", "true").status == 0 })

	// It rests, at the price of its disk, and goes on.
	require.Equal(t, 0, skipper.domicile(t, "stop", "chartered").status)
	list, err := account.List(t.Context(), "")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, provider.Stopped, list[0].State)
	a = skipper.domicile(t, "start", "chartered")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, skipper.inside(t, "chartered", "python3 -c 'import time, urllib.request as r\nfor n in range(50):\n  try: print(r.urlopen(\"http://127.0.0.1:8080/deck\").read().decode()); break\n  except OSError: time.sleep(.2)'"), "planks")

	// The provider takes it away.
	q, err := http.NewRequestWithContext(t.Context(), http.MethodPost, strings.TrimSuffix(world.Provider.Address, "/north")+"/taken/"+list[0].Id, nil)
	require.NoError(t, err)
	q.Header.Set("Authorization", "Bearer "+key(t, world.Provider.KeyFile))
	answer, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, http.StatusOK, answer.StatusCode)
	eventually(t, 60*time.Second, "it is said to be gone", func() bool {
		return skipper.workspace(t, "chartered").State == client.WorkspaceState("failed") || skipper.workspace(t, "chartered").State == client.WorkspaceState("lost")
	})
	assert.Contains(t, skipper.domicile(t, "show", "chartered").out, "its machine is gone, and with it all that was not pushed")
	require.Equal(t, 0, skipper.domicile(t, "remove", "chartered", "-yes").status)
	eventually(t, 60*time.Second, "nothing is paid for", func() bool { return len(open()) == 0 })

	// The site goes when all is given back; the kept disk is told as left over.
	eventually(t, 60*time.Second, "the kept disk is told", func() bool {
		return strings.Contains(skipper.domicile(t, "tidy").out, "no machine comes from it")
	})
	require.Equal(t, 0, skipper.domicile(t, "sites", "drain", "rented").status)
	eventually(t, 60*time.Second, "the site is forgotten", func() bool { return skipper.domicile(t, "sites", "remove", "rented").status == 0 })
}

func key(t *testing.T, file string) string {
	t.Helper()
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	return strings.TrimSpace(string(b))
}
