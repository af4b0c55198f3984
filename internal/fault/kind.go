package fault

import "errors"

// Kind is what sort of fault it is: whoever answers a request, or decides whether to go on,
// needs to know no more.
type Kind int

// The kinds of faults.
const (
	Asked      Kind = iota // what was asked for cannot be done as it was asked; or the definition says it wrongly
	Unknown                // who asks has not shown who they are
	Forbidden              // who asks may not have it
	Missing                // there is nothing of that name
	Conflict               // it is in a state, or somebody else does something, that does not go with it
	TooOften               // it was asked for too often
	Elsewhere              // something else that is asked, such as a registry or git host, failed or refused
	Unable                 // the service or its site cannot at the moment: it is full, or away
	OwnMistake             // the service, or how it was installed, is wrong
)

// kinds tells of each code that is not Asked. TestEveryCodeHasItsKind keeps it whole.
var kinds = map[string]Kind{
	"not-signed-in": Unknown, "not-let-in": Unknown, "key-not-known": Unknown, "wrong-password": Unknown,

	"address-not-asked": Forbidden, "folder-not-allowed": Forbidden, "mount-refused": Forbidden, "not-administrator": Forbidden, "not-allowed-here": Forbidden, "not-allowed": Forbidden, "wrong-code": Forbidden, "not-private": Forbidden,
	"archive-refused": Forbidden, "feature-changed": Forbidden, "checksum": Forbidden, "disk-refused": Forbidden, "only-looks": Forbidden, "not-a-snapshot": Forbidden,

	"nothing-prepared": Missing, "no-example": Missing, "no-account": Missing, "no-folder": Missing, "no-registry": Missing, "no-region": Missing, "no-service": Missing, "no-site": Missing, "no-size": Missing, "no-snapshot": Missing, "no-screen": Missing, "no-invitation": Missing, "no-terminal": Missing, "no-workspace": Missing, "no-usher": Missing, "no-clipboard": Missing, "no-program": Missing, "no-keys": Missing, "no-sign-in": Missing, "no-browser": Missing, "stream-gone": Missing, "no-editor": Missing, "no-web": Missing, "no-web-address": Missing, "no-key": Missing, "no-ssh-client": Missing, "not-found": Missing,
	"ref-not-found": Missing, "image-not-found": Missing, "image-gone": Missing, "empty-repository": Missing, "not-a-repository": Missing, "workspace-gone": Missing, "machine-gone": Missing, "instance-gone": Missing, "unknown-path": Missing,

	"changed-source": Conflict, "other-branch": Conflict, "own-commits": Conflict, "not-pulled": Conflict, "site-cannot": Conflict, "host-key-changed": Forbidden, "key-not-installed": Forbidden, "host-not-known": Forbidden, "host-away": Unable, "engine-closed": Unable, "no-ssh": OwnMistake, "no-systemd": Unable, "not-a-host": Conflict, "not-rented": Conflict, "not-lost": Conflict, "another-size": Conflict, "site-in-use": Conflict, "site-drained": Conflict, "another-site": Conflict, "no-site-can": Conflict, "alone": Conflict, "another-source": Conflict, "busy": Conflict, "file-exists": Conflict, "has-helpers": Conflict, "key-taken": Conflict, "last-administrator": Conflict, "made-twice": Conflict, "mounted-folder": Conflict, "name-taken": Conflict,
	"never-made": Conflict, "not-for-helpers": Conflict, "not-ready": Conflict, "own-account": Conflict, "running-already": Conflict, "setup-done": Conflict, "stopped-already": Conflict, "no-next-key": Conflict, "agent-replaced": Conflict, "older-agent": Conflict, "full": Conflict, "usher-there": Conflict, "suffix-taken": Conflict, "port-taken": Conflict, "key-locked": Conflict,

	"slowed-down": TooOften,

	"address-down": Elsewhere, "address-refused": Elsewhere, "bad-answer": Elsewhere, "git-failed": Elsewhere, "git-host-down": Elsewhere, "git-host-unknown": Elsewhere, "host-unknown": Elsewhere, "image-denied": Elsewhere, "large-files": Elsewhere, "no-large-files": Elsewhere,
	"provider-away": Elsewhere, "provider-refused": Elsewhere, "account-refused": Elsewhere, "provider-nonsense": Elsewhere, "instance-failed": Elsewhere, "registry-down": Elsewhere, "registry-failed": Elsewhere, "registry-needs-credentials": Elsewhere, "registry-refused": Elsewhere, "registry-unknown": Elsewhere, "source-needs-credentials": Elsewhere, "service-unreachable": Elsewhere, "connection-lost": Elsewhere, "redirected": Elsewhere,
	"not-ssh": Elsewhere, "port-closed": Elsewhere, "session-failed": Elsewhere, "ssh-closed": Elsewhere, "ssh-failed": Elsewhere, "nobody-listens": Elsewhere,
	"artifact-too-large": Elsewhere, "not-an-artifact": Elsewhere,

	"agent-unreachable": Unable, "nobody-answered": Unable, "usher-cannot": Unable, "disk-full": Unable, "engine-unavailable": Unable, "host-too-small": Unable, "no-device": Unable, "no-room": Unable, "machine-silent": Unable, "no-picture": Unable, "machine-off": Unable, "machine-ended": Unable, "machine-not-started": Unable, "machine-not-ended": Unable, "no-keys-left": Unable, "too-busy": Unable, "database-unavailable": Unable,

	"bad-commit": OwnMistake, "agent-refused": OwnMistake, "engine-refused": OwnMistake, "engine-without-bridge": OwnMistake, "folder-closed": OwnMistake, "door-closed": OwnMistake, "helpers-unknown": OwnMistake, "no-agent": OwnMistake, "no-qemu": OwnMistake, "no-home": OwnMistake, "no-machine-image": OwnMistake, "no-bridge": OwnMistake, "no-data-folder": OwnMistake, "not-our-folder": OwnMistake, "folder-held": OwnMistake, "another-users": OwnMistake, "bad-config": OwnMistake, "not-whole": OwnMistake, "not-empty": Conflict, "wrong-clock": OwnMistake, "not-installed": OwnMistake, "bad-backup": OwnMistake, "database-newer": OwnMistake, "data-moved": Conflict, "no-database": OwnMistake, "database-closed": OwnMistake, "database-version": OwnMistake, "no-engine": OwnMistake,
	"no-git": OwnMistake, "no-git-lfs": OwnMistake, "no-mmdebstrap": OwnMistake, "no-postgres": OwnMistake, "no-view": OwnMistake, "not-root": OwnMistake, "cannot-listen": OwnMistake,
}

// KindOf tells what sort of fault an error is. One whose code is a definition's problem, or
// not known, is Asked; an error that is no fault is OwnMistake.
func KindOf(err error) Kind {
	var f *Fault
	if !errors.As(err, &f) {
		return OwnMistake
	}
	return kinds[f.Code]
}
