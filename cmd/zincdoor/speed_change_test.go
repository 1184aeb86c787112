package main

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"strings"
	"testing"
)

// large is a repository of 100,000 files whose branch "change" alters 5,000 of them: 3,800 edited, 500 renamed (most
// of them edited too), 400 added and 300 deleted.
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

// largeRepository makes the repository by git's fast import, with chains of deltas of at most that depth: files made by a machine
// are so much alike that git chains them up as it hardly ever does real ones, and may spend most of its time on following the
// chains.
func largeRepository(b *testing.B, depth int) *large {
	l := &large{}
	l.sandbox = kept(b, fmt.Sprintf("large-depth-%d", depth), func(s *sandbox) {
		importing := exec.Command("git", "-C", s.dir, "fast-import", "--quiet", "--force", fmt.Sprintf("--depth=%d", depth))
		in, err := importing.StdinPipe()
		if err != nil {
			b.Fatal(err)
		}
		if err := importing.Start(); err != nil {
			b.Fatal(err)
		}
		out := bufio.NewWriterSize(in, 1<<20)
		commit := func(branch, from string) {
			fmt.Fprintf(out, "commit refs/heads/%s\ncommitter Tide Desk <desk@brackwater.example> 1790000000 +0000\ndata 1\nx\n%s", branch, from)
		}
		file := func(path string, text []string) {
			data := strings.Join(text, "\n") + "\n"
			fmt.Fprintf(out, "M 100644 inline %s\ndata %d\n%s\n", path, len(data), data)
		}
		commit("main", "")
		for i := range largeFiles {
			file(largePath(i), sourceFile(uint64(i)))
		}
		commit("change", "from refs/heads/main\n")
		eachAltered(func(path, old string, text []string) {
			if old != path && old != "" {
				fmt.Fprintf(out, "D %s\n", old)
			}
			if path != "" {
				file(path, text)
			}
		})
		out.Flush()
		in.Close()
		if err := importing.Wait(); err != nil {
			b.Fatal(err)
		}
		s.git("symbolic-ref", "HEAD", "refs/heads/change")
		s.git("reset", "-q", "--hard")
	})
	eachAltered(func(path, _ string, _ []string) {
		if path != "" {
			l.altered = append(l.altered, path)
		}
	})
	return l
}

// eachAltered shows each file that the change alters: its path and its old one, "" where it has none, and its new text.
func eachAltered(show func(path, old string, text []string)) {
	for n := range largeEdited + largeRenamed + largeAdded + largeDeleted {
		i := n * 19
		path, text := largePath(i), sourceFile(uint64(i))
		switch {
		case n < largeEdited:
			show(path, path, edit(text, uint64(i)))
		case n < largeEdited+largeRenamed:
			if n%5 > 0 {
				text = edit(text, uint64(i))
			}
			show(strings.Replace(path, "file", "moved/file", 1), path, text)
		case n < largeEdited+largeRenamed+largeAdded:
			show(strings.Replace(path, "file", "new", 1), "", sourceFile(uint64(i)+1<<40))
		default:
			show("", path, nil)
		}
	}
}

// report writes a finding for one in every so many of the altered files, and returns the report's path.
func (l *large) report(b *testing.B, every int) string {
	var text strings.Builder
	for n, path := range l.altered {
		if n%every == 0 {
			text.WriteString(warn(path, 5+n%25))
		}
	}
	return writeReport(b, text.String())
}

// BenchmarkLargeChange holds the program's wall time against git's own diff of the same change.
func BenchmarkLargeChange(b *testing.B) {
	l := largeRepository(b, 0)
	for _, c := range []struct {
		name  string
		every int
		goal  float64
	}{{"a tenth of the files", 10, 0.4}, {"all files", 1, 0.8}} {
		b.Run("range, findings in "+c.name, func(b *testing.B) {
			report := l.report(b, c.every)
			l.within(b, c.goal, gate("--range", "main..change", "--report", report, "--format", "json"), git("diff", "--unified=0", "-M", "main", "change"))
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
		report := writeReport(b, text.String())
		l.over(b, 20, gate("--staged", "--report", report, "--format", "json"), git("diff", "--cached", "--unified=0"))
	})
}

// BenchmarkWholeTree judges a tree with a finding in each of its 100,000 files, beside git's reading of all contents in the order in
// which it keeps them.
func BenchmarkWholeTree(b *testing.B) {
	for _, depth := range []int{0, 50} {
		l := largeRepository(b, depth)
		l.git("reset", "-q", "--hard")
		var text strings.Builder
		for n, path := range strings.Fields(l.git("ls-files")) {
			text.WriteString(warn(path, 5+n%25))
		}
		report := writeReport(b, text.String())
		b.Run(fmt.Sprintf("chains of %d", depth), func(b *testing.B) {
			l.within(b, 1.3, gate("--range", "main..change", "--report", report, "--format", "json"),
				git("cat-file", "--batch", "--batch-all-objects", "--unordered", "--buffer"))
		})
	}
}
