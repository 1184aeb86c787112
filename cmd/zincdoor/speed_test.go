package main

import (
	"bufio"
	"bytes"
	"cmp"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// Each benchmark of speed holds the program against what has to be done anyway: git's own part of the work, or a walk
// over the same bytes. Both run in turn, so that whatever else the machine does meets both, and the medians count.
// ZINCDOOR_LARGE names a folder to keep what the benchmarks are made on; ZINCDOOR_GUARD makes one fail that misses its
// goal by a factor of two.

// raceRounds is how often both sides of a race run.
const raceRounds = 5

// call is a command with what it reads; or what is done here instead.
type call struct {
	name  string
	args  []string
	stdin []byte
	here  func() error
}

func gate(args ...string) call { return call{name: program, args: append([]string{"gate"}, args...)} }

func git(args ...string) call { return call{name: "git", args: args} }

// took is what a command took: wall time, processor time of it and its children, and the most memory that it had itself, in bytes.
type took struct {
	wall, cpu time.Duration
	memory    int64
}

// time runs a command once. A shut door is as good as an open one.
func (s *sandbox) time(b *testing.B, c call) took {
	b.Helper()
	if c.here != nil {
		start := time.Now()
		if err := c.here(); err != nil {
			b.Fatal(err)
		}
		return took{wall: time.Since(start)}
	}
	cmd := exec.Command(c.name, c.args...)
	cmd.Dir, cmd.Env = s.dir, s.environment()
	if c.stdin != nil {
		cmd.Stdin = bytes.NewReader(c.stdin)
	}
	var complaint bytes.Buffer
	cmd.Stderr = &complaint
	start := time.Now()
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	peak := watchPeak(cmd.Process.Pid)
	cmd.Wait()
	wall := time.Since(start)
	if code := cmd.ProcessState.ExitCode(); code < 0 || code > 1 {
		b.Fatalf("%s %s: exit code %d\n%s", c.name, strings.Join(c.args, " "), code, &complaint)
	}
	return took{wall, cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime(), peak()}
}

// sides are what both sides of a race took, round by round; of the references wall time alone.
type sides struct{ ours, reference []took }

// race runs the program and its references in turn. The references' times are added up.
func (s *sandbox) race(b *testing.B, ours call, references ...call) (all sides) {
	b.Helper()
	for range raceRounds {
		all.ours = append(all.ours, s.time(b, ours))
		var sum took
		for _, c := range references {
			sum.wall += s.time(b, c).wall
		}
		all.reference = append(all.reference, sum)
	}
	return all
}

// medianOf is the round in the middle by wall time, with the most memory of all.
func medianOf(all []took) took {
	m := slices.SortedFunc(slices.Values(all), byWall)[len(all)/2]
	for _, t := range all {
		m.memory = max(m.memory, t.memory)
	}
	return m
}

func byWall(a, b took) int { return cmp.Compare(a.wall, b.wall) }

// held reports a race by a measure of both sides' wall times, beside its goal.
func (all sides) held(b *testing.B, goal float64, unit string, measure func(ours, reference time.Duration) float64) {
	b.Helper()
	ours, reference := medianOf(all.ours), medianOf(all.reference)
	b.ReportMetric(ms(ours.wall), "ms/zincdoor")
	b.ReportMetric(ms(ours.cpu), "ms-cpu/zincdoor")
	b.ReportMetric(float64(ours.memory)/1e6, "MB/zincdoor")
	b.ReportMetric(ms(reference.wall), "ms/reference")
	hold(b, measure(ours.wall, reference.wall), measure(slices.MinFunc(all.ours, byWall).wall, slices.MinFunc(all.reference, byWall).wall), goal, unit)
}

// within races, and reports by how many times as long as its references the program took.
func (s *sandbox) within(b *testing.B, goal float64, ours call, references ...call) {
	b.Helper()
	for b.Loop() {
		s.race(b, ours, references...).held(b, goal, "times", func(ours, reference time.Duration) float64 { return ours.Seconds() / reference.Seconds() })
	}
}

// over races, and reports how many milliseconds more than its references the program took.
func (s *sandbox) over(b *testing.B, goal float64, ours call, references ...call) {
	b.Helper()
	for b.Loop() {
		s.race(b, ours, references...).held(b, goal, "ms-over", func(ours, reference time.Duration) float64 { return ms(ours - reference) })
	}
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// hold reports a measure beside its goal. Guarded, it fails where even the best round misses the goal by a factor of two: what else a
// machine does makes single rounds slow, but not all of them.
func hold(b *testing.B, got, best, goal float64, unit string) {
	b.Helper()
	b.ReportMetric(got, unit)
	b.ReportMetric(goal, "goal")
	if os.Getenv("ZINCDOOR_GUARD") != "" && best > 2*goal {
		b.Errorf("%.3g %s at best, and the goal is %.3g: it has become slow", best, unit, goal)
	}
}

// kept makes a repository by what is given, in a folder that stays where ZINCDOOR_LARGE names one, and else goes with the run.
func kept(b *testing.B, name string, make func(s *sandbox)) *sandbox {
	root := os.Getenv("ZINCDOOR_LARGE")
	if root == "" {
		root = b.TempDir()
	}
	s := &sandbox{T: &testing.T{}, dir: filepath.Join(root, name)}
	if _, err := os.Stat(filepath.Join(s.dir, ".git", "made")); err == nil {
		return s
	}
	if err := os.MkdirAll(s.dir, 0o755); err != nil {
		b.Fatal(err)
	}
	s.git("init", "-q", "-b", "main", ".")
	make(s)
	s.write(".git/made", "")
	return s
}

// writeReport writes a report to a file that goes with the run, and returns its path.
func writeReport(b *testing.B, text string) string {
	path := filepath.Join(b.TempDir(), "report.txt")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		b.Fatal(err)
	}
	return path
}

// writeLog writes a log in a repository's own folder, with the results that all gives to add, and returns its path.
func (s *sandbox) writeLog(b *testing.B, name string, all func(add func(format string, args ...any))) string {
	path := filepath.Join(s.dir, ".git", name)
	f, err := os.Create(path)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	out := bufio.NewWriterSize(f, 1<<20)
	between := ""
	out.WriteString(`{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge","version":"2.4.1"}},"results":[`)
	all(func(format string, args ...any) {
		fmt.Fprintf(out, between+format, args...)
		between = ","
	})
	out.WriteString("]}]}\n")
	if err := out.Flush(); err != nil {
		b.Fatal(err)
	}
	return path
}

// blobs lists the names of all files' contents of a commit, as git's batches read them.
func (s *sandbox) blobs(commit string) []byte {
	var list bytes.Buffer
	for line := range strings.Lines(s.git("ls-tree", "-r", commit)) {
		fmt.Fprintln(&list, strings.Fields(line)[2])
	}
	return list.Bytes()
}
