package main

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// large is a repository of 100,000 files whose branch "change" alters 5,000 of them: 3,800 edited, 500 renamed (most
// of them edited too), 400 added and 300 deleted. It is made once a run; ZINCDOOR_LARGE names a folder to keep it in.
type large struct {
	*sandbox
	altered []string // paths on the change's new side that have lines
}

const (
	largeFiles   = 100_000
	largeEdited  = 3_800
	largeRenamed = 500
	largeAdded   = 400
	largeDeleted = 300
)

var words = strings.Fields("tide ramp fare zone board ferry slack gauge sill datum phase stream quay berth crew load queue ticket price hour")

// vocabulary makes the names of one file, so that files are no more alike than those of real projects.
func vocabulary(random *rand.Rand) []string {
	names := make([]string, 20)
	for i := range names {
		name := make([]byte, 4+random.IntN(8))
		for k := range name {
			name[k] = 'a' + byte(random.IntN(26))
		}
		names[i] = words[random.IntN(len(words))] + "_" + string(name)
	}
	return names
}

// sourceFile makes a file of 90 to 450 lines from a seed, 250 on average.
func sourceFile(seed uint64) []string {
	random := rand.New(rand.NewPCG(seed, 1))
	words := vocabulary(random)
	text := []string{fmt.Sprintf("/* file %d */", seed)}
	for n := 14 + random.IntN(25); n > 0; n-- {
		name := fmt.Sprintf("%s_%s_%d", words[random.IntN(len(words))], words[random.IntN(len(words))], random.IntN(1000))
		text = append(text, fmt.Sprintf("static int %s(int %s)", name, words[random.IntN(len(words))]), "{")
		for range 2 + random.IntN(8) {
			text = append(text, fmt.Sprintf("\tif (%s > %d) %s += %d;", words[random.IntN(len(words))], random.IntN(500), words[random.IntN(len(words))], random.IntN(90)))
		}
		text = append(text, "\treturn 0;", "}", "")
	}
	return text
}

// edit changes one to three places of a file.
func edit(text []string, seed uint64) []string {
	random := rand.New(rand.NewPCG(seed, 2))
	words := vocabulary(random)
	for range 1 + random.IntN(3) {
		at := 1 + random.IntN(len(text)-1)
		fresh := fmt.Sprintf("\t%s = %s(%d);", words[random.IntN(len(words))], words[random.IntN(len(words))], random.IntN(10_000))
		if random.IntN(2) == 0 {
			text = append(text[:at:at], text[at+1:]...)
		}
		text = append(text[:at:at], append([]string{fresh}, text[at:]...)...)
	}
	return text
}

func largePath(i int) string { return fmt.Sprintf("area%02d/part%03d/file%06d.c", i%40, i/40%250, i) }

// largeRepository makes the repository by git's fast import, without deltas: files made by a machine are so much alike
// that git would chain them up as it never does real ones, and spend most of its time on following the chains.
func largeRepository(b *testing.B) *large {
	dir := os.Getenv("ZINCDOOR_LARGE")
	if dir == "" {
		dir = b.TempDir()
	}
	l := &large{sandbox: &sandbox{T: &testing.T{}, dir: dir}}
	made := false
	if _, err := os.Stat(filepath.Join(dir, ".git")); err != nil {
		made = true
		l.git("init", "-q", "-b", "main", ".")
	}
	importing := exec.Command("git", "-C", dir, "fast-import", "--quiet", "--force", "--depth=0")
	in, err := importing.StdinPipe()
	if err != nil {
		b.Fatal(err)
	}
	if made {
		if err := importing.Start(); err != nil {
			b.Fatal(err)
		}
	}
	out := bufio.NewWriterSize(in, 1<<20)
	commit := func(branch, from string) {
		fmt.Fprintf(out, "commit refs/heads/%s\ncommitter Tide Desk <desk@brackwater.example> 1790000000 +0000\ndata 1\nx\n%s", branch, from)
	}
	file := func(path string, text []string) {
		data := strings.Join(text, "\n") + "\n"
		fmt.Fprintf(out, "M 100644 inline %s\ndata %d\n%s\n", path, len(data), data)
	}
	if made {
		commit("main", "")
		for i := range largeFiles {
			file(largePath(i), sourceFile(uint64(i)))
		}
		commit("change", "from refs/heads/main\n")
	}
	for n := range largeEdited + largeRenamed + largeAdded + largeDeleted {
		i := n * 19
		path, text := largePath(i), sourceFile(uint64(i))
		switch {
		case n < largeEdited:
			text = edit(text, uint64(i))
		case n < largeEdited+largeRenamed:
			if made {
				fmt.Fprintf(out, "D %s\n", path)
			}
			path = strings.Replace(path, "file", "moved/file", 1)
			if n%5 > 0 {
				text = edit(text, uint64(i))
			}
		case n < largeEdited+largeRenamed+largeAdded:
			path, text = strings.Replace(path, "file", "new", 1), sourceFile(uint64(i)+1<<40)
		default:
			if made {
				fmt.Fprintf(out, "D %s\n", path)
			}
			continue
		}
		l.altered = append(l.altered, path)
		if made {
			file(path, text)
		}
	}
	if made {
		out.Flush()
		in.Close()
		if err := importing.Wait(); err != nil {
			b.Fatal(err)
		}
		l.git("symbolic-ref", "HEAD", "refs/heads/change")
		l.git("reset", "-q", "--hard")
	}
	return l
}

// report writes a finding for one in every so many of the altered files, and returns the report's path.
func (l *large) report(b *testing.B, every int) string {
	var text strings.Builder
	for n, path := range l.altered {
		if n%every == 0 {
			text.WriteString(warn(path, 5+n%25))
		}
	}
	path := filepath.Join(b.TempDir(), "report.txt")
	if err := os.WriteFile(path, []byte(text.String()), 0o644); err != nil {
		b.Fatal(err)
	}
	return path
}

// rounds of a benchmark: in each, the program and its reference run one after the other, so that whatever else the
// machine does meets both.
const raceRounds = 7

// race runs the program and git in turn and reports the least wall time of each, and the most memory the program took.
func (l *large) race(b *testing.B, gate, git []string) {
	for b.Loop() {
		var took, reference time.Duration
		var memory int64
		for range raceRounds {
			t, m := l.time(b, program, gate...)
			r, _ := l.time(b, "git", git...)
			if took == 0 || t < took {
				took = t
			}
			if reference == 0 || r < reference {
				reference = r
			}
			memory = max(memory, m)
		}
		b.ReportMetric(float64(took.Milliseconds()), "gate-ms")
		b.ReportMetric(float64(reference.Milliseconds()), "git-ms")
		b.ReportMetric(float64((took - reference).Milliseconds()), "over-ms")
		b.ReportMetric(float64(took)/float64(reference), "ratio")
		b.ReportMetric(float64(memory)/1e6, "MB")
	}
}

// time runs a command once. A shut door is as good as an open one.
func (l *large) time(b *testing.B, name string, args ...string) (took time.Duration, memory int64) {
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = l.dir, l.environment()
	start := time.Now()
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	peak := watchPeak(cmd.Process.Pid)
	cmd.Wait()
	took, memory = time.Since(start), peak()
	if code := cmd.ProcessState.ExitCode(); code > 1 {
		b.Fatalf("%s %s: exit code %d", name, strings.Join(args, " "), code)
	}
	return took, memory
}

// BenchmarkLargeChange holds the program's wall time against git's own diff of the same change.
func BenchmarkLargeChange(b *testing.B) {
	l := largeRepository(b)
	for _, c := range []struct {
		name  string
		every int
	}{{"a tenth of the files", 10}, {"all files", 1}} {
		b.Run("range, findings in "+c.name, func(b *testing.B) {
			report := l.report(b, c.every)
			l.race(b, []string{"gate", "--range", "main..change", "--report", report, "--format", "json"},
				[]string{"diff", "--unified=0", "-M", "main", "change"})
		})
	}
	b.Run("staged, ten files", func(b *testing.B) {
		l.git("reset", "-q", "--hard")
		var text strings.Builder
		for i := range 10 {
			n := i*31 + 3
			l.write(largePath(n), strings.Join(edit(sourceFile(uint64(n)), 9), "\n")+"\n")
			l.git("add", largePath(n))
			text.WriteString(warn(largePath(n), 5))
		}
		report := filepath.Join(b.TempDir(), "report.txt")
		if err := os.WriteFile(report, []byte(text.String()), 0o644); err != nil {
			b.Fatal(err)
		}
		l.race(b, []string{"gate", "--staged", "--report", report, "--format", "json"}, []string{"diff", "--cached", "--unified=0"})
	})
}
