package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"
)

// What a browser is started with stands in its arguments, which every user of the machine can read. An address that
// lets somebody in is handed over another way: the browser is given the address of a page that only this user can
// read, and the page leads on.

// fetchLimit is how long a browser may take to come for the page.
const fetchLimit = 30 * time.Second

// leadingOn is a page that leads to an address.
func leadingOn(address string) string {
	return strings.ReplaceAll(`<!doctype html><meta charset="utf-8"><meta name="referrer" content="no-referrer"><meta http-equiv="refresh" content="0; url=ADDRESS">`+
		`<title>Domicile</title><p><a href="ADDRESS">Go on</a></p>
`, "ADDRESS", html.EscapeString(address))
}

// openPrivately opens an address in a browser without showing it to other users of this machine. It returns when the
// browser has it, or cannot be started, or does not come for it.
func openPrivately(ctx context.Context, address string) error {
	if runtime.GOOS == "linux" {
		return openByServer(ctx, address)
	}
	return openByFile(ctx, address)
}

// openByServer serves the page once on loopback, to a socket of this user alone: a browser that runs confined reads
// no files of the user's.
func openByServer(ctx context.Context, address string) error {
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("listen on this machine: %w", err)
	}
	defer l.Close()
	fetched := make(chan struct{}, 1)
	path := "/" + rand.Text()
	server := &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != path || !isOwnSocket(r.RemoteAddr) {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Connection", "close")
		_, _ = io.WriteString(w, leadingOn(address))
		select {
		case fetched <- struct{}{}:
		default:
		}
	})}
	go func() { _ = server.Serve(l) }()
	if err := openLink(ctx, "http://"+l.Addr().String()+path); err != nil {
		return err
	}
	select {
	case <-fetched:
	case <-ctx.Done():
	case <-time.After(fetchLimit): // it may have been closed by the user
	}
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	_ = server.Shutdown(end) // the page is on its way
	return nil
}

// openByFile writes the page into a file that only this user reads. The one before is replaced.
func openByFile(ctx context.Context, address string) error {
	folder, err := os.UserCacheDir()
	if err == nil {
		folder = filepath.Join(folder, "domicile")
		err = os.MkdirAll(folder, 0o700)
	}
	if err != nil {
		return fmt.Errorf("find a folder for the page: %w", err)
	}
	name := filepath.Join(folder, "open.html")
	_ = os.Remove(name) // it could have wider rights
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("write the page: %w", err)
	}
	if _, err := io.WriteString(f, leadingOn(address)); err != nil {
		f.Close()
		return fmt.Errorf("write the page: %w", err)
	}
	if err := f.Close(); err != nil {
		return fmt.Errorf("write the page: %w", err)
	}
	return openLink(ctx, name)
}
