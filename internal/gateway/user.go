package gateway

import (
	"errors"
	"regexp"
	"strings"

	"domicile/internal/fault"
)

// asUser stands between a workspace's name and a user of its container: "ssh fares+root.domicile" comes
// in as root where the site's policy allows it. Neither kind of name has one.
const asUser = "+"

// users are the names that a container's user may have.
var users = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]{0,31}$`)

// SplitUser takes the user of the container off a workspace's name; "" is the person's own, as the
// definition says (remoteUser).
func SplitUser(name string) (workspace, user string, err error) {
	workspace, user, found := strings.Cut(name, asUser)
	if found && !users.MatchString(user) {
		return workspace, "", sentence("%q is no name of a user. As another user of the container, a workspace's name has it behind a plus: %s%sroot", user, workspace, asUser)
	}
	return workspace, user, nil
}

// told tells a fault that is a sentence to the person already.
func told(err error) (text string, is bool) {
	var f *fault.Fault
	if !errors.As(err, &f) || f.Code != "bad-user" && f.Code != "not-allowed-here" {
		return "", false
	}
	return sentence("%s. %s", strings.TrimSuffix(f.Message, "."), fault.ToDo(f.Remedy)).Error(), true
}
