package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/google/go-dap"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// brings brings a port of a workspace to this machine, and gives where it is.
func (p *person) brings(t *testing.T, name, port string) string {
	t.Helper()
	c := p.command(context.WithoutCancel(t.Context()), "", "forward", name, port+":0").Cmd
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait() // it was killed
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	return regexp.MustCompile(`localhost:\d+`).FindString(line)
}

// debugged is a debugger's conversation in the Debug Adapter Protocol.
type debugged struct {
	t    *testing.T
	conn net.Conn
	from *bufio.Reader
	n    int
}

// ask sends a request, and passes over what comes until its answer.
func ask[T dap.Message](d *debugged, request func(dap.Request) dap.Message, command string) T {
	d.t.Helper()
	d.n++
	require.NoError(d.t, dap.WriteProtocolMessage(d.conn, request(dap.Request{ProtocolMessage: dap.ProtocolMessage{Seq: d.n, Type: "request"}, Command: command})))
	return hear[T](d)
}

// hear passes over what comes until something of a kind does.
func hear[T dap.Message](d *debugged) T {
	d.t.Helper()
	for {
		m, err := dap.ReadProtocolMessage(d.from)
		var unknown *dap.DecodeProtocolMessageFieldError
		if errors.As(err, &unknown) { // an event of this debugger's own
			continue
		}
		require.NoError(d.t, err)
		if e, wrong := m.(*dap.ErrorResponse); wrong {
			d.t.Fatalf("%s: %s", e.Command, e.Message)
		}
		if x, is := m.(T); is {
			return x
		}
	}
}

const quayProgram = `def tide(hour):
    height = 2 + hour
    return height

print(tide(3))
`

// A program inside is debugged from this machine, over a port that was brought here: stopped where it
// was told to, looked into, and let go on.
func TestDebuggersThroughAForward(t *testing.T) {
	t.Parallel()
	p := anotherPerson(t, "caulker")
	a := p.provision(t, publish(t, "caulked", `{"image": "BASE", "remoteUser": "crew"}`, nil), "caulked")
	require.Equal(t, 0, a.status, a.err)
	folder := t.TempDir()
	bring := func(t *testing.T, files ...string) {
		t.Helper()
		options := p.sshOptions("-P")
		a := finish(t, exec.CommandContext(t.Context(), "scp", append(append(append([]string{"-q", "-r"}, options...), files...), "caulked@127.0.0.1:")...))
		require.Equal(t, 0, a.status, a.err)
	}

	t.Run("Python", func(t *testing.T) {
		program := filepath.Join(folder, "quay.py")
		require.NoError(t, os.WriteFile(program, []byte(quayProgram), 0o644))
		out, err := exec.CommandContext(t.Context(), "cp", "-rL", "/usr/lib/python3/dist-packages/debugpy", "/usr/lib/python3/dist-packages/bytecode", folder).CombinedOutput() // it has links to what it needs
		require.NoError(t, err, string(out))
		bring(t, filepath.Join(folder, "debugpy"), filepath.Join(folder, "bytecode"), program)
		require.Equal(t, 0, p.ssh(t, "", "caulked@127.0.0.1", "cd && PYTHONPATH=$HOME setsid -f python3 -Xfrozen_modules=off -m debugpy --listen 127.0.0.1:5678 --wait-for-client quay.py > said 2>&1 </dev/null").status)
		at := p.brings(t, "caulked", "5678")
		said := ""
		t.Cleanup(func() {
			if t.Failed() {
				t.Log(said)
			}
		})
		eventually(t, 30*time.Second, "the debugger listens", func() bool {
			said = p.domicile(t, "run", "caulked", "--", "sh", "-c", "cat ~/said; ps -ef").out
			return strings.Contains(p.domicile(t, "ports", "caulked").out, "5678 ")
		})
		conn, err := net.Dial("tcp", at)
		require.NoError(t, err)
		require.NoError(t, conn.SetDeadline(time.Now().Add(time.Minute)))
		d := &debugged{t: t, conn: conn, from: bufio.NewReader(conn)}
		t.Cleanup(func() { d.conn.Close() })
		ask[*dap.InitializeResponse](d, func(q dap.Request) dap.Message {
			return &dap.InitializeRequest{Request: q, Arguments: dap.InitializeRequestArguments{AdapterID: "python", LinesStartAt1: true, PathFormat: "path"}}
		}, "initialize")
		ask[*dap.InitializedEvent](d, func(q dap.Request) dap.Message {
			return &dap.AttachRequest{Request: q, Arguments: json.RawMessage(`{"justMyCode": true}`)}
		}, "attach")
		set := ask[*dap.SetBreakpointsResponse](d, func(q dap.Request) dap.Message {
			return &dap.SetBreakpointsRequest{Request: q, Arguments: dap.SetBreakpointsArguments{Source: dap.Source{Path: "/home/crew/quay.py"}, Breakpoints: []dap.SourceBreakpoint{{Line: 3}}}}
		}, "setBreakpoints")
		require.True(t, set.Body.Breakpoints[0].Verified)
		stopped := ask[*dap.StoppedEvent](d, func(q dap.Request) dap.Message { return &dap.ConfigurationDoneRequest{Request: q} }, "configurationDone")
		assert.Equal(t, "breakpoint", stopped.Body.Reason)
		stack := ask[*dap.StackTraceResponse](d, func(q dap.Request) dap.Message {
			return &dap.StackTraceRequest{Request: q, Arguments: dap.StackTraceArguments{ThreadId: stopped.Body.ThreadId}}
		}, "stackTrace")
		assert.Equal(t, "tide", stack.Body.StackFrames[0].Name)
		value := ask[*dap.EvaluateResponse](d, func(q dap.Request) dap.Message {
			return &dap.EvaluateRequest{Request: q, Arguments: dap.EvaluateArguments{Expression: "height * 100", FrameId: stack.Body.StackFrames[0].Id}}
		}, "evaluate")
		assert.Equal(t, "500", value.Body.Result)
		ask[*dap.TerminatedEvent](d, func(q dap.Request) dap.Message {
			return &dap.ContinueRequest{Request: q, Arguments: dap.ContinueArguments{ThreadId: stopped.Body.ThreadId}}
		}, "continue")
		eventually(t, 20*time.Second, "the program has gone on to its end", func() bool {
			said = p.domicile(t, "run", "caulked", "--", "sh", "-c", "cat ~/said").out
			return strings.Contains(said, "5\n")
		})
	})

	t.Run("C", func(t *testing.T) {
		source, program := filepath.Join(folder, "quay.c"), filepath.Join(folder, "quay")
		require.NoError(t, os.WriteFile(source, []byte("#include <stdio.h>\nint tide(int hour) { return 2 + hour; }\nint main(void) { printf(\"%d\\n\", tide(3)); return 0; }\n"), 0o644))
		out, err := exec.CommandContext(t.Context(), "gcc", "-g", "-O0", "-static", "-o", program, source).CombinedOutput()
		require.NoError(t, err, string(out))
		files := []string{program, "/usr/bin/gdbserver"}
		libraries, err := exec.CommandContext(t.Context(), "ldd", "/usr/bin/gdbserver").Output()
		require.NoError(t, err)
		for _, line := range strings.Split(string(libraries), "\n") {
			if _, file, found := strings.Cut(line, "=> "); found && !strings.Contains(file, "libc.so") {
				files = append(files, strings.Fields(file)[0])
			}
		}
		bring(t, files...)
		require.Equal(t, 0, p.ssh(t, "", "caulked@127.0.0.1", "cd && LD_LIBRARY_PATH=$HOME setsid -f ./gdbserver --disable-randomization 127.0.0.1:2345 ./quay > heard 2>&1 </dev/null").status)
		eventually(t, 20*time.Second, "gdbserver listens", func() bool { return strings.Contains(p.domicile(t, "ports", "caulked").out, "2345 ") })
		said, err := exec.CommandContext(t.Context(), "gdb", "-nx", "-batch", "-ex", "target remote "+p.brings(t, "caulked", "2345"), "-ex", "break tide", "-ex", "continue", "-ex", "print hour * 100", "-ex", "backtrace", "-ex", "continue", program).CombinedOutput()
		require.NoError(t, err, string(said))
		assert.Contains(t, string(said), "$1 = 300")
		assert.Contains(t, string(said), "in main () at")
		assert.Contains(t, string(said), "exited normally")
		assert.Contains(t, p.inside(t, "caulked", "cat ~/heard"), "5")
	})
}
