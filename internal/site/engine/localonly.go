package engine

import (
	"context"
	"fmt"
	"strings"

	"github.com/moby/buildkit/client/llb/sourceresolver"
	gateway "github.com/moby/buildkit/frontend/gateway/client"
	"github.com/moby/buildkit/solver/pb"
	digest "github.com/opencontainers/go-digest"

	"domicile/internal/fault"
)

// localOnly is the builder as it reads the folders beside a build's context: it reads what
// was mounted for this build, and nothing else. A Dockerfile has ways to make it ask for
// more while the build is only being planned, past all that judges what a build fetches.
type localOnly struct{ gateway.Client }

// Solve reads files of mounted folders.
func (l localOnly) Solve(ctx context.Context, q gateway.SolveRequest) (*gateway.Result, error) {
	if q.Frontend != "" || len(q.FrontendInputs) > 0 || len(q.CacheImports) > 0 {
		return nil, errNotLocal("a build of another kind")
	}
	for _, b := range q.Definition.GetDef() {
		op := &pb.Op{}
		if err := op.UnmarshalVT(b); err != nil {
			return nil, fmt.Errorf("read a step of the build: %w", err)
		}
		switch o := op.Op.(type) {
		case nil: // it only says which result is meant
		case *pb.Op_Source:
			if !strings.HasPrefix(o.Source.Identifier, "local://") {
				return nil, errNotLocal(o.Source.Identifier)
			}
		default:
			return nil, errNotLocal("a program or a copy")
		}
	}
	return l.Client.Solve(ctx, q)
}

// ResolveImageConfig and ResolveSourceMetadata would ask a registry or another host.
func (l localOnly) ResolveImageConfig(_ context.Context, ref string, _ sourceresolver.Opt) (string, digest.Digest, []byte, error) {
	return "", "", nil, errNotLocal(ref)
}

func (l localOnly) ResolveSourceMetadata(_ context.Context, op *pb.SourceOp, _ sourceresolver.Opt) (*sourceresolver.MetaResponse, error) {
	return nil, errNotLocal(op.Identifier)
}

func errNotLocal(what string) error {
	return fault.New("not-carried-out", "take SOURCE_DATE_EPOCH out of the Dockerfile and its arguments", "the build asks for %s before it begins, and gets only folders of the repository then", what)
}
