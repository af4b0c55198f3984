package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/baseimage"
)

// emulated has the kernel run programs for arm64 in QEMU's emulation, in containers too, until the
// test ends.
func emulated(t *testing.T) {
	t.Helper()
	const folder = "/proc/sys/fs/binfmt_misc"
	if _, err := os.Stat(folder + "/register"); err != nil {
		out, err := exec.CommandContext(t.Context(), "mount", "-t", "binfmt_misc", "binfmt_misc", folder).CombinedOutput()
		require.NoError(t, err, string(out))
		t.Cleanup(func() { _ = exec.Command("umount", "-l", folder).Run() })
	}
	const name = "domicile-arm64"
	rule := ":" + name + `:M::\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\xb7\x00:\xff\xff\xff\xff\xff\xff\xff\x00\xff\xff\xff\xff\xff\xff\xff\xff\xfe\xff\xff\xff:/usr/bin/qemu-aarch64-static:PF`
	require.NoError(t, os.WriteFile(folder+"/register", []byte(rule), 0))
	t.Cleanup(func() { assert.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte("-1"), 0)) })
}

// armHost is an engine as one on an arm64 host is seen: it is the tests' engine, and says so of
// its processors.
func armHost(t *testing.T) (address string) {
	t.Helper()
	engine := strings.TrimPrefix(world.EngineAt, "unix://")
	proxy := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) { r.Out.URL.Scheme, r.Out.URL.Host = "http", "engine" },
		Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", engine)
		}},
		ModifyResponse: func(r *http.Response) error {
			if !strings.HasSuffix(r.Request.URL.Path, "/info") {
				return nil
			}
			var info map[string]any
			if err := json.NewDecoder(r.Body).Decode(&info); err != nil {
				return err
			}
			info["Architecture"] = "aarch64"
			b, err := json.Marshal(info)
			r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(b)), int64(len(b))
			r.Header.Set("Content-Length", strconv.Itoa(len(b)))
			return err
		},
		FlushInterval: -1,
	}
	socket := filepath.Join(t.TempDir(), "engine.sock")
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	server := &http.Server{Handler: proxy}
	go func() { _ = server.Serve(listener) }()
	t.Cleanup(func() { server.Close() })
	return "unix://" + socket
}

// pushArm pushes an image for arm64: a small system of one program of Debian's.
func pushArm(t *testing.T, name string) {
	t.Helper()
	folder := t.TempDir()
	archive, root := filepath.Join(folder, "busybox.tar"), filepath.Join(folder, "root")
	out, err := exec.CommandContext(t.Context(), "mmdebstrap", "--quiet", "--variant=extract", "--architectures=arm64", "--include=busybox-static", "bookworm", archive).CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.MkdirAll(root, 0o755))
	out, err = exec.CommandContext(t.Context(), "sh", "-ec", `cd "$1"; tar xf "$2" ./bin/busybox; mkdir -p etc tmp home/crew root usr/bin sbin dev proc sys run var; chmod 1777 tmp; chown 1000:1000 home/crew
		for name in sh cat id uname echo sleep ls mkdir env test true grep sed tail head pwd stat; do ln -s /bin/busybox bin/$name; done
		echo 'root:x:0:0:root:/root:/bin/sh' > etc/passwd; echo 'crew:x:1000:1000::/home/crew:/bin/sh' >> etc/passwd; printf 'root:x:0:\ncrew:x:1000:\n' > etc/group
		tar cf "$3" .`, "sh", root, archive, filepath.Join(folder, "layer.tar")).CombinedOutput()
	require.NoError(t, err, string(out))
	layer, err := tarball.LayerFromFile(filepath.Join(folder, "layer.tar"))
	require.NoError(t, err)
	image, err := mutate.AppendLayers(empty.Image, layer)
	require.NoError(t, err)
	config, err := image.ConfigFile()
	require.NoError(t, err)
	config = config.DeepCopy()
	config.OS, config.Architecture, config.Config.Cmd, config.Config.Env = "linux", "arm64", []string{"sh"}, []string{"PATH=/bin:/usr/bin:/sbin"}
	image, err = mutate.ConfigFile(image, config)
	require.NoError(t, err)
	require.NoError(t, baseimage.Push(t.Context(), image, name))
}

// A host with arm64 processors has the agent for these, runs and builds images that are for these,
// and is told to be none for others. Its programs run in emulation here.
func TestPlacesAnArmHost(t *testing.T) {
	emulated(t)
	base := world.RegistryAt + "/skerry/arm:1"
	pushArm(t, base)
	serveWith(t, "-engine", armHost(t))
	ready(t, "this-host")
	assert.Contains(t, skipper.domicile(t, "sites").out, "aarch64")

	a := skipper.provision(t, publish(t, "ashore", `{"image": "BASE"}`, nil), "ashore")
	assert.NotEqual(t, 0, a.status)
	assert.Contains(t, a.err, "is for the processors amd64; those of the site this-host are arm64")
	_ = skipper.domicile(t, "remove", "ashore", "-yes")

	source := publish(t, "buoy", `{"image": "`+base+`", "remoteUser": "crew", "onCreateCommand": "uname -m > ~/made", "customizations": {"domicile": {"checks": {"processor": {"command": "uname -m", "equals": "aarch64"}}}}}`, map[string]string{"deck": "planks\n"})
	a = skipper.provision(t, source, "buoy")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "aarch64 planks crew", skipper.inside(t, "buoy", "echo $(cat ~/made deck; id -un)"))
	assert.Equal(t, 0, skipper.ssh(t, "", "buoy@127.0.0.1", "test $(uname -m) = aarch64").status)
	skipper.remove(t, "buoy")

	built := publish(t, "lighthouse", `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`, map[string]string{".devcontainer/Dockerfile": "FROM " + base + "\nRUN uname -m > /built\n"})
	a = skipper.provision(t, built, "lighthouse")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "aarch64", skipper.inside(t, "lighthouse", "cat /built"))
	skipper.remove(t, "lighthouse")
}
