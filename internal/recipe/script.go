package recipe

import (
	"fmt"
	"slices"
	"strings"

	"al.essio.dev/pkg/shellescape"
)

// Script is the shell script that installs a layer's feature from the folder it is in.
func (r *Recipe) Script(l Layer, imageUser string) string {
	container, remote := r.users(imageUser)
	var b strings.Builder
	b.WriteString("set -e\nhome_of() { while IFS=: read -r n p u g c h s; do if [ \"$n\" = \"$1\" ] || [ \"$u\" = \"$1\" ]; then echo \"$h\"; return; fi; done < /etc/passwd; }\n")
	fmt.Fprintf(&b, "export _CONTAINER_USER=%s _REMOTE_USER=%s\n", shellescape.Quote(container), shellescape.Quote(remote))
	b.WriteString("_CONTAINER_USER_HOME=$(home_of \"${_CONTAINER_USER%%:*}\") _REMOTE_USER_HOME=$(home_of \"${_REMOTE_USER%%:*}\")\nexport _CONTAINER_USER_HOME _REMOTE_USER_HOME\n")
	names := make([]string, 0, len(l.Options))
	for name := range l.Options {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Fprintf(&b, "export %s=%s\n", name, shellescape.Quote(l.Options[name]))
	}
	b.WriteString("chmod +x ./install.sh\nexec ./install.sh\n")
	return b.String()
}

// users are containerUser and remoteUser with their defaults (the standard's "Users").
func (r *Recipe) users(imageUser string) (container, remote string) {
	container = r.ContainerUser
	if container == "" {
		container = imageUser
	}
	if container == "" {
		container = "root"
	}
	if remote = r.RemoteUser; remote == "" {
		remote = container
	}
	return container, remote
}
