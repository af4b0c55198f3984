package judge

import (
	"net/netip"
	"regexp"
	"strconv"
	"strings"
)

var (
	plainName  = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9_.-]{0,127}$`)
	hostName   = regexp.MustCompile(`^[a-zA-Z0-9]([a-zA-Z0-9_.-]{0,251}[a-zA-Z0-9])?$`)
	userName   = regexp.MustCompile(`^[a-zA-Z0-9_.][a-zA-Z0-9_.@$-]{0,63}(:[a-zA-Z0-9_.][a-zA-Z0-9_.@$-]{0,63})?$`)
	variable   = regexp.MustCompile(`^[^=\x00\s][^=\x00]{0,255}$`)
	siteID     = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	digestForm = regexp.MustCompile(`^[0-9a-z-]{1,64}$`)
	signal     = regexp.MustCompile(`^(SIG)?[A-Z][A-Z0-9]{1,9}([+-][0-9]{1,2})?$|^[0-9]{1,2}$`)
	restart    = regexp.MustCompile(`^(|no|always|unless-stopped|on-failure(:[0-9]{1,4})?)$`)
)

// ServiceName judges the name of a service or a network of Compose files: it becomes a part
// of the name of an object. Names that would end as Domicile's own marks do are refused.
func (j *Judge) ServiceName(place, name string) {
	if !plainName.MatchString(name) {
		j.Refuse(place, "%q is no name of a service or network", name)
		return
	}
	for _, end := range []string{".aside", ".filling", ".own"} {
		if strings.HasSuffix(name, end) {
			j.RefuseFor("choose another name", place, "the name %s ends in %s, which Domicile keeps for itself", name, end)
		}
	}
}

// HostName judges a host name or an alias on a network.
func (j *Judge) HostName(place, name string) {
	if name != "" && !hostName.MatchString(name) {
		j.Refuse(place, "%q is no host name", name)
	}
}

// User judges who programs run as inside the container: a name or number, and a group.
func (j *Judge) User(place, user string) {
	if user != "" && !userName.MatchString(user) {
		j.Refuse(place, "%q is no user of a container", user)
	}
}

// Variable judges the name and value of an environment variable.
func (j *Judge) Variable(place, name, value string) {
	if !variable.MatchString(name) || strings.Contains(value, "\x00") {
		j.Refuse(place, "%q is no environment variable", name)
	}
}

// Label judges a label of an image: those that begin as Domicile's own do are not given.
func (j *Judge) Label(place, name string) {
	if strings.HasPrefix(strings.ToLower(name), reserved) || name == "" || strings.ContainsAny(name, "\x00\n\r") {
		j.RefuseFor("choose another label", place, "the label %q is not given: names that begin with %s are Domicile's own", name, reserved)
	}
}

// Text judges what only programs inside the container read: arguments and commands.
func (j *Judge) Text(place, text string) {
	if strings.Contains(text, "\x00") {
		j.Refuse(place, "a text with a zero byte is no argument of a program")
	}
}

// Folder judges a folder that programs start in.
func (j *Judge) StartFolder(place, folder string) {
	if folder != "" && (!strings.HasPrefix(folder, "/") || strings.ContainsAny(folder, "\x00\n\r")) {
		j.Refuse(place, "%q is no absolute folder of the container", folder)
	}
}

// HostEntry judges an entry of the container's hosts file, "name:address".
func (j *Judge) HostEntry(place, entry string) {
	name, address, found := strings.Cut(entry, ":")
	if !found {
		name, address, found = strings.Cut(entry, "=")
	}
	_, err := netip.ParseAddr(strings.Trim(address, "[]"))
	if !found || !hostName.MatchString(name) || err != nil && address != "host-gateway" {
		j.Refuse(place, "%q is no entry of a hosts file: write name:address", entry)
	}
}

// Address judges the address of a name server.
func (j *Judge) Address(place, address string) {
	if _, err := netip.ParseAddr(address); err != nil {
		j.Refuse(place, "%q is no address", address)
	}
}

// Group judges another group of the container's user.
func (j *Judge) Group(place, group string) {
	if n, err := strconv.Atoi(group); err == nil && n >= 0 && n < 1<<31 {
		return
	}
	if !userName.MatchString(group) || strings.Contains(group, ":") {
		j.Refuse(place, "%q is no group", group)
	}
}

// Signal judges the signal that ends a service.
func (j *Judge) Signal(place, name string) {
	if name != "" && !signal.MatchString(name) {
		j.Refuse(place, "%q is no signal", name)
	}
}

// Restart judges when an engine starts a service again by itself.
func (j *Judge) Restart(place, policy string) {
	if !restart.MatchString(policy) {
		j.Refuse(place, "restart %q is not carried out", policy)
	}
}

// Digest judges a digest of Domicile's own.
func (j *Judge) Digest(place, digest string) {
	if digest != "" && !digestForm.MatchString(digest) {
		j.Refuse(place, "%q is no digest", digest)
	}
}

// Helped judges whose container or source a helper is put beside: its own workspace's.
func (j *Judge) Helped(place, workspace string) {
	if workspace != "" && (workspace != j.Parent || !siteID.MatchString(workspace)) {
		j.Refuse(place, "the workspace %s is not this one's", workspace)
	}
}

// HostFolder judges the folder of the host that is mounted as the source.
func (j *Judge) HostFolder(place, folder string) {
	if folder != "" && folder != j.Subject.Folder {
		j.Refuse(place, "the folder %s of the host is not this workspace's source", folder)
	}
}
