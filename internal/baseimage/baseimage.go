// Package baseimage makes the demo's base image from Debian's packages, once, keeps it,
// and pushes it to a registry.
package baseimage

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

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
	suite    = "bookworm"
	packages = "git,python3,procps,ca-certificates,rsync"
	// crew is who works in the image. The shell's start-up files are Debian's own.
	hook = `chroot "$1" useradd --create-home --uid 1000 --shell /bin/bash crew`
)

// Make gives the image from the cache folder, and makes it where it is not there yet. One
// process at a time makes it; say tells what goes on.
func Make(ctx context.Context, cache string, say func(string)) (v1.Image, error) {
	sum := sha256.Sum256([]byte(suite + packages + hook))
	folder := filepath.Join(cache, "base-"+hex.EncodeToString(sum[:6]))
	if err := os.MkdirAll(cache, 0o755); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(folder+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return nil, err
	}
	if image, err := read(folder); err == nil {
		return image, nil
	}
	say("making the base image from Debian's packages (once; about a minute)")
	if err := build(ctx, folder); err != nil {
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

func build(ctx context.Context, folder string) error {
	work, err := os.MkdirTemp(filepath.Dir(folder), "making-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	archive := filepath.Join(work, "base.tar")
	c := exec.CommandContext(ctx, "mmdebstrap", "--variant=minbase", "--include="+packages, "--customize-hook="+hook, suite, archive)
	if out, err := c.CombinedOutput(); errors.Is(err, exec.ErrNotFound) {
		return fault.Wrap(err, "no-mmdebstrap", "apt-get install mmdebstrap", "mmdebstrap is not installed")
	} else if err != nil {
		return fmt.Errorf("make the base image: %w: %s", err, tail(out))
	}
	layer, err := tarball.LayerFromFile(archive)
	if err != nil {
		return err
	}
	image, err := mutate.AppendLayers(empty.Image, layer)
	if err != nil {
		return err
	}
	config, err := image.ConfigFile()
	if err != nil {
		return err
	}
	config = config.DeepCopy()
	config.OS, config.Architecture = "linux", "amd64"
	config.Config.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LANG=C.UTF-8"}
	config.Config.Cmd = []string{"/bin/bash"}
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
