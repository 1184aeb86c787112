package report

import "regexp"

// noise are the lines that builds print beside what they find, and that say nothing of it, the most frequent ones first. Each
// is of a program whose output it was taken from. What a whole line must look like is written as narrowly as that allows,
// since a line that is noise is looked at no further.
var noise = []struct {
	of    string // whose line it is
	form  *regexp.Regexp
	words bool // it holds words of people, and is noise only where they raise no suspicion
}{
	{"gcc: what flags make of warnings", regexp.MustCompile(`^(?:cc1|cc1plus|cc1obj|cc1objplus|f951|gnat1|d21|go1): (?:all|some) warnings being treated as errors$`), false},
	{"gcc: where a finding stands", regexp.MustCompile(`^\S[^:]*: (?:In (?:(?:static |member |copy |move |lambda )*(?:function|constructor|destructor|lambda|program|subroutine|method|instantiation of|substitution of)\b.*|lambda function)|At (?:top level|global scope)):$`), false},
	{"gcc: what a finding was copied into", regexp.MustCompile(`^In function '[^']*',$`), false},
	{"gcc: what includes the file", regexp.MustCompile(`^(?:In file included from|                 from|\s+inlined from) .*[,:]$`), false},
	{"GNU make: folders", regexp.MustCompile(`^(?:g|mingw32-)?make(?:\[\d+\])?: (?:Entering|Leaving) directory '[^']*'$`), false},
	{"GNU make, translated: folders", regexp.MustCompile(`^(?:g|mingw32-)?make(?:\[\d+\])? ?: [^:*]*['"«»„]\s?/[^:*]*$`), false},
	{"make: the command lines of compilers", regexp.MustCompile(`^(?:(?:ccache|distcc|libtool: (?:compile|link): ?) ?)*` + compiler + `\s+` + operand), false},
	{"make: other command lines", regexp.MustCompile(`^(?:\S*/)?(?:[a-z0-9_]+-)*(?:ar|ranlib|ld|as|strip|objcopy|objdump|nm|rm|mkdir|rmdir|cp|mv|ln|install|touch|echo|printf|cd|chmod|sed|awk|grep|cat|tar|gzip|date|test|if|for|sh|bash|python3?|perl|cmake|ninja|make|go|javac|jar|node|git)\s+(?:\w+\s+)?` + operand), true},
	{"make: a shell's group", regexp.MustCompile(`^(?:\(|\{ |\[ -|: |set -[a-z]+;|@?true$|for \w+ in .*; do )`), false},
	{"automake, Linux: short command lines", regexp.MustCompile(`^\s{1,4}(?:HOST)?(?:CC|CXX|CCLD|CXXLD|LD|AR|AS|GEN|LINK|RANLIB|STRIP|OBJC|CPP|CPPAS|YACC|LEX|MKDIR|INSTALL|CHK|CALL|DESC|UPD|WRAP|SYNC|MOC|UIC|JAVAC|GO)(?: \[M\])?\s+\S+$`), false},
	{"ninja: steps", regexp.MustCompile(`^\[\d+/\d+\](?: \d+\.\d+s)? (?:` + compiler + `\s|:\s|\S*/\S|[A-Z][a-z]+(?:ing|e|y)?\s).*$`), false},
	{"ninja: where it works", regexp.MustCompile(`^ninja: Entering directory .[^']*.$`), false},
	{"CMake: steps", regexp.MustCompile(`^\[ *\d+%\] (?:Building|Linking|Built target|Generating|Copying|Creating|Creating directories|Automatic|Performing|Completed|Running|Updating|Installing) ?.*$`), false},
	{"CMake: targets", regexp.MustCompile(`^(?:Scanning dependencies of target|Consolidate compiler generated dependencies of target|Built target) \S+$`), false},
	{"CMake: configuring", regexp.MustCompile(`^-- (?:The \w+ compiler identification is|Detecting|Check|Looking for|Performing Test|Found|Configuring done|Generating done|Build files have been written|Installing:|Up-to-date:).*$`), false},
	{"go: packages", regexp.MustCompile(`^# (?:\[?[\w.~-]+(?:/[\w.~+-]+)*(?:\.test|_test)?\]?(?: \[[^\]]*\])?)$`), false},
	{"go: modules", regexp.MustCompile(`^go: (?:downloading|extracting|finding|added|upgraded) \S+ \S+(?: \S+)*$`), false},
	{"binutils: ar's flags", regexp.MustCompile("^\\S*ar: `u' modifier ignored since `D' is the default \\(see `U'\\)$"), false},
	{"binutils: where the linker is", regexp.MustCompile("^\\S*ld(?:\\.\\w+)?: \\S+: in function [`'][^']*':$"), false},
	{"javac: notes", regexp.MustCompile(`^Note: (?:(?:\S+\.java|Some (?:input|messages)[\w ]*) (?:uses?|ha(?:s|ve)|override)[\w -]*|Recompile with -X[\w:]+ for details)\.$`), false},
	{"make: what a rule says of its step", regexp.MustCompile(`^(?i:(?:=+>?|\*+|--+>?|>+) )?(?i:compiling|creating|building|linking|generating|installing|cleaning|making|archiving|stripping|copying|assembling)\b[^:(]*$`), true},
	{"rustc: help", regexp.MustCompile(`^(?:For more information about (?:this error|an error), try .*|Some errors have detailed explanations: [E0-9, ]+\.)$`), false},
	{"cargo: steps", regexp.MustCompile(`^\s+(?:Compiling|Checking|Finished|Updating|Downloading|Downloaded|Blocking|Fresh) \S.*$`), false},
}

const (
	// compiler is how a command line of a compiler begins.
	compiler = `(?:\S*/)?(?:[a-z0-9_]+-)*(?:gcc|g\+\+|cc|c\+\+|clang|clang\+\+|cpp|c99|c11|gfortran|rustc|javac)(?:-\d+(?:\.\d+)*)?`
	// operand is what an argument begins with that makes words a command line: an option, a path, a quote, a variable.
	operand = `(?:[-/.'"$\[({!~@]|\S*[./=])`
)

// isNoise reports whether a line says nothing of what was found.
func isNoise(text string) bool {
	for i := range noise {
		if noise[i].form.MatchString(text) && !(noise[i].words && suspicion(text) != "") {
			return true
		}
	}
	return false
}

// idleForm finds what programs say that had nothing to do, and so looked at nothing. idleBelowForm is what make says of one
// folder among others: in a build from nothing too, where that folder has nothing to compile.
var (
	idleForm      = regexp.MustCompile(`^(?:(?:g|mingw32-)?make(?:\[\d+\])?: '[^']*' is up to date\.|(?:g|mingw32-)?make: Nothing to be done for '[^']*'\.|ninja: no work to do\.)$`)
	idleBelowForm = regexp.MustCompile(`^(?:g|mingw32-)?make\[\d+\]: Nothing to be done for '[^']*'\.$`)
)

// compileForm finds the lines by which builds show that they compile something, builtForm those that they print for what is
// up to date as well.
var (
	compileForm = regexp.MustCompile(`^(?:\[\d+/\d+\] )?(?:libtool: compile: +)?` + compiler + `\s+` + operand + `|^\[ *\d+(?:/\d+|%)\] (?:Building|Compiling) |^ +(?:HOST)?(?:CC|CXX|OBJC|AS|CPPAS|JAVAC|GO)(?: \[M\])? `)
	builtForm   = regexp.MustCompile(`^\[ *\d+%\] Built target \S+$`)
)

// closingForm finds the lines in which compilers count what they printed.
var closingForm = regexp.MustCompile(`^(?:(\d+) warnings?)?(?: and )?(?:(\d+) errors?)?(?: generated\.)?$`)

// shapeForms find a place in a file as any tool may write it: a name and a number behind it.
var shapeForms = []*regexp.Regexp{
	regexp.MustCompile(`[^\s:;,()\[\]'"]*[^\s\d:;,()\[\]'"][^\s:;,()\[\]'"]*:\d+(?::\d+)?(?::|\s|$|,|\))`),
	regexp.MustCompile(`\S\.\w+\s*:\s+\d+\s*:`),
	regexp.MustCompile(`\S\(\d+(?:[,:]\d+)?\)\s*:`),
	regexp.MustCompile(`(?i)["'\s](?:,|at|in)?\s*line \d+`),
	regexp.MustCompile(`^\s*-->\s`),
}

// stopWords are those by which programs say that they gave up, or that something is lacking: in English, and as the
// translations of compilers, make and shells have them.
var stopWords = regexp.MustCompile(`(?i)(?:^|[^\pL\pN])(?:` +
	`fatal|errors?|abort(?:ed|ing|s)?|killed|terminated|terminating|segmentation fault|bus error|core dumped|traceback|not found|no such file|too many|only showing|panic|exceptions?|` +
	`can't|cannot|could not|couldn't|unable to|fail(?:ed|ure|s|ing)?|crash(?:ed)?|denied|timed out|out of memory|unrecognized|unknown option|invalid option|not supported|unsupported|usage|giving up|stopped|stopping|interrupted|skipp(?:ed|ing)|incomplete|undefined|missing|no module|no such|no space left|does not exist|doesn't exist|not installed|not executable|read-only|refused|rejected|unreachable|corrupt(?:ed)?|malformed|truncated|expired|quota|` +
	`fehler|fataler|abgebrochen|nicht gefunden|getötet|speicherzugriffsfehler|` + // German
	`erreur|fatale|introuvable|non trouvée?|abandon|tué|interrompu|aucun fichier|` + // French
	`errore|fatale|non trovato|ucciso|interrotto|` + // Italian
	`erro|fatal|abortado|não encontrado|morto|` + // Portuguese
	`error|abortado|no se encontró|terminado|` + // Spanish
	`fel|avbruten|hittades inte|dödad|fout|afgebroken|niet gevonden|` + // Swedish, Dutch
	`błąd|przerwan[oya]|nie znaleziono|chyba|hata|` + // Polish, Czech, Turkish
	`ошибка|прерван[оа]?|не найден[оа]?|убито|помилка` + // Russian, Ukrainian
	`)(?:$|[^\pL\pN])|错误|錯誤|致命|终止|未找到|エラー|致命的|中止|見つかりません|오류|치명적`)

// thrownForm is the name of what ended a program, as languages with exceptions write it.
var thrownForm = regexp.MustCompile(`(?:^|[\s.])[A-Za-z_]+(?:Error|Exception)(?::|$)`)

// unspoken are the parts of a line that are no words of it: what is quoted, options, and paths.
var unspoken = regexp.MustCompile("'[^']*'|\"[^\"]*\"|`[^`]*`|«[^»]*»|(?:^|\\s)-\\S+|\\S*[/\\\\]\\S*|\\S+\\.[A-Za-z][A-Za-z0-9+]*\\b")

// suspicion says why a line that can't be read may mean that findings are missing, "" where it says nothing of the kind.
func suspicion(text string) string {
	for _, form := range shapeForms {
		if form.MatchString(text) {
			return "has the form of a finding that can't be read"
		}
	}
	if buildForm.MatchString(text) {
		return "is a word of the build's that can't be read"
	}
	if speaksOfStop(text) {
		return "speaks of something that went wrong"
	}
	return ""
}

// buildForm is a message of the program that builds.
var buildForm = regexp.MustCompile(`^(?:(?:g|mingw32-)?make(?:\[\d+\])?|ninja) ?: `)

func speaksOfStop(text string) bool {
	return thrownForm.MatchString(text) || stopWords.MatchString(unspoken.ReplaceAllString(text, " "))
}
