package report

import "regexp"

// noise are the lines that builds print beside what they find, the most frequent ones first. Each is of a program whose output
// it was taken from. What a whole line must look like is written as narrowly as that allows, since a line that is noise is looked
// at no further but for what its kind says.
var noise = []struct {
	of   string // whose line it is
	kind kind
	form *regexp.Regexp
}{
	{"gcc: what flags make of warnings", saysNothing, regexp.MustCompile(`^(?:cc1|cc1plus|cc1obj|cc1objplus|f951|gnat1|d21|go1): (?:all|some) warnings being treated as errors$`)},
	{"gcc: where a finding stands", standing, regexp.MustCompile(`^\S[^:]*: (?:In (?:(?:static |member |copy |move |lambda )*(?:function|constructor|destructor|lambda|program|subroutine|method|instantiation of|substitution of)\b.*|lambda function)|At (?:top level|global scope)):$`)},
	{"gcc: what a finding was copied into", standing, regexp.MustCompile(`^In function '[^']*',$`)},
	{"gcc: what includes the file", including, regexp.MustCompile(`^(?:In file included from|                 from|\s+inlined from) .*[,:]$`)},
	{"make: the command lines of compilers", compiles, regexp.MustCompile(`^(?:(?:ccache|distcc|libtool: compile: ?) ?)*` + compiler + `\s+` + operand)},
	{"GNU make: folders", folders, regexp.MustCompile(`^(?:g|mingw32-)?make(?:\[(\d+)\])?: (Entering|Leaving) directory '([^']*)'$`)},
	{"GNU make: all is made", idle, regexp.MustCompile(`^(?:(?:g|mingw32-)?make(?:\[\d+\])?: '[^']*' is up to date\.|(?:g|mingw32-)?make: Nothing to be done for '[^']*'\.)$`)},
	{"GNU make: a folder in which all is made", idleBelow, regexp.MustCompile(`^(?:g|mingw32-)?make\[\d+\]: Nothing to be done for '[^']*'\.$`)},
	{"GNU make, translated: folders", folders, regexp.MustCompile(`^(?:g|mingw32-)?make(?:\[(\d+)\])? ?:() [^:*]*['"«»„]\s?(/[^:*'"«»„“”]*)[^:*]*$`)},
	{"make: other command lines", wording, regexp.MustCompile(`^(?:libtool: link: ?)?(?:\S*/)?(?:[a-z0-9_]+-)*(?:ar|ranlib|ld|as|strip|objcopy|objdump|nm|rm|mkdir|rmdir|cp|mv|ln|install|touch|echo|printf|cd|chmod|sed|awk|grep|cat|tar|gzip|date|test|if|for|sh|bash|python3?|perl|cmake|ninja|make|go|javac|jar|node|git|gcc|g\+\+|cc|c\+\+|clang|clang\+\+)\s+(?:\w+\s+)?` + operand)},
	{"make: a shell's group", saysNothing, regexp.MustCompile(`^(?:\(|\{ |\[ -|: |set -[a-z]+;|@?true$|for \w+ in .*; do )`)},
	{"automake, Linux: short lines of compilers", compiles, regexp.MustCompile(`^\s{1,4}(?:HOST)?(?:CC|CXX|OBJC|CPPAS|JAVAC|GO)(?: \[M\])?\s+\S+$`)},
	{"automake, Linux: short command lines", saysNothing, regexp.MustCompile(`^\s{1,4}(?:HOST)?(?:CCLD|CXXLD|LD|AR|AS|GEN|LINK|RANLIB|STRIP|CPP|YACC|LEX|MKDIR|INSTALL|CHK|CALL|DESC|UPD|WRAP|SYNC|MOC|UIC)(?: \[M\])?\s+\S+$`)},
	{"ninja: compilers", compiles, regexp.MustCompile(`^\[\d+/\d+\](?: \d+\.\d+s)? (?:` + compiler + `\s.*|(?:Building|Compiling) .*)$`)},
	{"ninja: other steps", saysNothing, regexp.MustCompile(`^\[\d+/\d+\](?: \d+\.\d+s)? (?::\s|\S*/\S|[A-Z][a-z]+(?:ing|e|y)?\s).*$`)},
	{"ninja: where it works", folders, regexp.MustCompile("^ninja()(): Entering directory [`'](.*)'$")},
	{"ninja: all is made", idle, regexp.MustCompile(`^ninja: no work to do\.$`)},
	{"CMake: compilers", compiles, regexp.MustCompile(`^\[ *\d+%\] Building .*$`)},
	{"CMake: what is made, be it anew or not", built, regexp.MustCompile(`^\[ *\d+%\] Built target \S+$`)},
	{"CMake: steps", saysNothing, regexp.MustCompile(`^\[ *\d+%\] (?:Linking|Generating|Copying|Creating|Creating directories|Automatic|Performing|Completed|Running|Updating|Installing) ?.*$`)},
	{"CMake: targets", saysNothing, regexp.MustCompile(`^(?:Scanning dependencies of target|Consolidate compiler generated dependencies of target|Built target) \S+$`)},
	{"CMake: configuring", saysNothing, regexp.MustCompile(`^-- (?:The \w+ compiler identification is|Detecting|Check|Looking for|Performing Test|Found|Configuring done|Generating done|Build files have been written|Installing:|Up-to-date:).*$`)},
	{"CMake: what a project says while it is configured", wording, regexp.MustCompile(`^-- .`)},
	{"CMake: warnings of its configuring", configures, regexp.MustCompile(`^CMake (?:Deprecation |Author )?Warning(?: \(dev\))?(?: (?:at|in) [^\s:]+(?::\d+ \([^)]*\))?)?:$`)},
	{"CMake: what called the line of the warning", configures, regexp.MustCompile(`^Call Stack \(most recent call first\):$`)},
	{"CMake: whom the warning is for", saysNothing, regexp.MustCompile(`^This warning is for project developers\.  Use -Wno-dev to suppress it\.$`)},
	{"go: packages", packages, regexp.MustCompile(`^# (\[?)[\w.~-]+(?:/[\w.~+-]+)*(?:\.test|_test)?\]?(?: \[[^\]]*\])?$`)},
	{"go: modules", saysNothing, regexp.MustCompile(`^go: (?:downloading|extracting|finding|added|upgraded) \S+ \S+(?: \S+)*$`)},
	{"binutils: ar's flags", saysNothing, regexp.MustCompile("^\\S*ar: `u' modifier ignored since `D' is the default \\(see `U'\\)$")},
	{"binutils: where the linker is", saysNothing, regexp.MustCompile("^\\S*ld(?:\\.\\w+)?: \\S+: in function [`'][^']*':$")},
	{"javac: notes", saysNothing, regexp.MustCompile(`^Note: (?:(?:\S+\.java|Some (?:input|messages)[\w ]*) (?:uses?|ha(?:s|ve)|override)[\w -]*|Recompile with -X[\w:]+ for details)\.$`)},
	{"make: what a rule says of its step", wording, regexp.MustCompile(`^(?i:(?:=+>?|\*+|--+>?|>+) )?(?i:compiling|checking|scanning|processing|creating|building|linking|generating|installing|cleaning|making|archiving|stripping|copying|assembling)\b[^:(]*$`)},
	{"tsc: errors of each file", saysNothing, regexp.MustCompile(`^(?:Errors  Files|\s+\d+  \S+:\d+)$`)},
	{"rustc: help", saysNothing, regexp.MustCompile(`^(?:For more information about (?:this error|an error), try .*|Some errors have detailed explanations: [E0-9, ]+\.)$`)},
	{"cargo: steps", saysNothing, regexp.MustCompile(`^\s+(?:Compiling|Checking|Finished|Updating|Downloading|Downloaded|Blocking|Fresh) \S.*$`)},
}

// kind is what a line of noise says all the same.
type kind int

const (
	saysNothing kind = iota
	wording          // what people wrote, which is noise only where it raises no suspicion
	standing         // where the next message's finding stands
	including        // a file that includes the next message's
	packages         // of which package what follows is, in brackets where go vet says it and not its compiler
	compiles         // something is compiled
	built            // something is made, be it anew or not
	folders          // a program begins to work in a folder, or has ended: its nesting, Entering or Leaving, the path
	idle             // nothing was to be done
	configures       // what follows with blanks before it warns of how a build is configured, not of code
	idleBelow        // in one folder: in a build from nothing too, where that folder has nothing to compile
)

const (
	// compiler is how a command line of a compiler begins.
	compiler = `(?:\S*/)?(?:[a-z0-9_]+-)*(?:gcc|g\+\+|cc|c\+\+|clang|clang\+\+|cpp|c99|c11|gfortran|rustc|javac)(?:-\d+(?:\.\d+)*)?`
	// operand is what an argument begins with that makes words a command line: an option, a path, a quote, a variable.
	operand = `(?:[-/.'"$\[({!~@]|\S*[./=])`
)

// kindOf tells what a line that says nothing of what was found says all the same, and the parts of it that its form has; false
// where it may say more.
func kindOf(text string) (k kind, parts []string, isNoise bool) {
	for i := range noise {
		if m := noise[i].form.FindStringSubmatch(text); m != nil && !(noise[i].kind == wording && suspicion(text) != "") {
			return noise[i].kind, m, true
		}
	}
	return saysNothing, nil, false
}

// closingForms find the lines in which compilers count what they printed: warnings, errors, and what was counted twice.
var closingForms = []*regexp.Regexp{
	regexp.MustCompile(`^(?:(\d+) warnings?)?(?: and )?(?:(\d+) errors?)?(?: generated\.)?()$`),
	regexp.MustCompile(`^warning: (\d+) warnings? emitted()()$`),
	regexp.MustCompile("^warning: `[^`]+` \\(.*\\) generated (\\d+) warnings?()(?: \\((\\d+) duplicates?\\))?(?: \\(run `.*` to apply .*\\))?$"),
	regexp.MustCompile(`^Found ()(\d+) errors?(?: in (?:the same file, starting at: )?(?:\d+ files|\S+:\d+))?\.?()$`),
}

// shapeForms find a place in a file as any tool may write it: a name and a number behind it.
var shapeForms = []*regexp.Regexp{
	regexp.MustCompile(`[^\s:;,()\[\]'"]*[^\s\d:;,()\[\]'"][^\s:;,()\[\]'"]*:\d+(?::\d+)?(?::|\s|$|,|\))`),
	regexp.MustCompile(`\S\.\w+\s*:\s+\d+\s*:`),
	regexp.MustCompile(`\S\(\d+(?:[,:]\d+)?\)\s*:`),
	regexp.MustCompile(`(?i)["'\s](?:,|at|in)?\s*line \d+`),
	regexp.MustCompile(`^\s*-->\s`),
}

// stopWords are those by which programs say that they gave up, that something is lacking, or that they don't show everything: in
// English, and as the translations of compilers, make and shells have them. A line that isn't known and says "not" in any
// language is better asked about.
var stopWords = regexp.MustCompile(`(?i)(?:^|[^\pL\pN])(?:` +
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
	`)(?:$|[^\pL\pN])|n['\x{2019}]t(?:$|[^\pL\pN])|错误|錯誤|致命|终止|不|无法|無法|失败|失敗|没有|沒有|未|エラー|中止|ません|できない|なし|오류|치명|없|실패|않`)

// thrownForm is the name of what ended a program, as languages with exceptions write it.
var thrownForm = regexp.MustCompile(`(?:^|[\s.])[A-Za-z_]+(?:Error|Exception|Rejection|Fault|Failure)(?::|$)`)

// crashWords are those that only a program's end brings, and no explanation of a finding.
var crashWords = regexp.MustCompile(`(?i)(?:^|[^\pL\pN])(?:segmentation fault|killed|terminated|panicked|fatal|abort(?:ed|ing)?|core dumped|traceback|out of memory|bus error)(?:$|[^\pL\pN])`)

// tellsOfCrash reports whether a line among those that explain a finding is of a program that ended.
func tellsOfCrash(text string) bool {
	return thrownForm.MatchString(text) || crashWords.MatchString(unspoken.ReplaceAllString(text, " "))
}

// unspoken are the parts of a line that are no words of it: what is quoted, options, and paths.
var unspoken = regexp.MustCompile("'[^']*'|\"[^\"]*\"|`[^`]*`|«[^»]*»|(?:^|\\s)-\\S+|\\S*[/\\\\]\\S*|\\S+\\.[A-Za-z][A-Za-z0-9+]*\\b")

// suspicion says why a line that can't be read may mean that findings are missing, "" where it says nothing of the kind.
func suspicion(text string) string {
	if hasShape(text) {
		return "has the form of a finding that can't be read"
	}
	if buildForm.MatchString(text) {
		return "is a word of the build's that can't be read"
	}
	if speaksOfStop(text) {
		return "speaks of something that went wrong"
	}
	return ""
}

// hasShape reports whether a place in a file stands in a line.
func hasShape(text string) bool {
	for _, form := range shapeForms {
		if form.MatchString(text) {
			return true
		}
	}
	return false
}

// buildForm is a message of the program that builds.
var buildForm = regexp.MustCompile(`^(?:(?:g|mingw32-)?make(?:\[\d+\])?|ninja) ?: `)

func speaksOfStop(text string) bool {
	return thrownForm.MatchString(text) || stopWords.MatchString(unspoken.ReplaceAllString(text, " "))
}
