package recognise

// group is what agrees in one stage.
type group struct{ entries, findings list }

// list is some of the members of groups, in the order in which they were added.
type list struct{ first, last, n int32 }

// groups are those of one stage. Their memory is used again for the next.
type groups struct {
	all     []group
	byTrait map[trait]int32
	members []member
	room    int     // for how many findings the map was made
	traits  []trait // of one side, while they are looked at
}

// member is a finding or an entry of a list.
type member struct {
	index int32
	next  int32 // in the list, where it isn't the last
}

// begin makes room for the groups of a stage.
func (g *groups) begin(findings int) {
	const shrunk = 4 // a map that is so much too large takes longer to empty than a new one to fill
	if g.byTrait == nil || findings < g.room/shrunk {
		g.byTrait, g.room = map[trait]int32{}, findings
	}
	clear(g.byTrait)
	g.all, g.members = g.all[:0], g.members[:0]
	if g.traits == nil {
		g.traits = make([]trait, 0, 4)
	}
}

// addFinding adds a finding to the groups of its traits.
func (g *groups) addFinding(f int, traits []trait) {
	for _, t := range traits {
		at, there := g.byTrait[t]
		if !there {
			at = int32(len(g.all))
			g.byTrait[t], g.all = at, append(g.all, group{})
		}
		g.add(&g.all[at].findings, f)
	}
}

func (g *groups) add(to *list, index int) {
	at := int32(len(g.members))
	g.members = append(g.members, member{index: int32(index)})
	if to.n == 0 {
		to.first = at
	} else {
		g.members[to.last].next = at
	}
	to.last = at
	to.n++
}

// list lists members.
func (g *groups) list(of list) []int {
	all := make([]int, of.n)
	for i, at := 0, of.first; i < len(all); i, at = i+1, g.members[at].next {
		all[i] = int(g.members[at].index)
	}
	return all
}

// pair is the entry and the finding of a group that has one of each.
func (g *groups) pair(at int32) (e, f int, one bool) {
	of := &g.all[at]
	if of.entries.n != 1 || of.findings.n != 1 {
		return 0, 0, false
	}
	return int(g.members[of.entries.first].index), int(g.members[of.findings.first].index), true
}

// meet reports whether a finding has one of some traits.
func (g *groups) meet(traits []trait) bool {
	for _, t := range traits {
		if _, there := g.byTrait[t]; there {
			return true
		}
	}
	return false
}
