package engine

import (
	"context"
	"strconv"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/network"
	"github.com/docker/docker/api/types/volume"
	"golang.org/x/sys/unix"
)

// shareOfDisk is the part of the engine's disk that one container may take, its image
// counted, where the engine's file system can bound it (btrfs, zfs; xfs that is mounted with
// project quotas).
const shareOfDisk = 2

// noBound are words of an engine whose file system cannot bound a container or a volume.
var noBound = []string{"--storage-opt is", "no quota support"}

// diskBound is what a container may write, in bytes; 0: it is not known, or cannot be bounded.
func (s *Site) diskBound() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.host.folder == "" || s.unbounded {
		return 0
	}
	var fs unix.Statfs_t
	if err := unix.Statfs(s.host.folder, &fs); err != nil {
		return 0
	}
	return int64(fs.Blocks) * fs.Bsize / shareOfDisk
}

// cannotBound remembers that the engine refused a bound because its file system has none.
func (s *Site) cannotBound(err error) bool {
	if err == nil || !containsAny(err.Error(), noBound...) {
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.unbounded = true
	return true
}

// createContainer makes a container that cannot fill the disk, where that can be had; else
// it is watched (package run).
func (s *Site) createContainer(ctx context.Context, config *container.Config, host *container.HostConfig, networks *network.NetworkingConfig, name string) (container.CreateResponse, error) {
	bound := s.diskBound()
	if bound > 0 {
		bounded := *host
		bounded.StorageOpt = map[string]string{"size": strconv.FormatInt(bound, 10)}
		made, err := s.api.ContainerCreate(ctx, config, &bounded, networks, nil, name)
		if !s.cannotBound(err) {
			return made, err
		}
	}
	return s.api.ContainerCreate(ctx, config, host, networks, nil, name)
}

// boundsVolumes tells whether the engine's file system may bound a volume: of those that
// engines know of only xfs can. Another engine than the usual one takes the option anyway, and
// then cannot use the volume.
func (s *Site) boundsVolumes() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	var fs unix.Statfs_t
	return s.host.folder != "" && !s.unboundedVolumes && unix.Statfs(s.host.folder, &fs) == nil && fs.Type == unix.XFS_SUPER_MAGIC
}

// createVolume makes a volume with the same bound.
func (s *Site) createVolume(ctx context.Context, o volume.CreateOptions) (volume.Volume, error) {
	if bound := s.diskBound(); bound > 0 && s.boundsVolumes() {
		o.DriverOpts = map[string]string{"size": strconv.FormatInt(bound, 10)}
		v, err := s.api.VolumeCreate(ctx, o)
		if err == nil || !containsAny(err.Error(), noBound...) {
			return v, err
		}
		s.mu.Lock()
		s.unboundedVolumes = true // a file system may bound containers alone
		s.mu.Unlock()
		o.DriverOpts = nil
	}
	return s.api.VolumeCreate(ctx, o)
}
