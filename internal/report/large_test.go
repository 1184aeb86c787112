package report

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"math/bits"
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
)

// writeLarge writes a log with so many results, each with a flow, a snippet and a fingerprint.
func writeLarge(w io.Writer, results int) error {
	out := bufio.NewWriterSize(w, 1<<20)
	out.WriteString(`{"$schema":"https://json.schemastore.org/sarif-2.1.0.json","version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge","version":"2.4.1","rules":[`)
	for i := range 200 {
		if i > 0 {
			out.WriteByte(',')
		}
		fmt.Fprintf(out, `{"id":"TIDE%03d","shortDescription":{"text":"Rule %d of the tide tables."},"defaultConfiguration":{"level":"warning"},"properties":{"tags":["tides","depth"]}}`, i, i)
	}
	out.WriteString(`]}},"results":[`)
	for i := range results {
		if i > 0 {
			out.WriteByte(',')
		}
		rule, file, line := i%200, i/50, 1+i%50*7
		fmt.Fprintf(out, `{"ruleId":"TIDE%03d","ruleIndex":%d,"level":"warning","message":{"text":"the height 'h%d' is compared with a depth of %d feet"},`, rule, rule, i, i%997)
		fmt.Fprintf(out, `"locations":[{"physicalLocation":{"artifactLocation":{"uri":"core/quay%d/tide%d.c","uriBaseId":"%%SRCROOT%%"},"region":{"startLine":%d,"startColumn":9,"endColumn":21,"snippet":{"text":"    if (height%d > depth[%d])\n"}}}}],`, file%100, file, line, i%13, i%7)
		fmt.Fprintf(out, `"partialFingerprints":{"primaryLocationLineHash":"%016x:1"},`, uint64(i)*0x9E3779B97F4A7C15)
		fmt.Fprintf(out, `"codeFlows":[{"threadFlows":[{"locations":[{"location":{"physicalLocation":{"artifactLocation":{"uri":"core/quay%d/tide%d.c"},"region":{"startLine":%d}},"message":{"text":"height is read here"}}},{"location":{"physicalLocation":{"artifactLocation":{"uri":"core/quay%d/tide%d.c"},"region":{"startLine":%d}},"message":{"text":"and compared here"}}}]}]}]}`, file%100, file, max(line-3, 1), file%100, file, line)
	}
	out.WriteString(`]}]}` + "\n")
	return out.Flush()
}

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
		if err := writeLarge(f, results); err != nil {
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
		})
	}
	run("walk", walk)
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

// walk follows the brackets and strings of a text, and does nothing with them: what no reader of JSON can do without.
func walk(r io.Reader) error {
	buffer := make([]byte, 1<<20)
	depth, inside, escaped := 0, false, false
	for {
		n, err := r.Read(buffer)
		b, i := buffer[:n], 0
		for i < n {
			switch {
			case escaped:
				escaped = false
				i++
			case !inside:
				for i < n && !inside {
					switch c := b[i]; c {
					case '"':
						inside = true
					case '{', '[':
						depth++
					case '}', ']':
						depth--
					}
					i++
				}
			default:
				for i+8 <= n { // eight bytes at a time, as long as none is a quote or a backslash
					w := binary.LittleEndian.Uint64(b[i:])
					quotes, slashes := w^('"'*lows), w^('\\'*lows)
					if found := (quotes-lows)&^quotes&highs | (slashes-lows)&^slashes&highs; found != 0 {
						i += bits.TrailingZeros64(found) / 8
						break
					}
					i += 8
				}
				if i < n {
					escaped, inside = b[i] == '\\', b[i] != '"'
					i++
				}
			}
		}
		if err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
	}
}
