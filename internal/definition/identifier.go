package definition

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"math/big"
	"strings"
)

// ID computes ${devcontainerId} from the labels that identify a container: the SHA-256
// of their JSON object, as a base 32 number of 52 digits. It stays the same when the
// container is made again.
func ID(labels map[string]string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(labels); err != nil { // a map of strings always encodes
		panic(err)
	}
	sum := sha256.Sum256(bytes.TrimSpace(b.Bytes()))
	digits := new(big.Int).SetBytes(sum[:]).Text(32)
	return strings.Repeat("0", max(0, 52-len(digits))) + digits
}
