// Command domicile-agent is Domicile's program inside a workspace.
//
//	domicile-agent serve -service-key KEY [-socket PATH] [-version V] [-guests ADDRESS]   serve the service's connections
//	domicile-agent bridge [-socket PATH]               join standard input and output to that socket
//	domicile-agent marked                              name a process of the user that is marked as busy
//	domicile-agent stay                                be the first process of a container, and do nothing
//	domicile-agent reach ADDRESS                       tell by the exit status whether somebody is at a TCP address
//	domicile-agent listens                             tell at which ports programs listen, until standard input ends
//	domicile-agent sftp                                serve SFTP on standard input and output
//
// By the names usher and browse it is the program that asks the machine its person sits at.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"syscall"

	"domicile/internal/agent"
	"domicile/internal/agent/wire"
	"domicile/internal/wish/inside"
)

func main() {
	if slices.Contains(wire.Programs, filepath.Base(os.Args[0])) {
		ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
		status := inside.Main(ctx, wire.UsherSocket)
		stop()
		os.Exit(status)
	}
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "domicile-agent:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) == 0 {
		return fmt.Errorf("one of serve, bridge, sftp, marked, stay, listens, reach is wanted")
	}
	if args[0] == "reach" {
		return reach(args[1:])
	}
	flags := flag.NewFlagSet(args[0], flag.ExitOnError)
	socket := flags.String("socket", wire.SocketPath, "the agent's socket")
	guests := flags.String("guests", "", "of a helper: where the workspace's own network is served")
	version := flags.String("version", "unknown", "what to answer when asked for the version")
	key := flags.String("service-key", "", "the public key that the service is known by")
	if err := flags.Parse(args[1:]); err != nil {
		return err
	}
	switch args[0] {
	case "serve":
		return serve(*socket, *guests, *version, *key)
	case "marked":
		fmt.Println(agent.Marked())
		return nil
	case "bridge":
		return agent.Bridge(*socket)
	case "listens":
		listens()
		return nil
	case "sftp":
		return agent.ServeSFTP()
	case "stay":
		ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, syscall.SIGINT)
		defer stop()
		agent.Stay(ctx)
		return nil
	}
	return fmt.Errorf("%q is none of serve, bridge, sftp, marked, stay, listens, reach", args[0])
}

// listens serves the service that asks from outside, by a stream of the engine: when that is closed,
// standard input ends.
func listens() {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() {
		_, _ = io.Copy(io.Discard, os.Stdin)
		stop()
	}()
	agent.Listens(ctx, os.Stdout, true, slog.New(slog.NewTextHandler(os.Stderr, nil)))
}

// reach is one end of a trial whether two networks are kept apart.
func reach(args []string) error {
	if len(args) != 1 {
		return errors.New("reach: one address is wanted")
	}
	if !agent.Reaches(args[0]) {
		os.Exit(agent.Unreached)
	}
	return nil
}

func serve(socket, guests, version, key string) error {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, syscall.SIGINT)
	defer stop()
	// Closing a connection whose other end is gone must not end the agent.
	// Caught, not ignored: what is ignored would be ignored by every program started here.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE, syscall.SIGHUP)
	server, err := agent.New(version, key, slog.New(slog.NewTextHandler(os.Stderr, nil)))
	if err != nil {
		return err
	}
	listener, err := agent.Listen(socket)
	if err != nil {
		return err
	}
	if guests != "" {
		network, err := net.Listen("tcp", guests)
		if err != nil {
			return err
		}
		go func() {
			if err := server.ServeGuests(ctx, network); err != nil {
				slog.Warn("serve guests", "error", err)
			}
		}()
	}
	return server.Serve(ctx, listener)
}
