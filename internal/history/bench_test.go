package history

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/verdictfile"
)

// many makes findings in a tenth as many files, as compilers write them.
func many(n int) []judge.Finding {
	all := make([]judge.Finding, n)
	for i := range all {
		path := fmt.Sprintf("core/area%02d/part%03d/tide%05d.c", i%40, i%400, i%max(n/10, 1))
		all[i] = found(path, fmt.Sprintf("comparison of integer expressions of different signedness: 'int' and 'size_t' in gauge_%d", i), 1+i%1500)
	}
	slices.SortFunc(all, func(a, b judge.Finding) int { return finding.Order(*a.Finding, *b.Finding) })
	return all
}

// BenchmarkPut records states of a branch: the first one, and one after another that differs from it in ten files. Beside it, what
// writing the verdict as JSON takes.
func BenchmarkPut(b *testing.B) {
	for _, n := range []int{1000, 50000} {
		all := many(n)
		b.Run(fmt.Sprintf("json/%d", n), func(b *testing.B) {
			for b.Loop() {
				var out bytes.Buffer
				if err := verdictfile.Write(&out, stateOf(1, all...).Verdict); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(fmt.Sprintf("first/%d", n), func(b *testing.B) {
			for i := 0; b.Loop(); i++ {
				b.StopTimer()
				s, err := Open(b.Context(), filepath.Join(b.TempDir(), "history.db"))
				if err != nil {
					b.Fatal(err)
				}
				r := stateOf(1, all...)
				b.StartTimer()
				if err := s.Put(b.Context(), r, nil); err != nil {
					b.Fatal(err)
				}
				b.StopTimer()
				s.Close()
				b.StartTimer()
			}
		})
		b.Run(fmt.Sprintf("next/%d", n), func(b *testing.B) {
			place := filepath.Join(b.TempDir(), "history.db")
			s, err := Open(b.Context(), place)
			if err != nil {
				b.Fatal(err)
			}
			defer s.Close()
			if err := s.Put(b.Context(), stateOf(0, all...), nil); err != nil {
				b.Fatal(err)
			}
			states := 1
			for ; b.Loop(); states++ {
				b.StopTimer()
				r := stateOf(states, changed(all, states)...)
				b.StartTimer()
				if err := s.Put(b.Context(), r, nil); err != nil {
					b.Fatal(err)
				}
			}
			s.Close()
			if info, err := os.Stat(place); err == nil {
				b.ReportMetric(float64(info.Size())/float64(states), "bytes/state")
			}
		})
	}
}

// changed moves the findings of ten files down a line, takes five away and brings five in.
func changed(all []judge.Finding, turn int) []judge.Finding {
	now := slices.Clone(all)
	files := max(len(all)/10, 1)
	for i := range now {
		f := *now[i].Finding
		var number int
		fmt.Sscanf(filepath.Base(f.Path), "tide%d.c", &number)
		if (number+turn*10)%files < 10 {
			f.Region.Line += turn
			now[i].Finding = &f
		}
	}
	for i := range 5 {
		at := (turn*7919 + i*101) % len(now)
		now[at] = found(now[at].Path, fmt.Sprintf("unused variable 'ebb_%d_%d'", turn, i), now[at].Region.Line)
	}
	return now
}

// BenchmarkTrend reads what a trend of 90 days needs out of 10,000 records: which was the last of each week, and what it counted.
func BenchmarkTrend(b *testing.B) {
	s, err := Open(b.Context(), filepath.Join(b.TempDir(), "history.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	all := many(200)
	const records = 10000
	for i := range records {
		r := stateOf(i*90*24*3600/records, all...)
		if i%10 > 0 {
			r.Branch = "" // of a change
		}
		if err := s.Put(b.Context(), r, nil); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		listed, err := s.List(b.Context(), Filter{Repository: "tideboard", Since: start})
		if err != nil || len(listed) != records {
			b.Fatal(len(listed), err)
		}
		var states []record.Summary
		for _, r := range listed {
			if r.State.Stream != 0 {
				states = append(states, r)
			}
		}
		steps, _ := record.Week.Span(start, start.AddDate(0, 0, 90))
		for _, last := range record.LastStates(states, steps, record.Week) {
			if last != nil {
				if _, err := s.Tallies(b.Context(), last.ID); err != nil {
					b.Fatal(err)
				}
			}
		}
	}
}
