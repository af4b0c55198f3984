package definition

import (
	"io/fs"
	"path"
	"sort"
)

// Locate lists the definitions of a repository in the order in which the standard looks
// for them: `.devcontainer/devcontainer.json`, `.devcontainer.json`, then one in each
// folder of `.devcontainer`. A tool never chooses among several silently.
func Locate(files fs.FS) []string {
	var found []string
	for _, name := range []string{".devcontainer/devcontainer.json", ".devcontainer.json"} {
		if regular(files, name) {
			found = append(found, name)
		}
	}
	entries, err := fs.ReadDir(files, ".devcontainer")
	if err != nil {
		return found
	}
	sort.Slice(entries, func(i, j int) bool { return entries[i].Name() < entries[j].Name() })
	for _, entry := range entries {
		if name := path.Join(".devcontainer", entry.Name(), "devcontainer.json"); entry.IsDir() && regular(files, name) {
			found = append(found, name)
		}
	}
	return found
}

func regular(files fs.FS, name string) bool {
	info, err := fs.Stat(files, name)
	return err == nil && info.Mode().IsRegular()
}
