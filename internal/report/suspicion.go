package report

import (
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"zincdoor/internal/core/pattern"
)

// shapeForms find a place in a file as any tool may write it: a name and a number behind it. But for the last, each needs its sign
// before a digit, which hasShape looks for first.
var shapeForms = [...]*pattern.Pattern{
	behindColon:   pattern.Of(`[^\s:;,()\[\]'"]*[^\s\d:;,()\[\]'"][^\s:;,()\[\]'"]*:\d+(?::\d+)?(?::|\s|$|,|\))`),
	behindBlank:   pattern.Of(`\S\.\w+\s*:\s+\d+\s*:`),
	behindBracket: pattern.Of(`\S\(\d+(?:[,:]\d+)?\)\s*:`),
	behindWord:    pattern.Of(`(?i)["'\s](?:,|at|in)?\s*line \d+`),
	behindArrow:   pattern.Of(`^\s*-->\s`),
}

const (
	behindColon = iota
	behindBlank
	behindBracket
	behindWord
	behindArrow
)

// stopWords are those by which programs say that they gave up, that something is lacking, or that they don't show everything: in
// English, and as the translations of compilers, make and shells have them. A line that isn't known and says "not" in any
// language is better asked about.
var stopWords = pattern.Of(`(?i)(?:^|[^\pL\pN])(?:` +
	`fatal|errors?|abort(?:ed|ing|s)?|killed|terminated?|terminating|segmentation fault|segv|bus error|core dumped|dumped|traceback|panic(?:ked)?|exceptions?|caused by|stack|assert(?:ion)?|signal\pL*|\pL*signal|sanitizer|\pL*sanitizer|` +
	`no|not|never|nothing|none|without|cannot|unable|too many|too much|only|more|hidden|suppress\pL*|omit\pL*|partial\pL*|remaining|skip\pL*|ignor(?:ed|ing)|truncat\pL*|exceed\pL*|limit\pL*|exhaust\pL*|` +
	`fail\pL*|crash\pL*|corrupt\pL*|malform\pL*|broken|invalid|illegal|unexpected|bad|wrong|denied|refused?|reject\pL*|expired?|quota|retry\pL*|tim(?:ed|e) ?out|deadlock|leak\pL*|overflow\pL*|out of|` +
	`unrecogni[sz]ed|unknown|unsupported|unavailable|unreachable|unresolved|undefined|undeclared|unreadable|missing|lost|lacks?|dead|` +
	`usage|giving up|gave up|stop(?:s|ped|ping)?|interrupt\pL*|incomplete|cancel(?:l?ed)?|exit(?:ed|s|ing)?|non-?zero|status|code|read-only|` +
	`fehler\pL*|\pL*fehler|fataler|abgebrochen|abbruch|getötet|beendet|nicht|kein\pL*|ungültig\pL*|fehl(?:t|en|geschlagen)|unbekannt\pL*|warnung(?:en)?|aktuell|` + // German
	`erreurs?|fatale|introuvable|abandon|tué|interrompu\pL*|aucune?|ne|pas|impossible|échec|échoué\pL*|inconnue?s?|avertissements?|` + // French
	`errore|errori|non|nessun\pL*|ucciso|interrott\pL*|fallit\pL*|violazione|sconosciut\pL*|` + // Italian
	`erro|erros|não|nenhum\pL*|abortad[oa]|morto|falha|falhou|violação|desconhecid\pL*|` + // Portuguese
	`ning[uú]n\pL*|terminado|muerto|fallo|falló|violación|interrumpid\pL*|desconocid\pL*|` + // Spanish
	`fel|avbruten|avbröts|inte|ingen|inga|dödad|misslyckades|okänd\pL*|ikke|fejl|feil|afgebroken|niet|geen|fout|mislukt|onbekend\pL*|` + // Swedish, Danish, Norwegian, Dutch
	`błąd|błęd\pL*|przerwan\pL*|nie|brak|naruszenie|zabity|chyba|není|nelze|selhal\pL*|hata\pL*|değil|yok|bulunamadı|başarısız\pL*|` + // Polish, Czech, Turkish
	`virhe|ei|hiba|nem|σφάλμα|δεν|eroare|nu|` + // Finnish, Hungarian, Greek, Romanian
	`ошибк\pL*|прерван\pL*|не|нет|убито?|сбой|отказано|завершено?|помилка|немає` + // Russian, Ukrainian
	`)(?:$|[^\pL\pN])|n['\x{2019}]t(?:$|[^\pL\pN])`)

// stopSigns are such words of languages that have no blanks between words.
var stopSigns = strings.Fields(`错误 錯誤 致命 终止 不 无法 無法 失败 失敗 没有 沒有 未 エラー 中止 ません できない なし 오류 치명 없 실패 않`)

// thrownForm is the name of what ended a program, as languages with exceptions write it.
var thrownForm = pattern.Of(`(?:^|[\s.])[A-Za-z_]+(?:Error|Exception|Rejection|Fault|Failure)(?::|$)`)

// crashWords are those that only a program's end brings, and no explanation of a finding.
var crashWords = pattern.Of(`(?i)(?:^|[^\pL\pN])(?:segmentation fault|killed|terminated|panicked|fatal|abort(?:ed|ing)?|core dumped|traceback|out of memory|bus error)(?:$|[^\pL\pN])`)

// spoken is a line with a blank in the place of each part that is no word of it: what is quoted, options, and paths, as this form finds
// them. It takes time in proportion to the line, which the form does not.
//
//	'[^']*' | "[^"]*" | `[^`]*` | «[^»]*» | (?:^|\s)-\S+ | \S*[/\\]\S* | \S+\.[A-Za-z][A-Za-z0-9+]*\b
func spoken(text string) string {
	if !strings.ContainsAny(text, "'\"`«-/\\.") {
		return text
	}
	var out strings.Builder
	closes := map[string]bool{} // quotes that are known to have no end behind here
	var t token
	for i := 0; i < len(text); {
		if i >= t.end {
			t = tokenAt(text, i)
		}
		to := quoteEnd(text, i, closes)
		switch {
		case to > i:
		case isBlank(text[i]) && optionAt(text, i+1):
			to = tokenAt(text, i+1).end
		case i == 0 && optionAt(text, 0), i < t.slash:
			to = t.end
		case i < t.dot:
			to = t.nameEnd
		default:
			_, size := utf8.DecodeRuneInString(text[i:])
			out.WriteString(text[i : i+size])
			i += size
			continue
		}
		out.WriteByte(' ')
		i = to
	}
	return out.String()
}

// quoteEnd is where what is quoted from i on ends, i where nothing is. Open notes the quotes that end nowhere behind i.
func quoteEnd(text string, i int, open map[string]bool) int {
	begin, end := text[i:i+1], text[i:i+1]
	switch {
	case strings.HasPrefix(text[i:], "«"):
		begin, end = "«", "»"
	case text[i] != '\'' && text[i] != '"' && text[i] != '`':
		return i
	}
	if open[begin] {
		return i
	}
	n := strings.Index(text[i+len(begin):], end)
	if n < 0 {
		open[begin] = true
		return i
	}
	return i + len(begin) + n + len(end)
}

func isBlank(c byte) bool { return c == ' ' || c >= '\t' && c <= '\r' && c != '\v' }

// optionAt reports whether an option begins at i.
func optionAt(text string, i int) bool {
	return i+1 < len(text) && text[i] == '-' && !isBlank(text[i+1])
}

// token is what is between blanks, of which the last slash and the last name with an ending count.
type token struct {
	end          int // of all of it, behind its first byte for a blank
	slash        int // one behind the last slash or backslash, 0 for none
	dot, nameEnd int // where the last ending's dot stands and where the ending ends, 0 for none
}

// tokenAt looks at what is from i to the next blank.
func tokenAt(text string, i int) (t token) {
	for t.end = i; t.end < len(text) && !isBlank(text[t.end]); t.end++ {
		switch text[t.end] {
		case '/', '\\':
			t.slash = t.end + 1
		case '.':
			if end := endingEnd(text, t.end+1); end > 0 {
				t.dot, t.nameEnd = t.end, end
			}
		}
	}
	t.end = max(t.end, i+1)
	return t
}

// endingEnd is where the ending of a file name that begins at i ends, at the edge of a word; 0 where none begins there.
func endingEnd(text string, i int) int {
	if i >= len(text) || !isLetter(text[i]) {
		return 0
	}
	end := i + 1
	for end < len(text) && (isWord(text[end]) && text[end] != '_' || text[end] == '+') {
		end++
	}
	for ; end > i; end-- {
		if isWord(text[end-1]) != (end < len(text) && isWord(text[end])) {
			return end
		}
	}
	return 0
}

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

func isWord(c byte) bool { return isLetter(c) || c >= '0' && c <= '9' || c == '_' }

// tellsOfCrash reports whether a line among those that explain a finding is of a program that ended.
func tellsOfCrash(text string) bool { return tellsOfThrown(text) || crash.in(spoken(text)) }

func speaksOfStop(text string) bool {
	if tellsOfThrown(text) {
		return true
	}
	words := spoken(text)
	return stop.in(words) || hasSign(words)
}

func tellsOfThrown(text string) bool {
	for _, end := range []string{"Error", "Exception", "Rejection", "Fault", "Failure"} {
		if strings.Contains(text, end) {
			return thrownForm.MatchString(text)
		}
	}
	return false
}

// vocabulary finds words. What it found of a word is kept, since logs have few different ones. It may be used by several at once.
type vocabulary struct {
	form *pattern.Pattern // words, and phrases of two or three, which stand between signs that are no letters and no digits

	guard sync.RWMutex
	known map[string]word
}

// word is what a vocabulary knows of letters and digits in a row.
type word struct {
	is     bool // it is one of the words
	begins bool // a phrase may begin with it
}

// The bounds of what a vocabulary keeps.
const (
	mostKnown = 1 << 14 // words
	longWord  = 80      // bytes; what is longer is no word
)

var (
	stop  = &vocabulary{form: stopWords}
	crash = &vocabulary{form: crashWords}
)

// firstForm is a word, or the end of one, with which a phrase of stopWords or crashWords begins.
var firstForm = pattern.Of(`(?i)^(?:segmentation|bus|core|caused|too|timed?|out|giving|gave|non|read)$|n$`)

// in reports whether a text has one of the words.
func (v *vocabulary) in(text string) bool {
	before := "" // what a phrase may have begun with, and the sign behind it
	for text != "" {
		n := wordLength(text)
		w, sign := word{}, ""
		if n > 0 && n <= longWord {
			w = v.lookUp(text[:n])
			if w.is || before != "" && v.form.MatchString(before+text[:n]) {
				return true
			}
		}
		for _, s := range []string{" ", "-", "'", "\u2019"} {
			if strings.HasPrefix(text[n:], s) {
				sign = s
			}
		}
		switch {
		case n == 0 || sign == "":
			before = ""
		case w.begins:
			before = text[:n] + sign
		case strings.EqualFold(before, "out ") && strings.EqualFold(text[:n], "of"):
			before += text[:n] + sign
		default:
			before = ""
		}
		text = text[n:]
		if sign == "" && text != "" {
			_, size := utf8.DecodeRuneInString(text)
			text = text[size:]
		}
		text = text[len(sign):]
	}
	return false
}

// wordLength is how many bytes of letters and digits a text begins with.
func wordLength(text string) (n int) {
	for n < len(text) {
		if c := text[n]; c < utf8.RuneSelf {
			if !isLetter(c) && (c < '0' || c > '9') {
				return n
			}
			n++
			continue
		}
		r, size := utf8.DecodeRuneInString(text[n:])
		if !unicode.IsLetter(r) && !unicode.IsNumber(r) {
			return n
		}
		n += size
	}
	return n
}

func (v *vocabulary) lookUp(text string) word {
	v.guard.RLock()
	w, known := v.known[text]
	v.guard.RUnlock()
	if known {
		return w
	}
	w = word{is: v.form.MatchString(text), begins: firstForm.MatchString(text)}
	v.guard.Lock()
	defer v.guard.Unlock()
	if v.known == nil || len(v.known) >= mostKnown {
		v.known = map[string]word{}
	}
	v.known[strings.Clone(text)] = w
	return w
}

// hasSign reports whether one of stopSigns stands in a text.
func hasSign(text string) bool {
	for i := range len(text) {
		if text[i] >= utf8.RuneSelf {
			return slices.ContainsFunc(stopSigns, func(sign string) bool { return strings.Contains(text[i:], sign) })
		}
	}
	return false
}

// suspicion says why a line that can't be read may mean that findings are missing, "" where it says nothing of the kind.
func suspicion(text string) string {
	if hasShape(text) {
		return "looks like a finding and isn't understood"
	}
	if buildForm.MatchString(text) {
		return "comes from the build and isn't understood"
	}
	if speaksOfStop(text) {
		return "says that something went wrong"
	}
	return ""
}

// hasShape reports whether a place in a file stands in a line.
func hasShape(text string) bool {
	var may [len(shapeForms)]bool
	may[behindArrow] = strings.HasPrefix(strings.TrimLeft(text, " \t\n\f\r"), "-->")
	ink := byte(0) // the last that isn't blank
	for i := range len(text) {
		c := text[i]
		if isBlank(c) {
			continue
		}
		if i > 0 && c >= '0' && c <= '9' {
			switch before := text[i-1]; {
			case before == ':':
				may[behindColon] = true
			case before == '(':
				may[behindBracket] = true
			case isBlank(before):
				may[behindBlank] = may[behindBlank] || ink == ':'
				may[behindWord] = may[behindWord] || i >= 5 && strings.EqualFold(text[i-5:i], "line ")
			}
		}
		ink = c
	}
	for i, form := range shapeForms {
		if may[i] && form.MatchString(text) {
			return true
		}
	}
	return false
}

// buildForm is a message of the program that builds.
var buildForm = pattern.Of(`^(?:(?:g|mingw32-)?make(?:\[\d+\])?|ninja) ?: `)
