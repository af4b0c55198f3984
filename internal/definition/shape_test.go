package definition

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Every property of the standard: a value that it takes, and one that it does not.
var shapes = map[string]struct{ good, bad string }{
	"$schema":                     {`"https://x"`, `1`},
	"name":                        {`"x"`, `[]`},
	"features":                    {`{"./a": {}, "./b": "1.2", "./c": {"x": true}}`, `{"./a": 7}`},
	"overrideFeatureInstallOrder": {`["a"]`, `[1]`},
	"forwardPorts":                {`[0, 65535, "db:5432"]`, `[-1]`},
	"portsAttributes":             {`{"80": {"label": "x", "protocol": "https", "onAutoForward": "silent", "requireLocalPort": true, "elevateIfNeeded": false}}`, `{"80": {"protocol": "ftp"}}`},
	"otherPortsAttributes":        {`{"onAutoForward": "ignore"}`, `{"onAutoForward": "never"}`},
	"containerEnv":                {`{"A": "b"}`, `{"A": null}`},
	"remoteEnv":                   {`{"A": "b", "C": null}`, `{"A": 1}`},
	"containerUser":               {`"crew"`, `1000`},
	"remoteUser":                  {`"crew"`, `null`},
	"updateRemoteUserUID":         {`false`, `"no"`},
	"userEnvProbe":                {`"none"`, `"sometimes"`},
	"overrideCommand":             {`false`, `0`},
	"shutdownAction":              {`"stopContainer"`, `"explode"`},
	"init":                        {`true`, `"true"`},
	"privileged":                  {`true`, `1`},
	"capAdd":                      {`["SYS_PTRACE"]`, `"SYS_PTRACE"`},
	"securityOpt":                 {`["seccomp=unconfined"]`, `{}`},
	"mounts":                      {`["type=volume,source=a,target=/b", {"type": "tmpfs", "target": "/c"}]`, `[{"type": "bind", "target": "/c"}]`},
	"customizations":              {`{"x": {}}`, `{"x": 1}`},
	"secrets":                     {`{"TOKEN": {"description": "x", "documentationUrl": "y"}}`, `{"TOKEN": "x"}`},
	"hostRequirements":            {`{"cpus": 2, "memory": "4gb", "storage": "32gb", "gpu": {"cores": 1, "memory": "2gb"}}`, `{"cpus": 0}`},
	"initializeCommand":           {`"x"`, `true`},
	"onCreateCommand":             {`["x"]`, `[true]`},
	"updateContentCommand":        {`{"a": "x", "b": ["y"]}`, `{"a": {"b": "x"}}`},
	"postCreateCommand":           {`"x"`, `7`},
	"postStartCommand":            {`"x"`, `null`},
	"postAttachCommand":           {`"x"`, `7`},
	"waitFor":                     {`"postCreateCommand"`, `"postCreate"`},
	"image":                       {`"base:12"`, `["base:12"]`},
	"build":                       {`{"dockerfile": "Dockerfile", "context": "..", "args": {"A": "b"}, "target": "x", "cacheFrom": ["y"], "options": ["--z"]}`, `{"context": "."}`},
	"dockerFile":                  {`"Dockerfile"`, `"../../../Dockerfile"`},
	"context":                     {`".."`, `"/"`},
	"appPort":                     {`[3000, "8081:81"]`, `true`},
	"workspaceMount":              {`"type=bind,source=/a,target=/b"`, `"type=bind"`},
	"workspaceFolder":             {`"/x"`, `1`},
	"runArgs":                     {`["--cap-add=X"]`, `"--cap-add=X"`},
	"dockerComposeFile":           {`["a.yaml", "b.yaml"]`, `[1]`},
	"service":                     {`"x"`, `1`},
	"runServices":                 {`["x"]`, `"x"`},
}

func errorsAt(r *Report, path string) (n int) {
	for _, p := range r.Problems {
		if p.Severity == Error && strings.HasPrefix(p.Path, path) {
			n++
		}
	}
	return n
}

func TestEveryPropertyTakesWhatTheStandardSays(t *testing.T) {
	for _, p := range properties {
		shape, known := shapes[p.name]
		if !assert.True(t, known, "%s has no example here", p.name) {
			continue
		}
		rest := `, "workspaceFolder": "/w"`
		if p.name == "workspaceFolder" {
			rest = ""
		}
		assert.Zero(t, errorsAt(read(`{"`+p.name+`": `+shape.good+rest+`}`), "/"+p.name), "%s: %s", p.name, shape.good)
		bad := read(`{"` + p.name + `": ` + shape.bad + rest + `}`)
		assert.Equal(t, 1, errorsAt(bad, "/"+p.name), "%s: %s gives one error: %v", p.name, shape.bad, bad.Problems)
	}
	assert.Len(t, shapes, len(properties))
}

// No property of the standard is passed over: a good value brings no note, and the page
// says how it is carried out.
func TestEveryPropertyIsCarriedOut(t *testing.T) {
	for _, p := range properties {
		assert.NotEmpty(t, p.how, p.name)
		if p.kinds&forImage == 0 || p.name == "image" {
			continue
		}
		r := read(`{"image": "a", "workspaceFolder": "/w", "` + p.name + `": ` + shapes[p.name].good + `}`)
		for _, problem := range r.Problems {
			assert.False(t, problem.Path == "/"+p.name && problem.Code != "stands-twice", problem.String())
		}
	}
}

func TestSlipsAreRecognised(t *testing.T) {
	for slip, meant := range map[string]string{"forwardport": "forwardPorts", "remoteuser": "remoteUser", "postcreateCommand": "postCreateCommand", "capadd": "capAdd", "mount": "mounts", "featuers": "features"} {
		assert.Equal(t, meant, Closest(slip, propertyNames()), slip)
	}
	assert.Empty(t, Closest("lighthouse", propertyNames()), "what is far from all is no slip")
}
