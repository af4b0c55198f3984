package engine

import (
	"context"
	"testing"

	"github.com/moby/buildkit/client/llb"
	"github.com/moby/buildkit/client/llb/sourceresolver"
	gateway "github.com/moby/buildkit/frontend/gateway/client"
	"github.com/moby/buildkit/solver/pb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asked counts what comes to the engine's builder.
type asked struct {
	gateway.Client
	times int
}

func (a *asked) Solve(context.Context, gateway.SolveRequest) (*gateway.Result, error) {
	a.times++
	return gateway.NewResult(), nil
}

func TestOnlyMountedFoldersAreReadWhileABuildIsPlanned(t *testing.T) {
	local := llb.Local("context-0")
	for name, c := range map[string]struct {
		state llb.State
		fine  bool
	}{
		"a folder":        {local, true},
		"another host":    {llb.HTTP("http://192.0.2.1/secret"), false},
		"a repository":    {llb.Git("https://192.0.2.1/x.git", "main"), false},
		"an image":        {llb.Image("quay.test/base:12"), false},
		"a program":       {llb.Image("quay.test/base:12").Run(llb.Args([]string{"true"})).Root(), false},
		"a copy of other": {llb.Scratch().File(llb.Copy(llb.HTTP("http://192.0.2.1/x"), "/x", "/x")), false},
	} {
		t.Run(name, func(t *testing.T) {
			def, err := c.state.Marshal(t.Context())
			require.NoError(t, err)
			a := &asked{}
			_, err = localOnly{a}.Solve(t.Context(), gateway.SolveRequest{Definition: def.ToPB()})
			assert.Equal(t, c.fine, err == nil, "%v", err)
			assert.Equal(t, c.fine, a.times == 1)
		})
	}
	_, err := localOnly{&asked{}}.Solve(t.Context(), gateway.SolveRequest{Frontend: "gateway.v0"})
	require.Error(t, err)
	_, _, _, err = localOnly{}.ResolveImageConfig(t.Context(), "quay.test/base:12", sourceresolver.Opt{})
	require.Error(t, err)
	_, err = localOnly{}.ResolveSourceMetadata(t.Context(), &pb.SourceOp{Identifier: "http://192.0.2.1/"}, sourceresolver.Opt{})
	require.Error(t, err)
}
