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
// value is checked, and how Domicile carries it out.
type property struct {
	name    string
	kinds   kinds
	check   func(c *checker, v *Value, path string)
	how     string // in words, for docs/definition.md
	refused string // what policy may refuse
}

// properties is the standard's list, in its order.
var properties = []property{
	{name: "$schema", kinds: forAny, check: (*checker).text, how: "for editors; no effect"},
	{name: "name", kinds: forAny, check: (*checker).text, how: "shown with the workspace"},
	{name: "features", kinds: forAny, check: (*checker).features, how: "one image layer each, in the standard's order"},
	{name: "overrideFeatureInstallOrder", kinds: forAny, check: (*checker).texts, how: "priorities in the order of installation"},
	{name: "forwardPorts", kinds: forAny, check: (*checker).forwardPorts, how: "offered with their labels; `service:port` reaches the service"},
	{name: "portsAttributes", kinds: forAny, check: (*checker).portsAttributes, how: "label and protocol are shown with the port; the usher and the console do the rest, also for what begins to listen later and a pattern matches"},
	{name: "otherPortsAttributes", kinds: forAny, check: (*checker).portAttributes, how: "for ports without their own entry"},
	{name: "containerEnv", kinds: forAny, check: (*checker).variables, how: "set when the container is made"},
	{name: "remoteEnv", kinds: forAny, check: (*checker).nullableVariables, how: "set for every program that runs for the person; null unsets"},
	{name: "containerUser", kinds: forAny, check: (*checker).text, how: "who the container runs as"},
	{name: "remoteUser", kinds: forAny, check: (*checker).text, how: "who the person's programs run as; `HOME` follows. Default: who the container runs as"},
	{name: "updateRemoteUserUID", kinds: forAny, check: (*checker).boolean, how: "the user takes the numbers of the owner of a folder that is mounted; the source's volume belongs to the user anyway"},
	{name: "userEnvProbe", kinds: forAny, check: oneOf("none", "loginShell", "loginInteractiveShell", "interactiveShell"), how: "the user's shell is asked once per start"},
	{name: "overrideCommand", kinds: forAny, check: (*checker).boolean, how: "true: the agent is the first process; false: the image's own command"},
	{name: "shutdownAction", kinds: forAny, check: oneOf("none", "stopContainer", "stopCompose"), how: "what a stop stops; `none` keeps services running"},
	{name: "init", kinds: forAny, check: (*checker).boolean, how: "an init process reaps children"},
	{name: "privileged", kinds: forAny, check: (*checker).boolean, how: "given to the container", refused: "only where policy allows"},
	{name: "capAdd", kinds: forAny, check: (*checker).texts, how: "given to the container", refused: "all but harmless capabilities; `NET_RAW` is none of them"},
	{name: "securityOpt", kinds: forAny, check: (*checker).texts, how: "given to the container", refused: "all but harmless options"},
	{name: "mounts", kinds: forAny, check: (*checker).mounts, how: "volumes and tmpfs; a volume belongs to its workspace and goes with it; parts of the source are links into it", refused: "host folders"},
	{name: "customizations", kinds: forAny, check: (*checker).customizations, how: "`domicile` is described below; those of other tools are kept"},
	{name: "secrets", kinds: forAny, check: (*checker).secrets, how: "given to commands from postCreateCommand on, where their owner keeps one of that name for this source"},
	{name: "hostRequirements", kinds: forAny, check: (*checker).hostRequirements, how: "checked against the site before anything is made"},
	{name: "initializeCommand", kinds: forAny, check: (*checker).command, how: "run on the service's host when a workspace is made or rebuilt, and at later starts", refused: "always, unless an administrator allows host commands"},
	{name: "onCreateCommand", kinds: forAny, check: (*checker).command, how: "once, when the container is made"},
	{name: "updateContentCommand", kinds: forAny, check: (*checker).command, how: "when the container is made and when the content changed"},
	{name: "postCreateCommand", kinds: forAny, check: (*checker).command, how: "once, after the container was given to its owner"},
	{name: "postStartCommand", kinds: forAny, check: (*checker).command, how: "at each start"},
	{name: "postAttachCommand", kinds: forAny, check: (*checker).command, how: "each time somebody connects"},
	{name: "waitFor", kinds: forAny, check: oneOf("initializeCommand", "onCreateCommand", "updateContentCommand", "postCreateCommand", "postStartCommand"), how: "the ways in open after it; later stages go on"},

	{name: "image", kinds: forImage, check: (*checker).text, how: "pulled where it is not there"},

	{name: "build", kinds: forDockerfile, check: (*checker).build, how: "built with BuildKit", refused: "options without an equivalent"},
	{name: "dockerFile", kinds: forDockerfile, check: (*checker).repositoryPath, how: "older spelling of `build.dockerfile`"},
	{name: "context", kinds: forDockerfile, check: (*checker).repositoryPath, how: "older spelling of `build.context`"},

	{name: "appPort", kinds: forContainers, check: (*checker).appPort, how: "forwarded like forwardPorts; nothing is published on the host"},
	{name: "workspaceMount", kinds: forContainers, check: (*checker).workspaceMount, how: "where the source's volume is mounted; the empty text: nowhere", refused: "anything but the source"},
	{name: "workspaceFolder", kinds: forAny, check: (*checker).text, how: "where programs start; a folder that is not there when the workspace is ready fails at its line"},
	{name: "runArgs", kinds: forContainers, check: (*checker).texts, how: "mapped one by one to engine settings", refused: "what has no equivalent, by name, and what reaches for the host"},

	{name: "dockerComposeFile", kinds: forCompose, check: (*checker).repositoryPaths, how: "services are made on the engine by Domicile", refused: "what reaches for the host"},
	{name: "service", kinds: forCompose, check: (*checker).text, how: "the service that is the workspace"},
	{name: "runServices", kinds: forCompose, check: (*checker).texts, how: "which services run; what they depend on runs too"},
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
