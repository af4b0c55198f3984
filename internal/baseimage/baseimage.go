// Package baseimage makes the demo's images from Debian's packages, once, keeps them, and
// pushes them to a registry.
package baseimage

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/tarball"

	"domicile/internal/fault"
)

const (
	suite = "bookworm"
	// crew is who works in the images. The shell's start-up files are Debian's own.
	hook = `chroot "$1" useradd --create-home --uid 1000 --shell /bin/bash crew`
)

// Kind is one of the images.
type Kind struct {
	name, packages string
	files          map[string]string // scripts in /usr/local/bin
	config         v1.Config
}

// Base is what Skerry's people work in; Postgres is a database server that makes its data
// folder at its first start.
var (
	Base = Kind{name: "base", packages: "git,python3,procps,ca-certificates,rsync,postgresql-client,openssh-client",
		config: v1.Config{Env: environment, Cmd: []string{"/bin/bash"}}}
	Postgres = Kind{name: "postgres", packages: "postgresql,procps", files: map[string]string{"serve-postgres": servePostgres},
		config: v1.Config{Env: append(environment, "PGUSER=postgres"), Entrypoint: []string{"/usr/local/bin/serve-postgres"}, ExposedPorts: map[string]struct{}{"5432/tcp": {}}, StopSignal: "SIGINT"}}
	environment = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LANG=C.UTF-8"}
)

const servePostgres = `#!/bin/sh
set -e
data=/var/lib/postgresql/data
bin=/usr/lib/postgresql/15/bin
if [ ! -s $data/PG_VERSION ]; then
  install -d -o postgres -m 700 $data
  printf '%s' "${POSTGRES_PASSWORD:?is needed}" > /tmp/password
  chown postgres /tmp/password
  setpriv --reuid=postgres --regid=postgres --init-groups $bin/initdb -D $data --auth-local=trust --auth-host=scram-sha-256 --pwfile=/tmp/password
  rm /tmp/password
  echo "host all all all scram-sha-256" >> $data/pg_hba.conf
fi
install -d -o postgres /var/run/postgresql
exec setpriv --reuid=postgres --regid=postgres --init-groups $bin/postgres -D $data -c listen_addresses='*' -c unix_socket_directories=/var/run/postgresql
`

// Make gives the image from the cache folder, and makes it where it is not there yet. One
// process at a time makes it; say tells what goes on.
func Make(ctx context.Context, kind Kind, cache string, say func(string)) (v1.Image, error) {
	sum := sha256.Sum256(fmt.Append(nil, suite, hook, kind))
	folder := filepath.Join(cache, kind.name+"-"+hex.EncodeToString(sum[:6]))
	if err := os.MkdirAll(cache, 0o755); err != nil {
		return nil, err
	}
	lock := flock.New(folder + ".lock")
	defer lock.Close()
	if _, err := lock.TryLockContext(ctx, 100*time.Millisecond); err != nil {
		return nil, fmt.Errorf("wait for who makes the image %s: %w", kind.name, err)
	}
	if image, err := read(folder); err == nil {
		return image, nil
	}
	say("making the image " + kind.name + " from Debian's packages (once; about a minute)")
	if err := build(ctx, kind, folder); err != nil {
		return nil, err
	}
	return read(folder)
}

func read(folder string) (v1.Image, error) {
	index, err := layout.ImageIndexFromPath(folder)
	if err != nil {
		return nil, err
	}
	manifest, err := index.IndexManifest()
	if err != nil {
		return nil, err
	}
	if len(manifest.Manifests) != 1 {
		return nil, errors.New("the kept image is not whole")
	}
	return index.Image(manifest.Manifests[0].Digest)
}

func build(ctx context.Context, kind Kind, folder string) error {
	work, err := os.MkdirTemp(filepath.Dir(folder), "making-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	archive := filepath.Join(work, "base.tar")
	c := exec.CommandContext(ctx, "mmdebstrap", "--variant=minbase", "--include="+kind.packages, "--customize-hook="+hook, suite, archive)
	if out, err := c.CombinedOutput(); errors.Is(err, exec.ErrNotFound) {
		return fault.Wrap(err, "no-mmdebstrap", "apt-get install mmdebstrap", "mmdebstrap is not installed")
	} else if err != nil {
		return fmt.Errorf("make the image %s: %w: %s", kind.name, err, tail(out))
	}
	layer, err := tarball.LayerFromFile(archive)
	if err != nil {
		return err
	}
	layers := []v1.Layer{layer}
	if len(kind.files) > 0 {
		scripts, err := scriptLayer(kind.files)
		if err != nil {
			return err
		}
		layers = append(layers, scripts)
	}
	image, err := mutate.AppendLayers(empty.Image, layers...)
	if err != nil {
		return err
	}
	config, err := image.ConfigFile()
	if err != nil {
		return err
	}
	config = config.DeepCopy()
	config.OS, config.Architecture = "linux", "amd64"
	config.Config = kind.config
	if image, err = mutate.ConfigFile(image, config); err != nil {
		return err
	}
	made := filepath.Join(work, "layout")
	path, err := layout.Write(made, empty.Index)
	if err != nil {
		return err
	}
	if err := path.AppendImage(image); err != nil {
		return err
	}
	_ = os.RemoveAll(folder) // what was not whole
	return os.Rename(made, folder)
}

// scriptLayer is a layer of scripts that may be run.
func scriptLayer(files map[string]string) (v1.Layer, error) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for name, text := range files {
		if err := w.WriteHeader(&tar.Header{Name: "usr/local/bin/" + name, Typeflag: tar.TypeReg, Mode: 0o755, Size: int64(len(text))}); err != nil {
			return nil, err
		}
		if _, err := w.Write([]byte(text)); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(b.Bytes())), nil })
}

func tail(b []byte) string {
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	return strings.Join(lines[max(0, len(lines)-8):], "\n")
}

// Push pushes the image; what the registry has already is not sent again.
func Push(ctx context.Context, image v1.Image, reference string) error {
	ref, err := name.ParseReference(reference, name.Insecure)
	if err != nil {
		return err
	}
	if err := remote.Write(ref, image, remote.WithContext(ctx), remote.WithTransport(http.DefaultTransport)); err != nil {
		return fmt.Errorf("push %s: %w", reference, err)
	}
	return nil
}
