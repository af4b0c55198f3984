package webaddress

import (
	"domicile/internal/forwarded"
	"net"
	"net/http"
	"net/url"
	"strings"
)

// A browser sends a visitor's cookie with requests that other pages make, also those of other workspaces: all
// addresses are one site to it. So each request must come from the address itself, from another address of the same
// workspace, from a person who opens a page, or from a program that is not a browser.

// mayCall reports whether a request may be answered in the visitor's name. Browsers say who asks by Fetch Metadata
// (Sec-Fetch-Site, Sec-Fetch-Dest; only over TLS and to loopback), Origin and Referer.
func (s *Server) mayCall(r *http.Request, p place) bool {
	from := r.Header.Get("Origin")
	if from == "" {
		from = r.Header.Get("Referer")
	}
	site := r.Header.Get("Sec-Fetch-Site")
	switch {
	case site == "none" || site == "same-origin":
		return true
	case site != "" && opensPage(r):
		return true
	case site != "" || from != "":
		return s.ownOrigin(r, p, from) || site == "" && r.Header.Get("Origin") == "" && navigates(r)
	case s.hasFetchMetadata(r):
		return true // not a browser: that would have said more
	}
	// Plain HTTP beyond loopback: whether a browser asks cannot be seen. A page may be opened, as by a bookmark.
	return navigates(r)
}

// opensPage reports whether a browser opens a page in a tab of its own, and not in a frame or an object of another
// page.
func opensPage(r *http.Request) bool {
	return r.Header.Get("Sec-Fetch-Mode") == "navigate" && r.Header.Get("Sec-Fetch-Dest") == "document" && navigates(r)
}

// hasFetchMetadata reports whether a browser sends Fetch Metadata to this address (W3C Fetch Metadata, section 2: to
// potentially trustworthy URLs).
func (s *Server) hasFetchMetadata(r *http.Request) bool {
	return forwarded.OverTLS(r) || s.o.Domain == "localhost" || strings.HasSuffix(s.o.Domain, ".localhost")
}

// ownOrigin reports whether a URL is of the same workspace: of the address that is asked, or of another of its
// addresses. Scheme and port count: at another port of the host a program of anybody may listen.
func (s *Server) ownOrigin(r *http.Request, p place, text string) bool {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != scheme(r) || !s.isOwnPort(r, portOf(u.Host, u.Scheme)) {
		return false
	}
	if strings.EqualFold(u.Hostname(), hostOf(r.Host)) {
		return true
	}
	label, isOne := s.Label(u.Host)
	if !isOne {
		return false
	}
	from, err := s.find(r.Context(), label)
	return err == nil && from.workspace.ID == p.workspace.ID
}

// isOwnPort reports whether a port is the one that was asked, or that of the addresses that people are given: a proxy
// may leave it out of the name that was asked for.
func (s *Server) isOwnPort(r *http.Request, port string) bool {
	return port == portOf(r.Host, scheme(r)) || s.o.Port != "" && port == s.o.Port
}

// ancestors is a Content-Security-Policy by which only pages of the same workspace may show an answer in a frame.
func (s *Server) ancestors(r *http.Request, p place) string {
	policy := "frame-ancestors 'self'"
	if u, err := url.Parse(r.Header.Get("Referer")); err == nil && u.Host != "" && s.ownOrigin(r, p, r.Header.Get("Referer")) {
		policy += " " + u.Scheme + "://" + u.Host
	}
	return policy
}

func scheme(r *http.Request) string {
	if forwarded.OverTLS(r) {
		return "https"
	}
	return "http"
}

func hostOf(host string) string {
	if name, _, err := net.SplitHostPort(host); err == nil {
		return name
	}
	return host
}

func portOf(host, scheme string) string {
	if _, port, err := net.SplitHostPort(host); err == nil && port != "" {
		return port
	}
	if scheme == "https" {
		return "443"
	}
	return "80"
}
