package gate

import (
	"cmp"
	"slices"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
)

// runsOnBase reports whether the door is judged by a linter that is run on the state before the change too.
func (r *rules) runsOnBase() bool {
	reports, _ := r.policy.Needed(r.door)
	return slices.ContainsFunc(reports, func(r policy.Report) bool { return r.Run != nil && r.Run.Base })
}

// beforeChange is the state before the change, as a scene.
func (s *scene) beforeChange() (*scene, error) {
	before := &scene{repo: s.repo, root: s.root, folder: s.folder, kind: policy.Tree, before: true}
	files, err := s.names()
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		if f.Old != "" && f.Opaque == "" {
			before.given = append(before.given, f.Old)
		}
	}
	return before, before.sides("", s.diff.Old())
}

// hearBase reads the reports of the state before the change, as entries that the findings of now are compared with.
func (s *scene) hearBase(q Request, c *judge.Case, r *rules) error {
	if len(q.BaseReports) == 0 && (s.diff == nil || q.Apart || !r.runsOnBase()) {
		return nil
	}
	if s.diff == nil {
		return wrongCall("--base-report is about the state before a change, and there is none here to compare with")
	}
	before, err := s.beforeChange()
	if err != nil {
		return err
	}
	defer before.close()
	q.Reports, q.ReportCommit = q.BaseReports, cmp.Or(s.subject.Base, string(s.diff.Old()))
	before.start()
	w, err := before.call(q, r)
	if err != nil {
		return err
	}
	defer w.settle()
	result, err := w.hear()
	if err != nil {
		return err
	}
	c.BaseFindings = result.Case.Findings
	for _, f := range result.Case.Findings {
		c.Base = append(c.Base, c.Policy.EntryFor(f, c.Policy.Levels[f.Level]))
	}
	for _, e := range result.Case.Evidence {
		if e.Sound() {
			c.BaseCovers = append(c.BaseCovers, e.Covers...)
		}
		e.Name, e.Covers, e.Before = "before the change: "+e.Name, nil, true
		c.Evidence = append(c.Evidence, e)
	}
	c.Notices = append(c.Notices, result.Case.Notices...)
	return nil
}
