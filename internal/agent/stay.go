package agent

import (
	"context"
	"os"
	"os/signal"
	"syscall"
	"time"
)

// stayGrace is how long programs have to end if nobody has asked them before.
const stayGrace = 5 * time.Second

// stayPoll is how often Stay looks whether programs that it asked to end are still there.
const stayPoll = 50 * time.Millisecond

// Stay does nothing until ctx ends, as the first process of a container whose user is not
// root: the agent runs beside it. It waits for the children that nobody else waits for. At
// the end it asks all programs that it may ask to end, and gives them stayGrace for it.
func Stay(ctx context.Context) {
	ended := make(chan os.Signal, 1)
	signal.Notify(ended, syscall.SIGCHLD)
	defer signal.Stop(ended)
	for {
		select {
		case <-ctx.Done():
			endOthers()
			return
		case <-ended:
			reapAll()
		}
	}
}

// endOthers does nothing where it is not a container's first process: -1 would be everybody.
func endOthers() {
	if os.Getpid() != 1 {
		return
	}
	_ = syscall.Kill(-1, syscall.SIGTERM)
	for limit := time.Now().Add(stayGrace); time.Now().Before(limit); time.Sleep(stayPoll) {
		reapAll()
		if syscall.Kill(-1, 0) != nil { // nobody whom it may ask
			return
		}
	}
}

func reapAll() {
	for {
		pid, err := syscall.Wait4(-1, nil, syscall.WNOHANG, nil)
		if err == syscall.EINTR {
			continue
		}
		if err != nil || pid <= 0 {
			return
		}
	}
}
