package vm

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"domicile/internal/fault"
	"domicile/internal/site/machine/vm/process"
)

// screenOf are the arguments that give a machine a screen of a size, and what points and types at
// it; or none. It is shown at a socket in the machine's folder, which is root's.
func screenOf(size string) []string {
	width, height, found := strings.Cut(size, "x")
	if !found {
		return []string{"-display", "none"}
	}
	return []string{"-device", "VGA,edid=on,xres=" + width + ",yres=" + height, "-device", "virtio-keyboard-pci", "-device", "virtio-tablet-pci", "-vnc", "unix:" + screenName}
}

// watched gives the folder of a machine that runs and has a screen.
func (m *Maker) watched(id string) (folder string, r record, err error) {
	folder, r, err = m.read(id)
	switch {
	case err != nil:
		return "", r, err
	case r.Shape.Screen == "":
		return "", r, fault.New("no-screen", `ask for one in the definition: customizations.domicile.screen, such as "1280x800"`, "the machine of the workspace %s has no screen", id)
	case !process.Runs(folder):
		return "", r, fault.Transient(nil, "machine-off", "domicile start wakes it", "the machine of the workspace %s does not run", id)
	}
	return folder, r, nil
}

// Screen opens a stream to the screen of a machine.
func (m *Maker) Screen(ctx context.Context, id string) (net.Conn, error) {
	folder, _, err := m.watched(id)
	if err != nil {
		return nil, err
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", filepath.Join(folder, screenName))
	if err != nil {
		return nil, fault.Transient(err, "machine-silent", "stop and start the workspace", "the screen of the machine of %s cannot be reached", id)
	}
	return conn, nil
}

// mostPicture bounds a picture, in bytes: it is written by the machine's process.
const mostPicture = 32 << 20

// Picture is what the screen of a machine shows.
func (m *Maker) Picture(ctx context.Context, id string) (picture []byte, err error) {
	err = m.turns.Take(ctx, "picture of "+id, func() error {
		folder, r, err := m.watched(id)
		if err != nil {
			return err
		}
		file := filepath.Join(folder, pictureName)
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		// The process can make no files: it gets one that it may write.
		f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE|os.O_EXCL|unix.O_NOFOLLOW, 0o600)
		if err != nil {
			return fmt.Errorf("make room for a picture: %w", err)
		}
		defer os.Remove(file)
		defer f.Close()
		if err := f.Chown(owner(folder), owner(folder)); err != nil {
			return fmt.Errorf("make room for a picture: %w", err)
		}
		err = monitor(ctx, folder, func(ask func(string, any) (json.RawMessage, error)) error {
			_, err := ask("screendump", map[string]any{"filename": pictureName, "format": "png"})
			return err
		})
		if err != nil {
			return err
		}
		picture, err = readPicture(f, r.Shape.Screen)
		return err
	})
	return picture, err
}

// readPicture reads what a machine's process wrote, and judges it: a picture that is no larger
// than a screen.
func readPicture(from io.Reader, size string) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(from, mostPicture))
	if err != nil {
		return nil, fmt.Errorf("read a picture: %w", err)
	}
	shown, err := png.DecodeConfig(bytes.NewReader(b))
	if err != nil {
		return nil, fault.Wrap(err, "no-picture", "try again", "the machine gave no picture of its screen")
	}
	width, height, _ := strings.Cut(size, "x")
	w, _ := strconv.Atoi(width)
	h, _ := strconv.Atoi(height)
	if shown.Width > max(w, leastShown) || shown.Height > max(h, leastShown) {
		return nil, fault.New("no-picture", "try again", "the machine gave a picture of %dx%d, larger than its screen", shown.Width, shown.Height)
	}
	return b, nil
}

// leastShown is what a screen may show at least in each direction, in pixels: as long as the
// machine's kernel has not taken it over, it has a size of its own.
const leastShown = 1024
