package plan

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/definition"
	"domicile/internal/judge"
)

// What another site does not allow or has not is refused before anything stops.
func TestAPlanAtAnotherSite(t *testing.T) {
	everything := judge.Policy(judge.Allowances)
	for name, c := range map[string]struct {
		text   string
		host   Host
		policy judge.Policy
		size   Size
		says   string // empty: it can go
	}{
		"nothing asked for":        {text: `{"image": "quay.test/base:12"}`},
		"privileged":               {text: `{"image": "quay.test/base:12", "privileged": true}`, says: "it asks to be privileged, which this site does not allow"},
		"privileged, allowed":      {text: `{"image": "quay.test/base:12", "privileged": true}`, policy: judge.Policy{judge.AllowPrivileged}},
		"a command of the host":    {text: `{"image": "quay.test/base:12", "initializeCommand": "true"}`, says: "initializeCommand runs a command on the host itself, which this site does not allow"},
		"a device that is missing": {text: `{"image": "quay.test/base:12", "runArgs": ["--device=/dev/tide"]}`, policy: everything, host: Host{Devices: []string{"/dev/null"}}, says: "the site quay has no device /dev/tide"},
		"too little memory":        {text: `{"image": "quay.test/base:12", "hostRequirements": {"memory": "8gb"}}`, host: Host{CPUs: 1, Memory: 4 << 30}, says: "the site quay has 4 GB of memory; its definition asks for 8 GB"},
		"too small a size":         {text: `{"image": "quay.test/base:12", "hostRequirements": {"memory": "4gb"}}`, size: Size{Name: "small", Memory: 2 << 30}, says: "more than the size small"},
		"no machine":               {text: `{"image": "quay.test/base:12", "customizations": {"domicile": {"place": "machine"}}}`, says: "gives no workspace a machine of its own"},
		"a machine":                {text: `{"image": "quay.test/base:12", "customizations": {"domicile": {"place": "machine"}}}`, host: Host{Alone: true}},
		"no screen":                {text: `{"image": "quay.test/base:12", "customizations": {"domicile": {"screen": "1280x800"}}}`, host: Host{Lacks: Lacks{Screens: true}}, says: "gives no workspace a screen"},
		"no door":                  {text: `{"image": "quay.test/base:12", "customizations": {"domicile": {"engine": true}}}`, host: Host{Lacks: Lacks{Doors: true}}, says: "has no door"},
	} {
		t.Run(name, func(t *testing.T) {
			r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(c.text)}}, definition.Options{Folder: "/workspaces/deck"})
			p, err := Make(r, Input{Name: "tide", Account: 1, Policy: everything})
			require.NoError(t, err)
			c.host.Site = "quay"
			_, err = p.At(c.size, c.host, judge.Subject{Account: 1, Workspace: "w1", Policy: c.policy})
			if c.says == "" {
				assert.NoError(t, err)
			} else {
				assert.ErrorContains(t, err, c.says)
			}
		})
	}
}

// The size of another site takes the place of the earlier one's; what the definition wants less of
// stays.
func TestAnotherSize(t *testing.T) {
	r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(`{"image": "quay.test/base:12", "runArgs": ["--memory=1g"]}`)}}, definition.Options{Folder: "/workspaces/deck"})
	large, small := Size{Name: "large", CPUs: 4, Memory: 8 << 30}, Size{Name: "small", CPUs: 1, Memory: 512 << 20}
	p, err := Make(r, Input{Name: "tide", Account: 1, Size: large})
	require.NoError(t, err)
	at := func(s Size) Container {
		q, err := p.At(s, Host{}, judge.Subject{Account: 1, Workspace: "w1"})
		require.NoError(t, err)
		assert.Equal(t, s, q.Size)
		return q.Container
	}
	assert.Equal(t, float64(1), at(small).CPUs)
	assert.EqualValues(t, 512<<20, at(small).Memory)
	assert.EqualValues(t, 1<<30, at(Size{Name: "medium", CPUs: 2, Memory: 4 << 30}).Memory, "the definition wants less")
	assert.Zero(t, at(Size{}).CPUs, "no size, no limit")
	assert.EqualValues(t, 1<<30, at(Size{}).Memory)
	assert.Equal(t, large, p.Size, "the plan itself stays")
}
