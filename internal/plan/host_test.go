package plan

import (
	"context"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
)

// A device that the site has not is told before anything is made.
func TestDevicesOfAHost(t *testing.T) {
	policy := judge.Policy{judge.AllowDevices}
	board := Host{Site: "board", Devices: []string{"/dev/ttyUSB0", "/dev/bus", "/dev/bus/usb"}}
	for name, c := range map[string]struct {
		runArgs string
		host    Host
		says    string
	}{
		"one that is there":      {`"--device=/dev/ttyUSB0:/dev/tide:rw"`, board, ""},
		"a folder that is there": {`"--device=/dev/bus/usb"`, board, ""},
		"one that is not there":  {`"--device=/dev/ttyUSB1"`, board, ".devcontainer.json:1: the site board has no device /dev/ttyUSB1"},
		"a host not known":       {`"--device=/dev/ttyUSB1"`, Host{Site: "board"}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(`{"image": "quay.test/base:12", "runArgs": [` + c.runArgs + `]}`)}}, definition.Options{Folder: "/workspaces/deck"})
			_, err := Make(r, Input{Name: "tide", Policy: policy, Host: c.host})
			if c.says == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.says)
			assert.Equal(t, "no-device", fault.Code(err))
		})
	}
}

// A definition that needs a machine of its own is told at its line where there is none.
func TestPlacesAMachineOfItsOwn(t *testing.T) {
	r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte("{\"image\": \"quay.test/base:12\",\n\"customizations\": {\"domicile\": {\"place\": \"machine\"}}}")}}, definition.Options{Folder: "/workspaces/deck"})
	_, err := Make(r, Input{Name: "tide", Host: Host{Site: "quay"}})
	assert.ErrorContains(t, err, ".devcontainer.json:2: the site quay gives no workspace a machine of its own")
	for _, h := range []Host{{Site: "quay", Alone: true}, {}} {
		_, err = Make(r, Input{Name: "tide", Host: h})
		assert.NoError(t, err)
	}
}

// What a definition needs of its host is compared with what the site has, before anything
// is made.
func TestNeedsOfAHost(t *testing.T) {
	small := Host{Site: "quay", CPUs: 2, Memory: 8_000_000_000, DiskFree: 20 << 30}
	withGPU := small
	withGPU.GPU = true
	for name, c := range map[string]struct {
		needs  string
		host   Host
		policy judge.Policy
		says   []string
		gpus   string
	}{
		"enough":                            {needs: `{"cpus": 2, "memory": "6gb", "storage": "20gb"}`, host: small},
		"as sold":                           {needs: `{"memory": "8gb"}`, host: small},
		"too few processors":                {needs: `{"cpus": 4}`, host: small, says: []string{".devcontainer.json:1: hostRequirements.cpus asks for 4 processors; the site quay has 2"}},
		"too little memory":                 {needs: `{"memory": "16gb"}`, host: small, says: []string{"hostRequirements.memory asks for 16gb; the site quay has 7.451 GB"}},
		"too little disk":                   {needs: `{"storage": "64gb"}`, host: small, says: []string{"hostRequirements.storage asks for 64gb; of the disk of the site quay 20 GB are free (what can go: domicile tidy)"}},
		"all at once":                       {needs: `{"cpus": 4, "memory": "16gb", "storage": "64gb", "gpu": true}`, host: small, says: []string{"cpus", "memory", "storage", "gpu"}},
		"a host that was not examined":      {needs: `{"cpus": 400, "memory": "9tb", "storage": "64tb"}`},
		"a disk that is not known":          {needs: `{"storage": "64gb"}`, host: Host{CPUs: 2, Memory: 1 << 40}},
		"no graphics processor":             {needs: `{"gpu": true}`, host: small, policy: judge.Policy{judge.AllowDevices}, says: []string{"hostRequirements.gpu asks for a graphics processor; the site quay has none"}},
		"cores of one":                      {needs: `{"gpu": {"cores": 1000}}`, host: small, policy: judge.Policy{judge.AllowDevices}, says: []string{"hostRequirements.gpu"}},
		"a graphics processor":              {needs: `{"gpu": true}`, host: withGPU, policy: judge.Policy{judge.AllowDevices}, gpus: "all"},
		"one that policy does not give":     {needs: `{"gpu": {"memory": "4gb"}}`, host: withGPU, says: []string{"it asks for graphics processors of the host, which this site does not allow"}},
		"one where there is one":            {needs: `{"gpu": "optional"}`, host: withGPU, policy: judge.Policy{judge.AllowDevices}, gpus: "all"},
		"one where there is none":           {needs: `{"gpu": "optional"}`, host: small, policy: judge.Policy{judge.AllowDevices}},
		"one where there is none to give":   {needs: `{"gpu": "optional"}`, host: withGPU},
		"none":                              {needs: `{"gpu": false}`, host: withGPU, policy: judge.Policy{judge.AllowDevices}},
		"one of a host that is not known":   {needs: `{"gpu": true}`, policy: judge.Policy{judge.AllowDevices}, gpus: "all"},
		"nothing that is asked for by name": {needs: `{}`, host: small},
	} {
		t.Run(name, func(t *testing.T) {
			r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(`{"image": "i", "hostRequirements": ` + c.needs + `}`)}}, definition.Options{Folder: "/workspaces/deck"})
			require.False(t, r.HasErrors(), "%v", r.Problems)
			p, err := Make(r, Input{Name: "deck", Host: c.host, Policy: c.policy})
			if len(c.says) == 0 {
				require.NoError(t, err)
				assert.Equal(t, c.gpus, p.Container.GPUs)
				return
			}
			var refused judge.Refusals
			require.ErrorAs(t, err, &refused)
			assert.Len(t, refused, len(c.says))
			for i, says := range c.says {
				assert.ErrorContains(t, refused[i], says)
				assert.NotEmpty(t, fault.Remedy(refused[i]))
			}
		})
	}
}

// boards are images of processors that not every site has.
type boards map[string][]string

func (b boards) Image(_ context.Context, reference string) (definition.ImageFacts, error) {
	return definition.ImageFacts{Architectures: b[reference]}, nil
}

// An image for other processors than those of a site cannot run there, and the place says so.
func TestProcessorsOfAnImage(t *testing.T) {
	images := boards{"board:1": {"arm64"}, "both:1": {"amd64", "arm64"}}
	for name, c := range map[string]struct {
		files map[string]string
		at    string
		says  string
	}{
		"for these":                   {map[string]string{".devcontainer.json": `{"image": "both:1"}`}, "amd64", ""},
		"for others":                  {map[string]string{".devcontainer.json": "{\n \"image\": \"board:1\"}"}, "amd64", ".devcontainer.json:2: the image board:1 is for the processors arm64; those of the site quay are amd64"},
		"for others, at their place":  {map[string]string{".devcontainer.json": `{"image": "board:1"}`}, "arm64", ""},
		"of a builder":                {map[string]string{".devcontainer.json": `{"build": {"dockerfile": "D"}}`, "D": "FROM --platform=linux/arm64 board:1 AS b\nFROM both:1\nCOPY --from=b /x /x\n"}, "amd64", ""},
		"nobody knows":                {map[string]string{".devcontainer.json": `{"image": "own:1"}`}, "amd64", ""},
		"of a site that is not known": {map[string]string{".devcontainer.json": `{"image": "board:1"}`}, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			files := fstest.MapFS{}
			for file, text := range c.files {
				files[file] = &fstest.MapFile{Data: []byte(text)}
			}
			r := definition.Read(t.Context(), files, definition.Options{Folder: "/workspaces/deck", Images: images})
			require.False(t, r.HasErrors(), "%v", r.Problems)
			_, err := Make(r, Input{Name: "deck", Host: Host{Site: "quay", Architecture: c.at}})
			if c.says == "" {
				assert.NoError(t, err)
				return
			}
			assert.ErrorContains(t, err, c.says)
		})
	}
}
