package cloud

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/cloud/provider"
)

func TestSizesThatFit(t *testing.T) {
	offer := provider.Offer{Currency: "EUR", Sizes: []provider.Size{
		{Name: "large", Processors: 4, MemoryBytes: 8 << 30, Hour: 40},
		{Name: "cheap", Processors: 4, MemoryBytes: 8 << 30, Hour: 30},
		{Name: "small", Processors: 1, MemoryBytes: 2 << 30, Hour: 10},
		{Name: "middle", Processors: 2, MemoryBytes: 4 << 30, Hour: 20},
		{Name: "dear", Processors: 2, MemoryBytes: 3 << 30, Hour: 99},
	}}
	for want, shape := range map[string]machine.Shape{
		"small":  {Processors: 1, Memory: 2 << 30},
		"middle": {Processors: 1, Memory: 3 << 30}, // it holds it, and is the cheapest that does
		"dear":   {Processors: 2, Memory: 3 << 30}, // the very one
		"cheap":  {Processors: 4, Memory: 8 << 30},
	} {
		s, err := fits(offer, shape)
		require.NoError(t, err, want)
		assert.Equal(t, want, s.Name)
	}
	for _, shape := range []machine.Shape{{Processors: 5, Memory: 1}, {Processors: 1, Memory: 9 << 30}} {
		_, err := fits(offer, shape)
		assert.Equal(t, "no-size", fault.Code(err))
	}
	_, err := image(offer)
	assert.Equal(t, "no-machine-image", fault.Code(err))
	offer.Images = []provider.Image{{Name: "plain"}, {Name: "ours", FirstProcess: new(true)}}
	name, err := image(offer)
	require.NoError(t, err)
	assert.Equal(t, "ours", name)
}
