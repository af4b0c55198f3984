// Package demo is the demo's data: the repositories of Skerry, a small ferry line.
package demo

import (
	"embed"
	"io/fs"
	"strings"
)

//go:embed all:repositories
var repositories embed.FS

// Names are the names of the repositories.
var Names = []string{"timetable", "fares", "quayboard"}

// Repository gives a repository's files.
func Repository(name string) (fs.FS, error) { return fs.Sub(repositories, "repositories/"+name) }

// Replace puts the registry's address, which is known at start only, into a file.
func Replace(registry string) func(string) string {
	return strings.NewReplacer("registry.skerry.test", registry).Replace
}
