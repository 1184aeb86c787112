package wordlist

import (
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"zincdoor/internal/core/comment"
	"zincdoor/internal/core/spelling"
)

func speller(t testing.TB) *spelling.Speller {
	english, err := English()
	if err != nil {
		t.Fatal(err)
	}
	return &spelling.Speller{Dictionaries: english}
}

// slips make misspelt words as fingers and ears do.
var slips = []func(r *rand.Rand, word string) string{
	func(r *rand.Rand, w string) string { // two letters swapped
		i := 1 + r.IntN(len(w)-2)
		return w[:i] + string(w[i+1]) + string(w[i]) + w[i+2:]
	},
	func(r *rand.Rand, w string) string { // one left out
		i := 1 + r.IntN(len(w)-1)
		return w[:i] + w[i+1:]
	},
	func(r *rand.Rand, w string) string { // one twice
		i := 1 + r.IntN(len(w)-1)
		return w[:i] + string(w[i]) + w[i:]
	},
	func(r *rand.Rand, w string) string { // a double one once
		for i := 1; i < len(w); i++ {
			if w[i] == w[i-1] {
				return w[:i] + w[i+1:]
			}
		}
		return w
	},
	func(r *rand.Rand, w string) string { // the key beside
		const row = "qwertyuiopqasdfghjklazxcvbnmz"
		i := 1 + r.IntN(len(w)-1)
		at := strings.IndexByte(row, w[i])
		return w[:i] + string(row[at+1]) + w[i+1:]
	},
	func(r *rand.Rand, w string) string { // as it sounds
		sounds := []string{"ance", "ence", "ible", "able", "ie", "ei", "ph", "f", "c", "s", "ent", "ant", "er", "or", "ey", "y"}
		at := r.IntN(len(sounds))
		for n := range len(sounds) {
			k := (at + n) % len(sounds)
			if i := strings.LastIndex(w, sounds[k]); i > 0 {
				return w[:i] + sounds[k^1] + w[i+len(sounds[k]):]
			}
		}
		return w
	},
}

// TestMisspelt: of five hundred misspelt words nearly all are found, and what was meant is suggested first for nine of ten.
func TestMisspelt(t *testing.T) {
	s := speller(t)
	data, err := os.ReadFile("testdata/misspelt.txt")
	if err != nil {
		t.Fatal(err)
	}
	pairs := map[string]string{}
	for line := range strings.Lines(string(data)) {
		if wrong, right, ok := strings.Cut(strings.TrimSpace(line), " "); ok && wrong != "#" {
			pairs[wrong] = right
		}
	}
	english, _ := English()
	var usual []string
	for word := range english[0].Words() {
		if rare, _ := english[0].Rare(word); rare <= 20 && len(word) >= 6 && !strings.Contains(word, "'") {
			usual = append(usual, word)
		}
	}
	r := rand.New(rand.NewPCG(3, 14))
	for len(pairs) < 500 {
		right := usual[r.IntN(len(usual))]
		if wrong := slips[r.IntN(len(slips))](r, right); wrong != right && !s.Knows(wrong) && spelling.IsWord(wrong) {
			pairs[wrong] = right
		}
	}
	found, first, among := 0, 0, 0
	var missed, wrong []string
	for misspelt, right := range pairs {
		all := s.Suggest(misspelt)
		if !s.Knows(misspelt) && s.Likely(misspelt) {
			found++
		} else {
			missed = append(missed, misspelt)
		}
		at := slices.IndexFunc(all, func(one spelling.Suggestion) bool { return one.Word == right })
		if at >= 0 {
			among++
		}
		if at == 0 {
			first++
		} else {
			wrong = append(wrong, misspelt+" "+right)
		}
	}
	t.Logf("of %d words %d are found, %d corrected first, %d among the first five", len(pairs), found, first, among)
	if found < 460 || first < 450 {
		t.Errorf("%d are found and %d corrected first of %d: missed %v, others first for %v", found, first, len(pairs), missed, wrong)
	}
}

// read checks all files of a folder, and gives how many words there are and how often each misspelt one comes, by the files that it is in.
func read(t testing.TB, s *spelling.Speller, folder string) (words, lines int, found map[string]map[string]int) {
	found = map[string]map[string]int{}
	known, names := map[string]bool{}, map[string]bool{}
	err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() || !comment.Knows(path) || strings.Contains(path, "testdata") || strings.Contains(path, "vendor/") {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		lines += strings.Count(string(data), "\n")
		file := spelling.NewFile(path, data)
		distinct, unknown := map[string]bool{}, 0
		var odd []string
		file.Words(false, func(w spelling.Word) {
			words++
			is, asked := known[w.Text]
			if !asked {
				is = s.Knows(w.Text)
				known[w.Text] = is
			}
			if !is {
				if odd = append(odd, w.Text); !distinct[w.Text] {
					unknown++
				}
			}
			distinct[w.Text] = true
		})
		if len(odd) == 0 || spelling.IsForeign(len(distinct), unknown) {
			return nil
		}
		spoken := map[string]bool{}
		for _, word := range odd {
			spoken[strings.ToLower(word)] = false
		}
		file.Names(spoken)
		for _, word := range odd {
			lower := strings.ToLower(word)
			if spoken[lower] {
				continue
			}
			likely, asked := names[word]
			if !asked {
				likely = s.Likely(word)
				names[word] = likely
			}
			if likely {
				if found[lower] == nil {
					found[lower] = map[string]int{}
				}
				found[lower][path]++
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return words, lines, found
}

// TestFalseAlarms: in the comments and guides of real modules no more than one in two thousand words is taken for a misspelt one, those
// aside that five files use.
func TestFalseAlarms(t *testing.T) {
	if testing.Short() {
		t.Skip("many cases of what shorter tests try too")
	}
	s := speller(t)
	for _, module := range []string{"golang.org/x/tools", "golang.org/x/mod", "github.com/jackc/pgx/v5"} {
		out, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", module).Output()
		if err != nil || len(out) == 0 {
			t.Fatalf("%s isn't here: %v", module, err)
		}
		words, lines, found := read(t, s, strings.TrimSpace(string(out)))
		alarms := 0
		var odd []string
		for word, files := range found {
			if len(files) >= spelling.UsualKnown {
				continue
			}
			for _, times := range files {
				alarms += times
			}
			odd = append(odd, word)
		}
		slices.Sort(odd)
		t.Logf("%s: %d words in %d lines, %d alarms: %s", module, words, lines, alarms, strings.Join(odd, " "))
		if words < 10_000 || alarms > words/2000 {
			t.Errorf("%s: of %d words %d are taken for misspelt ones: %s", module, words, alarms, strings.Join(odd, " "))
		}
	}
}

// BenchmarkLines checks Go's own library: how long a million lines take.
func BenchmarkLines(b *testing.B) {
	s := speller(b)
	for b.Loop() {
		start := time.Now()
		_, lines, _ := read(b, s, filepath.Join(runtime.GOROOT(), "src"))
		b.ReportMetric(time.Since(start).Seconds()*1e6/float64(lines), "s/million-lines")
		b.ReportMetric(2, "goal")
	}
}

const (
	someAff = `# how words are bent
SET UTF-8
FLAG long
NEEDAFFIX Xx
COMPOUNDFLAG Zz
PFX Un Y 1
PFX Un 0 un .
SFX Es Y 3
SFX Es 0 s [^sy]
SFX Es 0 es s
SFX Es y ies [^aeiou]y
SFX Er N 1
SFX Er 0 er/Es [^e]
PFX Re Y 1
PFX Re 0 re [^r]
`
	someDic = `5
ferry/Es
moor/EsEr
tie/UnEsRe
stem/XxEs
gull
quai/EsUn	po:noun
`
)

// TestAffixed: words have the forms that the rules give them: prefixes and suffixes, both where they go together, suffixes of suffixes.
func TestAffixed(t *testing.T) {
	for name, c := range map[string]struct{ dic, aff, has, hasn, left string }{
		"all kinds": {someDic, someAff, "ferries ferry gull moor moorer moorers moors quai quais reties retie stems tie ties unquai unquais untie unties",
			"stem ferrys gulls unmoor remoor moorered unmoors quaier rereties unstems tieer", "COMPOUNDFLAG"},
		"numbers for flags": {"1\nebb/7,12\n", "FLAG num\nSFX 7 Y 1\nSFX 7 0 s .\nPFX 12 Y 1\nPFX 12 0 a .\n", "aebb aebbs ebb ebbs", "ebbss", ""},
		"lists of flags":    {"1\nebb/1\n", "AF 1\nAF AB\nSFX A Y 1\nSFX A 0 s .\nSFX B Y 1\nSFX B 0 ing b\n", "ebb ebbing ebbs", "ebbings", ""},
		"another encoding":  {"1\nqu\xe9/A\n", "SET ISO8859-1\nSFX A Y 1\nSFX A 0 \xe9 .\n", "qué quéé", "que", ""},
		"forbidden":         {"2\nebb/A\nebbs/F\n", "FORBIDDENWORD F\nSFX A Y 1\nSFX A 0 s .\n", "ebb", "ebbs", ""},
		"not together":      {"1\nebb/AB\n", "SFX A N 1\nSFX A 0 s .\nPFX B N 1\nPFX B 0 un .\n", "ebb ebbs unebb", "unebbs", ""},
	} {
		d, left, err := Affixed([]byte(c.dic), []byte(c.aff))
		if err != nil || strings.Join(left, " ") != c.left {
			t.Errorf("%s: %v, left %v", name, err, left)
			continue
		}
		for _, word := range strings.Fields(c.has) {
			if _, has := d.Rare(word); !has {
				t.Errorf("%s: %s is missing", name, word)
			}
		}
		for _, word := range strings.Fields(c.hasn) {
			if _, has := d.Rare(word); has {
				t.Errorf("%s: %s is there", name, word)
			}
		}
	}
	for _, aff := range []string{"SFX A Y x\n", "SFX A Y\n", "FLAG odd\n", "SFX A Y 1\nPFX A 0 s .\n", "SFX A Y 1\nSFX A 0 s [ab\n", "SET none\n"} {
		if _, _, err := Affixed([]byte(someDic), []byte(aff)); err == nil {
			t.Errorf("%q is read", aff)
		}
	}
}

// FuzzAffixed: whatever the two files hold, they are read or refused, and words can be asked for.
func FuzzAffixed(f *testing.F) {
	f.Add(someDic, someAff, "unties")
	f.Add("1\nebb/7,12\n", "FLAG num\nSFX 7 Y 1\nSFX 7 0 s .\n", "ebbs")
	f.Fuzz(func(t *testing.T, dic, aff, word string) {
		if d, _, err := Affixed([]byte(dic), []byte(aff)); err == nil {
			d.Rare(strings.ToLower(word))
			for stem := range d.Words() {
				if _, has := d.Rare(stem); !has {
					t.Errorf("%q isn't there", stem)
				}
			}
		}
	})
}
