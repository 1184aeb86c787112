package spelling

import (
	"slices"
	"strings"
	"testing"
)

func wordsOf(file, text string, names bool) string {
	var words []string
	NewFile(file, []byte(text)).Words(names, func(w Word) {
		if w.Text != text[w.From:w.To] {
			words = append(words, "WRONG PLACE")
		}
		words = append(words, w.Text)
	})
	return strings.Join(words, " ")
}

// TestWords: the words of comments, prose and sentences between quotes are looked at, with names also those of the code; what is no word
// is passed by.
func TestWords(t *testing.T) {
	for _, c := range []struct {
		file, text string
		names      bool
		want       string
	}{
		{"a.go", "// The tide turns.\nfunc turnTide() {}\n", false, "tide turns"},
		{"a.go", "// The tide turns.\nfunc turnTide() {}\n", true, "tide turns func turn Tide"},
		{"a.c", "/* slack\n * water */ int x; // ebb tide\n", false, "slack water tide"},
		{"a.py", "# don't moor\nx = 'no # comment'\ny = \"wait until the tide turns\\nagain\"\n", false, "don't moor wait until tide turns again"},
		{"a.go", "// see https://quay.example/x, pier@quay.example, core/tide.c and 0xdeadbeef, 10ms, sha256\n", false, ""},
		{"a.go", "// The lowWater and low_water of `berths`, LOUD words, and mid-stream.\n", false, "words stream"},
		{"a.go", "//go:generate quay\n// SPDX-License-Identifier: QUAY\n// Copyright Somebody Wrightson\n//\tcodes indented\n", false, ""},
		{"a.sh", "#!/bin/quay\necho x#y # moored\n", false, "moored"},
		{"a.md", "# Berths\n\n```\nfenced code\n```\n\n    indented code\n\nSee [the ferry](https://quay.example) and `spans of code` <br class=\"quay\">here.\n", false, "Berths ferry here"},
		{"a.md", "---\ntitle: Matter\n---\nText\n", false, "Text"},
		{"a.java", "/** @param berth where ferries moor */\nimport quay.Berth;\nclass HTTPServer { int maxDraught2; }\n", true, "where ferries moor class Server Draught"},
		{"a.md", "````\n```\nstill code\n````\n> ```\n> quoted code\n> ```\n> quoted prose\n", false, "quoted prose"},
		{"a.md", "<!-- noted for later --> and <!--close--> ebb < flow > turn\n", false, "noted later close flow turn"},
		{"a.html", "<p>The <code>berth</code> and <PRE>\nmany lines\n</PRE> after <code/>this, <code>not closed\n", false, "after this closed"},
		{"a.html", "<script>let ferry = 1</script>\n<style>\nbody {}\n</style>\n<codex>word</codex>\n", false, "word"},
		{"a.html", "<p class=\"wide\">ferry times</p>\n", false, "ferry times"},
		{"a.unknown", "no words here\n", false, ""},
		{"a.txt", "the tide’s turn\n", false, "tide’s turn"},
	} {
		if got := wordsOf(c.file, c.text, c.names); got != c.want {
			t.Errorf("%s %q: %s, want %s", c.file, c.text, got, c.want)
		}
	}
}

// FuzzWords: whatever a file holds, its words are where they are said to be.
func FuzzWords(f *testing.F) {
	f.Add("a.go", "// The tide's turn.\nfunc turnTide() {}\n")
	f.Add("a.md", "---\na\n---\n`x` <b> [a](b)\n~~~\n")
	f.Add("a.py", "x = \"\"\"one two three\n# four\"\"\" # \\five\n")
	f.Fuzz(func(t *testing.T, file, text string) {
		if got := wordsOf(file, text, true); strings.Contains(got, "WRONG PLACE") {
			t.Errorf("%s %q: %s", file, text, got)
		}
		NewFile(file, []byte(text)).Names(map[string]bool{"tide": false})
	})
}

func some(words ...string) *Dictionary {
	var entries []Entry
	for _, word := range words {
		entries = append(entries, Entry{word, 10})
	}
	return NewDictionary(entries)
}

// TestKnows: a word is known in whatever case, as a plural, with a usual prefix, joined of two, or as the team's own; not where the team
// avoids it.
func TestKnows(t *testing.T) {
	s := &Speller{Dictionaries: []*Dictionary{some("tide", "ferry", "board", "berth", "jetty", "water", "table", "it's")}}
	own, err := ReadOwn([]byte("# ours\nslackwater\nmoor + # and its forms\n\n"))
	if err != nil {
		t.Fatal(err)
	}
	s.Own = NewOwn(own, map[string]string{"jetty": "pontoon"})
	for word, want := range map[string]bool{
		"tide": true, "Tide": true, "TIDE": true, "tide's": true, "tides": true, "ferries": true, "unberth": true, "timetable": false, "watertable": true,
		"tideboard": true, "slackwater": true, "moor": true, "moored": true, "moors": true, "jetty": false, "tidde": false, "quai": false, "ébène": true, "untide": false,
	} {
		if got := s.Knows(word); got != want {
			t.Errorf("%s is known: %v", word, got)
		}
	}
	if all := s.Suggest("Jetty"); len(all) != 1 || all[0].Word != "Pontoon" {
		t.Errorf("in the place of an avoided word: %v", all)
	}
	if all := s.Suggest("bertg"); len(all) == 0 || all[0].Word != "berth" || Sure(all) != "berth" {
		t.Errorf("%v", all)
	}
	for _, bad := range []string{"two words\n", "a-b\n", "x +  y\n", "12\n"} {
		if _, err := ReadOwn([]byte(bad)); err == nil {
			t.Errorf("%q is read as a list", bad)
		}
	}
}

// TestAddOwn: a list stays sorted when words are added, each with the comment that it has above or behind it.
func TestAddOwn(t *testing.T) {
	const list = "# Words of the estuary.\n\n# a kind of water\nslackwater # still\nebb +\n"
	got, added, err := AddOwn([]byte(list), []OwnWord{{Word: "Berth"}, {Word: "ebb"}, {Word: "moor", Inflected: true}, {Word: "berth"}})
	const want = "# Words of the estuary.\n\nBerth\nebb +\nmoor +\n# a kind of water\nslackwater # still\n"
	if err != nil || string(got) != want || !slices.Equal(added, []string{"Berth", "moor"}) {
		t.Errorf("%v %v\n%s\nwant\n%s", err, added, got, want)
	}
}

// TestDistance: letters left out, put in, changed and swapped are counted, each once.
func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"tide", "tide", 0}, {"tide", "tdie", 1}, {"tide", "tid", 1}, {"tide", "tides", 1}, {"tide", "tile", 1}, {"recieve", "receive", 1}, {"tide", "edit", 3}, {"", "ab", 2}, {"abcdef", "uvwxyz", 3}} {
		if got := Distance(c.a, c.b, 2); got != c.want {
			t.Errorf("%s, %s: %d, want %d", c.a, c.b, got, c.want)
		}
	}
}
