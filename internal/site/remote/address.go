package remote

import (
	"net/url"
	"regexp"
	"strconv"

	"domicile/internal/fault"
)

// Address is where an engine is behind SSH.
type Address struct {
	User, Host, Port string
	Socket           string // of the engine, on that host
}

var (
	userName = regexp.MustCompile(`^[a-z_][a-z0-9_.-]{0,31}$`)
	hostName = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9.-]{0,251}[A-Za-z0-9])?$|^[0-9a-fA-F:]+$`)
	// sockets are where engines listen: no other path of a host is asked for.
	sockets = regexp.MustCompile(`^/(var/)?run/(docker\.sock|podman/podman\.sock|user/[0-9]{1,10}/(docker\.sock|podman/podman\.sock))$`)
)

// usualSocket is where an engine listens that nothing else is said of.
const usualSocket = "/var/run/docker.sock"

// ParseAddress reads ssh://USER@HOST[:PORT][/PATH-OF-THE-ENGINE'S-SOCKET].
func ParseAddress(text string) (a Address, err error) {
	wrong := func(why string) (Address, error) {
		return Address{}, fault.New("bad-address", "give ssh://USER@HOST:PORT, and behind it the engine's socket where that is not "+usualSocket, "%q is no address of a host: %s", text, why)
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "ssh" || u.RawQuery != "" || u.Fragment != "" {
		return wrong("it does not begin with ssh:// or has something behind its path")
	}
	if _, has := u.User.Password(); has {
		return wrong("a password has no place in it")
	}
	a = Address{User: u.User.Username(), Host: u.Hostname(), Port: u.Port(), Socket: u.Path}
	if a.Port == "" {
		a.Port = "22"
	}
	if a.Socket == "" || a.Socket == "/" {
		a.Socket = usualSocket
	}
	port, err := strconv.Atoi(a.Port)
	switch {
	case !userName.MatchString(a.User):
		return wrong("it names no user")
	case !hostName.MatchString(a.Host):
		return wrong("it names no host")
	case err != nil || port < 1 || port > 65535:
		return wrong("the port is no number from 1 to 65535")
	case !sockets.MatchString(a.Socket):
		return wrong("engines listen at /run/docker.sock, /run/podman/podman.sock, or these below /run/user/NUMBER")
	}
	return a, nil
}
