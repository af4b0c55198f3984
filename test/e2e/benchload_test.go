package e2e

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	api "domicile/internal/client"
	"domicile/internal/records"
)

const (
	idleConnections = 500
	busyConnections = 50
	loadFor         = time.Minute
)

// BenchmarkConnections keeps 500 idle and 50 busy SSH connections to one workspace for a minute. None may
// end. Figures are of one idle connection: what service and agent take for it, and what of that they
// still have when all have ended.
func BenchmarkConnections(b *testing.B) {
	source, states, name := benchSource(b), newWaiter(b), "bench-load"
	_, err := api.Answer[api.Workspace](skipper.api.Provision(b.Context(), api.ProvisionRequest{Source: source, Name: &name}))
	require.NoError(b, err)
	states.wait(b, name, records.Ready)
	defer removeNow(b, states, name)
	key, err := os.ReadFile(skipper.key)
	require.NoError(b, err)
	signer, err := ssh.ParsePrivateKey(key)
	require.NoError(b, err)
	dial := func() *ssh.Client {
		conn, err := net.DialTimeout("tcp", world.Service.SSH, 20*time.Second)
		require.NoError(b, err)
		c, channels, requests, err := ssh.NewClientConn(conn, "", &ssh.ClientConfig{User: "bench-load", Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 20 * time.Second})
		require.NoError(b, err)
		return ssh.NewClient(c, channels, requests)
	}
	service := func() float64 { return residentOf(b, fmt.Sprintf("/proc/%d/status", world.Service.PID())) }
	id := strings.Fields(string(must(exec.Command("docker", "-H", world.EngineAt, "ps", "-q", "--filter", "label=domicile.workspace").Output())))[0]
	agent := func() float64 {
		pid := strings.TrimSpace(string(must(exec.Command("docker", "-H", world.EngineAt, "inspect", "-f", "{{.State.Pid}}", id).Output())))
		return residentOf(b, "/proc/"+pid+"/status")
	}
	for range 20 { // what the first connections bring about is not theirs
		dial().Close()
	}
	time.Sleep(5 * time.Second)
	serviceBefore, agentBefore := service(), agent()
	var idle []*ssh.Client
	for range idleConnections {
		idle = append(idle, dial())
	}
	time.Sleep(2 * time.Second) // what the handshakes left behind goes
	b.ReportMetric((service()-serviceBefore)*1024/idleConnections, "service-bytes/connection")
	b.ReportMetric((agent()-agentBefore)*1024/idleConnections, "agent-bytes/connection")

	var ended atomic.Int32
	for _, c := range idle {
		go func() {
			_ = c.Wait()
			ended.Add(1)
		}()
	}
	cargo := bytes.Repeat([]byte("tide"), 16<<10)
	var busy sync.WaitGroup
	var turns atomic.Int64
	until := time.Now().Add(loadFor)
	for range busyConnections {
		busy.Go(func() {
			c := dial()
			defer c.Close()
			for time.Now().Before(until) {
				s, err := c.NewSession()
				if err != nil {
					b.Error(err)
					return
				}
				s.Stdin = bytes.NewReader(cargo)
				out, err := s.Output("cat")
				if err != nil || !bytes.Equal(out, cargo) {
					b.Errorf("%d of %d bytes: %v", len(out), len(cargo), err)
					return
				}
				turns.Add(1)
			}
		})
	}
	busy.Wait()
	require.Zero(b, ended.Load(), "none has ended")
	for _, c := range idle {
		_, _, err := c.SendRequest("keepalive@openssh.com", true, nil)
		require.NoError(b, err)
		c.Close()
	}
	b.ReportMetric(float64(turns.Load())/loadFor.Seconds(), "sessions/s")
	time.Sleep(10 * time.Second) // memory is given back after a while
	b.ReportMetric(agent()-agentBefore, "agent-kB-kept")
	b.ReportMetric(service()-serviceBefore, "service-kB-kept")
	b.ReportMetric(0, "ns/op")
}

// residentOf is the resident size of a process, in kB.
func residentOf(b *testing.B, status string) float64 {
	b.Helper()
	file, err := os.Open(status)
	require.NoError(b, err)
	defer file.Close()
	text, err := io.ReadAll(file)
	require.NoError(b, err)
	_, after, _ := bytes.Cut(text, []byte("VmRSS:"))
	return number(b, bytes.Fields(after)[0])
}
