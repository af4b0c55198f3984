package e2e

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/image"
	"github.com/docker/docker/client"
	"github.com/gorilla/websocket"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"github.com/stretchr/testify/require"

	api "domicile/internal/client"
	"domicile/internal/records"
)

// pair measures ours and the raw operation by turns, and reports the medians and their ratio.
type pair struct {
	ours, raw []time.Duration
	before    func() // not measured, before each of both; nil: nothing
}

func (p *pair) measure(b *testing.B, ours, raw func()) {
	b.Helper()
	for b.Loop() {
		if p.before != nil {
			p.before()
		}
		begun := time.Now()
		ours()
		p.ours = append(p.ours, time.Since(begun))
		begun = time.Now()
		raw()
		p.raw = append(p.raw, time.Since(begun))
	}
	p.report(b)
}

func (p *pair) report(b *testing.B) {
	b.Helper()
	b.ReportMetric(0, "ns/op") // the sum of both says nothing
	b.ReportMetric(median(p.ours).Seconds()*1000, "ours-ms")
	b.ReportMetric(median(p.raw).Seconds()*1000, "raw-ms")
	b.ReportMetric(median(p.ours).Seconds()/median(p.raw).Seconds(), "ratio")
}

func median(list []time.Duration) time.Duration {
	sorted := slices.Sorted(slices.Values(list))
	return sorted[len(sorted)/2]
}

func rawEngine(b *testing.B) *client.Client {
	b.Helper()
	c, err := client.NewClientWithOpts(client.WithHost(world.EngineAt), client.WithAPIVersionNegotiation())
	require.NoError(b, err)
	b.Cleanup(func() { c.Close() })
	// Ours is pulled by digest; the raw operation names it by its tag.
	r, err := c.ImagePull(b.Context(), world.RegistryAt+"/skerry/base:12", image.PullOptions{})
	require.NoError(b, err)
	_, err = io.Copy(io.Discard, r)
	require.NoError(b, err)
	require.NoError(b, r.Close())
	return c
}

// waiter waits for a workspace's state by the database's notices, which cost nothing.
type waiter struct{ states chan records.Event }

func newWaiter(b *testing.B) *waiter {
	b.Helper()
	store, err := records.Open(b.Context(), world.Postgres.URL)
	require.NoError(b, err)
	w := &waiter{make(chan records.Event, 1000)}
	listening := make(chan struct{})
	go func() {
		defer store.Close()
		_ = store.Listen(b.Context(), func() { close(listening) }, func(e records.Event) {
			if e.Type == "workspace" {
				w.states <- e
			}
		})
	}()
	<-listening
	return w
}

func (w *waiter) wait(b *testing.B, name, state string) {
	b.Helper()
	limit := time.After(time.Minute)
	for {
		select {
		case e := <-w.states:
			if e.Workspace == name && e.State == state {
				return
			}
		case <-limit:
			b.Fatalf("%s did not become %s; the service said:\n%s", name, state, world.Service.LastWords())
		}
	}
}

func benchSource(b *testing.B) string {
	b.Helper()
	definition := fmt.Sprintf(`{ "image": "%s/skerry/base:12", "remoteUser": "crew" }`, world.RegistryAt)
	require.NoError(b, world.Git.Put(b.Context(), "test/bench", mapFiles(definition), func(s string) string { return s }))
	return world.GitAt + "/test/bench.git"
}

// BenchmarkRebuildUnchanged is a rebuild when nothing changed, against the bare engine's
// restart of the same container.
func BenchmarkRebuildUnchanged(b *testing.B) {
	source, engine, states := benchSource(b), rawEngine(b), newWaiter(b)
	name := "unchanged"
	_, err := api.Answer[api.Workspace](skipper.api.Provision(b.Context(), api.ProvisionRequest{Source: source, Name: &name}))
	require.NoError(b, err)
	states.wait(b, name, records.Ready)
	b.Cleanup(func() { _ = skipper.command(context.WithoutCancel(b.Context()), "", "remove", name, "-yes").Run() })
	list, err := engine.ContainerList(b.Context(), container.ListOptions{Filters: filters.NewArgs(filters.Arg("label", "domicile.workspace"))})
	require.NoError(b, err)
	require.NotEmpty(b, list)
	(&pair{}).measure(b, func() {
		_, err := api.Answer[api.Workspace](skipper.api.RebuildWorkspace(b.Context(), name, nil))
		require.NoError(b, err)
		states.wait(b, name, records.Ready)
		for running := true; running; { // ready comes a moment before the run's own end
			w, err := api.Answer[api.Workspace](skipper.api.GetWorkspace(b.Context(), name))
			require.NoError(b, err)
			running = w.Run.State != api.RunStateDone
		}
	}, func() {
		grace := 1
		require.NoError(b, engine.ContainerRestart(b.Context(), list[0].ID, container.StopOptions{Timeout: &grace}))
	})
}

// BenchmarkThirtyAtOnce is thirty workspaces asked for at once, against the bare engine
// creating and starting thirty containers at once on the same network, and on its default
// one, where the engine does less: no name server, no rules for it.
func BenchmarkThirtyAtOnce(b *testing.B) {
	source, engine, states := benchSource(b), rawEngine(b), newWaiter(b)
	warm := "fleet-warm"
	_, err := api.Answer[api.Workspace](skipper.api.Provision(b.Context(), api.ProvisionRequest{Source: source, Name: &warm}))
	require.NoError(b, err)
	states.wait(b, warm, records.Ready) // the image is there from now on
	b.Cleanup(func() { _ = skipper.command(context.WithoutCancel(b.Context()), "", "remove", warm, "-yes").Run() })
	var p pair
	var lists, byDefault []time.Duration
	soonBefore, allBefore := listsAnswered(b)
	for round := 0; b.Loop(); round++ {
		p.ours = append(p.ours, timed(func() { lists = append(lists, thirtyOfOurs(b, fmt.Sprintf("fleet-%d", round), source, states)...) }))
		for network, took := range map[container.NetworkMode]*[]time.Duration{networkOf(b): &p.raw, "default": &byDefault} {
			var made []string
			*took = append(*took, timed(func() { made = thirtyBare(b, engine, network) }))
			for _, id := range made { // the kernel keeps a key for each, and has not many
				require.NoError(b, engine.ContainerRemove(b.Context(), id, container.RemoveOptions{Force: true}))
			}
		}
	}
	p.report(b)
	b.ReportMetric(median(byDefault).Seconds()*1000, "default-network-ms")
	b.ReportMetric(median(p.ours).Seconds()/median(byDefault).Seconds(), "default-network-ratio")
	b.ReportMetric(median(lists).Seconds()*1000, "list-ms")
	b.ReportMetric(slices.Max(lists).Seconds()*1000, "list-slowest-ms")
	soon, all := listsAnswered(b)
	b.ReportMetric(all-allBefore, "lists")
	b.ReportMetric(soon-soonBefore, "lists-in-100-ms")
}

// listsAnswered tells, by the service's own measure, how often it has listed workspaces, and
// how often within 100 ms. A client's own wait for a processor is not among it.
func listsAnswered(b *testing.B) (soon, all float64) {
	b.Helper()
	q, err := http.NewRequestWithContext(b.Context(), http.MethodGet, world.Service.URL+"/metrics", nil)
	require.NoError(b, err)
	q.Header.Set("Authorization", "Bearer "+skipper.token)
	r, err := http.DefaultClient.Do(q)
	require.NoError(b, err)
	defer r.Body.Close()
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(r.Body)
	require.NoError(b, err)
	for _, m := range families["domicile_http_request_seconds"].GetMetric() {
		said := map[string]string{}
		for _, l := range m.GetLabel() {
			said[l.GetName()] = l.GetValue()
		}
		if said["method"] != "GET" || !strings.HasSuffix(said["route"], "/workspaces") {
			continue
		}
		all += float64(m.GetHistogram().GetSampleCount())
		for _, at := range m.GetHistogram().GetBucket() {
			if at.GetUpperBound() == 0.1 {
				soon += float64(at.GetCumulativeCount())
			}
		}
	}
	return soon, all
}

func timed(do func()) time.Duration {
	begun := time.Now()
	do()
	return time.Since(begun)
}

// thirtyOfOurs makes thirty workspaces, and tells how long listing them took meanwhile.
func thirtyOfOurs(b *testing.B, name, source string, states *waiter) []time.Duration {
	b.Helper()
	for i := range 30 {
		name := fmt.Sprintf("%s-%d", name, i)
		_, err := api.Answer[api.Workspace](skipper.api.Provision(b.Context(), api.ProvisionRequest{Source: source, Name: &name}))
		require.NoError(b, err)
		b.Cleanup(func() { _ = skipper.command(context.WithoutCancel(b.Context()), "", "remove", name, "-yes").Run() })
	}
	busy, over := context.WithCancel(b.Context())
	listed := make(chan []time.Duration)
	go func() { listed <- listTimes(busy) }()
	for ready := 0; ready < 30; {
		e := <-states.states
		if !strings.HasPrefix(e.Workspace, name+"-") {
			continue
		}
		require.NotEqual(b, records.Failed, e.State, "%s; the service said:\n%s", e.Workspace, world.Service.LastWords())
		if e.State == records.Ready {
			ready++
		}
	}
	over()
	return <-listed
}

func thirtyBare(b *testing.B, engine *client.Client, network container.NetworkMode) []string {
	b.Helper()
	var all sync.WaitGroup
	ids := make([]string, 30)
	for i := range ids {
		all.Go(func() {
			made, err := engine.ContainerCreate(b.Context(), &container.Config{Image: world.RegistryAt + "/skerry/base:12", Cmd: []string{"sleep", "infinity"}}, &container.HostConfig{NetworkMode: network}, nil, nil, "")
			if err == nil {
				err = engine.ContainerStart(b.Context(), made.ID, container.StartOptions{})
			}
			if err != nil {
				b.Error(err)
			}
			ids[i] = made.ID
		})
	}
	all.Wait()
	return ids
}

// listTimes asks for the list of workspaces five times a second until ctx ends.
func listTimes(ctx context.Context) (all []time.Duration) {
	for tick := time.NewTicker(200 * time.Millisecond); ; {
		select {
		case <-ctx.Done():
			tick.Stop()
			return all
		case <-tick.C:
		}
		begun := time.Now()
		_, err := api.Answer[[]api.Workspace](skipper.api.ListWorkspaces(context.WithoutCancel(ctx), nil))
		if err == nil {
			all = append(all, time.Since(begun))
		}
	}
}

// BenchmarkProvision is the time from asking to ready, against the bare engine creating
// and starting a container of the same image.
func BenchmarkProvision(b *testing.B) {
	source, engine, states := benchSource(b), rawEngine(b), newWaiter(b)
	ctx, n := b.Context(), 0
	provision := func(name string) {
		_, err := api.Answer[api.Workspace](skipper.api.Provision(ctx, api.ProvisionRequest{Source: source, Name: &name}))
		require.NoError(b, err)
		states.wait(b, name, records.Ready)
	}
	provision("bench-warm") // the image is there from now on
	var p pair
	var made []string
	p.measure(b, func() {
		n++
		provision(fmt.Sprintf("bench-%d", n))
	}, func() {
		c, err := engine.ContainerCreate(ctx, &container.Config{Image: world.RegistryAt + "/skerry/base:12", Cmd: []string{"sleep", "infinity"}}, &container.HostConfig{NetworkMode: networkOf(b)}, nil, nil, "")
		require.NoError(b, err)
		require.NoError(b, engine.ContainerStart(ctx, c.ID, container.StartOptions{}))
		made = append(made, c.ID)
	})
	for _, id := range made {
		_ = engine.ContainerRemove(ctx, id, container.RemoveOptions{Force: true})
	}
	for i := range n {
		removeNow(b, states, fmt.Sprintf("bench-%d", i+1))
	}
	removeNow(b, states, "bench-warm")
}

func removeNow(b *testing.B, states *waiter, name string) {
	b.Helper()
	_, err := api.Answer[api.Workspace](skipper.api.RemoveWorkspace(b.Context(), name))
	require.NoError(b, err)
	states.wait(b, name, "removed")
}

// networkOf is the network that workspaces are on, so that both sides pay for the same.
func networkOf(b *testing.B) container.NetworkMode {
	b.Helper()
	out, err := exec.Command("docker", "-H", world.EngineAt, "network", "ls", "--filter", "label=domicile.installation", "--format", "{{.Name}}").Output()
	require.NoError(b, err)
	return container.NetworkMode(strings.Fields(string(out))[0])
}

// BenchmarkStartToPrompt is the time from asking for a start to a shell's first prompt,
// against the engine's own start and exec of the same shell.
func BenchmarkStartToPrompt(b *testing.B) {
	source, engine, states, ctx := benchSource(b), rawEngine(b), newWaiter(b), b.Context()
	name := "bench-start"
	_, err := api.Answer[api.Workspace](skipper.api.Provision(ctx, api.ProvisionRequest{Source: source, Name: &name}))
	require.NoError(b, err)
	states.wait(b, name, records.Ready)
	raw, err := engine.ContainerCreate(ctx, &container.Config{Image: world.RegistryAt + "/skerry/base:12", Cmd: []string{"sleep", "infinity"}}, &container.HostConfig{NetworkMode: networkOf(b)}, nil, nil, "")
	require.NoError(b, err)
	stop := func() {
		_, err := api.Answer[api.Workspace](skipper.api.StopWorkspace(ctx, name))
		require.NoError(b, err)
		states.wait(b, name, records.Stopped)
		eventuallyIdle(b, name)
		now := 0
		require.NoError(b, engine.ContainerStop(ctx, raw.ID, container.StopOptions{Timeout: &now}))
	}
	var p pair
	for b.Loop() {
		stop()
		begun := time.Now()
		_, err := api.Answer[api.Workspace](skipper.api.StartWorkspace(ctx, name))
		require.NoError(b, err)
		states.wait(b, name, records.Ready)
		firstByteOfTerminal(b, name)
		p.ours = append(p.ours, time.Since(begun))
		begun = time.Now()
		require.NoError(b, engine.ContainerStart(ctx, raw.ID, container.StartOptions{}))
		e, err := engine.ContainerExecCreate(ctx, raw.ID, container.ExecOptions{User: "crew", Cmd: []string{"bash"}, Tty: true, AttachStdin: true, AttachStdout: true})
		require.NoError(b, err)
		stream, err := engine.ContainerExecAttach(ctx, e.ID, container.ExecAttachOptions{Tty: true})
		require.NoError(b, err)
		_, err = stream.Reader.ReadByte()
		require.NoError(b, err)
		p.raw = append(p.raw, time.Since(begun))
		stream.Close()
	}
	p.report(b)
	removeNow(b, states, name)
	_ = engine.ContainerRemove(ctx, raw.ID, container.RemoveOptions{Force: true})
}

// eventuallyIdle waits until the workspace's run has ended, which is after its state was set.
func eventuallyIdle(b *testing.B, name string) {
	b.Helper()
	require.Eventually(b, func() bool {
		w, err := api.Answer[api.Workspace](skipper.api.GetWorkspace(b.Context(), name))
		return err == nil && w.Run.State == api.RunStateDone
	}, 20*time.Second, time.Millisecond)
}

func firstByteOfTerminal(b *testing.B, name string) {
	b.Helper()
	address := "ws" + strings.TrimPrefix(world.Service.URL, "http") + "/api/v1/workspaces/" + name + "/terminal"
	socket, _, err := websocket.DefaultDialer.DialContext(b.Context(), address, map[string][]string{"Authorization": {"Bearer " + skipper.token}})
	require.NoError(b, err)
	defer socket.Close()
	_, _, err = socket.ReadMessage()
	require.NoError(b, err)
}

const streamed = 256 << 20

// withServer makes a workspace in which OpenSSH's own server listens too, and gives the
// options of OpenSSH's clients for ours and for that.
func withServer(b *testing.B, name string) (ours, raw []string) {
	b.Helper()
	ctx := b.Context()
	states := newWaiter(b)
	source := benchSource(b)
	_, err := api.Answer[api.Workspace](skipper.api.Provision(ctx, api.ProvisionRequest{Source: source, Name: &name}))
	require.NoError(b, err)
	states.wait(b, name, records.Ready)
	b.Cleanup(func() {
		c := skipper.command(context.Background(), "", "remove", name, "-yes")
		_ = c.Run()
	})
	id := strings.Fields(string(must(exec.Command("docker", "-H", world.EngineAt, "ps", "-q", "--filter", "label=domicile.workspace").Output())))[0]
	in := func(line string) {
		out, err := exec.CommandContext(ctx, "docker", "-H", world.EngineAt, "exec", id, "sh", "-c", line).CombinedOutput()
		require.NoError(b, err, string(out))
	}
	in(fmt.Sprintf("head -c %d /dev/zero > /home/crew/cargo && chown crew /home/crew/cargo", streamed))
	address := otherServer(b, id, skipper.key)
	_, port, _ := net.SplitHostPort(world.Service.SSH)
	options := func(port, host string) []string {
		o := skipper.sshOptions("")
		return append(o[:len(o)-2], "-o", "Port="+port, host)
	}
	return options(port, name+"@127.0.0.1"), options("2022", "crew@"+address)
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// BenchmarkSFTP downloads 256 MB with OpenSSH's sftp, against OpenSSH's own server in the
// same container.
func BenchmarkSFTP(b *testing.B) {
	ours, raw := withServer(b, "bench-sftp")
	to := filepath.Join(b.TempDir(), "cargo")
	get := func(options []string) {
		host := options[len(options)-1]
		c := exec.CommandContext(b.Context(), "sftp", append(slices.Clone(options[:len(options)-1]), "-q", host+":/home/crew/cargo", to)...)
		out, err := c.CombinedOutput()
		require.NoError(b, err, string(out))
		info, err := os.Stat(to)
		require.NoError(b, err)
		require.EqualValues(b, streamed, info.Size())
	}
	var p pair
	p.measure(b, func() { get(ours) }, func() { get(raw) })
	b.ReportMetric(streamed/median(p.ours).Seconds()/1e6, "ours-MB/s")
}

// BenchmarkForward streams 256 MB through ssh -L from a program inside, against OpenSSH's
// own server in the same container.
func BenchmarkForward(b *testing.B) {
	ours, raw := withServer(b, "bench-forward")
	const program = `import socket
s=socket.create_server(("127.0.0.1",9200))
z=bytes(1<<20)
while True:
    c,_=s.accept()
    for _ in range(256): c.sendall(z)
    c.close()`
	inside := exec.CommandContext(b.Context(), "ssh", append(slices.Clone(ours), "exec python3 -")...)
	inside.Stdin = strings.NewReader(program)
	require.NoError(b, inside.Start())
	defer func() { _ = inside.Process.Kill(); _ = inside.Wait() }()
	tunnel := func(options []string) string {
		l := must(net.Listen("tcp", "127.0.0.1:0"))
		address := l.Addr().String()
		l.Close()
		host := options[len(options)-1]
		c := exec.CommandContext(b.Context(), "ssh", append(slices.Clone(options[:len(options)-1]), "-N", "-L", address+":127.0.0.1:9200", host)...)
		var said bytes.Buffer
		c.Stderr = &said
		require.NoError(b, c.Start())
		b.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
		require.Eventually(b, func() bool { return drainFrom(address) == streamed }, 30*time.Second, 100*time.Millisecond, "the tunnel stands")
		return address
	}
	near, far := tunnel(ours), tunnel(raw)
	var p pair
	p.measure(b, func() { require.EqualValues(b, streamed, drainFrom(near)) }, func() { require.EqualValues(b, streamed, drainFrom(far)) })
	b.ReportMetric(streamed/median(p.ours).Seconds()/1e6, "ours-MB/s")
}

func drainFrom(address string) int64 {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return 0
	}
	defer c.Close()
	n, _ := io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{c}, make([]byte, 1<<20))
	return n
}

// keystrokes are how many are typed for one measurement.
const keystrokes = 500

// BenchmarkKeystroke waits for the echo of each of 500 keys in a terminal, against OpenSSH's own server in
// the same container. Figures are of one key: half of them wait no longer, and one of a hundred does.
func BenchmarkKeystroke(b *testing.B) {
	ours, raw := withServer(b, "bench-keys")
	typist := func(options []string) func() []time.Duration {
		c := exec.CommandContext(b.Context(), "ssh", append(append([]string{"-tt"}, options...), "stty raw -echo; echo ready; exec cat")...)
		in, err := c.StdinPipe()
		require.NoError(b, err)
		out, err := c.StdoutPipe()
		require.NoError(b, err)
		require.NoError(b, c.Start())
		b.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
		said := bufio.NewReader(out)
		for line := ""; !strings.Contains(line, "ready"); {
			line, err = said.ReadString('\n')
			require.NoError(b, err)
		}
		return func() []time.Duration {
			var list []time.Duration
			for range keystrokes {
				begun := time.Now()
				_, err := in.Write([]byte("k"))
				require.NoError(b, err)
				_, err = said.ReadByte()
				require.NoError(b, err)
				list = append(list, time.Since(begun))
			}
			return list
		}
	}
	type1, type2 := typist(ours), typist(raw)
	var p pair
	for b.Loop() {
		p.ours, p.raw = append(p.ours, type1()...), append(p.raw, type2()...)
	}
	p.report(b)
	slow := func(list []time.Duration) float64 {
		sorted := slices.Sorted(slices.Values(list))
		return sorted[len(sorted)*99/100].Seconds()
	}
	b.ReportMetric(slow(p.ours)*1000, "ours-p99-ms")
	b.ReportMetric(slow(p.raw)*1000, "raw-p99-ms")
	b.ReportMetric(slow(p.ours)/slow(p.raw), "ratio-p99")
}

// BenchmarkMemory reports what the agent and the service take with twenty workspaces.
func BenchmarkMemory(b *testing.B) {
	source, states := benchSource(b), newWaiter(b)
	for i := range 20 {
		name := fmt.Sprintf("bench-m%d", i)
		_, err := api.Answer[api.Workspace](skipper.api.Provision(b.Context(), api.ProvisionRequest{Source: source, Name: &name}))
		require.NoError(b, err)
		states.wait(b, name, records.Ready)
	}
	agent := skipper.command(b.Context(), "", "run", "bench-m0", "--", "sed", "-n", `s/VmRSS:[^0-9]*\([0-9]*\) kB/\1/p`, "/proc/1/status").Cmd
	b.ReportMetric(number(b, must(agent.Output()))/1000, "agent-MB")
	status := must(os.ReadFile(fmt.Sprintf("/proc/%d/status", world.Service.PID())))
	_, after, _ := bytes.Cut(status, []byte("VmRSS:"))
	b.ReportMetric(number(b, bytes.Fields(after)[0])/1000, "service-MB")
	binary := must(os.Stat(filepath.Join(programs, "domicile-agent")))
	b.ReportMetric(float64(binary.Size())/1e6, "agent-binary-MB")
	b.ReportMetric(0, "ns/op")
	for i := range 20 {
		removeNow(b, states, fmt.Sprintf("bench-m%d", i))
	}
}

func number(b *testing.B, text []byte) float64 {
	b.Helper()
	var n float64
	_, err := fmt.Sscan(string(text), &n)
	require.NoError(b, err)
	return n
}
