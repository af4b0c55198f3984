// Package judge says whose each name and each path is that leaves the service: names of
// images, networks, volumes and containers that go to an engine, settings of containers,
// and addresses that the service's host asks. What is wanted comes from definitions,
// Compose files, Dockerfiles and people, and none of them is trusted; so every rule is an
// allow-list, and what no rule knows is refused.
//
// The rules are pure: they look at a value after all resolving has been done and answer
// with a refusal that names the property, its place, the reason and the remedy, or with
// nothing. Package plan applies them to every field of a plan and gives sites only what
// went through here.
package judge

import (
	"fmt"
	"slices"
	"strings"

	"domicile/internal/fault"
)

// The things that a definition may ask of a host and that policy decides about.
const (
	AllowPrivileged      = "privileged"
	AllowCapabilities    = "capabilities"
	AllowSecurityOptions = "security-options"
	AllowHostMounts      = "host-mounts"
	AllowDevices         = "devices"
	AllowHostSpaces      = "host-spaces" // the host's network, processes, ipc, users
	AllowHostCommands    = "host-commands"
	AllowBuildSecrets    = "build-secrets"
	// AllowOtherUsers is nothing of a definition's: its person may come in as any user of the container,
	// as root too, not only as the one that the definition names.
	AllowOtherUsers = "other-users"
)

// Allowances lists all that can be allowed.
var Allowances = []string{AllowPrivileged, AllowCapabilities, AllowSecurityOptions, AllowHostMounts, AllowDevices, AllowHostSpaces, AllowHostCommands, AllowBuildSecrets, AllowOtherUsers}

// Policy is what an administrator allows definitions to ask for. The zero Policy allows
// only what gives no power over the host.
type Policy []string

// Subject is for whom something is judged, and what is that one's own.
type Subject struct {
	// Account is whose workspace it is.
	Account int64
	// Workspace is the site's id of the workspace; empty while there is none yet.
	Workspace string
	// Parent is the site's id of the workspace that this one is a helper of.
	Parent string
	// Folder is the folder of the host that may be mounted as the source: an administrator
	// has allowed it, and it was resolved before.
	Folder string
	// Images are the names of images that Domicile made for this workspace: what its own
	// plan builds, and the state that it begins with.
	Images []string
	Policy Policy
	// Memory is that of the workspace or of its host, in bytes; 0: unknown. Files in memory take at most half of it.
	Memory int64
	// Given is what is allowed beyond the policy because the workspace has a machine of its own.
	Given Policy
}

// Refusals are all that is asked for and not given.
type Refusals []*fault.Fault

// Error names them one a line.
func (r Refusals) Error() string {
	lines := make([]string, len(r))
	for i, f := range r {
		lines[i] = f.Error()
	}
	return strings.Join(lines, "\n")
}

// Unwrap gives the first one's code and remedy to those who look for them.
func (r Refusals) Unwrap() error { return r[0] }

// Judge collects refusals. It is made for one subject and used by one goroutine.
type Judge struct {
	Subject
	List Refusals
	// Granted tells, in words, what was allowed because the workspace has a machine of its own.
	Granted []string
}

// New makes a judge for a subject.
func New(s Subject) *Judge { return &Judge{Subject: s} }

// Add keeps a refusal, once.
func (j *Judge) Add(f *fault.Fault) {
	if !slices.ContainsFunc(j.List, func(o *fault.Fault) bool { return o.Message == f.Message }) {
		j.List = append(j.List, f)
	}
}

// Err is all that was refused, or nil.
func (j *Judge) Err() error {
	if len(j.List) == 0 {
		return nil
	}
	return j.List
}

// Allows tells whether the policy has an allowance.
func (p Policy) Allows(allowance string) bool { return slices.Contains(p, allowance) }

// Allows tells whether the policy has an allowance, or the workspace's machine gives it.
func (j *Judge) Allows(allowance string) bool {
	return j.Policy.Allows(allowance) || j.Given.Allows(allowance)
}

// GivenAlone is what a workspace in a machine of its own may ask for: the machine is the border.
// What it would ask of the service's host is not among it.
var GivenAlone = Policy{AllowPrivileged, AllowCapabilities, AllowSecurityOptions, AllowDevices, AllowHostSpaces, AllowOtherUsers}

// Need refuses unless the policy has the allowance. The words say what is asked for and
// follow on the place: "it asks to be privileged".
func (j *Judge) Need(allowance, place, words string, args ...any) {
	if j.Allows(allowance) {
		if !slices.Contains(j.Policy, allowance) {
			j.grant(at(place) + fmt.Sprintf(words, args...) + ": allowed, because this machine is yours alone")
		}
		return
	}
	j.Add(fault.New("not-allowed-here", "take it out of the definition, or ask an administrator to allow "+allowance+" (domicile serve -allow "+allowance+")",
		"%s%s, which this site does not allow", at(place), fmt.Sprintf(words, args...)))
}

func (j *Judge) grant(words string) {
	if !slices.Contains(j.Granted, words) {
		j.Granted = append(j.Granted, words)
	}
}

// Refuse refuses what no allowance gives.
func (j *Judge) Refuse(place, words string, args ...any) {
	j.RefuseFor("take it out of the definition", place, words, args...)
}

// RefuseFor refuses with a remedy of its own.
func (j *Judge) RefuseFor(remedy, place, words string, args ...any) {
	j.Add(fault.New("not-carried-out", remedy, "%s%s", at(place), fmt.Sprintf(words, args...)))
}

func at(place string) string {
	if place == "" {
		return ""
	}
	return place + ": "
}
