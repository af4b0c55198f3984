package e2e

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// display starts an X server without a screen and gives the variables of its programs.
func display(t *testing.T) []string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "authority")
	cookie := make([]byte, 16)
	_, _ = rand.Read(cookie)
	prove := func(name string) {
		out, err := exec.CommandContext(t.Context(), "xauth", "-f", file, "add", name, ".", hex.EncodeToString(cookie)).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	prove(":0") // the server takes any proof of the file
	server := exec.CommandContext(context.WithoutCancel(t.Context()), "Xvfb", "-displayfd", "1", "-screen", "0", "640x480x24", "-nolisten", "tcp", "-auth", file)
	out, err := server.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait() // it was killed
	})
	number, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	name := ":" + strings.TrimSpace(number)
	prove(name)
	return append(os.Environ(), "DISPLAY="+name, "XAUTHORITY="+file)
}

// xClient speaks to a display as any X program does at first (X Window System Protocol, section 8), and
// prints who made the server and how large its screen is.
const xClient = `import os, socket, struct, sys
pad = lambda b: b + bytes(-len(b) % 4)
b, fields = open(os.environ["XAUTHORITY"], "rb").read()[2:], []
while b:
    n = struct.unpack(">H", b[:2])[0]
    fields.append(b[2:2+n]); b = b[2+n:]
proof = bytes(len(fields[3])) if sys.argv[1:] == ["wrong"] else fields[3]
s = socket.create_connection(("127.0.0.1", 6000 + int(os.environ["DISPLAY"].split(":")[1].split(".")[0])))
s.sendall(struct.pack("<BxHHHHxx", 0x6c, 11, 0, len(fields[2]), len(proof)) + pad(fields[2]) + pad(proof))
r = s.makefile("rb")
head = r.read(8)
if len(head) < 8 or head[0] != 1: print("refused"); sys.exit(1)
body = r.read(4 * struct.unpack("<H", head[6:8])[0])
n, formats = struct.unpack("<H", body[16:18])[0], body[21]
screen = body[32 + len(pad(body[32:32+n])) + 8 * formats:]
print(body[32:32+n].decode(), *struct.unpack("<HH", screen[20:24]))`

// Windows of programs inside appear at the person's display.
func TestWindowsFromInside(t *testing.T) {
	t.Parallel()
	p := anotherPerson(t, "painter")
	a := p.provision(t, publish(t, "painted", `{"image": "BASE", "remoteUser": "crew"}`, nil), "painted")
	require.Equal(t, 0, a.status, a.err)
	env := display(t)
	ssh := func(flag, line string) answer {
		c := exec.CommandContext(t.Context(), "ssh", append(append([]string{flag}, p.sshOptions("-p")...), "painted@127.0.0.1", line)...)
		c.Env, c.Stdin = env, strings.NewReader(xClient)
		return finish(t, c)
	}
	a = ssh("-Y", `echo $DISPLAY; stat -c '%U %a' $XAUTHORITY; cat > /tmp/x.py; python3 /tmp/x.py; python3 /tmp/x.py wrong; dirname $XAUTHORITY`)
	lines := strings.Split(strings.TrimSpace(a.out), "\n")
	require.Len(t, lines, 5, a.out+a.err)
	assert.Regexp(t, `^localhost:1\d\.0$`, lines[0])
	assert.Equal(t, "crew 600", lines[1], "for the person alone")
	assert.Regexp(t, `X\.Org.* 640 480$`, lines[2])
	assert.Equal(t, "refused", lines[3], "a program without the proof is not let in")
	assert.Equal(t, "gone\n", ssh("-x", "test -e "+lines[4]+" || echo gone").out, "it goes with the session")
	assert.Equal(t, "none\n", ssh("-x", "echo ${DISPLAY:-none}").out)
}
