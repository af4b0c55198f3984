package remote

import (
	"context"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"domicile/internal/fault"
)

// tellLimit bounds how long a host takes to tell something.
const tellLimit = 20 * time.Second

// tell gives what a command prints on the host; nothing, where the host lets none run or takes too
// long for it. The error is that of a host that is away.
func (l *Line) tell(ctx context.Context, command string) (string, error) {
	limited, cancel := context.WithTimeout(ctx, tellLimit)
	defer cancel()
	said, err := l.Run(limited, command)
	if err != nil && (ctx.Err() != nil || fault.IsTransient(err)) {
		return "", err
	}
	return said, nil
}

// plainPath is a folder's path that goes into a command as it is.
var plainPath = regexp.MustCompile(`^(/\.?[A-Za-z0-9_][A-Za-z0-9_.+-]*)+$|^/$`)

// DiskFree tells how much is free, in bytes, on the disk of a folder of the host, or of the
// nearest folder above it that the user can see; known is false where that is not told.
func (l *Line) DiskFree(ctx context.Context, folder string) (free int64, known bool, err error) {
	for ; plainPath.MatchString(folder); folder = path.Dir(folder) {
		said, err := l.tell(ctx, "df -kP "+folder+" 2>/dev/null | tail -n 1")
		if err != nil {
			return 0, false, err
		}
		if fields := strings.Fields(said); len(fields) >= 4 { // the device, its size, used, available
			if kilobytes, err := strconv.ParseInt(fields[3], 10, 64); err == nil && kilobytes >= 0 && kilobytes < 1<<50 {
				return kilobytes * 1024, true, nil
			}
		}
		if folder == "/" {
			break
		}
	}
	return 0, false, nil
}

// deviceName is a device's path below /dev, in letters that mean nothing to a shell or a
// terminal.
var deviceName = regexp.MustCompile(`^/dev(/[A-Za-z0-9_][A-Za-z0-9_.:+-]*){1,3}$`)

// Devices lists the devices of the host, and the folders that they are in; nil: it does not
// tell. What a host says decides only whether something is refused that it has not.
func (l *Line) Devices(ctx context.Context) ([]string, error) {
	said, err := l.tell(ctx, `find /dev -maxdepth 3 -not -path '/dev/pts*' -not -path '/dev/fd*' -not -path '/dev/vcs*' -not -path '/dev/loop*' -not -path '/dev/ram*' 2>/dev/null`)
	if err != nil || said == "" || len(said) >= mostOutput-1 { // or it has more than was read
		return nil, err
	}
	list := strings.Fields(said)
	return slices.DeleteFunc(list, func(name string) bool { return !deviceName.MatchString(name) }), nil
}
