package judge

import (
	"cmp"
	"slices"
	"sync"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/processors"
	"zincdoor/internal/core/recognise"
	"zincdoor/internal/core/waiver"
)

// judgement is an input with what was recognised in it. Nothing of it is written to once recogniseAll has made it.
type judgement struct {
	Input
	renamed   []Renamed          // tools that the baseline knows by another name
	toolNow   map[string]string  // how they are called now, by that name
	cover     *baseline.Baseline // no entries, but what the baseline covers, by today's names
	known     recognise.Matches  // of the findings and the baseline's entries
	base      []baseline.Entry   // what was found before the change, as entries
	onBase    recognise.Matches  // of the findings and base
	baseCover *baseline.Baseline // no entries, but what the reports of the state before cover
	waiverOf  []int              // for each finding the index of the waiver that means it, or none
	added     []addition
	own       bool // the change alters nothing but what the door keeps in the repository
	values    map[valueAt]measure.Value

	ids, entryIDs func() []string // of the findings, and of the baseline's entries; made once
}

// manyFindings is from how many findings on these names are made while recognition goes on, which leaves processors free.
const manyFindings = 1000

// none is the index of nothing.
const none = -1

// recogniseAll adds the findings about waivers, and finds what was accepted, what was there before and what is waived.
func recogniseAll(in Input) *judgement {
	if in.Baseline == nil {
		in.Baseline = &baseline.Baseline{}
	}
	if in.Whole == nil {
		in.Whole = in.Change
	}
	j := &judgement{Input: in, baseCover: &baseline.Baseline{Covers: in.BaseCovers}, own: in.Change.Only(in.Policy.Own)}
	j.values = map[valueAt]measure.Value{}
	for _, v := range in.Measures.Values {
		j.values[placeOfValue(v)] = v
	}
	j.nameTools()
	j.loseCover()
	j.matchWaivers()
	for _, f := range in.BaseFindings {
		j.base = append(j.base, in.Policy.EntryFor(f, in.Policy.Levels[f.Level]))
	}
	j.ids = sync.OnceValue(func() []string { return finding.IDs(j.Findings) })
	j.entryIDs = sync.OnceValue(func() []string { return baseline.IDs(j.Baseline.Entries) })
	var ahead sync.WaitGroup
	defer ahead.Wait()
	if len(j.Findings) >= manyFindings && len(j.Baseline.Entries) > 0 {
		ahead.Go(func() { j.ids() })
		ahead.Go(func() { j.entryIDs() })
	}
	view := recognise.View{Change: in.Whole, Aliases: in.Policy.Aliases, OldText: in.Texts.Old, NewText: in.Texts.New, OldTexts: in.Texts.Olds, NewTexts: in.Texts.News, Missing: in.Texts.Missing}
	j.known = recognise.Recognise(j.Findings, j.today(in.Baseline.Entries), view)
	j.added = j.recogniseAdded(view)
	j.onBase = recognise.Recognise(j.Findings, j.base, view)
	return j
}

// grade gives every finding its name, place, team and severity.
func (j *judgement) grade() []Finding {
	ids := j.ids()
	all := make([]Finding, len(j.Findings))
	at := make([]holder, processors.Most())
	processors.Each(len(all), func(worker, i int) {
		f := &all[i]
		f.Finding, f.ID = &j.Findings[i], ids[i]
		f.Place = j.placeOf(f.Finding, &at[worker])
		f.Team, f.rival = j.Policy.ClaimOf(f.Path)
		f.Severity = j.Policy.Grade(*f.Finding, f.Team)
	})
	return all
}

// stand gives every finding its status, and names the tools whose findings were told apart by the change's lines alone, those
// that the baseline covers elsewhere with a file.
// Honoured are the entries that the change may accept findings with, by finding.
func (j *judgement) stand(all []Finding, honoured map[int]*baseline.Entry) (lineRule []string) {
	byLines := map[string]string{} // with a file where the baseline covers the tool in others
	for i := range all {
		f := &all[i]
		f.Status = j.statusOf(i, *f, honoured[i])
		if j.onlyByLines(i) && f.Tool != waiver.Tool && f.Tool != house.Tool && !isOurs(*f) && f.Severity != policy.Ignored {
			if _, told := byLines[f.Tool]; !told && j.cover.KnowsTool(f.Tool) {
				byLines[f.Tool] = " in " + f.Path
			} else if !told {
				byLines[f.Tool] = ""
			}
		}
	}
	for tool, in := range byLines {
		lineRule = append(lineRule, tool+in)
	}
	slices.Sort(lineRule)
	return lineRule
}

// nameEntries notes the names of the entries and base findings that findings are recognised by.
func (j *judgement) nameEntries(all []Finding, honoured map[int]*baseline.Entry) {
	baseNames := sync.OnceValue(func() []string { return baseline.IDs(j.base) })
	added := map[int]int{} // by finding, the entry that the change adds for it
	entries := make([]baseline.Entry, len(j.added))
	for n, a := range j.added {
		entries[n], added[a.finding] = a.Entry, n
	}
	addedNames := sync.OnceValue(func() []string { return baseline.IDs(entries) })
	for i := range all {
		switch f := &all[i]; {
		case honoured[i] != nil:
			f.EntryID = addedNames()[added[i]]
		case f.Entry != nil:
			f.EntryID = j.entryIDs()[j.known.EntryOf[i]]
		case f.Base != nil:
			f.EntryID = baseNames()[j.onBase.EntryOf[i]]
		}
	}
}

// statusOf is the status of a finding: accepted by the change or the baseline, else found before the change, else new or
// not; and whatever isn't accepted may be waived. It is the one place where a standing is set.
func (j *judgement) statusOf(i int, f Finding, honoured *baseline.Entry) (s Status) {
	switch entry := j.entryOf(i); {
	case honoured != nil:
		s = j.acceptedBy(f, honoured)
		s.Base = j.baseOf(i)
	case entry != nil:
		s = j.acceptedBy(f, entry)
	case j.wasOnBase(i):
		s.Standing, s.Base = Existing, j.baseOf(i)
		s.compare(f, j.Policy, s.Base)
	case isOurs(f):
		s = j.measuredStanding(f)
	case j.own, j.onlyByLines(i) && f.Place != change.OnTouched && f.Path != "":
		s.Standing = Existing
	default:
		s.Standing = New
	}
	if s.Standing != Accepted && j.waives(i, f) {
		s.Standing = Waived
	}
	return s
}

// acceptedBy is the status of a finding that an entry recognises.
func (j *judgement) acceptedBy(f Finding, entry *baseline.Entry) Status {
	s := Status{Standing: Accepted, Entry: entry}
	if entry.Expired(j.Today) {
		s.Standing = Expired
	}
	s.compare(f, j.Policy, entry)
	return s
}

// compare holds a finding's number against the one before, and makes it worsened where it has become worse.
func (s *Status) compare(f Finding, p *policy.Policy, before *baseline.Entry) {
	measured := f.Weight().Measured
	if before.Message == f.Message && measured == "" {
		return
	}
	gauge := p.Gauge(f.Tool, f.Rule)
	then := before.Measure
	if measured == "" && (gauge != nil || then == "") {
		then, _ = finding.Measure(before.Message, gauge)
	}
	now, less := p.MeasureOf(*f.Finding)
	if finding.Worsened(then, now, less) {
		s.Standing, s.Measure, s.AcceptedMeasure = Worsened, now, then
	}
}

// entryOf is the baseline's entry that recognises a finding, nil where none does.
func (j *judgement) entryOf(i int) *baseline.Entry {
	if e := j.known.EntryOf[i]; e != recognise.None {
		return &j.Baseline.Entries[e]
	}
	return nil
}

// wasOnBase reports whether a finding was found before the change too.
func (j *judgement) wasOnBase(i int) bool { return j.baseOf(i) != nil }

// baseOf is what a finding was before the change, nil where that isn't known.
func (j *judgement) baseOf(i int) *baseline.Entry {
	if e := j.onBase.EntryOf[i]; e != recognise.None && j.entryOf(i) == nil {
		return &j.base[e]
	}
	return nil
}

// compared reports whether there is something to compare a finding with: its tool is covered by the baseline, or by the
// reports of the state before the change.
func (j *judgement) compared(f finding.Finding) bool {
	return j.cover.CoversFinding(f.Tool, f.Path) || j.baseCover.CoversFinding(f.Tool, f.Path)
}

// onlyByLines reports whether nothing but the change's lines tells if an unrecognised finding is new.
func (j *judgement) onlyByLines(i int) bool {
	f := j.Findings[i]
	return j.entryOf(i) == nil && !j.wasOnBase(i) && !j.own && !j.compared(f) && !f.Fresh && !j.Change.Everything
}

// holder remembers which file of a change holds a path, since many findings in a row have one.
type holder struct {
	of   *change.Change
	path string
	file *change.File
}

func (h *holder) place(c *change.Change, f *finding.Finding, compared bool) change.Place {
	if f.Path == "" || c.Everything {
		return c.Place(f.Path, f.Region, compared)
	}
	if h.of != c || h.path != f.Path {
		*h = holder{c, f.Path, c.Holding(f.Path)}
	}
	return h.file.Place(f.Region, compared)
}

// placeOf is where a finding stands to the change.
func (j *judgement) placeOf(f *finding.Finding, at *holder) change.Place {
	if f.Outside {
		return change.Elsewhere
	}
	judged := j.Change
	if j.Spaced != nil && f.Tool == house.Tool && house.AboutSpace(f.Rule) {
		judged = j.Spaced
	}
	place := at.place(judged, f, j.compared(*f) || IsMeasured(f))
	if place != change.OnTouched && j.Policy.Place.Flows && j.throughTouched(*f) {
		return change.OnTouched
	}
	return place
}

// throughTouched reports whether a step on the way to a finding is on a touched line.
func (j *judgement) throughTouched(f finding.Finding) bool {
	for _, flow := range f.Details().Flows {
		for _, step := range flow {
			if step.Region.Line > 0 && j.Change.Place(step.Path, step.Region, true) == change.OnTouched {
				return true
			}
		}
	}
	return false
}

// gone lists the entries, which are the first of them, and what was found before the change, that are there no more.
func (j *judgement) gone() (gone []baseline.Entry, ofList int) {
	renames := j.Change.Renames()
	gone = j.goneOf(j.Baseline.Entries, j.known, renames)
	ofList = len(gone)
	say := func(e baseline.Entry) baseline.Entry {
		return baseline.Entry{Path: e.Path, Tool: e.Tool, Rule: e.Rule, Text: e.Text, Message: e.Message}
	}
	said := map[baseline.Entry]bool{}
	for _, e := range gone {
		said[say(e)] = true
	}
	for _, e := range j.goneOf(j.base, j.onBase, renames) {
		if !said[say(e)] {
			gone = append(gone, e)
		}
	}
	return gone, ofList
}

// goneOf lists the entries that recognise no finding though sound evidence looked at their file, or that is no more.
func (j *judgement) goneOf(entries []baseline.Entry, matches recognise.Matches, renames map[string]string) (gone []baseline.Entry) {
	found := make([]bool, len(entries))
	for _, e := range matches.EntryOf {
		if e != recognise.None {
			found[e] = true
		}
	}
	for i, e := range entries {
		if !found[i] && (j.coveredNow(j.toolOf(e.Tool), cmp.Or(renames[e.Path], e.Path)) || matches.Fileless[i]) {
			gone = append(gone, e)
		}
	}
	return gone
}
