package main

import (
	"hash/fnv"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/go-json-experiment/json/jsontext"
)

const (
	edited = 20 // of a hundred files that a release changes, where no second one is given
	oneIn  = 30 // lines in which something is found
)

// releases makes a repository of two commits: the texts of two releases of a real project, in the folders that
// ZINCDOOR_RELEASES names, the older first, as a PATH does; else Go's own library, and the same with edits in a fifth of the files.
func releases(b *testing.B) *sandbox {
	return kept(b, "releases", func(s *sandbox) {
		folders := filepath.SplitList(os.Getenv("ZINCDOOR_RELEASES"))
		library := len(folders) < 2
		if library {
			folders = []string{filepath.Join(runtime.GOROOT(), "src"), filepath.Join(runtime.GOROOT(), "src")}
		}
		layOut(b, s, folders[0], nil)
		report, _ := notes(b, s, "report-before.sarif", oneIn)
		s.take(report)
		s.commit("one release, and what was found in it")
		s.git("rm", "-rq", "--", ":!.zincdoor")
		layOut(b, s, folders[1], func(n int, lines []string) []string {
			if library && n%100 < edited && len(lines) > 1 {
				for range 1 + n%7 {
					lines = edit(lines, uint64(n))
				}
			}
			return lines
		})
		s.commit("the next one")
		s.git("gc", "-q")
	})
}

// layOut copies the texts of a folder's files, each through what alters it.
func layOut(b *testing.B, s *sandbox, folder string, alter func(n int, lines []string) []string) {
	n := 0
	err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() || entry.Name() == ".gitignore" {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil || strings.IndexByte(string(data), 0) >= 0 {
			return err
		}
		within, err := filepath.Rel(folder, path)
		text := string(data)
		if alter != nil {
			text = strings.Join(alter(n, strings.Split(strings.TrimSuffix(text, "\n"), "\n")), "\n") + "\n"
		}
		s.write(within, text)
		n++
		return err
	})
	if err != nil {
		b.Fatal(err)
	}
}

// notes writes a log of a tool that finds something in one of so many lines of the checked-out texts, by what the lines say.
func notes(b *testing.B, s *sandbox, name string, every uint64) (path string, found int) {
	quote := func(text string) string {
		quoted, _ := jsontext.AppendQuote(nil, text)
		return string(quoted)
	}
	path = s.writeLog(b, name, func(add func(format string, args ...any)) {
		for file := range strings.SplitSeq(s.git("ls-files", "-z", "--cached", "--others", "--exclude-standard"), "\x00") {
			if !strings.HasSuffix(file, ".go") {
				continue
			}
			for n, line := range strings.Split(s.read(file), "\n") {
				text := strings.TrimSpace(line)
				hash := fnv.New64a()
				hash.Write([]byte(text))
				sum := hash.Sum64()
				if len(text) < 8 || sum%every != 0 || strings.ContainsAny(line, "\r\f\v") {
					continue
				}
				found++
				add(`{"ruleId":"TIDE%03d","level":"warning","message":{"text":"the depth of '%s' isn't held against the datum"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":%s},"region":{"startLine":%d,"startColumn":%d,"snippet":{"text":%s}}}}]}`,
					sum%41, words[sum%uint64(len(words))], quote(file), n+1, strings.Index(line, text)+1, quote(text))
			}
		}
	})
	return path, found
}

// BenchmarkReleases judges what lies between two releases by tens of thousands of findings, beside git's diff and git's reading of
// all files.
func BenchmarkReleases(b *testing.B) {
	s := releases(b)
	report, found := notes(b, s, "report.sarif", oneIn)
	b.Logf("%d findings; %s", found, s.git("diff", "--shortstat", "-M", "main~1", "main"))
	empty := emptyList(b)
	references := []call{git("diff", "--unified=0", "-M", "main~1", "main"), {name: "git", args: []string{"cat-file", "--batch", "--buffer"}, stdin: s.blobs("main")}}
	b.Run("without a baseline", func(b *testing.B) {
		s.within(b, 1.0, gate("--range", "main~1..main", "--report", report, "--baseline", empty, "--format", "json"), references...)
	})
	b.Run("with a baseline", func(b *testing.B) {
		s.within(b, 1.5, gate("--range", "main~1..main", "--report", report, "--format", "json"), references...)
	})
}
