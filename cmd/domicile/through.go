//go:build linux && !client

package main

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"domicile/internal/client"
	"domicile/internal/fault"

	"al.essio.dev/pkg/shellescape"
)

// throughCommand is what git and ssh call, on the service's host, to reach a git host: it
// joins its standard input and output to a host and port by way of the service's proxy.
var throughCommand = command{
	name: "through", args: "PROXY HOST PORT", summary: "",
	example: "domicile through 127.0.0.1:3128 git.ferry.test 22",
	takes:   []string{"PROXY", "HOST", "PORT"}, alone: true,
	setup: func(*flag.FlagSet) action {
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			return through(ctx, t, args[0], net.JoinHostPort(args[1], args[2]))
		}
	},
}

func through(ctx context.Context, t *terminal, proxy, address string) error {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", proxy)
	if err != nil {
		return fmt.Errorf("reach the service's proxy: %w", err)
	}
	defer conn.Close()
	q := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: address}, Host: address, Header: http.Header{}}
	if err := q.Write(conn); err != nil {
		return fmt.Errorf("ask the service's proxy: %w", err)
	}
	r := bufio.NewReader(conn)
	a, err := http.ReadResponse(r, q)
	if err != nil {
		return fmt.Errorf("ask the service's proxy: %w", err)
	}
	if a.StatusCode != http.StatusOK {
		b, _ := io.ReadAll(io.LimitReader(a.Body, 1024))
		return fault.New("address-refused", "", "status %d: %s", a.StatusCode, strings.TrimSpace(string(b)))
	}
	go func() {
		_, _ = io.Copy(conn, t.in)
		if half, ok := conn.(*net.TCPConn); ok {
			_ = half.CloseWrite()
		}
	}()
	out, _ := t.own()
	_, err = io.Copy(out, r)
	return err
}

// writeDialler writes the small program that git is told to reach hosts by.
func writeDialler(folder, proxy string) (string, error) {
	me, err := os.Executable()
	if err != nil {
		return "", fmt.Errorf("find this program: %w", err)
	}
	text := fmt.Sprintf("#!/bin/sh\nexec %s through %s \"$1\" \"$2\"\n", shellescape.Quote(me), shellescape.Quote(proxy))
	file, err := os.CreateTemp(folder, "dial-")
	if err != nil {
		return "", fmt.Errorf("write the program that reaches git hosts: %w", err)
	}
	_, err = file.WriteString(text)
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	// Replicas on one data folder have proxies of their own.
	path := filepath.Join(folder, "dial-"+strings.ReplaceAll(proxy, ":", "-"))
	if err == nil {
		err = os.Chmod(file.Name(), 0o700)
	}
	if err == nil {
		err = os.Rename(file.Name(), path)
	}
	if err != nil {
		os.Remove(file.Name())
		return "", fmt.Errorf("write the program that reaches git hosts: %w", err)
	}
	return path, nil
}
