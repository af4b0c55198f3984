package compose

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/compose-spec/compose-go/v2/types"
)

// A fate is what becomes of an attribute of Compose files.
type fate int

const (
	carried fate = iota + 1 // it is carried out; where it reaches for the host, the judge decides
	without                 // it has no effect here, and asks for nothing
	refused                 // it is not carried out, and refused where it is written
)

// fates are those of all attributes that the loader knows. What is not among them, such as
// an attribute of a later version, is refused until somebody has decided about it.
var fates = map[string]fate{
	"ServiceConfig.Name": carried, "ServiceConfig.Profiles": carried, "ServiceConfig.Deploy": carried, "ServiceConfig.Develop": without, "ServiceConfig.Restart": carried,
	"ServiceConfig.Scale": refused, "ServiceConfig.Attach": without, "ServiceConfig.ContainerName": carried, "ServiceConfig.Provider": refused, "ServiceConfig.Extends": carried,
	"ServiceConfig.ExternalLinks": refused, "ServiceConfig.Links": carried, "ServiceConfig.Net": refused, "ServiceConfig.PreStart": refused, "ServiceConfig.PostStart": carried, "ServiceConfig.PreStop": refused,
	"ServiceConfig.ContainerSpec": carried, "ServiceConfig.WorkloadSpec": carried, "ServiceConfig.Extensions": without,

	"ContainerSpec.Annotations": without, "ContainerSpec.BlkioConfig": refused, "ContainerSpec.CapAdd": carried, "ContainerSpec.CapDrop": carried, "ContainerSpec.CgroupParent": refused,
	"ContainerSpec.Cgroup": carried, "ContainerSpec.CPUCount": refused, "ContainerSpec.CPUPercent": refused, "ContainerSpec.CPUPeriod": refused, "ContainerSpec.CPUQuota": refused,
	"ContainerSpec.CPURTPeriod": refused, "ContainerSpec.CPURTRuntime": refused, "ContainerSpec.CPUS": carried, "ContainerSpec.CPUSet": without, "ContainerSpec.CPUShares": without,
	"ContainerSpec.Command": carried, "ContainerSpec.Configs": carried, "ContainerSpec.CredentialSpec": refused, "ContainerSpec.DeviceCgroupRules": refused, "ContainerSpec.Devices": carried,
	"ContainerSpec.DNS": carried, "ContainerSpec.DNSOpts": without, "ContainerSpec.DNSSearch": carried, "ContainerSpec.DomainName": without, "ContainerSpec.Entrypoint": carried,
	"ContainerSpec.Environment": carried, "ContainerSpec.EnvFiles": carried, "ContainerSpec.ExtraHosts": carried, "ContainerSpec.GroupAdd": carried, "ContainerSpec.Gpus": refused,
	"ContainerSpec.Hostname": carried, "ContainerSpec.Image": carried, "ContainerSpec.Init": carried, "ContainerSpec.Ipc": carried, "ContainerSpec.Isolation": refused,
	"ContainerSpec.Labels": without, "ContainerSpec.LabelFiles": refused, "ContainerSpec.CustomLabels": without, "ContainerSpec.Logging": without, "ContainerSpec.LogDriver": without, "ContainerSpec.LogOpt": without,
	"ContainerSpec.MemLimit": carried, "ContainerSpec.MemReservation": without, "ContainerSpec.MemSwapLimit": without, "ContainerSpec.MemSwappiness": without, "ContainerSpec.MacAddress": carried,
	"ContainerSpec.Models": refused, "ContainerSpec.NetworkMode": carried, "ContainerSpec.Networks": carried, "ContainerSpec.OomKillDisable": refused, "ContainerSpec.OomScoreAdj": refused,
	"ContainerSpec.Pid": carried, "ContainerSpec.PidsLimit": carried, "ContainerSpec.Platform": carried, "ContainerSpec.Privileged": carried, "ContainerSpec.PullPolicy": without, "ContainerSpec.PullRefreshAfter": without,
	"ContainerSpec.ReadOnly": carried, "ContainerSpec.Runtime": refused, "ContainerSpec.Secrets": carried, "ContainerSpec.SecurityOpt": carried, "ContainerSpec.ShmSize": carried,
	"ContainerSpec.StopGracePeriod": carried, "ContainerSpec.StopSignal": carried, "ContainerSpec.StorageOpt": refused, "ContainerSpec.Sysctls": carried, "ContainerSpec.Tmpfs": carried,
	"ContainerSpec.Ulimits": carried, "ContainerSpec.Umask": without, "ContainerSpec.UseAPISocket": refused, "ContainerSpec.User": carried, "ContainerSpec.UserNSMode": carried, "ContainerSpec.Uts": carried,
	"ContainerSpec.VolumeDriver": refused, "ContainerSpec.Volumes": carried, "ContainerSpec.VolumesFrom": refused, "ContainerSpec.WorkingDir": carried,

	"WorkloadSpec.Build": carried, "WorkloadSpec.DependsOn": carried, "WorkloadSpec.Dockerfile": refused, "WorkloadSpec.Expose": carried, "WorkloadSpec.HealthCheck": carried,
	"WorkloadSpec.Ports": carried, "WorkloadSpec.StdinOpen": without, "WorkloadSpec.Tty": without,

	"BuildConfig.Context": carried, "BuildConfig.Dockerfile": carried, "BuildConfig.DockerfileInline": carried, "BuildConfig.Entitlements": refused, "BuildConfig.Args": carried, "BuildConfig.Provenance": without,
	"BuildConfig.SBOM": without, "BuildConfig.SSH": refused, "BuildConfig.Labels": without, "BuildConfig.CacheFrom": without, "BuildConfig.CacheTo": without, "BuildConfig.NoCache": without, "BuildConfig.NoCacheFilter": without,
	"BuildConfig.AdditionalContexts": carried, "BuildConfig.Pull": without, "BuildConfig.ExtraHosts": carried, "BuildConfig.Isolation": refused, "BuildConfig.Network": refused, "BuildConfig.Target": carried,
	"BuildConfig.Secrets": refused, "BuildConfig.ShmSize": without, "BuildConfig.Tags": without, "BuildConfig.Ulimits": without, "BuildConfig.Platforms": without, "BuildConfig.Privileged": refused, "BuildConfig.Extensions": without,

	"ServiceVolumeConfig.Type": carried, "ServiceVolumeConfig.Source": carried, "ServiceVolumeConfig.Target": carried, "ServiceVolumeConfig.ReadOnly": carried, "ServiceVolumeConfig.Consistency": without,
	"ServiceVolumeConfig.Bind": carried, "ServiceVolumeConfig.Volume": carried, "ServiceVolumeConfig.Tmpfs": carried, "ServiceVolumeTmpfs.Size": carried, "ServiceVolumeTmpfs.Mode": without, "ServiceVolumeTmpfs.Extensions": without, "ServiceVolumeConfig.Image": refused, "ServiceVolumeConfig.Extensions": without,
	"ServiceVolumeBind.SELinux": without, "ServiceVolumeBind.Propagation": refused, "ServiceVolumeBind.CreateHostPath": without, "ServiceVolumeBind.Recursive": without, "ServiceVolumeBind.Extensions": without,
	"ServiceVolumeVolume.Labels": without, "ServiceVolumeVolume.NoCopy": without, "ServiceVolumeVolume.Subpath": refused, "ServiceVolumeVolume.Extensions": without,

	"ServiceNetworkConfig.Aliases": carried, "ServiceNetworkConfig.DriverOpts": refused, "ServiceNetworkConfig.GatewayPriority": without, "ServiceNetworkConfig.InterfaceName": without, "ServiceNetworkConfig.Ipv4Address": carried,
	"ServiceNetworkConfig.Ipv6Address": carried, "ServiceNetworkConfig.LinkLocalIPs": refused, "ServiceNetworkConfig.MacAddress": carried, "ServiceNetworkConfig.Priority": without, "ServiceNetworkConfig.UseServiceNameAlias": without, "ServiceNetworkConfig.Extensions": without,

	"DeployConfig.Mode": without, "DeployConfig.Replicas": without, "DeployConfig.Labels": without, "DeployConfig.UpdateConfig": without, "DeployConfig.RollbackConfig": without, "DeployConfig.Resources": carried,
	"DeployConfig.RestartPolicy": without, "DeployConfig.Placement": without, "DeployConfig.EndpointMode": without, "DeployConfig.Extensions": without,
	"Resources.Limits": carried, "Resources.Reservations": carried, "Resources.Extensions": without,
	"Resource.NanoCPUs": carried, "Resource.MemoryBytes": carried, "Resource.Pids": carried, "Resource.Devices": refused, "Resource.GenericResources": refused, "Resource.Extensions": without,
	"HealthCheckConfig.Test": carried, "HealthCheckConfig.Timeout": carried, "HealthCheckConfig.Interval": carried, "HealthCheckConfig.Retries": carried, "HealthCheckConfig.StartPeriod": carried,
	"HealthCheckConfig.StartInterval": without, "HealthCheckConfig.Disable": carried, "HealthCheckConfig.Extensions": without,
	"DeviceMapping.Source": carried, "DeviceMapping.Target": carried, "DeviceMapping.Permissions": carried, "DeviceMapping.Extensions": without,
	"UlimitsConfig.Single": carried, "UlimitsConfig.Soft": carried, "UlimitsConfig.Hard": carried, "UlimitsConfig.Extensions": without,

	"NetworkConfig.Name": without, "NetworkConfig.Driver": carried, "NetworkConfig.DriverOpts": refused, "NetworkConfig.Ipam": carried, "IPAMConfig.Driver": without, "IPAMConfig.Config": carried, "IPAMConfig.Extensions": without, "IPAMPool.Subnet": carried, "IPAMPool.Gateway": without, "IPAMPool.IPRange": without, "IPAMPool.AuxiliaryAddresses": refused, "IPAMPool.Extensions": without,
	"ServiceHook.Command": carried, "ServiceHook.User": carried, "ServiceHook.Privileged": carried, "ServiceHook.WorkingDir": carried, "ServiceHook.Environment": carried, "ServiceHook.Extensions": without, "NetworkConfig.External": refused, "NetworkConfig.Internal": carried,
	"NetworkConfig.Attachable": without, "NetworkConfig.Labels": without, "NetworkConfig.CustomLabels": without, "NetworkConfig.EnableIPv4": without, "NetworkConfig.EnableIPv6": without, "NetworkConfig.Extensions": without,
	"VolumeConfig.Name": without, "VolumeConfig.Driver": carried, "VolumeConfig.DriverOpts": refused, "VolumeConfig.External": refused, "VolumeConfig.Labels": without, "VolumeConfig.CustomLabels": without, "VolumeConfig.Extensions": without,
}

// looked are the parts of a service that are looked into attribute by attribute; what is
// not one of them has its rule where it is carried out.
var looked = []reflect.Type{
	reflect.TypeFor[types.ServiceConfig](), reflect.TypeFor[types.ContainerSpec](), reflect.TypeFor[types.WorkloadSpec](), reflect.TypeFor[types.BuildConfig](), reflect.TypeFor[types.ServiceVolumeConfig](),
	reflect.TypeFor[types.ServiceVolumeBind](), reflect.TypeFor[types.ServiceVolumeVolume](), reflect.TypeFor[types.ServiceNetworkConfig](), reflect.TypeFor[types.DeployConfig](), reflect.TypeFor[types.Resources](),
	reflect.TypeFor[types.Resource](), reflect.TypeFor[types.HealthCheckConfig](), reflect.TypeFor[types.DeviceMapping](), reflect.TypeFor[types.UlimitsConfig](), reflect.TypeFor[types.NetworkConfig](), reflect.TypeFor[types.VolumeConfig](), reflect.TypeFor[types.IPAMConfig](), reflect.TypeFor[types.IPAMPool](), reflect.TypeFor[types.ServiceHook](), reflect.TypeFor[types.ServiceVolumeTmpfs](),
}

// unknown finds the attributes below a value that are refused, as the Compose file names
// them, the outer ones first.
func unknown(v reflect.Value) (paths [][]string) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			return unknown(v.Elem())
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			paths = append(paths, unknown(v.Index(i))...)
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			for _, p := range unknown(v.MapIndex(key)) {
				paths = append(paths, append([]string{fmt.Sprint(key)}, p...))
			}
		}
	case reflect.Struct:
		if slices.Contains(looked, v.Type()) {
			return unknownFields(v)
		}
	}
	return paths
}

func unknownFields(v reflect.Value) (paths [][]string) {
	for i := range v.NumField() {
		f := v.Type().Field(i)
		if !f.IsExported() || isNothing(v.Field(i)) {
			continue
		}
		name, _, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		var in []string
		if !f.Anonymous && name != "" {
			in = []string{name}
		}
		switch fates[v.Type().Name()+"."+f.Name] {
		case carried:
			for _, p := range unknown(v.Field(i)) {
				paths = append(paths, append(slices.Clone(in), p...))
			}
		case without:
		default:
			if len(in) == 0 {
				in = []string{f.Name}
			}
			paths = append(paths, in)
		}
	}
	return paths
}

// silent are attributes without effect of which nothing is told: they ask for nothing that a
// person would miss, or the loader itself sets them.
var silent = []string{"Labels", "CustomLabels", "Extensions", "Annotations", "Attach", "PullPolicy", "PullRefreshAfter", "Develop", "StdinOpen", "Tty", "Replicas", "Mode", "EndpointMode"}

// idle finds the attributes of a service that are read and have no effect, as the Compose
// file names them.
func idle(v reflect.Value) (paths [][]string) {
	for i := range v.NumField() {
		f := v.Type().Field(i)
		if !f.IsExported() || isNothing(v.Field(i)) || slices.Contains(silent, f.Name) {
			continue
		}
		if f.Anonymous {
			paths = append(paths, idle(v.Field(i))...)
			continue
		}
		name, _, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		part := v.Field(i)
		if part.Kind() == reflect.Pointer {
			part = part.Elem()
		}
		switch {
		case fates[v.Type().Name()+"."+f.Name] == without && name != "":
			paths = append(paths, []string{name})
		case part.Kind() == reflect.Struct && slices.Contains(looked, part.Type()) && name != "":
			for _, p := range idle(part) {
				paths = append(paths, append([]string{name}, p...))
			}
		}
	}
	return paths
}

// isNothing counts empty lists and pointers to zero as not asked for.
func isNothing(v reflect.Value) bool {
	switch v.Kind() {
	case reflect.Slice, reflect.Map:
		return v.Len() == 0
	case reflect.Pointer:
		return v.IsNil()
	}
	return v.IsZero()
}
