package plan

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/definition"
)

const allStages = `{"image": "i", "onCreateCommand": "a", "updateContentCommand": "b", "postCreateCommand": "c", "postStartCommand": "d", "postAttachCommand": "e",
	"customizations": {"domicile": {"checks": {"x": "true"}}}}`

// What a plan's steps become in the other kinds of runs.
func TestStepsOfOtherRuns(t *testing.T) {
	p := makePlan(t, allStages, "c0")
	for name, c := range map[string]struct {
		steps []Step
		want  string
	}{
		"rebuild":  {Rebuild(p.Steps, true), "image volume set-aside container carry-over agent source onCreateCommand updateContentCommand postCreateCommand postStartCommand ready checks drop-aside"},
		"in place": {Rebuild(p.Steps, false), "image volume container agent source onCreateCommand updateContentCommand postCreateCommand postStartCommand ready checks"},
		"ahead":    {Ahead(p.Steps), "image volume container agent source onCreateCommand updateContentCommand save clean"},
		"begin":    {p.Begin(), "volume container agent ready postStartCommand checks"},
		"return":   {p.Return(), "remove volume container agent ready postStartCommand checks"},
		"attach":   {p.Attach(), "postAttachCommand"},
		"save":     {Save(), "save"},
	} {
		assert.Equal(t, c.want, names(c.steps), name)
	}
	assert.Empty(t, makePlan(t, `{"image": "i"}`, "c0").Attach())
	assert.Equal(t, "c", string(p.Steps[len(p.Steps)-1].Name[0]), "the plan itself is as it was")
}

func TestAPlanBeginsWithASnapshot(t *testing.T) {
	p := makePlan(t, `{"image": "i"}`, "c0")
	p.Services = []Service{{Name: "db", Image: "postgres"}}
	digest, service := p.Container.Digest, p.Services[0].Digest()
	p.From(map[string]string{"": "snapshot:w", "db": "snapshot:db"})
	assert.Equal(t, "snapshot:w", p.Container.Saved)
	assert.Equal(t, "snapshot:db", p.Services[0].Saved)
	assert.Equal(t, digest, p.Container.Digest)
	assert.Equal(t, service, p.Services[0].Digest())
}

func TestHelpersPlans(t *testing.T) {
	parent := Parent{SiteID: "w1", Target: "/src/deck", Folder: "/src/deck/sub"}
	p := Helper("tools", "i", parent, false)
	assert.Equal(t, "image volume container agent join ready", names(p.Steps))
	assert.Equal(t, "w1", p.Container.HelperOf)
	assert.Empty(t, p.Container.SourceOf)
	shared := Helper("tools", "i", parent, true)
	assert.Equal(t, "image container agent join ready", names(shared.Steps))
	assert.Equal(t, "w1", shared.Container.SourceOf)
	assert.Equal(t, "/src/deck", shared.Container.SourceTarget)
	assert.Equal(t, "/src/deck/sub", shared.Session.Folder)
	assert.NotEqual(t, p.Container.Digest, shared.Container.Digest)

	r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(allStages)}}, definition.Options{Folder: "/workspaces/deck"})
	of, err := Make(r, Input{Name: "deck", Commit: "c", Personal: "https://h/settings"})
	require.NoError(t, err)
	of.Help(parent, true)
	assert.Equal(t, "image container agent onCreateCommand updateContentCommand join ready postCreateCommand postStartCommand", names(of.Steps), "neither checks nor a person's settings are a helper's")
	assert.NotEqual(t, makePlan(t, allStages, "c").Container.Digest, of.Container.Digest)
}

func TestSecretsOfAPlanAreInOrder(t *testing.T) {
	p := makePlan(t, `{"image": "i", "secrets": {"B": {}, "A": {"description": "x"}}}`, "c0")
	assert.Equal(t, []string{"A", "B"}, p.Secrets)
}
