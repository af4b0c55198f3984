package machine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"domicile/internal/channel"
)

// firmLimit bounds how long a machine writes: what runs in it may write without end.
const firmLimit = time.Minute

// Firm has all that was written in a workspace's machine be on its disk, so that it is there when
// the machine loses its power.
func (s *Site) Firm(ctx context.Context, workspace string) error {
	ctx, cancel := context.WithTimeout(ctx, firmLimit)
	defer cancel()
	m, found, err := s.machineOf(ctx, workspace)
	if err != nil {
		return err
	}
	if found {
		workspace = m.ID
	}
	stream, err := s.o.Maker.Dial(ctx, workspace, channel.ToDisk)
	if err != nil {
		return err
	}
	defer stream.Close()
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	defer stop()
	answer := make([]byte, len(channel.OnDisk))
	_, err = io.ReadFull(stream, answer)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, io.EOF):
		return nil // the machine is of an earlier version
	case err != nil:
		return fmt.Errorf("have what was written be on the machine's disk: %w", err)
	}
	return nil
}
