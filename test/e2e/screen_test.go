package e2e

import (
	"context"
	"image/color"
	"image/png"
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shown is the colour of the middle of a workspace's screen.
func shown(t *testing.T, name string) color.Color {
	t.Helper()
	file := filepath.Join(t.TempDir(), "screen.png")
	a := skipper.domicile(t, "screen", name, "-png", file)
	require.Equal(t, 0, a.status, a.err)
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	picture, err := png.Decode(f)
	require.NoError(t, err)
	require.Equal(t, 1280, picture.Bounds().Dx())
	require.Equal(t, 800, picture.Bounds().Dy())
	return color.RGBAModel.Convert(picture.At(640, 400))
}

// lantern is the colour that a program inside paints its screen with.
var lantern = color.RGBA{R: 222, G: 150, B: 60, A: 255}

// writesKeys is a program that writes the numbers of the keys that are pressed into a file.
const writesKeys = `cat > keys.py <<'EOF'
import glob, select, struct
keys = [open(n, "rb", buffering=0) for n in glob.glob("/dev/input/event*")]
with open("typed", "w") as out:
    out.write("waits\n"); out.flush()
    while True:
        for k in select.select(keys, [], [])[0]:
            kind, code, value = struct.unpack("16xHHi", k.read(24))
            if (kind, value) == (1, 1):
                out.write(str(code) + "\n"); out.flush()
EOF
nohup python3 keys.py > /dev/null 2>&1 & until grep -q waits typed; do sleep 0.1; done`

// paintsAScreen has a program of a workspace paint its screen, and a person see it and type at it:
// by a picture, in the console, and with a viewer of another make.
func paintsAScreen(t *testing.T, name string) {
	t.Helper()
	assert.Contains(t, skipper.domicile(t, "show", name).out, "domicile screen "+name+" -png FILE")
	skipper.inside(t, name, `python3 -c "open('/dev/fb0', 'r+b').write(bytes([60, 150, 222, 0]) * 1280 * 800)"`)
	assert.Equal(t, lantern, shown(t, name))

	skipper.inside(t, name, writesKeys)
	p := openBrowser(t)
	p.signIn(skipper)
	p.does(chromedp.Navigate(world.Service.URL+"/workspaces/"+name), see("h1"))
	p.button("See its screen")
	p.does(see("[data-screen-status=connected]"), see("canvas"))
	eventually(t, 20*time.Second, "the page shows what was painted", func() bool {
		s, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`(() => { const c = document.querySelector("canvas"); return c && c.width ? [...c.getContext("2d").getImageData(640, 400, 1, 1).data].join() : "" })()`))
		return err == nil && s == "222,150,60,255"
	})
	p.does(chromedp.KeyEvent("t"))
	eventually(t, 20*time.Second, "the key arrives", func() bool { return skipper.inside(t, name, "cat typed") == "waits\n20" })
	skipper.inside(t, name, "pkill -f '^python3 keys'; rm -f keys.py typed")

	viewed(t, name)
	assert.Contains(t, finn.domicile(t, "screen", name, "-png", filepath.Join(t.TempDir(), "spy.png")).err, "no workspace")
	assert.Equal(t, 2, skipper.domicile(t, "screen", name).status, "it must be said how")
}

// viewed looks at a screen as a viewer of another make does.
func viewed(t *testing.T, name string) {
	t.Helper()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := strconv.Itoa(taken.Addr().(*net.TCPAddr).Port)
	assert.Contains(t, skipper.domicile(t, "screen", name, "-at", port).err, "cannot be had")
	require.NoError(t, taken.Close())
	ctx, stop := context.WithCancel(t.Context())
	c := skipper.command(ctx, "", "screen", name, "-at", port)
	c.Cancel = func() error { return c.Process.Signal(os.Interrupt) }
	require.NoError(t, c.Start())
	defer func() {
		stop()
		_ = c.Wait() // it was ended
	}()
	greeting := make([]byte, 12)
	eventually(t, 10*time.Second, "the screen greets", func() bool {
		conn, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err != nil {
			return false
		}
		defer conn.Close()
		_, err = io.ReadFull(conn, greeting)
		return err == nil
	})
	assert.Equal(t, "RFB 003.008\n", string(greeting))
}
