package main

import (
	"context"
	"flag"
	"io"

	"domicile/internal/client"
	"domicile/internal/usher"
)

// pipeCommand is what ssh calls to reach a workspace by its address (ProxyCommand): it joins its
// standard input and output to the workspace, by the service's own address. Where only HTTPS gets
// through, this does.
var pipeCommand = command{
	name: "pipe", args: "[-login FILE] [-suffix NAME] ADDRESS", summary: "",
	example: "domicile pipe timetable.domicile",
	takes:   []string{"ADDRESS"}, alone: true,
	setup: func(f *flag.FlagSet) action {
		login := f.String("login", "", "the file with the sign-in (default: that of domicile login)")
		suffix := f.String("suffix", usualSuffix, "what follows a workspace's name in its address")
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			c, err := serviceOf(*login)
			if err != nil {
				return err
			}
			return pipe(ctx, t, c, usher.WorkspaceAt(args[0], *suffix))
		}
	},
}

func pipe(ctx context.Context, t *terminal, c *client.Service, workspace string) error {
	conn, err := c.LongStream(ctx, workspace)
	if err != nil {
		return err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	out, _ := t.own()
	ended := make(chan error, 2)
	go func() { ended <- forward(conn, t.in) }()
	go func() { ended <- forward(out, conn) }()
	return <-ended // the one who ends it has said all
}

// forward copies one way, in pieces that hold several packets of SSH.
func forward(to io.Writer, from io.Reader) error {
	_, err := io.CopyBuffer(struct{ io.Writer }{to}, struct{ io.Reader }{from}, make([]byte, 128<<10))
	return err
}
