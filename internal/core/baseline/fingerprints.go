package baseline

import (
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// shortenFingerprints writes fingerprints as an entry keeps them: "name:hash" each, sorted, with a space between. The hash has 12
// hexadecimal digits; white space in a name becomes "_".
func shortenFingerprints(prints finding.Fingerprints) string {
	var all []string
	for name, value := range prints.All() {
		all = append(all, strings.Join(strings.Fields(name), "_")+":"+source.Hash(value))
	}
	slices.Sort(all)
	return strings.Join(all, " ")
}
