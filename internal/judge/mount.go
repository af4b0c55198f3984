package judge

import (
	"path"
	"slices"
	"strings"
)

// The kinds of mounts, beside those of the standard (bind, volume, tmpfs).
const (
	MountSource = "source" // the workspace's own source
	MountFile   = "file"   // a copy of a file of the repository
	MountFolder = "folder" // the folder of the host that is the workspace's source
)

// Mount is a mount as it is wanted.
type Mount struct {
	Type, Source, Target string
}

// ours are the folders of a container that are not the definition's to mount over. Images
// have /var/run as another name of /run.
var ours = []string{"/proc", "/sys", "/dev", "/opt/domicile", "/run/domicile", "/run/domicile-door", "/.domicile-volumes"}

// Target judges where something is mounted in a container.
func (j *Judge) Target(place, target string) {
	clean := path.Clean(target)
	switch {
	case !path.IsAbs(target) || strings.ContainsAny(target, "\x00\n\r,"):
		j.Refuse(place, "%q is no absolute path to mount at", target)
	case TakenTarget(clean):
		j.RefuseFor("choose another folder, such as /workspaces/name", place, "nothing can be mounted at %s", target)
	}
}

// TakenTarget tells of a folder in a container that is the system's or Domicile's own. A
// folder above one of them would hide it, but for /run, which programs expect to be theirs.
func TakenTarget(clean string) bool {
	if rest, under := strings.CutPrefix(clean, "/var/run"); under && (rest == "" || rest[0] == '/') {
		clean = "/run" + rest
	}
	return clean == "/" || clean == "/opt" || slices.ContainsFunc(ours, func(o string) bool { return clean == o || strings.HasPrefix(clean, o+"/") })
}

// Mount judges a mount. Only the folder that an administrator allowed as this workspace's
// source, its own volumes, memory, and files of its repository need no allowance.
func (j *Judge) Mount(place string, m Mount) {
	j.Target(place, m.Target)
	switch m.Type {
	case MountFolder:
		if m.Source == "" || m.Source != j.Folder {
			j.Refuse(place, "the folder %s of the host is not this workspace's source", m.Source)
		}
	case "bind":
		if !path.IsAbs(m.Source) || path.Clean(m.Source) != m.Source || strings.ContainsAny(m.Source, "\x00\n\r") {
			j.Need(AllowHostMounts, place, "it asks for %s of the host", described(m.Source))
			if j.Allows(AllowHostMounts) {
				j.Refuse(place, "%q is no clean absolute path of the host", m.Source)
			}
			return
		}
		j.Need(AllowHostMounts, place, "it asks for %s of the host", described(m.Source))
	case "volume":
		if m.Source != "" && !plainName.MatchString(m.Source) {
			j.Refuse(place, "%q is no name of a volume: use letters, digits, and _ . - behind the first", m.Source)
		}
	case "tmpfs", MountSource:
		if m.Source != "" {
			j.Refuse(place, "a mount of type %s has no source (%s)", m.Type, m.Source)
		}
	case MountFile:
		if !insideRepository(m.Source) {
			j.Refuse(place, "%s is no file of the repository", m.Source)
		}
	default:
		j.Refuse(place, "a mount of type %s is not carried out", m.Type)
	}
}

// RepositoryPath judges a path of the repository that is to be read, such as a Dockerfile.
func (j *Judge) RepositoryPath(place, p string) {
	if !insideRepository(p) {
		j.Refuse(place, "%s leads out of the repository", p)
	}
}

func insideRepository(p string) bool {
	clean := path.Clean(p)
	return p != "" && !path.IsAbs(p) && clean != ".." && !strings.HasPrefix(clean, "../") && !strings.Contains(p, "\x00")
}

// described names a source; the engine's socket gets its own word, as whoever has it owns
// the host.
func described(source string) string {
	if strings.HasSuffix(source, ".sock") {
		return "the socket " + source
	}
	return "the folder " + source
}
