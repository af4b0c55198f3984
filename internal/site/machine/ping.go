package machine

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"

	"domicile/internal/channel"
)

// pingLimit bounds one question to a machine's engine.
const pingLimit = 20 * time.Second

// Line is a way into a machine, by the words of package channel.
type Line interface {
	Dial(ctx context.Context, to string) (net.Conn, error)
}

// Ping asks the engine of a machine whether it is there.
func Ping(ctx context.Context, line Line) error {
	ctx, cancel := context.WithTimeout(ctx, pingLimit)
	defer cancel()
	stream, err := line.Dial(ctx, channel.ToEngine)
	if err != nil {
		return err
	}
	return ping(ctx, stream)
}

// ping asks the engine at the other end of a stream, which it closes.
func ping(ctx context.Context, stream net.Conn) error {
	defer stream.Close()
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	defer stop()
	if _, err := io.WriteString(stream, "GET /_ping HTTP/1.0\r\n\r\n"); err != nil {
		return err
	}
	answer := make([]byte, len("HTTP/1.0 200"))
	if _, err := io.ReadFull(stream, answer); err != nil {
		return err
	}
	if status := string(answer[len(answer)-3:]); status != fmt.Sprint(http.StatusOK) {
		return fmt.Errorf("the engine of the machine says %q", answer)
	}
	return nil
}
