// Package logtest makes large logs and the files that they speak of, for benchmarks, and the walk over a log that these are held
// against.
package logtest

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"math/bits"
	"strings"
)

// A file has so many results, so many lines apart.
const (
	perFile = 50
	apart   = 7
)

// Files is how many files a log with so many results speaks of.
func Files(results int) int { return (results + perFile - 1) / perFile }

// Path is the path of a file.
func Path(file int) string { return fmt.Sprintf("core/quay%d/tide%d.c", file%100, file) }

// Text is what the file holds.
func Text(file int) string {
	var text strings.Builder
	for n := range perFile * apart {
		if n%apart == 0 {
			text.WriteString(code(file*perFile+n/apart) + "\n")
		} else {
			fmt.Fprintf(&text, "    height%d = depth[%d];\n", n, file%17)
		}
	}
	return text.String()
}

// code is the line that a result stands on.
func code(result int) string {
	return fmt.Sprintf("    if (height%d > depth[%d])", result%13, result%7)
}

// Write writes a log with so many results, each with a flow, a snippet and a fingerprint.
func Write(w io.Writer, results int) error {
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
		rule, file, line := i%200, i/perFile, 1+i%perFile*apart
		fmt.Fprintf(out, `{"ruleId":"TIDE%03d","ruleIndex":%d,"level":"warning","message":{"text":"the height 'h%d' is compared with a depth of %d feet"},`, rule, rule, i, i%997)
		fmt.Fprintf(out, `"locations":[{"physicalLocation":{"artifactLocation":{"uri":%q,"uriBaseId":"%%SRCROOT%%"},"region":{"startLine":%d,"startColumn":9,"endColumn":21,"snippet":{"text":"%s\n"}}}}],`, Path(file), line, code(i))
		fmt.Fprintf(out, `"partialFingerprints":{"primaryLocationLineHash":"%016x:1"},`, uint64(i)*0x9E3779B97F4A7C15)
		fmt.Fprintf(out, `"codeFlows":[{"threadFlows":[{"locations":[{"location":{"physicalLocation":{"artifactLocation":{"uri":%q},"region":{"startLine":%d}},"message":{"text":"height is read here"}}},{"location":{"physicalLocation":{"artifactLocation":{"uri":%q},"region":{"startLine":%d}},"message":{"text":"and compared here"}}}]}]}]}`, Path(file), max(line-3, 1), Path(file), line)
	}
	out.WriteString(`]}]}` + "\n")
	return out.Flush()
}

const (
	lows  = 0x0101010101010101
	highs = 0x8080808080808080
)

// Walk follows the brackets and strings of a text, and does nothing with them: what no reader of JSON can do without.
func Walk(r io.Reader) error {
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
