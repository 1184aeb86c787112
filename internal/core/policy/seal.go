package policy

import "slices"

// SealReport begins the names of what is sent to a service in the place of a report and is an envelope; no report is called so.
const SealReport = "seal."

// Seal is a name, and the keys whose seals count under it.
type Seal struct {
	Name string
	Keys []Key
	Firm bool // those that inherit it can't loosen what rests on it
}

// Key is a public key, and for what it seals.
type Key struct {
	Text  string   // a line as OpenSSH has it, or PEM
	From  string   // the first day on which its seals count, YYYY-MM-DD; "" for always
	Until string   // the last one
	Paths []string // globs of the files that it may speak of; empty for all
}

// InForce reports whether seals of the key count on the day today.
func (k Key) InForce(today string) bool {
	return (k.From == "" || k.From <= today) && (k.Until == "" || k.Until >= today)
}

// Sealed is a sealed verdict that a door needs in the place of reports.
type Sealed struct {
	Verdict string   // the name of a door
	By      []string // names of seals, one of which is enough
}

// Seal returns the seal of that name.
func (p *Policy) Seal(name string) (Seal, bool) {
	i := slices.IndexFunc(p.Seals, func(s Seal) bool { return s.Name == name })
	if i < 0 {
		return Seal{}, false
	}
	return p.Seals[i], true
}

// SealNames are the names of all seals.
func (p *Policy) SealNames() (all []string) {
	for _, s := range p.Seals {
		all = append(all, s.Name)
	}
	return all
}

// FirmSeal is the first firm one among the names of seals, "" where there is none.
func (p *Policy) FirmSeal(names []string) string {
	i := slices.IndexFunc(names, func(name string) bool {
		seal, _ := p.Seal(name)
		return seal.Firm
	})
	if i < 0 {
		return ""
	}
	return names[i]
}

// NeedsSeals reports whether a door is judged by reports that must be sealed.
func (p *Policy) NeedsSeals(d Door) bool {
	reports, _ := p.Needed(d)
	return slices.ContainsFunc(reports, func(r Report) bool { return len(r.Sealed) > 0 })
}
