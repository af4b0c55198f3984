package agent

import (
	"fmt"
	"maps"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strings"
)

// hostsFile is where programs look names up that no server knows.
const hostsFile = "/etc/hosts"

// hostsMark ends the lines in it that are the agent's.
const hostsMark = "# a helper of this workspace"

var hostName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,62}$`)

// nameHosts has programs find addresses by names, and no others that it named before. The file is
// written in its place: a container's engine has mounted it there.
func nameHosts(file string, addresses map[string]string) error {
	b, err := os.ReadFile(file)
	if err != nil && !os.IsNotExist(err) {
		return err
	}
	var text strings.Builder
	for line := range strings.Lines(string(b)) {
		if !strings.HasSuffix(strings.TrimSpace(line), hostsMark) {
			text.WriteString(line)
		}
	}
	if s := text.String(); s != "" && !strings.HasSuffix(s, "\n") {
		text.WriteString("\n")
	}
	for _, name := range slices.Sorted(maps.Keys(addresses)) {
		address, err := netip.ParseAddr(addresses[name])
		if err != nil || !hostName.MatchString(name) {
			return fmt.Errorf("%q at %q is no helper", name, addresses[name])
		}
		fmt.Fprintf(&text, "%s\t%s %s\n", address, name, hostsMark)
	}
	if text.String() == string(b) {
		return nil
	}
	return os.WriteFile(file, []byte(text.String()), 0o644)
}
