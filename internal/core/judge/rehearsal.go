package judge

// Rehearsal is one change of the past, judged by the present policy and by a new one.
type Rehearsal struct {
	Commit, Subject string
	Now, New        *Verdict // nil where it couldn't be judged
	Problem         string   // why it couldn't, "" where it could
}

// Differs reports whether the two policies come to different outcomes.
func (r Rehearsal) Differs() bool {
	return r.Now != nil && r.New != nil && r.Now.Outcome != r.New.Outcome
}

// ShutsAlone lists the limits that shut the door in a verdict and don't, by the same name, in another one.
func (v *Verdict) ShutsAlone(other *Verdict) (limits []LimitResult) {
	shuts := map[string]bool{}
	for _, l := range other.Limits {
		shuts[l.Name] = shuts[l.Name] || l.Shuts()
	}
	for _, l := range v.Limits {
		if l.Shuts() && !shuts[l.Name] {
			limits = append(limits, l)
		}
	}
	return limits
}
