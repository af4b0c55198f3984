package api

import (
	"context"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	contract "domicile/api"
	"domicile/internal/amount"
	"domicile/internal/hostkeys"
	"domicile/internal/records"
)

// GetVersion answers what runs here.
func (s *Server) GetVersion(context.Context, GetVersionRequestObject) (GetVersionResponseObject, error) {
	return GetVersion200JSONResponse(s.version(s.o.HostKeys.Now())), nil
}

func (s *Server) version(keys hostkeys.Set) Version {
	v := Version{Version: s.o.Version, Contract: contract.Version, Ssh: s.o.SSH, HostKey: keyLine(keys.Present.PublicKey()), HostAuthority: keyLine(keys.Authority)}
	if keys.Next != nil {
		v.NextHostKey = optional(keyLine(keys.Next.PublicKey()))
	}
	return v
}

// keyLine is a key as in an authorized_keys line.
func keyLine(key ssh.PublicKey) string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
}

// AnnounceHostKey makes the next key.
func (s *Server) AnnounceHostKey(ctx context.Context, _ AnnounceHostKeyRequestObject) (AnnounceHostKeyResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	keys, err := s.o.HostKeys.Prepare()
	return AnnounceHostKey200JSONResponse(s.version(keys)), err
}

// ChangeHostKey takes the next key.
func (s *Server) ChangeHostKey(ctx context.Context, _ ChangeHostKeyRequestObject) (ChangeHostKeyResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	keys, err := s.o.HostKeys.Change()
	return ChangeHostKey200JSONResponse(s.version(keys)), err
}

// ListSites lists the sites.
func (s *Server) ListSites(ctx context.Context, _ ListSitesRequestObject) (ListSitesResponseObject, error) {
	list := ListSites200JSONResponse{}
	mine, err := s.o.Store.Workspaces(ctx, account(ctx).ID)
	if err != nil {
		return nil, err
	}
	for _, name := range s.o.Runner.SiteNames() {
		found := s.o.Runner.Examined(name)
		v := Site{Name: name, Kind: SiteKind(found.Kind), Ready: found.Err == nil && !found.At.IsZero(), Drained: whenTrue(found.Drained), Given: whenTrue(given(s, name)), Workspaces: count(mine, name)}
		if found.Err != nil {
			v.Problem = optional(found.Err.Error())
		}
		if !found.At.IsZero() {
			v.Examined = &found.At
		}
		if found.Engine != "" { // it answered once
			v.Engine, v.System = optional(found.Engine), optional(found.System)
			v.UserNamespaces = &found.UserNamespaces
			apart := s.o.Apart == ""
			v.Apart = &apart
			if found.Joined != "" {
				v.Problem = optional("Workspaces may reach each other: " + found.Joined)
			}
			if found.GPU {
				v.Gpu = &found.GPU
			}
			v.Processors, v.MemoryBytes = &found.Processors, &found.MemoryBytes
			if found.DiskFreeBytes > 0 {
				v.DiskFreeBytes = &found.DiskFreeBytes
				if found.DiskFreeBytes < littleDisk {
					v.Warning = optional(fmt.Sprintf("Only %s of its disk are free: the next image may not fit. What can go: domicile tidy", amount.Of(found.DiskFreeBytes)))
				}
			}
		}
		if err := s.describeSite(ctx, &v, found); err != nil {
			return nil, err
		}
		list = append(list, v)
	}
	return list, nil
}

func given(s *Server, name string) bool {
	v, err := s.o.Runner.SiteRecord(name)
	return err == nil && v.Given
}

// RemoveSite forgets a drained site at which nothing is any more.
func (s *Server) RemoveSite(ctx context.Context, q RemoveSiteRequestObject) (RemoveSiteResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	return RemoveSite204Response{}, s.o.Runner.RemoveSite(ctx, q.Name)
}

// littleDisk is from when on a site's disk is told to be short, in bytes.
const littleDisk = 4 << 30

func count(list []records.Workspace, site string) (n int) {
	for _, w := range list {
		if w.Site == site {
			n++
		}
	}
	return n
}
