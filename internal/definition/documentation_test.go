package definition

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The page and the schema say what the code does.
func TestTheDocumentationIsTrue(t *testing.T) {
	page, err := os.ReadFile("../../docs/definition.md")
	require.NoError(t, err)
	assert.Contains(t, string(page), Documentation(), "the table of docs/definition.md is not that of the code; this is:\n%s", Documentation())
}

func TestTheSchemaKnowsWhatTheCheckerKnows(t *testing.T) {
	b, err := os.ReadFile("../../api/definition.schema.json")
	require.NoError(t, err)
	var schema struct {
		Defs struct {
			Domicile struct {
				Properties map[string]struct {
					AdditionalProperties struct {
						OneOf []struct{ Properties map[string]any }
					}
				}
			}
		} `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(b, &schema))
	values := map[string]string{"command": `"x"`, "exitStatus": "1", "atLeast": `"1"`, "atMost": `"1"`, "after": "[]", "idleStop": `"2h"`, "stopGrace": `"30s"`, "size": `"s"`, "checks": "{}", "tasks": "{}", "engine": "true", "place": `"machine"`, "screen": `"1280x800"`}
	look := func(name string, within func(value string) string) {
		value := values[name]
		if value == "" {
			value = `"x"`
		}
		for _, p := range read(`{"image": "a", "customizations": {"domicile": ` + within(`"`+name+`": `+value) + `}}`).Problems {
			assert.Failf(t, "the schema allows what the checker does not", "%s: %s", name, p)
		}
	}
	own := schema.Defs.Domicile.Properties
	require.Len(t, own, 8)
	for name, list := range own {
		look(name, func(v string) string { return "{" + v + "}" })
		for _, form := range list.AdditionalProperties.OneOf {
			for member := range form.Properties {
				look(member, func(v string) string {
					if !strings.HasPrefix(v, `"command"`) {
						v += `, "command": "x"`
					}
					return `{"` + name + `": {"one": {` + v + `}}}`
				})
			}
		}
	}
}
