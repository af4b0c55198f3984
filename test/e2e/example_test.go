package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// Who has no repository yet, and no network, begins with the example: its image is of the service's own
// machine, and the program in it is at a port that opens. Nothing else of the service's data is a source.
func TestTheExampleThatNeedsNoNetwork(t *testing.T) {
	t.Parallel()
	o := newOwn(t)
	settings, err := os.ReadFile(o.config)
	require.NoError(t, err)
	var kept []string
	for line := range strings.Lines(string(settings)) {
		if !strings.HasPrefix(line, "outside") { // it may ask nobody
			kept = append(kept, line)
		}
	}
	o.settings(t, strings.Join(kept, ""))
	o.start(t)
	mate := o.mate(t)
	refused := mate.domicile(t, "provision", filepath.Join(o.data, "example"), "-name", "first")
	assert.Contains(t, refused.err, "is not among those that may be used as sources", "it is not there yet")
	p := openBrowser(t)
	p.does(chromedp.Navigate("http://"+o.web+"/"), see("input[name=name]"), fill("input[name=name]", "mate"), fill("input[name=password]", "all-hands-on-deck"))
	p.button("Come in")
	p.does(see("nav"))
	p.does(chromedp.Navigate("http://" + o.web + "/welcome"))
	p.shows("How you get in")
	p.button("Later")
	p.shows("Try a small example")
	p.accessible("the last step")
	p.picture("example")
	p.button("Try a small example")
	p.shows("Make the workspace")
	p.button("Make the workspace")
	t.Cleanup(func() { mate.remove(t, "example") })
	eventually(t, 60*time.Second, "it is ready", func() bool {
		w, err := client.Answer[client.Workspace](mate.api.GetWorkspace(t.Context(), "example"))
		return err == nil && w.State == client.WorkspaceStateReady
	})
	assert.Contains(t, mate.domicile(t, "run", "example", "--", "sh", "-c", "grep ^ID= /etc/os-release; id -un").out, "ID=debian\ncrew\n")
	eventually(t, 20*time.Second, "the program listens", func() bool {
		return strings.Contains(mate.domicile(t, "ports", "example").out, "board of crew")
	})
	page := mate.domicile(t, "run", "example", "--", "bash", "-c", `exec 3<>/dev/tcp/127.0.0.1/8080; printf 'GET / HTTP/1.1\r\n\r\n' >&3; cat <&3`)
	assert.Contains(t, page.out, "<li>06:40  Lamb Island</li>", page.err)
	for i, other := range []string{o.data, filepath.Join(o.data, "database"), filepath.Join(o.data, "example", ".."), filepath.Join(o.data, "example-of-another")} {
		assert.Contains(t, mate.domicile(t, "provision", other, "-name", fmt.Sprint("thief-", i)).err, "not among those that may be used as sources", other)
	}
	assert.Contains(t, mate.domicile(t, "example").out, "domicile provision "+filepath.Join(o.data, "example")+" -name first")
}
