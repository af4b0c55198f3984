//go:build linux && !client

package main

import (
	"context"
	"log/slog"
	"net"
	"net/url"
	"regexp"
	"strings"

	"domicile/internal/api"
	"domicile/internal/credential"
	"domicile/internal/fault"
	"domicile/internal/guesses"
	"domicile/internal/webaddress"
)

// webDomains are names that a browser takes for a domain.
var webDomains = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*$`)

// webAddresses serves the web addresses of ports; nothing where the service has no domain for them.
func (s *settings) webAddresses(ctx context.Context, a *assembly, seal *credential.Seal, slow *guesses.Slowdown, log *slog.Logger) (api.WebServer, error) {
	console, err := url.Parse(strings.TrimRight(s.url, "/"))
	if err != nil || console.Scheme != "http" && console.Scheme != "https" || console.Host == "" || console.Path != "" {
		return nil, fault.New("bad-address", "give it as https://HOST or https://HOST:PORT", "-url %q is no address of a console", s.url)
	}
	domain := s.webDomain
	if domain == "" {
		if ip := net.ParseIP(console.Hostname()); console.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return nil, nil
		}
		domain = "localhost"
	}
	if !webDomains.MatchString(domain) || console.Hostname() != "localhost" && (console.Hostname() == domain || strings.HasSuffix(console.Hostname(), "."+domain)) {
		return nil, fault.New("bad-address", "take a domain of its own, which the console is not in", "-web-domain %q cannot be used", s.webDomain)
	}
	return webaddress.New(ctx, webaddress.Options{Directory: a.store, Reacher: a.runner, Domain: domain, Scheme: console.Scheme, Port: console.Port(), Console: console.String(), Secret: seal.Derive("web addresses"), Guesses: slow, Log: log}), nil
}
