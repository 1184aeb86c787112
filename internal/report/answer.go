package report

import (
	"slices"

	"zincdoor/internal/cached"
	"zincdoor/internal/core/finding"
)

// Encode writes the report as bytes that Decode reads back, to be kept by a program of the same build.
func (r *Report) Encode() ([]byte, error) { return cached.Marshal(r) }

// Decode reads what Encode wrote.
func Decode(data []byte) (*Report, error) {
	r := &Report{}
	return r, cached.Unmarshal(data, r)
}

// Join adds what another report of the same tool says.
func (r *Report) Join(other *Report) {
	r.Findings = append(r.Findings, other.Findings...)
	r.Notices = append(r.Notices, other.Notices...)
	r.Unread, r.UnreadCount = append(r.Unread, other.Unread...), r.UnreadCount+other.UnreadCount
	for _, t := range other.Tools {
		if !slices.ContainsFunc(r.Tools, func(o Tool) bool { return o.Name == t.Name && o.Version == t.Version }) {
			r.Tools = append(r.Tools, t)
		}
	}
	for id, rule := range other.Rules {
		if r.Rules == nil {
			r.Rules = map[string]finding.Rule{}
		}
		r.Rules[id] = rule
	}
	if r.Failure == "" {
		r.Failure = other.Failure
	}
	if r.Stopped == "" {
		r.Stopped = other.Stopped
	}
	for _, form := range other.Forms {
		if i, known := slices.BinarySearch(r.Forms, form); !known {
			r.Forms = slices.Insert(r.Forms, i, form)
		}
	}
	r.Stops = append(r.Stops, other.Stops...)
	r.Compiled.Sources = append(r.Compiled.Sources, other.Compiled.Sources...)
	r.Compiled.Objects = append(r.Compiled.Objects, other.Compiled.Objects...)
	r.Compiled.Vague = r.Compiled.Vague || other.Compiled.Vague
	r.Format, r.Clean = other.Format, r.Clean && other.Clean
}

// EachPath shows each path of the report's findings, of what is there to show with them, of where its tool stopped, and
// of what was compiled, to be put right.
func (r *Report) EachPath(see func(path *string)) {
	for _, stop := range r.Stops {
		for i := range stop.Files {
			see(&stop.Files[i])
		}
	}
	for i := range r.Compiled.Sources {
		see(&r.Compiled.Sources[i])
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		see(&f.Path)
		f.Extra.EachPath(see)
	}
}
