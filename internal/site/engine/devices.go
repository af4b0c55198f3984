package engine

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// notDevices are folders below /dev that come and go with programs.
var notDevices = []string{"pts", "fd", "shm", "mqueue", "hugepages"}

// devicesDeep is how deep below /dev devices are looked for.
const devicesDeep = 3

// devices lists the devices below a folder and the folders that they are in; nil: they cannot be
// read.
func devices(root string) (list []string) {
	err := fs.WalkDir(os.DirFS(root), ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case name == ".":
			return err
		case err != nil || d.IsDir() && slices.Contains(notDevices, name):
			return fs.SkipDir
		}
		list = append(list, filepath.Join(root, name))
		if d.IsDir() && strings.Count(name, "/") >= devicesDeep-1 {
			return fs.SkipDir
		}
		return nil
	})
	if err != nil {
		return nil
	}
	return list
}
