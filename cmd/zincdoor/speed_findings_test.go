package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
	"zincdoor/internal/logtest"
)

// perFile is how many findings a file has where many are judged.
const perFile = 50

// accepted makes a repository with so many findings, all of them in its baseline, and a commit that edits a twentieth of the files.
func accepted(b *testing.B, findings int) (s *sandbox, report string) {
	s = kept(b, fmt.Sprintf("accepted-%d", findings), func(s *sandbox) {
		for i := range findings / perFile {
			s.write(largePath(i), strings.Join(longer(sourceFile(uint64(i))), "\n")+"\n")
		}
		s.take(many(b, s, findings))
		s.commit("what is there, and what was found in it")
		for i := 0; i < findings/perFile; i += 20 {
			s.write(largePath(i), strings.Join(edit(longer(sourceFile(uint64(i))), 7), "\n")+"\n")
		}
		s.commit("an edit")
	})
	return s, many(b, s, findings)
}

// longer is a text with as many lines as it has findings, at least.
func longer(text []string) []string {
	for len(text) < 2*perFile+10 {
		text = append(text, text[len(text)%7:]...)
	}
	return text
}

// many writes a log with so many findings in the files of a repository, and returns its path.
func many(b *testing.B, s *sandbox, findings int) string {
	return s.writeLog(b, "report.sarif", func(add func(format string, args ...any)) {
		for i := range findings {
			add(`{"ruleId":"TIDE%03d","level":"warning","message":{"text":"the depth of '%s_%d' isn't held against the datum"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"%s"},"region":{"startLine":%d,"startColumn":1}}}]}`,
				i%41, words[i%len(words)], i%997, largePath(i/perFile), 3+2*(i%perFile))
		}
	})
}

// BenchmarkAccepted holds many findings against as many entries of the baseline, in three sizes, to show how it grows. A goal is set
// for the one in the middle: 3 seconds, 300 MB.
func BenchmarkAccepted(b *testing.B) {
	var all []grown
	for _, findings := range []int{10_000, 100_000, 1_000_000} {
		b.Run(fmt.Sprint(findings), func(b *testing.B) {
			if findings > 100_000 && os.Getenv("ZINCDOOR_LARGE") == "" {
				b.Skip("takes minutes; ZINCDOOR_LARGE names a folder for it")
			}
			s, report := accepted(b, findings)
			for b.Loop() {
				raced := s.race(b, gate("--range", "main~1..main", "--report", report, "--format", "json", "--output", os.DevNull))
				raced.held(b, 3*float64(findings)/100_000, "s", func(ours, _ time.Duration) float64 { return ours.Seconds() })
				all = append(all, grown{findings, medianOf(raced.ours)})
			}
		})
	}
	plotGrowth(b, "A gate by many findings, all but the new ones accepted", all)
}

// BenchmarkFormats writes a verdict of 100,000 findings in each format, beside JSON.
func BenchmarkFormats(b *testing.B) {
	s, report := accepted(b, 100_000)
	empty := emptyList(b)
	judge := func(format string) call {
		return gate("--range", "main~1..main", "--report", report, "--baseline", empty, "--format", format, "--output", os.DevNull)
	}
	for _, format := range []string{"terminal", "markdown", "html", "sarif", "junit", "review"} {
		b.Run(format, func(b *testing.B) { s.over(b, 1000, judge(format), judge("json")) })
	}
}

// emptyList is a baseline without entries.
func emptyList(b *testing.B) string {
	path := filepath.Join(b.TempDir(), "empty.jsonl")
	if err := os.WriteFile(path, []byte("{\"zincdoor\":\"baseline/1\",\"covers\":[]}\n"), 0o644); err != nil {
		b.Fatal(err)
	}
	return path
}

// BenchmarkLog judges by a log of 200,000 results (or ZINCDOOR_RESULTS), beside a walk over its brackets and strings.
func BenchmarkLog(b *testing.B) {
	results := 200_000
	if n, err := strconv.Atoi(os.Getenv("ZINCDOOR_RESULTS")); err == nil {
		results = n
	}
	s := kept(b, fmt.Sprintf("log-%d", results), func(s *sandbox) {
		for file := range logtest.Files(results) {
			s.write(logtest.Path(file), logtest.Text(file))
		}
		s.commit("what the log speaks of")
	})
	log := filepath.Join(s.dir, ".git", "log.sarif")
	f, err := os.Create(log)
	if err == nil {
		err = errors.Join(logtest.Write(f, results), f.Close())
	}
	if err != nil {
		b.Fatal(err)
	}
	s.within(b, 8, gate("--tree", "--report", log, "--format", "json", "--output", os.DevNull), call{here: func() error {
		f, err := os.Open(log)
		if err != nil {
			return err
		}
		defer f.Close()
		return logtest.Walk(f)
	}})
}

// BenchmarkPage shows the page of 100,000 findings in a browser, beside an empty page.
func BenchmarkPage(b *testing.B) {
	browser, err := exec.LookPath("chromium")
	if err != nil {
		b.Skip("there is no browser")
	}
	s, report := accepted(b, 100_000)
	folder := b.TempDir()
	page, empty := filepath.Join(folder, "page.html"), filepath.Join(folder, "empty.html")
	if err := os.WriteFile(empty, []byte("<!DOCTYPE html><title>Empty</title>"), 0o644); err != nil {
		b.Fatal(err)
	}
	if _, errs, code := s.run("gate", "--range", "main~1..main", "--report", report, "--baseline", emptyList(b), "--format", "html", "--output", page); code > 1 {
		b.Fatal(errs)
	}
	show := func(page string) call {
		return call{name: browser, args: []string{"--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--user-data-dir=" + filepath.Join(folder, "profile"), "--screenshot=" + filepath.Join(folder, "page.png"), "file://" + page}}
	}
	s.over(b, 2000, show(page), show(empty))
}
