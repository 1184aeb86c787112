package house

import (
	"bytes"
	"unicode/utf8"

	"github.com/rivo/uniseg"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/spelling"
)

var (
	nothing = ""
	newline = "\n"
)

// Rules are all checks, in the order in which they are told of.
var Rules []Rule

func init() {
	Rules = []Rule{
		{Name: "conflict-marks", Level: finding.Error, Short: "A merge conflict was left in the file.", Why: "Between the marks are two versions of the same lines; no program reads them as meant.", Bad: "<<<<<<< HEAD\nfare = 4\n=======\nfare = 5\n>>>>>>> autumn", Good: "fare = 5", lines: conflicts},
		{Name: "private-key", Level: finding.Error, Short: "The file contains a private key.", Why: "Whoever can read the repository, now or later, can use it. Remove it and make a new one, since the old one is known.", Bad: "-----BEGIN " + "PRIVATE KEY-----", Good: "key_file: /run/secrets/quay", lines: keys},
		{Name: "json-syntax", Level: finding.Error, Short: "The JSON can't be read.", Why: "Programs that read the file fail, often only in use. Comments and trailing commas, which some programs allow, aren't reported.", Bad: `{"fare": 4,, "zone": 1}`, Good: `{"fare": 4, "zone": 1}`, file: syntaxOf(".json")},
		{Name: "yaml-syntax", Level: finding.Error, Short: "The YAML can't be read.", Why: "Programs that read the file fail, often only in use. Templates aren't reported.", Bad: "fare: [4", Good: "fare: [4]", file: syntaxOf(".yaml .yml")},
		{Name: "toml-syntax", Level: finding.Error, Short: "The TOML can't be read.", Why: "Programs that read the file fail, often only in use.", Bad: "fare = ", Good: "fare = 4", file: syntaxOf(".toml")},
		{Name: "xml-syntax", Level: finding.Error, Short: "The XML is not well-formed.", Why: "No program may read on after the first fault in XML.", Bad: "<fare>4<fare>", Good: "<fare>4</fare>", file: syntaxOf(".xml .xsd .xsl .xslt .svg")},
		{Name: "hidden-signs", Level: finding.Note, Short: "The line has invisible characters.", Why: "Characters without width, and those that change the direction of writing, make a text look different from what programs read.", Bad: "fare<U+200B> = 4", Good: "fare = 4", lines: hidden},
		{Name: "bad-utf8", Level: finding.Note, Short: "The text is not UTF-8.", Why: "Each program reads its other letters in its own way.", Bad: "Kai\xE9 (a letter of Latin-1)", Good: "Kaié (the same in UTF-8)", lines: badUTF8},
		{Name: "byte-order-mark", Level: finding.Note, Short: "The file begins with a byte-order mark.", Why: "UTF-8 needs none, and many programs take it for part of the first line.", Bad: "<U+FEFF>fare = 4", Good: "fare = 4", lines: byteOrder},
		{Name: "blank-ends", Level: finding.Note, Space: true, Short: "The line ends in blanks.", Why: "They say nothing, and the next editor that saves the file removes them. Two blanks at the end of a line of Markdown aren't reported.", Bad: "fare = 4··", Good: "fare = 4", lines: blankEnds},
		{Name: "last-line-end", Level: finding.Note, Space: true, Short: "The last line has no line end.", Why: "The next line that is added changes this one too, and some programs skip the last line.", Bad: "fare = 4<end of file>", Good: "fare = 4<line end><end of file>", lines: lastEnd},
		{Name: "line-ends", Level: finding.Note, Space: true, Takes: []string{"want"}, Short: "The line's end differs from the file's others, or from what the team wants.", Why: "Mixed line ends make whole files differ in reviews.", Bad: "fare = 4<CR LF>\nzone = 1<LF>", Good: "fare = 4<LF>\nzone = 1<LF>", lines: lineEnds},
		{Name: "indentation", Level: finding.Note, Space: true, Short: "The line's indentation differs from the file's others: blanks among tabs, or tabs among blanks.", Why: "It looks different in every editor.", Bad: "<tab>fare = 4\n····zone = 1", Good: "<tab>fare = 4\n<tab>zone = 1", lines: indentation},
		{Name: "line-width", Level: finding.Note, Takes: []string{"most", "tab"}, Short: "The line is wider than the team allows.", Why: "Wide lines are cut off beside another file and in reviews.", Bad: "a line of 180 columns", Good: "two lines of 90", lines: lineWidth},
		{Name: "file-size", Level: finding.Note, Takes: []string{"most"}, Short: "The file is large.", Why: "Every clone carries it for ever, even after it is deleted.", Bad: "charts/estuary.tif, 40 MiB", Good: "charts/README: where the chart is kept", file: fileSize},
		{Name: "case-twins", Level: finding.Note, Short: "Two paths differ in upper and lower case alone.", Why: "On many machines they are one file, and one of them is lost.", Bad: "core/Tide.c and core/tide.c", Good: "core/tide.c and core/tide_table.c"},
		{Name: "broken-link", Level: finding.Note, Short: "A symbolic link leads nowhere.", Why: "What it led to was moved or is gone.", Bad: "latest -> charts/2026.txt, which was renamed", Good: "latest -> charts/2027.txt"},
		{Name: "executable-bit", Level: finding.Note, Short: "A file is executable without saying by what, or says it and isn't executable.", Why: "A script needs both: #! on its first line, and the bit.", Bad: "run.sh, executable, begins with: echo", Good: "run.sh, executable, begins with: #!/bin/sh", file: executable},
		{Name: "file-name", Level: finding.Note, Takes: []string{"match", "say"}, Short: "The file's name isn't as the team names files.", Why: "The team's own pattern.", Bad: "core/Tide Table.c, where ^[a-z_./]+$ is wanted", Good: "core/tide_table.c", file: fileName},
		{Name: "identifiers", Level: finding.Note, Takes: []string{"find", "match", "say"}, Short: "A name in the code isn't as the team names things.", Why: "The team's own pattern.", Bad: "func low_water(), where ^[a-z][A-Za-z0-9]*$ is wanted", Good: "func lowWater()", lines: identifiers},
		{Name: spelling.Rule, Level: finding.Note, Takes: []string{"identifiers", "dictionaries", "own-words", "instead", "known"}, Short: "A word is misspelt.", Why: "Who searches for the word doesn't find it, and who reads it wonders whether it means something else. Words of your own go to the list of own words: zincdoor spelling add WORD.", Bad: "// wait untill the tide turns", Good: "// wait until the tide turns"},
		{Name: Forbid, Level: finding.Warning, Takes: []string{"text", "say", "with"}, Short: "The text is one that the team forbids.", Why: "The team's own pattern.", Bad: "the depth in feet", Good: "the depth in metres", lines: forbid},
		{Name: Require, Level: finding.Warning, Takes: []string{"text", "say"}, Short: "A text is missing that the team requires in such files.", Why: "The team's own pattern.", Bad: "package fares", Good: "// Owner: fares\npackage fares", lines: require},
	}
}

// bare is a line without the carriage return that may end it.
func bare(line []byte) []byte { return bytes.TrimSuffix(line, []byte{'\r'}) }

func conflicts(t *text, s *Setting) {
	open := 0
	for i, line := range t.lines {
		line = bare(line)
		if len(line) < 7 || line[0] != '<' && line[0] != '>' && line[0] != '|' && line[0] != '=' {
			continue
		}
		mark, rest := string(line[:7]), line[7:]
		if len(rest) > 0 && rest[0] != ' ' {
			continue
		}
		switch mark {
		case "<<<<<<<":
			open = i + 1
		case "|||||||", "=======":
			if open == 0 {
				continue
			}
		case ">>>>>>>":
			open = 0
		default:
			continue
		}
		t.find(s, i+1, 0, len(line), nil, "a mark of a merge conflict")
	}
}

var keyBlock = pattern.Of(`-----BEGIN ([A-Z0-9]+ )*PRIVATE KEY( BLOCK)?-----`)

func keys(t *text, s *Setting) {
	if !bytes.Contains(t.Data, []byte("PRIVATE KEY")) {
		return
	}
	for i, line := range t.lines {
		if at := keyBlock.FindIndex(line); at != nil {
			t.find(s, i+1, at[0], at[1], nil, "a private key begins here; take it out and make a new one")
		}
	}
}

// isHidden reports whether a rune has no width or turns the direction of writing. Joiners, which scripts and emoji need,
// are none.
func isHidden(r rune) bool {
	switch {
	case r == 0x200B, r == 0x200E, r == 0x200F, r >= 0x202A && r <= 0x202E, r >= 0x2060 && r <= 0x2064, r >= 0x2066 && r <= 0x2069, r == 0xFEFF, r >= 0xE0000 && r <= 0xE007F:
		return true
	}
	return false
}

func hidden(t *text, s *Setting) {
	for i, line := range t.lines {
		if isASCII(line) {
			continue
		}
		for at := 0; at < len(line); {
			r, size := utf8.DecodeRune(line[at:])
			if isHidden(r) && (i > 0 || at > 0 || r != 0xFEFF) {
				fixed := &nothing
				if r != 0x200B && r != 0xFEFF { // what turns the direction may be meant
					fixed = nil
				}
				t.find(s, i+1, at, at+size, fixed, "an invisible character, U+%04X", r)
			}
			at += size
		}
	}
}

func isASCII(line []byte) bool {
	for _, c := range line {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

func badUTF8(t *text, s *Setting) {
	if utf8.Valid(t.Data) {
		return
	}
	for i, line := range t.lines {
		if at := source.InvalidUTF8(line); at >= 0 {
			t.find(s, i+1, at, at+1, nil, "the byte %#02x is not UTF-8", line[at])
		}
	}
}

func byteOrder(t *text, s *Setting) {
	if bytes.HasPrefix(t.Data, []byte("\xEF\xBB\xBF")) {
		t.find(s, 1, 0, 3, &nothing, "a byte-order mark")
	}
}

func blankEnds(t *text, s *Setting) {
	markdown := bytes.HasSuffix([]byte(t.Path), []byte(".md"))
	for i, line := range t.lines {
		line = bare(line)
		if n := len(line); n == 0 || line[n-1] != ' ' && line[n-1] != '\t' {
			continue
		}
		text := bytes.TrimRight(line, " \t")
		if markdown && len(text) > 0 && string(line[len(text):]) == "  " {
			continue
		}
		t.find(s, i+1, len(text), len(line), &nothing, "blanks at the end of the line")
	}
}

func lastEnd(t *text, s *Setting) {
	if n := len(t.lines); n > 0 && !t.ended {
		last := t.lines[n-1]
		fixed := &newline
		if n > 1 && bytes.HasSuffix(t.lines[0], []byte{'\r'}) {
			crlf := "\r\n"
			fixed = &crlf
		}
		t.find(s, n, len(last), len(last), fixed, "no line end after the last line")
	}
}

func lineEnds(t *text, s *Setting) {
	crlf := 0
	for _, line := range t.lines {
		if bytes.HasSuffix(line, []byte{'\r'}) {
			crlf++
		}
	}
	lf := len(t.lines) - crlf
	if !t.ended && lf > 0 {
		lf--
	}
	want := s.Want
	if want == "" {
		if want = "lf"; crlf > lf {
			want = "crlf"
		}
	}
	if want == "lf" && crlf == 0 || want == "crlf" && lf == 0 {
		return
	}
	cr := "\r"
	for i, line := range t.lines {
		if i == len(t.lines)-1 && !t.ended {
			break
		}
		switch has := bytes.HasSuffix(line, []byte{'\r'}); {
		case has && want == "lf":
			t.find(s, i+1, len(line)-1, len(line), &nothing, "the line ends in CR LF, where LF is wanted")
		case !has && want == "crlf":
			t.find(s, i+1, len(line), len(line), &cr, "the line ends in LF, where CR LF is wanted")
		}
	}
}

func indentation(t *text, s *Setting) {
	const blanks = 4 // fewer may align something
	tabs, spaces := 0, 0
	for _, line := range t.lines {
		switch {
		case len(line) == 0:
		case line[0] == '\t':
			tabs++
		case len(line) >= 2 && line[0] == ' ' && line[1] == ' ':
			spaces++
		}
	}
	const few = 5
	byTabs, byBlanks := tabs >= few && tabs >= 4*spaces, spaces >= few && spaces >= 4*tabs
	if !byTabs && !byBlanks {
		return
	}
	for i, line := range t.lines {
		n := len(line) - len(bytes.TrimLeft(line, " \t"))
		switch lead := line[:n]; {
		case n == len(bare(line)):
		case byBlanks && bytes.IndexByte(lead, '\t') >= 0:
			t.find(s, i+1, 0, n, nil, "indented by a tab, where the file's other lines are by blanks")
		case byTabs && bytes.HasPrefix(lead, []byte("    ")) && n >= blanks:
			t.find(s, i+1, 0, n, nil, "indented by blanks, where the file's other lines are by tabs")
		case bytes.Contains(lead, []byte(" \t")):
			t.find(s, i+1, 0, n, nil, "blanks before a tab in the indentation")
		}
	}
}

func lineWidth(t *text, s *Setting) {
	for i, line := range t.lines {
		if len(line) <= s.Most/s.Tab { // it can't be wider
			continue
		}
		line = bare(line)
		wide, at := 0, -1
		if isASCII(line) {
			for j, c := range line {
				if c == '\t' {
					wide += s.Tab - wide%s.Tab
				} else {
					wide++
				}
				if wide > s.Most && at < 0 {
					at = j
				}
			}
		} else {
			rest, state := line, -1
			for j := 0; len(rest) > 0; {
				cluster, after, width, next := uniseg.FirstGraphemeCluster(rest, state)
				if cluster[0] == '\t' {
					width = s.Tab - wide%s.Tab
				}
				if wide += width; wide > s.Most && at < 0 {
					at = j
				}
				j += len(cluster)
				rest, state = after, next
			}
		}
		if at >= 0 {
			t.find(s, i+1, at, len(line), nil, "the line is %d columns wide, at most %d are wanted", wide, s.Most)
		}
	}
}

func fileSize(t *text, s *Setting) {
	if t.Mode != Link && t.Size > int64(s.Most) {
		t.find(s, 0, 0, 0, nil, "the file has %d bytes, at most %d are wanted", t.Size, s.Most)
	}
}

func executable(t *text, s *Setting) {
	script := bytes.HasPrefix(t.Data, []byte("#!"))
	program := bytes.IndexByte(t.Data[:min(len(t.Data), 8000)], 0) >= 0
	switch {
	case t.Mode == Executable && !script && !program && len(t.Data) > 0:
		t.find(s, 0, 0, 0, nil, "the file is executable, but its first line doesn't say by what (#!)")
	case t.Mode == Plain && script && !bytes.HasPrefix(t.Data, []byte("#![")): // which begins attributes in some languages
		t.find(s, 1, 0, 2, nil, "the file says by what it is executed, but isn't executable")
	}
}

func fileName(t *text, s *Setting) {
	if !s.Match.MatchString(t.Path) {
		t.find(s, 0, 0, 0, nil, "%s", say(s, "the file's name doesn't match "+s.Match.String()))
	}
}

func say(s *Setting, otherwise string) string {
	if s.Say != "" {
		return s.Say
	}
	return otherwise
}

func identifiers(t *text, s *Setting) {
	for i, line := range t.lines {
		for _, at := range s.Find.FindAllSubmatchIndex(line, -1) {
			from, to := at[0], at[1]
			if len(at) > 3 && at[2] >= 0 {
				from, to = at[2], at[3]
			}
			if name := line[from:to]; !s.Match.Match(name) {
				t.find(s, i+1, from, to, nil, "%s: %q", say(s, "the name doesn't match "+s.Match.String()), name)
			}
		}
	}
}

func forbid(t *text, s *Setting) {
	if s.Find.Match(nil) || !s.Find.Match(t.Data) {
		return
	}
	for i, line := range t.lines {
		line = bare(line)
		for _, at := range s.Find.FindAllSubmatchIndex(line, -1) {
			if at[0] == at[1] {
				continue
			}
			var with *string
			if s.Fixes {
				text := string(s.Find.Expand(nil, []byte(s.With), line, at))
				with = &text
			}
			t.find(s, i+1, at[0], at[1], with, "%s", say(s, "the team doesn't want "+s.Find.String()))
		}
	}
}

func require(t *text, s *Setting) {
	if !s.Find.Match(t.Data) {
		line := min(1, len(t.lines))
		t.find(s, line, 0, 0, nil, "%s", say(s, "the file has nothing that matches "+s.Find.String()))
	}
}
