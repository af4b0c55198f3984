package machine

import (
	"context"
	"fmt"

	"domicile/internal/site"
)

// Leftovers finds machines whose workspaces are gone, and templates that no machine comes from.
func (s *Site) Leftovers(ctx context.Context, known func(ctx context.Context) ([]string, error)) (list []site.Leftover, err error) {
	machines, err := s.o.Maker.List(ctx)
	if err != nil {
		return nil, err
	}
	ids, err := known(ctx)
	if err != nil {
		return nil, err
	}
	kept := map[string]bool{}
	for _, id := range ids {
		kept[id] = true
	}
	for _, m := range machines {
		if !kept[m.ID] {
			list = append(list, site.Leftover{Kind: leftMachine, Name: m.ID, Bytes: m.Bytes, Why: "its workspace was removed"})
		}
	}
	spares, err := s.o.Maker.Spares(ctx)
	for _, v := range spares {
		l := site.Leftover{Kind: leftTemplate, Name: v.Name, Bytes: v.Bytes, Why: "no machine comes from it", Again: true, Made: v.Used}
		if v.Why != "" {
			l.Kind, l.Why, l.Again = leftStranger, v.Why, false
		}
		list = append(list, l)
	}
	return list, err
}

// The kinds of what is left over here.
const (
	leftMachine  = "machine"
	leftTemplate = "template"
	leftStranger = "instance" // that the records do not know
)

// RemoveLeftover removes a machine whose workspace is gone, or a template that none comes from.
func (s *Site) RemoveLeftover(ctx context.Context, l site.Leftover) error {
	switch l.Kind {
	case leftMachine:
		return s.Remove(ctx, l.Name)
	case leftTemplate, leftStranger:
		return s.o.Maker.RemoveSpare(ctx, l.Name)
	}
	return fmt.Errorf("a %s is nothing that is left over here", l.Kind)
}

// Free tells how much of the disk is free that machines are on.
func (s *Site) Free(ctx context.Context) (bytes int64, known bool, err error) {
	f, err := s.o.Maker.Examine(ctx)
	return f.DiskFree, f.DiskFree > 0, err
}

// Written tells how much of the disk the machine of each workspace takes.
func (s *Site) Written(ctx context.Context) (map[string]int64, error) {
	list, err := s.o.Maker.List(ctx)
	if err != nil {
		return nil, err
	}
	written := make(map[string]int64, len(list))
	for _, m := range list {
		written[m.ID] = m.Bytes
	}
	return written, nil
}
