package definition

import (
	"path"
	"strings"
)

// Variables says what `${…}` stands for (the standard's "Variables" section).
type Variables struct {
	// LocalFolder is ${localWorkspaceFolder}; its last part is the base name.
	LocalFolder string
	// ContainerFolder is ${containerWorkspaceFolder}. Empty: such variables stay as they are.
	ContainerFolder string
	// ID is ${devcontainerId}. Empty: the variable stays as it is.
	ID string
	// LocalEnvironment is asked for ${localEnv:NAME}; nil knows no variable.
	LocalEnvironment func(name string) (string, bool)
	// ContainerEnvironment is asked for ${containerEnv:NAME}. It is nil as long as there is
	// no container: then these variables stay as they are.
	ContainerEnvironment func(name string) (string, bool)
}

// Replace replaces the variables in s. An unknown `${…}` stays as it is; a missing
// environment variable without default becomes the empty string.
func (v *Variables) Replace(s string) string {
	if !strings.Contains(s, "${") {
		return s
	}
	var b strings.Builder
	for {
		start := strings.Index(s, "${")
		if start < 0 {
			break
		}
		end := strings.IndexByte(s[start:], '}')
		if end < 0 {
			break
		}
		end += start
		b.WriteString(s[:start])
		if value, ok := v.lookup(s[start+2 : end]); ok {
			b.WriteString(value)
		} else {
			b.WriteString(s[start : end+1])
		}
		s = s[end+1:]
	}
	b.WriteString(s)
	return b.String()
}

func (v *Variables) lookup(expression string) (string, bool) {
	name, rest, hasRest := strings.Cut(expression, ":")
	switch name {
	case "localWorkspaceFolder":
		return v.LocalFolder, !hasRest
	case "localWorkspaceFolderBasename":
		return path.Base(v.LocalFolder), !hasRest
	case "containerWorkspaceFolder":
		return v.ContainerFolder, !hasRest && v.ContainerFolder != ""
	case "containerWorkspaceFolderBasename":
		return path.Base(v.ContainerFolder), !hasRest && v.ContainerFolder != ""
	case "devcontainerId":
		return v.ID, !hasRest && v.ID != ""
	case "localEnv", "env":
		if !hasRest {
			return "", false
		}
		return fromEnvironment(v.LocalEnvironment, rest), true
	case "containerEnv":
		if !hasRest || v.ContainerEnvironment == nil {
			return "", false
		}
		return fromEnvironment(v.ContainerEnvironment, rest), true
	}
	return "", false
}

func fromEnvironment(lookup func(string) (string, bool), nameAndDefault string) string {
	name, fallback, _ := strings.Cut(nameAndDefault, ":")
	if lookup != nil {
		if value, ok := lookup(name); ok {
			return value
		}
	}
	return fallback
}
