package main

import (
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

// call is a command with what it reads.
type call struct {
	name  string
	args  []string
	stdin []byte
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

// race runs the program and its references in turn, and gives the medians of both; the references' is of their sums.
func (s *sandbox) race(b *testing.B, ours call, references ...call) (median, reference took) {
	b.Helper()
	var all, others []took
	for range raceRounds {
		all = append(all, s.time(b, ours))
		var sum took
		for _, c := range references {
			t := s.time(b, c)
			sum.wall, sum.cpu = sum.wall+t.wall, sum.cpu+t.cpu
		}
		others = append(others, sum)
	}
	return medianOf(all), medianOf(others)
}

func medianOf(all []took) took {
	m := slices.SortedFunc(slices.Values(all), func(a, b took) int { return cmp.Compare(a.wall, b.wall) })[len(all)/2]
	for _, t := range all {
		m.memory = max(m.memory, t.memory)
	}
	return m
}

// within races, and reports by how much the program took longer: a goal of that many times the references.
func (s *sandbox) within(b *testing.B, goal float64, ours call, references ...call) {
	b.Helper()
	for b.Loop() {
		t, reference := s.race(b, ours, references...)
		reportTook(b, t)
		b.ReportMetric(ms(reference.wall), "ms/reference")
		hold(b, t.wall.Seconds()/reference.wall.Seconds(), goal, "times")
	}
}

// over races, and reports how many milliseconds more than its references the program took.
func (s *sandbox) over(b *testing.B, goal float64, ours call, references ...call) {
	b.Helper()
	for b.Loop() {
		t, reference := s.race(b, ours, references...)
		reportTook(b, t)
		b.ReportMetric(ms(reference.wall), "ms/reference")
		hold(b, ms(t.wall-reference.wall), goal, "ms-over")
	}
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

func reportTook(b *testing.B, t took) {
	b.ReportMetric(ms(t.wall), "ms/zincdoor")
	b.ReportMetric(ms(t.cpu), "ms-cpu/zincdoor")
	b.ReportMetric(float64(t.memory)/1e6, "MB/zincdoor")
}

// hold reports a measure beside its goal. Guarded, it fails at twice the goal.
func hold(b *testing.B, got, goal float64, unit string) {
	b.Helper()
	b.ReportMetric(got, unit)
	b.ReportMetric(goal, "goal")
	if os.Getenv("ZINCDOOR_GUARD") != "" && got > 2*goal {
		b.Errorf("%.3g %s, and the goal is %.3g: it has become slow", got, unit, goal)
	}
}

// keep is the folder in which what a benchmark is made on stays, or goes with the run; made says that it was there.
func keep(b *testing.B, name string) (dir string, made bool) {
	root := os.Getenv("ZINCDOOR_LARGE")
	if root == "" {
		root = b.TempDir()
	}
	dir = filepath.Join(root, name)
	_, err := os.Stat(filepath.Join(dir, ".git", "made"))
	return dir, err == nil
}

// kept makes a repository in such a folder by what is given, unless it is there.
func kept(b *testing.B, name string, make func(s *sandbox)) *sandbox {
	dir, made := keep(b, name)
	s := &sandbox{T: &testing.T{}, dir: dir}
	if !made {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			b.Fatal(err)
		}
		s.git("init", "-q", "-b", "main", ".")
		make(s)
		s.write(".git/made", "")
	}
	return s
}

// blobs lists the names of all files' contents of a commit, as git's batches read them.
func (s *sandbox) blobs(commit string) []byte {
	var list bytes.Buffer
	for line := range strings.Lines(s.git("ls-tree", "-r", commit)) {
		fmt.Fprintln(&list, strings.Fields(line)[2])
	}
	return list.Bytes()
}
