package door

import (
	"context"
	"fmt"

	"github.com/docker/docker/api/types/container"

	"domicile/internal/judge"
)

const (
	// defaultPeriod is the engine's own where a quota comes without one, in microseconds.
	defaultPeriod = 100_000
	nanoCPUs      = 1e9
	megabyte      = 1 << 20
)

// limit keeps a container that came through the door within the limits of its workspace: it
// gets what the workspace has where it asks for nothing, and is refused more. Limits of the
// workspace that are zero are none.
func limit(asked *container.HostConfig, workspace container.Resources) error {
	processes := int64(judge.MostProcesses)
	if workspace.PidsLimit != nil && *workspace.PidsLimit > 0 {
		processes = *workspace.PidsLimit
	}
	switch {
	case asked.PidsLimit == nil || *asked.PidsLimit == 0:
		asked.PidsLimit = &processes
	case *asked.PidsLimit < 0 || *asked.PidsLimit > processes:
		return refuse("A helper has at most %d processes: ask for that or less, or leave HostConfig.PidsLimit out.", processes)
	}
	if most := workspace.Memory; most > 0 {
		if asked.Memory > most || asked.MemoryReservation > most {
			return refuse("A helper has at most the memory of its workspace, %d MB: ask for that or less, or leave HostConfig.Memory out.", most/megabyte)
		}
		if asked.Memory == 0 {
			asked.Memory = most
		}
		asked.MemorySwap = 0 // as the engine gives it by itself; -1 would be without limit
	}
	if most := workspace.NanoCPUs; most > 0 {
		period := asked.CPUPeriod
		if period <= 0 {
			period = defaultPeriod
		}
		if asked.NanoCPUs > most || float64(asked.CPUQuota)/float64(period) > float64(most)/nanoCPUs {
			return refuse("A helper has at most the processors of its workspace, %g: ask for that or less, or leave HostConfig.NanoCpus and CpuQuota out.", float64(most)/nanoCPUs)
		}
		if asked.NanoCPUs <= 0 && asked.CPUQuota <= 0 {
			asked.NanoCPUs, asked.CPUQuota, asked.CPUPeriod = most, 0, 0 // the engine takes one of both
		}
	}
	return nil
}

// limits are those of the workspace's own container.
func (d *Door) limits(ctx context.Context) (container.Resources, error) {
	there, err := d.API.ContainerInspect(ctx, d.Source)
	if err != nil {
		return container.Resources{}, fmt.Errorf("look at the workspace's limits: %w", err)
	}
	if there.ContainerJSONBase == nil || there.HostConfig == nil {
		return container.Resources{}, nil
	}
	return there.HostConfig.Resources, nil
}
