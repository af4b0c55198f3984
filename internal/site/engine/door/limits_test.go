package door

import (
	"testing"

	"github.com/docker/docker/api/types/container"
	"github.com/stretchr/testify/assert"
)

func TestAHelperStaysWithinItsWorkspace(t *testing.T) {
	small := container.Resources{Memory: 512 * megabyte, NanoCPUs: 1.5 * nanoCPUs}
	for name, c := range map[string]struct {
		asked, want container.Resources
		workspace   container.Resources
		says        string
	}{
		"nothing asked":                 {workspace: small, want: small},
		"less":                          {workspace: small, asked: container.Resources{Memory: 1000, NanoCPUs: 7}, want: container.Resources{Memory: 1000, NanoCPUs: 7}},
		"the same":                      {workspace: small, asked: small, want: small},
		"more memory":                   {workspace: small, asked: container.Resources{Memory: 513 * megabyte}, says: "at most the memory of its workspace, 512 MB"},
		"more kept for it":              {workspace: small, asked: container.Resources{MemoryReservation: 513 * megabyte}, says: "at most the memory"},
		"swap without limit":            {workspace: small, asked: container.Resources{Memory: 1000, MemorySwap: -1, NanoCPUs: 1}, want: container.Resources{Memory: 1000, NanoCPUs: 1}},
		"more processors":               {workspace: small, asked: container.Resources{NanoCPUs: 2 * nanoCPUs}, says: "at most the processors of its workspace, 1.5"},
		"more by a quota":               {workspace: small, asked: container.Resources{CPUQuota: 160_000}, says: "at most the processors"},
		"more by a period":              {workspace: small, asked: container.Resources{CPUQuota: 10_000, CPUPeriod: 1000}, says: "at most the processors"},
		"less by a quota":               {workspace: small, asked: container.Resources{CPUQuota: 50_000, CPUPeriod: 100_000}, want: container.Resources{Memory: small.Memory, CPUQuota: 50_000, CPUPeriod: 100_000}},
		"no quota at all":               {workspace: small, asked: container.Resources{CPUQuota: -1, CPUPeriod: 100_000}, want: small},
		"more processes":                {asked: container.Resources{PidsLimit: new(int64(5000))}, says: "at most 4096 processes"},
		"processes without end":         {asked: container.Resources{PidsLimit: new(int64(-1))}, says: "at most 4096 processes"},
		"a workspace without limits":    {asked: container.Resources{Memory: 1 << 40, MemorySwap: -1, NanoCPUs: 99}, want: container.Resources{Memory: 1 << 40, MemorySwap: -1, NanoCPUs: 99}},
		"a workspace with memory alone": {workspace: container.Resources{Memory: 1000}, asked: container.Resources{NanoCPUs: 99}, want: container.Resources{Memory: 1000, NanoCPUs: 99}},
	} {
		t.Run(name, func(t *testing.T) {
			asked := &container.HostConfig{Resources: c.asked}
			err := limit(asked, c.workspace)
			if c.says != "" {
				assert.ErrorContains(t, err, c.says)
				return
			}
			assert.NoError(t, err)
			assert.EqualValues(t, 4096, *asked.PidsLimit, "nobody makes processes without end")
			asked.PidsLimit = nil
			assert.Equal(t, c.want, asked.Resources)
		})
	}
}
