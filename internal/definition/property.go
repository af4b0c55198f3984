package definition

// kinds tells for which kinds of definition a property counts.
type kinds uint8

const (
	forImage kinds = 1 << iota
	forDockerfile
	forCompose
	forAny        = forImage | forDockerfile | forCompose
	forContainers = forImage | forDockerfile
)

// property is one property of the standard: its name, for which kinds it counts, how its
// value is checked, and whether Domicile carries it out.
type property struct {
	name    string
	kinds   kinds
	check   func(c *checker, v *Value, path string)
	pending bool // read and checked, not carried out yet: the report says so
}

// properties is the standard's list, in its order.
var properties = []property{
	{name: "$schema", kinds: forAny, check: (*checker).text},
	{name: "name", kinds: forAny, check: (*checker).text},
	{name: "features", kinds: forAny, check: (*checker).features},
	{name: "overrideFeatureInstallOrder", kinds: forAny, check: (*checker).texts},
	{name: "forwardPorts", kinds: forAny, check: (*checker).forwardPorts},
	{name: "portsAttributes", kinds: forAny, check: (*checker).portsAttributes},
	{name: "otherPortsAttributes", kinds: forAny, check: (*checker).portAttributes},
	{name: "containerEnv", kinds: forAny, check: (*checker).variables},
	{name: "remoteEnv", kinds: forAny, check: (*checker).nullableVariables},
	{name: "containerUser", kinds: forAny, check: (*checker).text},
	{name: "remoteUser", kinds: forAny, check: (*checker).text},
	{name: "updateRemoteUserUID", kinds: forAny, check: (*checker).boolean},
	{name: "userEnvProbe", kinds: forAny, check: oneOf("none", "loginShell", "loginInteractiveShell", "interactiveShell")},
	{name: "overrideCommand", kinds: forAny, check: (*checker).boolean},
	{name: "shutdownAction", kinds: forAny, check: oneOf("none", "stopContainer", "stopCompose")},
	{name: "init", kinds: forAny, check: (*checker).boolean},
	{name: "privileged", kinds: forAny, check: (*checker).boolean, pending: true},
	{name: "capAdd", kinds: forAny, check: (*checker).texts, pending: true},
	{name: "securityOpt", kinds: forAny, check: (*checker).texts, pending: true},
	{name: "mounts", kinds: forAny, check: (*checker).mounts, pending: true},
	{name: "customizations", kinds: forAny, check: (*checker).customizations},
	{name: "secrets", kinds: forAny, check: (*checker).secrets, pending: true},
	{name: "hostRequirements", kinds: forAny, check: (*checker).hostRequirements},
	{name: "initializeCommand", kinds: forAny, check: (*checker).command, pending: true},
	{name: "onCreateCommand", kinds: forAny, check: (*checker).command},
	{name: "updateContentCommand", kinds: forAny, check: (*checker).command},
	{name: "postCreateCommand", kinds: forAny, check: (*checker).command},
	{name: "postStartCommand", kinds: forAny, check: (*checker).command},
	{name: "postAttachCommand", kinds: forAny, check: (*checker).command, pending: true},
	{name: "waitFor", kinds: forAny, check: oneOf("initializeCommand", "onCreateCommand", "updateContentCommand", "postCreateCommand", "postStartCommand")},

	{name: "image", kinds: forImage, check: (*checker).text},

	{name: "build", kinds: forDockerfile, check: (*checker).build, pending: true},
	{name: "dockerFile", kinds: forDockerfile, check: (*checker).repositoryPath, pending: true},
	{name: "context", kinds: forDockerfile, check: (*checker).repositoryPath, pending: true},

	{name: "appPort", kinds: forContainers, check: (*checker).appPort, pending: true},
	{name: "workspaceMount", kinds: forContainers, check: (*checker).workspaceMount},
	{name: "workspaceFolder", kinds: forAny, check: (*checker).text},
	{name: "runArgs", kinds: forContainers, check: (*checker).texts, pending: true},

	{name: "dockerComposeFile", kinds: forCompose, check: (*checker).repositoryPaths, pending: true},
	{name: "service", kinds: forCompose, check: (*checker).text, pending: true},
	{name: "runServices", kinds: forCompose, check: (*checker).texts, pending: true},
}

// Lifecycle is the list of the stages that run inside the container, in order
// (the standard's "Lifecycle").
var Lifecycle = []string{"onCreateCommand", "updateContentCommand", "postCreateCommand", "postStartCommand", "postAttachCommand"}

func propertyNames() []string {
	names := make([]string, len(properties))
	for i, p := range properties {
		names[i] = p.name
	}
	return names
}

func findProperty(name string) *property {
	for i := range properties {
		if properties[i].name == name {
			return &properties[i]
		}
	}
	return nil
}
