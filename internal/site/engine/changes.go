package engine

import (
	"context"

	"github.com/docker/docker/api/types/container"
)

// Added lists the paths that were added to a workspace's container since it was made,
// outside its volumes.
func (s *Site) Added(ctx context.Context, workspace string) ([]string, error) {
	list, err := s.api.ContainerDiff(ctx, s.name(workspace))
	if err != nil {
		return nil, s.explain(err, "look at what changed in the workspace")
	}
	var added []string
	for _, c := range list {
		if c.Kind == container.ChangeAdd {
			added = append(added, c.Path)
		}
	}
	return added, nil
}
