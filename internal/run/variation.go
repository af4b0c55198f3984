package run

import (
	"encoding/json"
	"fmt"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/records"
)

// mostVariations bounds how many properties of one definition are set to other values.
const mostVariations = 20

// encodeVariations checks variations and writes them for the records; nil for none.
func encodeVariations(list []definition.Variation) (json.RawMessage, error) {
	if len(list) == 0 {
		return nil, nil
	}
	if len(list) > mostVariations {
		return nil, fault.New("bad-variation", "leave some out", "%d properties are varied; there can be %d", len(list), mostVariations)
	}
	for _, v := range list {
		if err := v.Check(); err != nil {
			return nil, err
		}
	}
	return json.Marshal(list)
}

// VariationsOf reads what is set in a workspace's definition in place of what its file says.
func VariationsOf(w records.Workspace) (list []definition.Variation, err error) {
	if len(w.Variations) == 0 {
		return nil, nil
	}
	if err := json.Unmarshal(w.Variations, &list); err != nil {
		return nil, fmt.Errorf("read the variations of %s: %w", w.Name, err)
	}
	return list, nil
}
