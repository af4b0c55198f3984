package engine

import (
	"fmt"
	"go/ast"
	"go/types"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/packages"

	"domicile/internal/judge"
	"domicile/internal/plan"
)

const own = "Domicile's own: "

// fieldRules are all fields of the engine's API that this package and the door set, and what
// judges what they are set to. A field that is set and not listed here fails the test below.
var fieldRules = map[string]string{
	// A container, from a judged plan.
	"Config.Image": "Image", "Config.User": "User", "Config.Env": "Variable", "Config.Cmd": "Text", "Config.Entrypoint": "Text", "Config.WorkingDir": "StartFolder", "Config.Hostname": "HostName", "Config.StopSignal": "Signal", "Config.StopTimeout": "Grace",
	"Config.Healthcheck": "HealthCheck", "Config.Labels": own + "labels of images never count", "HealthcheckConfig.Test": "HealthCheck", "HealthcheckConfig.Interval": "HealthCheck", "HealthcheckConfig.Timeout": "HealthCheck", "HealthcheckConfig.StartPeriod": "HealthCheck", "HealthcheckConfig.Retries": "HealthCheck",
	"HostConfig.Privileged": "Privileged", "HostConfig.CapAdd": "Capability", "HostConfig.CapDrop": "DroppedCapability", "HostConfig.SecurityOpt": "SecurityOption", "HostConfig.ReadonlyRootfs": own + "less may be written", "HostConfig.Init": own + "a first process that reaps",
	"HostConfig.ShmSize": "SharedMemory", "Resources.Memory": "Amount", "Resources.NanoCPUs": "Processors", "Resources.PidsLimit": "Processes", "Resources.Ulimits": "Ulimit", "Ulimit.Name": "Ulimit", "Ulimit.Soft": "Ulimit", "Ulimit.Hard": "Ulimit",
	"Resources.Devices": "Device", "DeviceMapping.PathOnHost": "Device", "DeviceMapping.PathInContainer": "Device", "DeviceMapping.CgroupPermissions": "Device", "Resources.DeviceRequests": "GPUs", "DeviceRequest.Count": "GPUs", "DeviceRequest.Capabilities": "GPUs",
	"HostConfig.ExtraHosts": "HostEntry", "HostConfig.DNS": "Address", "HostConfig.DNSSearch": "SearchDomain", "HostConfig.GroupAdd": "Group", "HostConfig.Sysctls": "Sysctl", "HostConfig.NetworkMode": "Network", "HostConfig.PidMode": "Space", "HostConfig.IpcMode": "Space", "HostConfig.UTSMode": "Space", "HostConfig.UsernsMode": "Space", "HostConfig.CgroupnsMode": "Space",
	"HostConfig.RestartPolicy": "Restart", "RestartPolicy.Name": "Restart", "RestartPolicy.MaximumRetryCount": "Restart", "HostConfig.LogConfig": own + "bounded", "LogConfig.Type": own + "bounded", "LogConfig.Config": own + "bounded",
	"HostConfig.Binds": own + "the folder of the agent's socket, in a machine of its own", "HostConfig.Mounts": "Mount", "Mount.Type": "Mount", "Mount.Source": "Mount", "Mount.Target": "Target", "Mount.ReadOnly": own + "less may be written", "Mount.VolumeOptions": own + "labels of volumes", "VolumeOptions.Labels": own + "labels of volumes", "VolumeOptions.NoCopy": own + "how a volume is filled", "Mount.TmpfsOptions": own + "the door: memory of the helper's own",
	// Networks and volumes have names that are made here.
	"NetworkingConfig.EndpointsConfig": own + "networks of the workspace, by their names here", "EndpointSettings.Aliases": "HostName", "EndpointSettings.MacAddress": "MAC", "Config.MacAddress": "MAC", "EndpointSettings.IPAMConfig": "Address", "EndpointIPAMConfig.IPv4Address": "Address", "EndpointIPAMConfig.IPv6Address": "Address", "CreateOptions.IPAM": "Subnet", "CreateOptions.EnableIPv6": "Subnet", "IPAM.Config": "Subnet", "IPAMConfig.Subnet": "Subnet", "CreateOptions.Driver": own + "bridge", "CreateOptions.Labels": own + "whose it is", "CreateOptions.Options": own + "nobody reaches a neighbour", "CreateOptions.Internal": own + "no way out", "CreateOptions.Name": own + "made here of judged parts",
	"HostConfig.StorageOpt": own + "a share of the engine's disk", "CreateOptions.DriverOpts": own + "a share of the engine's disk", "ImportSource.Source": own + "the agent's binary, to try networks with", "ImportSource.SourceName": own + "from the request", "ImportOptions.Changes": own + "whose it is",
	// What is done with what was made here, by its id or name.
	"ExecOptions.User": "User", "ExecOptions.Cmd": "Text", "ExecOptions.WorkingDir": "StartFolder", "ExecOptions.Env": "Variable", "ExecOptions.Privileged": "Privileged", "TmpfsOptions.SizeBytes": "SharedMemory", "CopyToContainerOptions.AllowOverwriteDirWithFile": own + "a link of ours in place of a folder of the image", "ExecOptions.AttachStdin": own + "the agent's stream", "ExecOptions.AttachStdout": own + "the agent's stream", "ExecOptions.AttachStderr": own + "the agent's stream", "ExecStartOptions.Detach": own + "the agent goes on",
	"CommitOptions.Config": own + "what the engine says of the container", "HostConfig.Resources": own + "the limits of a trial", "ListResponse.Volumes": own + "an answer", "CommitOptions.Changes": own + "labels of a snapshot", "CommitOptions.Pause": own + "paused before", "StopOptions.Timeout": own + "how long it has", "RemoveOptions.Force": own + "what was made here", "RemoveOptions.RemoveVolumes": own + "what was made here", "RemoveOptions.PruneChildren": own + "what was made here",
	"ListOptions.All": own + "looking", "ListOptions.Size": own + "looking", "ListOptions.Filters": own + "what is this installation's", "ListOptions.Limit": own + "looking", "LogsOptions.ShowStdout": own + "looking", "LogsOptions.ShowStderr": own + "looking", "LogsOptions.Tail": own + "looking", "DiskUsageOptions.Types": own + "looking",
	"PullOptions.RegistryAuth": own + "the service's credentials of the image's registry", "AuthConfig.Username": own + "the service's", "AuthConfig.Password": own + "the service's", "AuthConfig.Auth": own + "the service's", "AuthConfig.IdentityToken": own + "the service's", "AuthConfig.RegistryToken": own + "the service's", "AuthConfig.ServerAddress": own + "the service's",
	// The door reads requests into these, judges every field (door.harmless, door.knownConfig), and clears what tells of the host.
	"CreateRequest.Config": own + "the door judges it", "CreateRequest.HostConfig": own + "the door judges it", "ContainerJSONBase.Name": own + "an answer", "ContainerJSONBase.HostnamePath": own + "an answer", "ContainerJSONBase.HostsPath": own + "an answer", "ContainerJSONBase.LogPath": own + "an answer", "ContainerJSONBase.ResolvConfPath": own + "an answer", "ContainerJSONBase.GraphDriver": own + "an answer",
	"Summary.Names": own + "an answer", "DockerOCIImage.Config": own + "what the engine says of an image", "DockerOCIImage.Image": own + "what the engine says of an image", "MountPoint.Source": own + "an answer", "MountPoint.Name": own + "an answer", "InspectResponse.RepoTags": own + "an answer", "InspectResponse.RepoDigests": own + "an answer", "InspectResponse.GraphDriver": own + "an answer", "Volume.Name": own + "an answer", "Volume.Mountpoint": own + "an answer",
	"Resources.MemorySwap": own + "the door: within the workspace's", "Resources.CPUQuota": own + "the door: within the workspace's", "Resources.CPUPeriod": own + "the door: within the workspace's",
}

// Every field of the engine's API that is set here has a rule, and every rule is there.
func TestEveryFieldHasARule(t *testing.T) {
	set := fieldsSet(t, ".", "./door")
	for _, name := range slices.Sorted(maps.Keys(set)) {
		if fieldRules[name] == "" {
			t.Errorf("%s is set at %s: decide which rule judges it", name, set[name])
		}
	}
	rules := reflect.TypeFor[*judge.Judge]()
	for _, name := range slices.Sorted(maps.Keys(fieldRules)) {
		if set[name] == "" {
			t.Errorf("nothing sets %s any more", name)
		}
		if rule := fieldRules[name]; !strings.HasPrefix(rule, own) {
			_, there := rules.MethodByName(rule)
			assert.True(t, there, "there is no rule %s", rule)
		}
	}
	_, without := plan.Rules()
	assert.Empty(t, without, "fields of a plan without a rule")
}

// The table in docs/trust.md is what the program has.
func TestTheTableOfRules(t *testing.T) {
	var b strings.Builder
	b.WriteString("| what goes to a site | rule |\n| --- | --- |\n")
	list, _ := plan.Rules()
	for _, r := range list {
		fmt.Fprintf(&b, "| %s | %s |\n", r.Field, r.Rule)
	}
	b.WriteString("\n| field of the engine's API | rule |\n| --- | --- |\n")
	for _, name := range slices.Sorted(maps.Keys(fieldRules)) {
		fmt.Fprintf(&b, "| %s | %s |\n", name, fieldRules[name])
	}
	file := filepath.Join("..", "..", "..", "docs", "trust.md")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	const begin, end = "<!-- rules: made by TestTheTableOfRules -->\n", "<!-- end of rules -->"
	before, rest, found := strings.Cut(string(text), begin)
	require.True(t, found, "the place of the table")
	table, after, found := strings.Cut(rest, end)
	require.True(t, found, "the end of the table")
	if os.Getenv("DOMICILE_WRITE_DOCS") != "" {
		require.NoError(t, os.WriteFile(file, []byte(before+begin+b.String()+end+after), 0o644))
		return
	}
	assert.Equal(t, b.String(), table, "write it anew: DOMICILE_WRITE_DOCS=1 go test -run TestTheTableOfRules ./internal/site/engine")
}

// fieldsSet finds the fields of the engine's API that packages set, and where.
func fieldsSet(t *testing.T, patterns ...string) map[string]string {
	t.Helper()
	list, err := packages.Load(&packages.Config{Mode: packages.NeedName | packages.NeedSyntax | packages.NeedTypes | packages.NeedTypesInfo | packages.NeedImports, Context: t.Context()}, patterns...)
	require.NoError(t, err)
	set := map[string]string{}
	for _, p := range list {
		require.Empty(t, p.Errors)
		note := func(of types.Type, field string, at ast.Node) {
			if pointer, is := of.Underlying().(*types.Pointer); is {
				of = pointer.Elem()
			}
			named, is := types.Unalias(of).(*types.Named)
			if !is || named.Obj().Pkg() == nil {
				return
			}
			if path := named.Obj().Pkg().Path(); strings.HasPrefix(path, "github.com/docker/docker/api/types") || path == "github.com/docker/go-units" || strings.HasPrefix(path, "github.com/moby/docker-image-spec") {
				set[named.Obj().Name()+"."+field] = p.Fset.Position(at.Pos()).String()
			}
		}
		for _, file := range p.Syntax {
			ast.Inspect(file, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.CompositeLit:
					of := p.TypesInfo.TypeOf(n)
					if pointer, is := of.Underlying().(*types.Pointer); is {
						of = pointer.Elem()
					}
					for _, e := range n.Elts {
						if pair, is := e.(*ast.KeyValueExpr); is {
							if key, is := pair.Key.(*ast.Ident); is {
								if _, isStruct := of.Underlying().(*types.Struct); isStruct {
									note(of, key.Name, n)
								}
							}
						}
					}
				case *ast.AssignStmt:
					for _, left := range n.Lhs {
						if index, is := left.(*ast.IndexExpr); is {
							left = index.X
						}
						if s, is := left.(*ast.SelectorExpr); is {
							if selection := p.TypesInfo.Selections[s]; selection != nil {
								note(holder(selection), s.Sel.Name, n)
							}
						}
					}
				}
				return true
			})
		}
	}
	return set
}

// holder is the type that has a selected field, also where it is embedded in another.
func holder(s *types.Selection) types.Type {
	of := s.Recv()
	for _, i := range s.Index()[:len(s.Index())-1] {
		if pointer, is := of.Underlying().(*types.Pointer); is {
			of = pointer.Elem()
		}
		of = of.Underlying().(*types.Struct).Field(i).Type()
	}
	return of
}
