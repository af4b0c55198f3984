package definition

import (
	"strconv"
	"strings"
)

// CompareVersions orders versions from oldest to newest: number by number, a prerelease
// before its release, "latest" after all (the standard's "Definition: installation order").
func CompareVersions(a, b string) int {
	if a == b {
		return 0
	}
	switch {
	case a == "latest":
		return 1
	case b == "latest":
		return -1
	}
	coreA, preA, _ := strings.Cut(strings.TrimPrefix(a, "v"), "-")
	coreB, preB, _ := strings.Cut(strings.TrimPrefix(b, "v"), "-")
	x, y := strings.Split(coreA, "."), strings.Split(coreB, ".")
	for i := range max(len(x), len(y)) {
		if i >= len(x) {
			return -1
		}
		if i >= len(y) {
			return 1
		}
		if c := compareParts(x[i], y[i]); c != 0 {
			return c
		}
	}
	switch {
	case preA == preB:
		return strings.Compare(a, b)
	case preA == "":
		return 1
	case preB == "":
		return -1
	}
	return strings.Compare(preA, preB)
}

func compareParts(a, b string) int {
	x, errX := strconv.ParseUint(a, 10, 64)
	y, errY := strconv.ParseUint(b, 10, 64)
	if errX != nil || errY != nil || x == y {
		if errX == nil && errY == nil {
			return 0
		}
		return strings.Compare(a, b)
	}
	if x < y {
		return -1
	}
	return 1
}

// isVersion tells whether s is a semantic version of one to three numbers.
func isVersion(s string) bool {
	core, _, _ := strings.Cut(s, "-")
	core, _, _ = strings.Cut(core, "+")
	parts := strings.Split(core, ".")
	if len(parts) > 3 {
		return false
	}
	for _, p := range parts {
		if _, err := strconv.ParseUint(p, 10, 32); err != nil {
			return false
		}
	}
	return true
}
