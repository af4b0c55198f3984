package drift

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatWasInstalledByHandIsRecognised(t *testing.T) {
	added := []string{"/var/lib/dpkg/info/tree.list", "/var/lib/dpkg/info/libtree1:amd64.list", "/var/lib/dpkg/info/tree.md5sums", "/usr/local/lib/python3.11/dist-packages/requests-2.32.3.dist-info",
		"/usr/local/lib/python3.11/dist-packages/requests-2.32.3.dist-info/RECORD", "/home/crew/.local/lib/python3.11/site-packages/six-1.16.0.dist-info", "/usr/lib/python3/dist-packages/apt-2.6.dist-info",
		"/usr/local/lib/node_modules/@skerry/quay", "/usr/local/lib/node_modules/typescript", "/usr/local/lib/node_modules/typescript/lib", "/home/crew/go/bin/dlv", "/root/go/bin", "/home/crew/notes.txt"}
	var found []string
	for _, f := range Installed(added, []string{"tree"}) {
		found = append(found, f.Kind+" "+f.Name)
		assert.Contains(t, f.Line, f.Name)
	}
	assert.Equal(t, []string{"apt tree", "pip requests==2.32.3", "pip six==1.16.0", "npm @skerry/quay", "npm typescript", "go dlv"}, found)
	assert.Len(t, Installed(added[:2], nil), 2, "all packages where it is not known which were asked for")
}
