package main

import (
	"context"
	"domicile/internal/listen"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"sync"

	"domicile/internal/client"
	"domicile/internal/fault"
	"domicile/internal/splice"
)

var screenCommand = command{
	name: "screen", args: "NAME (-png FILE | -at PORT)", summary: "Take a picture of a workspace's screen, or have a viewer on this machine show it",
	example: "domicile screen pierboard -png board.png\ndomicile screen pierboard -at 5900",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		file := f.String("png", "", "the file that the picture is written to; - is the output")
		port := f.Int("at", 0, "a port of this machine at which viewers of the RFB protocol (VNC) see the screen, until Ctrl-C")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			switch {
			case *file != "" && *port != 0:
				return wrongUse("-png takes a picture, -at shows the screen: give one of them")
			case *file != "":
				return takePicture(ctx, t, c, args[0], *file)
			case *port < 1 || *port > 65535:
				return wrongUse("give -png FILE, or -at PORT (1 to 65535). In the console: %s/workspaces/%s/screen", c.URL, args[0])
			}
			return showScreen(ctx, t, c, args[0], *port)
		}
	},
}

// mostPicture bounds what is taken for a picture, in bytes.
const mostPicture = 64 << 20

func takePicture(ctx context.Context, t *terminal, c *client.Service, name, file string) error {
	answer, err := c.ShowScreen(ctx, name)
	if err == nil && answer.StatusCode == http.StatusOK {
		defer answer.Body.Close()
		b, err := io.ReadAll(io.LimitReader(answer.Body, mostPicture))
		switch {
		case err != nil:
			return fmt.Errorf("read the picture: %w", err)
		case file == "-":
			out, _ := t.own() // as it is
			_, err := out.Write(b)
			return err
		}
		if err := os.WriteFile(file, b, 0o644); err != nil {
			return fmt.Errorf("write the picture: %w", err)
		}
		fmt.Fprintf(t.out, "The screen of %s is in %s.\n", name, file)
		return nil
	}
	_, err = client.Answer[struct{}](answer, err)
	return err
}

// showScreen lets viewers on this machine see a screen. Each has a connection of its own.
func showScreen(ctx context.Context, t *terminal, c *client.Service, name string, port int) error {
	first, err := c.Screen(ctx, name) // what is wrong is told now, not at first use
	if err != nil {
		return err
	}
	first.Close()
	listener, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return fault.Wrap(err, "cannot-listen", "choose another with -at", "the port %d of this machine cannot be had", port)
	}
	defer context.AfterFunc(ctx, func() { listener.Close() })()
	fmt.Fprintf(t.out, "The screen of %s is at %s. Ctrl-C ends it.\n", name, listener.Addr())
	var viewers sync.WaitGroup
	defer viewers.Wait()
	accepting := listen.Patient(listener)
	for {
		viewer, err := accepting.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fmt.Errorf("wait for viewers: %w", err)
		}
		viewers.Go(func() {
			defer viewer.Close()
			shown, err := c.Screen(ctx, name)
			if err != nil {
				fmt.Fprintln(t.err, "domicile:", err)
				return
			}
			defer context.AfterFunc(ctx, func() { shown.Close(); viewer.Close() })()
			defer shown.Close()
			var both sync.WaitGroup
			both.Go(func() { splice.One(viewer, shown); viewer.Close() })
			both.Go(func() { splice.One(shown, viewer); shown.Close() })
			both.Wait()
		})
	}
}
