package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

func TestPrices(t *testing.T) {
	for text, words := range map[string]string{
		"0.02EUR":     "0.02 EUR an hour, 14.60 EUR a month",
		"0.0042EUR":   "0.0042 EUR an hour, 3.066 EUR a month",
		"1EUR":        "1.00 EUR an hour, 730.00 EUR a month",
		"0.000001DKK": "0.000001 DKK an hour, 0.00073 DKK a month",
		"0EUR":        "",
	} {
		p, err := ParsePrice(text)
		require.NoError(t, err, text)
		assert.Equal(t, words, p.String(), text)
	}
	for _, bad := range []string{"", "EUR", "1", "1eur", "1EURO", "-1EUR", "NaNEUR", "1e9EUR", "1 EUR"} {
		_, err := ParsePrice(bad)
		assert.Equal(t, "bad-price", fault.Code(err), bad)
	}
}

func TestSizesWithPrices(t *testing.T) {
	list, err := ParseSizes("small=1:2gb:0.02EUR, large=4:8gb")
	require.NoError(t, err)
	assert.Equal(t, []Size{{Name: "small", CPUs: 1, Memory: 2 << 30, Price: Price{Hour: 20_000, Currency: "EUR"}}, {Name: "large", CPUs: 4, Memory: 8 << 30}}, list)
	assert.Equal(t, "small (1 processor, 2 GB, 0.02 EUR an hour, 14.60 EUR a month)", list[0].String())
	_, err = ParseSizes("small=1:2gb:cheap")
	assert.Equal(t, "bad-size", fault.Code(err))
	_, err = ParseSizes("small=1:2gb:1EUR,large=2:4gb:1DKK")
	assert.ErrorContains(t, err, "in one currency")
}
