package main

import (
	"context"
	"flag"
	"fmt"
	"net"

	"golang.org/x/crypto/ssh"

	"domicile/internal/client"
)

var hostKeyCommand = command{
	name: "hostkey", args: "[next | change] [-json]", summary: "Show the SSH server's host key; announce the next one, or take it (administrators only)",
	example: "domicile hostkey\ndomicile hostkey next\ndomicile hostkey change",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			ask := c.GetVersion
			switch {
			case len(args) == 1 && args[0] == "next":
				ask = c.AnnounceHostKey
			case len(args) == 1 && args[0] == "change":
				ask = c.ChangeHostKey
			case len(args) > 0:
				return wrongUse("next, change or nothing is wanted")
			}
			v, err := client.Answer[client.Version](ask(ctx))
			return present(t, *asJSON, v, err, func(v client.Version) { printHostKey(t, v) })
		}
	},
}

func printHostKey(t *terminal, v client.Version) {
	host, port, err := net.SplitHostPort(v.Ssh)
	if err == nil && port != "22" {
		host = "[" + host + "]:" + port
	}
	fmt.Fprintf(t.out, "Present: %s\n  %s %s\n", fingerprintOf(v.HostKey), host, v.HostKey)
	if v.NextHostKey != nil {
		fmt.Fprintf(t.out, "Next: %s\n  %s %s\n", fingerprintOf(*v.NextHostKey), host, *v.NextHostKey)
		fmt.Fprintln(t.out, "  Clients of OpenSSH with UpdateHostKeys learn it at their next connection. To take it: domicile hostkey change")
	}
	fmt.Fprintf(t.out, "Both are certified by %s: who has this line needs no other.\n  @cert-authority %s %s\n", fingerprintOf(v.HostAuthority), host, v.HostAuthority)
}

// fingerprintOf is that of a key as in an authorized_keys line.
func fingerprintOf(line string) string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return "a key that cannot be read"
	}
	return ssh.FingerprintSHA256(key)
}
