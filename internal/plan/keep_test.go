package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func named(names ...string) (steps []Step) {
	for _, name := range names {
		steps = append(steps, Step{Name: name})
	}
	return steps
}

func namesOf(steps []Step) (names []string) {
	for _, s := range steps {
		names = append(names, s.Name)
	}
	return names
}

// What is done for nobody in particular and what is done for a person are the whole of a plan, each
// step in one of them.
func TestWhatIsKeptWarmAndWhatIsTakenOver(t *testing.T) {
	for name, all := range map[string][]Step{
		"all stages":    named(StepImage, StepVolume, StepServices, StepContainer, StepAgent, StepSource, StepLateServices, "onCreateCommand", "updateContentCommand", StepReady, "postCreateCommand", StepPersonal, "postStartCommand", StepChecks),
		"ready is late": named(StepImage, StepVolume, StepContainer, StepAgent, StepSource, "onCreateCommand", "postCreateCommand", "postStartCommand", StepReady),
		"no stages":     named(StepImage, StepVolume, StepContainer, StepAgent, StepSource, StepReady),
	} {
		before := namesOf(all)
		kept, taken := namesOf(Keep(all)), namesOf((&Plan{Steps: all}).Take())
		assert.Equal(t, StepKeep, kept[len(kept)-1], name)
		assert.Equal(t, StepTake, taken[0], name)
		assert.ElementsMatch(t, before, append(kept[:len(kept)-1:len(kept)-1], taken[1:]...), name)
		for _, person := range []string{StepReady, StepPersonal, StepChecks, "postCreateCommand", "postStartCommand"} {
			assert.NotContains(t, kept, person, name)
		}
		assert.Equal(t, before, namesOf(all), "the plan stays whole")
	}
}
