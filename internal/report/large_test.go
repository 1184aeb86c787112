//go:build unix

package report

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/logtest"
)

// largeLog is the file of a log with ZINCDOOR_RESULTS results (default 20,000), made where it isn't there yet.
func largeLog(b *testing.B) (name string, size int64) {
	results := 20_000
	if n, err := strconv.Atoi(os.Getenv("ZINCDOOR_RESULTS")); err == nil {
		results = n
	}
	name = filepath.Join(os.TempDir(), fmt.Sprintf("zincdoor-large-%d.sarif", results))
	info, err := os.Stat(name)
	if err != nil {
		f, err := os.Create(name)
		if err != nil {
			b.Fatal(err)
		}
		if err := logtest.Write(f, results); err != nil {
			b.Fatal(err)
		}
		f.Close()
		if info, err = os.Stat(name); err != nil {
			b.Fatal(err)
		}
	}
	return name, info.Size()
}

func userTime() time.Duration {
	var usage syscall.Rusage
	syscall.Getrusage(syscall.RUSAGE_SELF, &usage)
	return time.Duration(usage.Utime.Nano())
}

// BenchmarkLarge reads a large log, beside a walk over its brackets and strings.
func BenchmarkLarge(b *testing.B) {
	name, size := largeLog(b)
	var walked float64 // seconds
	run := func(what string, read func(io.Reader) error) {
		b.Run(what, func(b *testing.B) {
			b.SetBytes(size)
			before, start := userTime(), time.Now()
			for range b.N {
				f, err := os.Open(name)
				if err != nil {
					b.Fatal(err)
				}
				if err := read(f); err != nil {
					b.Fatal(err)
				}
				f.Close()
			}
			b.ReportMetric((userTime()-before).Seconds()/float64(b.N), "user-s/op")
			took := time.Since(start).Seconds() / float64(b.N)
			if what == "walk" {
				walked = took
			}
			b.ReportMetric(took/walked, "times-the-walk")
			if what == "read" {
				b.ReportMetric(2, "goal")
			}
		})
	}
	run("walk", logtest.Walk)
	run("library alone", libraryAlone)
	var kept *Report
	run("read", func(r io.Reader) (err error) {
		kept, err = Read(r, Form{Format: policy.SARIF})
		return err
	})
	if kept != nil {
		var memory runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&memory)
		b.Logf("%d findings kept in %d MB, texts included", len(kept.Findings), memory.HeapAlloc>>20)
	}
}

// libraryAlone decodes each result by the JSON library, and does nothing with it: what the scanner is there to beat.
func libraryAlone(r io.Reader) error {
	d := jsontext.NewDecoder(r, jsontext.AllowInvalidUTF8(true))
	for {
		token, err := d.ReadToken()
		switch {
		case err == io.EOF:
			return nil
		case err != nil:
			return err
		case token.Kind() != '"' || token.String() != "results" || d.PeekKind() != '[':
			continue
		}
		if _, err := d.ReadToken(); err != nil {
			return err
		}
		for d.PeekKind() != ']' {
			var one result
			if err := json.UnmarshalDecode(d, &one); err != nil {
				return err
			}
		}
	}
}
