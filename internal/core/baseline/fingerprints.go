package baseline

import (
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// FingerprintsOf writes a finding's fingerprints as an entry keeps them: "name:hash" each, sorted, with a space between. The hash has
// 12 hexadecimal digits; white space in a name becomes "_".
func FingerprintsOf(f *finding.Finding) string {
	var all []string
	for name, value := range f.Fingerprints.All() {
		all = append(all, strings.Join(strings.Fields(name), "_")+":"+source.Hash(value))
	}
	slices.Sort(all)
	return strings.Join(all, " ")
}
