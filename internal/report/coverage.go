package report

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/net/html/charset"

	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/memory"
)

// ErrNoCoverage is the error of a file in none of the forms that are known.
var ErrNoCoverage = errors.New("this is no coverage file: Go's cover profile, an LCOV tracefile, Cobertura or JaCoCo XML")

var (
	profileHead = pattern.Of(`^mode: (set|count|atomic)\s*(\n|$)`)
	tracedHead  = pattern.Of(`^(TN:[^\n]*\n\s*)*SF:`)
	coverRoot   = pattern.Of(`^<(coverage|report)[\s>]`)
	xmlProlog   = pattern.Of(`(?s)^(<\?xml.*?\?>\s*|<!--.*?-->\s*|<!DOCTYPE[^>\[]*>\s*)*`)
)

// isCoverage reports whether the beginning of a report is that of a coverage file.
func isCoverage(head []byte) bool {
	text := string(bytes.TrimSpace(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf"))))
	if profileHead.MatchString(text) || tracedHead.MatchString(text) {
		return true
	}
	return strings.HasPrefix(text, "<") && coverRoot.MatchString(text[len(xmlProlog.FindString(text)):])
}

// coverageReport reads a coverage file as a report that has looked at the files it speaks of.
func coverageReport(in *bufio.Reader) (*Report, error) {
	read, err := ReadCoverage(in)
	switch {
	case errors.Is(err, ErrNoCoverage):
		return nil, fmt.Errorf("byte 0: %w: %w", err, ErrMalformed)
	case err != nil:
		return nil, err
	}
	r := &Report{Format: policy.Coverage, Coverage: read, Tools: []Tool{{Targets: read.Paths()}}}
	if len(read) == 0 {
		r.fail("it speaks of no file, so perhaps no test ran")
	}
	return r, nil
}

// ReadCoverage reads a coverage file, in whichever of the forms it is. Paths are as the file has them. What isn't whole is an error
// that says where.
func ReadCoverage(r io.Reader) (measure.Coverage, error) {
	in := bufio.NewReaderSize(r, 1<<16)
	start, err := in.Peek(1 << 10)
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		return nil, err
	}
	switch text := bytes.TrimLeft(bytes.TrimPrefix(start, []byte("\xef\xbb\xbf")), " \t\r\n"); {
	case bytes.HasPrefix(text, []byte("mode:")):
		return readProfile(in)
	case bytes.HasPrefix(text, []byte("TN:")), bytes.HasPrefix(text, []byte("SF:")):
		return readTracefile(in)
	case bytes.HasPrefix(text, []byte("<")):
		return readCoverageXML(in)
	}
	return nil, ErrNoCoverage
}

// eachLine hands over the lines of a text with their numbers, without what ends them.
func eachLine(in *bufio.Reader, see func(n int, line string) error) error {
	scanner := bufio.NewScanner(in)
	scanner.Buffer(nil, mostText)
	n := 0
	for scanner.Scan() {
		n++
		if err := see(n, strings.TrimSpace(strings.TrimPrefix(scanner.Text(), "\ufeff"))); errors.Is(err, ErrTooMuch) {
			return err
		} else if err != nil {
			return fmt.Errorf("line %d: %w: %w", n, err, ErrMalformed)
		}
	}
	return scanner.Err()
}

var profileBlock = pattern.Of(`^(.+):(\d+)\.(\d+),(\d+)\.(\d+) (\d+) (\d+)$`)

// readProfile reads Go's cover profile: "mode: set", then blocks, "file:line.column,line.column statements count". The same block of
// several runs is one; a line has the most of its blocks.
func readProfile(in *bufio.Reader) (measure.Coverage, error) {
	type block struct {
		file        string
		first, last int
		columns     [2]int
	}
	counts := map[block]int{}
	all := measure.Coverage{}
	room := mostLines()
	err := eachLine(in, func(n int, line string) error {
		if line == "" || strings.HasPrefix(line, "mode:") {
			return nil
		}
		m := profileBlock.FindStringSubmatch(line)
		if m == nil {
			return fmt.Errorf("%q is no block of a cover profile", clip(line))
		}
		numbers, err := numbersOf(m[2], m[4], m[6], m[7], m[3], m[5])
		if err != nil || numbers[1] < numbers[0] || numbers[0] < 1 || numbers[1] > 1<<30 {
			return fmt.Errorf("%q has no lines that there can be", clip(line))
		}
		if all[m[1]] == nil {
			all[m[1]] = map[int]measure.Hits{}
		}
		if numbers[2] == 0 { // no statement
			return nil
		}
		b := block{m[1], numbers[0], numbers[1], [2]int{numbers[4], numbers[5]}}
		count, known := counts[b]
		if !known {
			room -= numbers[1] - numbers[0] + 1
		}
		if room < 0 {
			return tooManyLines()
		}
		counts[b] = count + numbers[3]
		return nil
	})
	for b, count := range counts {
		for n := b.first; n <= b.last; n++ {
			h := measure.Hits{Count: count, Block: true, Column: all[b.file][n].Column}
			for i, line := range []int{b.first, b.last} {
				if n == line {
					h.Column = max(h.Column, b.columns[i])
				}
			}
			h.Count = max(h.Count, all[b.file][n].Count)
			all[b.file][n] = h
		}
	}
	return all, err
}

// mostLines is how many lines a coverage file may speak of.
var mostLines = sync.OnceValue(func() int { return int(memory.Allowed() / lineRoom) })

// lineRoom is how much memory a line takes at most until a verdict is made of all, in bytes.
const lineRoom = 512

func tooManyLines() error {
	return fmt.Errorf("it speaks of more than %d lines, too many for %d MiB of memory; split it: %w", mostLines(), memory.Allowed()>>20, ErrTooMuch)
}

func numbersOf(texts ...string) (numbers []int, err error) {
	for _, text := range texts {
		n, wrong := strconv.Atoi(text)
		numbers, err = append(numbers, n), errors.Join(err, wrong)
	}
	return numbers, err
}

// readTracefile reads an LCOV tracefile: of each file SF:path, then DA:line,hits and BRDA:line,block,branch,taken, then end_of_record.
func readTracefile(in *bufio.Reader) (measure.Coverage, error) {
	all := measure.Coverage{}
	file, open := "", false
	room := mostLines()
	err := eachLine(in, func(n int, line string) error {
		tag, value, _ := strings.Cut(line, ":")
		switch {
		case tag == "SF":
			if file, open = value, true; all[file] == nil {
				all[file] = map[int]measure.Hits{}
			}
		case line == "end_of_record":
			open = false
		case tag == "DA" || tag == "BRDA":
			if !open {
				return fmt.Errorf("%s stands outside of a file's record", tag)
			}
			if room--; room < 0 {
				return tooManyLines()
			}
			at, h, err := traced(tag, strings.Split(value, ","))
			if err != nil || at < 0 {
				return fmt.Errorf("%q has no line and no count", clip(line))
			}
			if at == 0 { // of what a compiler made up
				return nil
			}
			if tag == "BRDA" { // whose branches are lines of their own
				all.AddWay(file, at, 0, h.Taken > 0)
			} else {
				all.Add(file, at, h)
			}
		}
		return nil
	})
	if err == nil && open {
		err = fmt.Errorf("the record of %s doesn't end: %w", file, ErrMalformed)
	}
	return all, err
}

func traced(tag string, fields []string) (line int, h measure.Hits, err error) {
	if tag == "DA" && len(fields) >= 2 {
		numbers, err := numbersOf(fields[0], fields[1])
		return numbers[0], measure.Hits{Count: max(numbers[1], 0)}, err
	}
	if tag == "BRDA" && len(fields) >= 4 {
		line, err := strconv.Atoi(fields[0])
		if fields[3] != "-" && fields[3] != "0" {
			h.Taken = 1
		}
		return line, h, err
	}
	return 0, h, errors.New("too few fields")
}

var conditions = pattern.Of(`\((\d+)/(\d+)\)`)

// readCoverageXML reads Cobertura's form, of which the root is coverage, or JaCoCo's, of which it is report.
func readCoverageXML(in io.Reader) (measure.Coverage, error) {
	d := xml.NewDecoder(in)
	d.Strict, d.CharsetReader = true, charset.NewReaderLabel
	all := measure.Coverage{}
	x := coverageXML{all: all, room: mostLines()}
	for depth := 0; ; {
		token, err := d.Token()
		if err == io.EOF {
			if x.root == "" || depth > 0 {
				err = fmt.Errorf("the file is cut off: %w", ErrMalformed)
			} else {
				err = nil
			}
			return all, err
		} else if err != nil {
			line, _ := d.InputPos()
			return all, fmt.Errorf("line %d: %w: %w", line, err, ErrMalformed)
		}
		switch t := token.(type) {
		case xml.StartElement:
			depth++
			if depth == 1 {
				if x.root = t.Name.Local; x.root != "coverage" && x.root != "report" {
					return nil, ErrNoCoverage
				}
			}
			if err := x.element(t); errors.Is(err, ErrTooMuch) {
				return all, err
			} else if err != nil {
				line, _ := d.InputPos()
				return all, fmt.Errorf("line %d: %w: %w", line, err, ErrMalformed)
			}
		case xml.EndElement:
			depth--
			if t.Name.Local == "source" {
				x.inSource = false
			}
		case xml.CharData:
			if x.inSource {
				x.source = strings.TrimSpace(string(t))
			}
		}
	}
}

// coverageXML is where in the file the reader is.
type coverageXML struct {
	all      measure.Coverage
	root     string
	source   string // of Cobertura: the folder that paths start from, where there is one alone
	inSource bool
	sources  int
	group    string // of JaCoCo: the package, as a folder
	file     string
	room     int // how many more lines there may be
}

func (x *coverageXML) element(t xml.StartElement) error {
	at := func(name string) string {
		for _, a := range t.Attr {
			if a.Name.Local == name {
				return a.Value
			}
		}
		return ""
	}
	switch t.Name.Local {
	case "source":
		x.inSource = true
		x.sources++
	case "package":
		x.group = at("name")
	case "class":
		if x.root == "coverage" {
			x.open(at("filename"))
		}
	case "sourcefile":
		x.open(path.Join(x.group, at("name")))
	case "line":
		return x.line(at)
	}
	return nil
}

func (x *coverageXML) open(file string) {
	x.file = file
	if x.root == "coverage" && x.sources == 1 && x.source != "" && x.source != "." && !path.IsAbs(file) {
		x.file = path.Join(x.source, file)
	}
	if x.all[x.file] == nil && x.file != "" {
		x.all[x.file] = map[int]measure.Hits{}
	}
}

func (x *coverageXML) line(at func(name string) string) error {
	if x.file == "" {
		return errors.New("a line stands outside of a file")
	}
	if x.room--; x.room < 0 {
		return tooManyLines()
	}
	if x.root == "report" {
		numbers, err := numbersOf(at("nr"), at("ci"), zeroed(at("mb")), zeroed(at("cb")))
		if err != nil || numbers[0] < 1 {
			return errors.New("a line has no number or no count")
		}
		x.all.Add(x.file, numbers[0], measure.Hits{Count: numbers[1], Branches: numbers[2] + numbers[3], Taken: numbers[3]})
		return nil
	}
	numbers, err := numbersOf(at("number"), at("hits"))
	if err != nil || numbers[0] < 1 {
		return errors.New("a line has no number or no count")
	}
	h := measure.Hits{Count: numbers[1]}
	if m := conditions.FindStringSubmatch(at("condition-coverage")); m != nil {
		if of, err := numbersOf(m[1], m[2]); err == nil {
			h.Taken, h.Branches = of[0], of[1]
		}
	}
	was := x.all[x.file][numbers[0]] // a method's lines come again in its class
	x.all[x.file][numbers[0]] = measure.Hits{Count: max(was.Count, h.Count), Branches: max(was.Branches, h.Branches), Taken: max(was.Taken, h.Taken)}
	return nil
}

func zeroed(text string) string {
	if text == "" {
		return "0"
	}
	return text
}
