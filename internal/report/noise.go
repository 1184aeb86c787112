package report

import (
	"regexp/syntax"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"zincdoor/internal/core/pattern"
)

// noise are the lines that builds print beside what they find, the most frequent ones first. Each is of a program whose output
// it was taken from. What a whole line must look like is written as narrowly as that allows, since a line that is noise is looked
// at no further but for what its kind says.
var noise = []struct {
	of    string // whose line it is
	kind  kind
	form  *pattern.Pattern
	needs func(text string) bool // without which the form can't match, where that is found sooner; nil for nothing
}{
	{"gcc: what flags make of warnings", saysNothing, pattern.Of(`^(?:cc1|cc1plus|cc1obj|cc1objplus|f951|gnat1|d21|go1): (?:all|some) warnings being treated as errors$`), nil},
	{"gcc: where a finding stands", standing, pattern.Of(`^\S[^:]*: (?:In (?:(?:static |member |copy |move |lambda )*(?:function|constructor|destructor|lambda|program|subroutine|method|instantiation of|substitution of)\b.*|lambda function)|At (?:top level|global scope)):$`), holds(": In ", ": At ")},
	{"gcc: what a finding was copied into", standing, pattern.Of(`^In function '[^']*',$`), nil},
	{"gcc: what includes the file", including, pattern.Of(`^(?:In file included from|                 from|\s+inlined from) .*[,:]$`), nil},
	{"make: the command lines of compilers", compiles, pattern.Of(`^(?:(?:ccache|distcc|libtool: compile: ?) ?)*` + compiler + `\s+` + operand), calls(compilers)},
	{"GNU make: folders", folders, pattern.Of(`^(?:g|mingw32-)?make(?:\[(\d+)\])?: (Entering|Leaving) directory '([^']*)'$`), nil},
	{"GNU make: all is made", idle, pattern.Of(`^(?:(?:g|mingw32-)?make(?:\[\d+\])?: '[^']*' is up to date\.|(?:g|mingw32-)?make: Nothing to be done for '[^']*'\.)$`), nil},
	{"GNU make: a folder in which all is made", idleBelow, pattern.Of(`^(?:g|mingw32-)?make\[\d+\]: Nothing to be done for '[^']*'\.$`), nil},
	{"GNU make, translated: folders", folders, pattern.Of(`^(?:g|mingw32-)?make(?:\[(\d+)\])? ?:() [^:*]*['"«»„]\s?(/[^:*'"«»„“”]*)[^:*]*$`), nil},
	{"make: other command lines", wording, pattern.Of(`^(?:libtool: link: ?)?(?:\S*/)?(?:[a-z0-9_]+-)*(?:` + commands + `)\s+(?:\w+\s+)?` + operand), calls(commands)},
	{"make: a shell's group", saysNothing, pattern.Of(`^(?:\(|\{ |\[ -|: |set -[a-z]+;|@?true$|for \w+ in .*; do )`), nil},
	{"automake, Linux: short lines of compilers", compiles, pattern.Of(`^\s{1,4}(?:HOST)?(?:CC|CXX|OBJC|CPPAS|JAVAC|GO)(?: \[M\])?\s+\S+$`), nil},
	{"automake, Linux: short command lines", saysNothing, pattern.Of(`^\s{1,4}(?:HOST)?(?:CCLD|CXXLD|LD|AR|AS|GEN|LINK|RANLIB|STRIP|CPP|YACC|LEX|MKDIR|INSTALL|CHK|CALL|DESC|UPD|WRAP|SYNC|MOC|UIC)(?: \[M\])?\s+\S+$`), nil},
	{"ninja: compilers", compiles, pattern.Of(`^\[\d+/\d+\](?: \d+\.\d+s)? (?:` + compiler + `\s.*|(?:Building|Compiling) .*)$`), nil},
	{"ninja: other steps", saysNothing, pattern.Of(`^\[\d+/\d+\](?: \d+\.\d+s)? (?::\s|\S*/\S|[A-Z][a-z]+(?:ing|e|y)?\s).*$`), nil},
	{"ninja: where it works", folders, pattern.Of("^ninja()(): Entering directory [`'](.*)'$"), nil},
	{"ninja: all is made", idle, pattern.Of(`^ninja: no work to do\.$`), nil},
	{"CMake: compilers", compiles, pattern.Of(`^\[ *\d+%\] Building .*$`), nil},
	{"CMake: what is made, be it anew or not", built, pattern.Of(`^\[ *\d+%\] Built target \S+$`), nil},
	{"CMake: steps", saysNothing, pattern.Of(`^\[ *\d+%\] (?:Linking|Generating|Copying|Creating|Creating directories|Automatic|Performing|Completed|Running|Updating|Installing) ?.*$`), nil},
	{"CMake: targets", saysNothing, pattern.Of(`^(?:Scanning dependencies of target|Consolidate compiler generated dependencies of target|Built target) \S+$`), nil},
	{"CMake: configuring", saysNothing, pattern.Of(`^-- (?:The \w+ compiler identification is|Detecting|Check|Looking for|Performing Test|Found|Configuring done|Generating done|Build files have been written|Installing:|Up-to-date:).*$`), nil},
	{"CMake: what a project says while it is configured", wording, pattern.Of(`^-- .`), nil},
	{"CMake: warnings of its configuring", configures, pattern.Of(`^CMake (?:Deprecation |Author )?Warning(?: \(dev\))?(?: (?:at|in) [^\s:]+(?::\d+ \([^)]*\))?)?:$`), nil},
	{"CMake: what called the line of the warning", configures, pattern.Of(`^Call Stack \(most recent call first\):$`), nil},
	{"CMake: whom the warning is for", saysNothing, pattern.Of(`^This warning is for project developers\.  Use -Wno-dev to suppress it\.$`), nil},
	{"go: packages", packages, pattern.Of(`^# (\[?)[\w.~-]+(?:/[\w.~+-]+)*(?:\.test|_test)?\]?(?: \[[^\]]*\])?$`), nil},
	{"go: modules", saysNothing, pattern.Of(`^go: (?:downloading|extracting|finding|added|upgraded) \S+ \S+(?: \S+)*$`), nil},
	{"binutils: ar's flags", saysNothing, pattern.Of("^\\S*ar: `u' modifier ignored since `D' is the default \\(see `U'\\)$"), holds("ar: `u'")},
	{"binutils: where the linker is", saysNothing, pattern.Of("^\\S*ld(?:\\.\\w+)?: \\S+: in function [`'][^']*':$"), holds(": in function ")},
	{"javac: notes", saysNothing, pattern.Of(`^Note: (?:(?:\S+\.java|Some (?:input|messages)[\w ]*) (?:uses?|ha(?:s|ve)|override)[\w -]*|Recompile with -X[\w:]+ for details)\.$`), nil},
	{"make: what a rule says of its step", wording, pattern.Of(`^(?i:(?:=+>?|\*+|--+>?|>+) )?(?i:compiling|checking|scanning|processing|creating|building|linking|generating|installing|cleaning|making|archiving|stripping|copying|assembling)\b[^:(]*$`), nil},
	{"tsc: errors of each file", saysNothing, pattern.Of(`^(?:Errors  Files|\s+\d+  \S+:\d+)$`), nil},
	{"rustc: help", saysNothing, pattern.Of(`^(?:For more information about (?:this error|an error), try .*|Some errors have detailed explanations: [E0-9, ]+\.)$`), nil},
	{"cargo: steps", saysNothing, pattern.Of(`^\s+(?:Compiling|Checking|Finished|Updating|Downloading|Downloaded|Blocking|Fresh) \S.*$`), nil},
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
	compiler = `(?:\S*/)?(?:[a-z0-9_]+-)*(?:` + compilers + `)(?:-\d+(?:\.\d+)*)?`
	// compilers and commands are the names of programs that makefiles call, as a form has them.
	compilers = `gcc|g\+\+|cc|c\+\+|clang|clang\+\+|cpp|c99|c11|gfortran|rustc|javac`
	commands  = `ar|ranlib|ld|as|strip|objcopy|objdump|nm|rm|mkdir|rmdir|cp|mv|ln|install|touch|echo|printf|cd|chmod|sed|awk|grep|cat|tar|gzip|date|test|if|for|sh|bash|python|python3|perl|cmake|ninja|make|go|javac|jar|node|git|gcc|g\+\+|cc|c\+\+|clang|clang\+\+`
	// operand is what an argument begins with that makes words a command line: an option, a path, a quote, a variable.
	operand = `(?:[-/.'"$\[({!~@]|\S*[./=])`
)

// holds is the need of some text.
func holds(all ...string) func(text string) bool {
	return func(text string) bool {
		return slices.ContainsFunc(all, func(part string) bool { return strings.Contains(text, part) })
	}
}

// calls is the need of a call of a program by one of its names, given as a form has them: the first word that isn't of what starts
// compilers ends with it, but for a version.
func calls(names string) func(text string) bool {
	known := map[string]bool{}
	for name := range strings.SplitSeq(strings.ReplaceAll(names, `\`, ""), "|") {
		known[name] = true
	}
	starters := []string{"ccache", "distcc", "libtool:", "compile:", "link:"}
	return func(text string) bool {
		for word := range strings.FieldsSeq(text) {
			if slices.ContainsFunc(starters, func(s string) bool { return strings.HasPrefix(word, s) }) && !known[word] {
				continue
			}
			name := word[strings.LastIndexByte(word, '/')+1:]
			for {
				i := strings.LastIndexByte(name, '-')
				if known[name[i+1:]] {
					return true
				}
				if i < 0 || strings.Trim(name[i+1:], "0123456789.") != "" {
					return false
				}
				name = name[:i]
			}
		}
		return false
	}
}

// noiseFrom are the indices of the noise that a line which begins with a byte may be, in their order.
var noiseFrom = sync.OnceValue(func() *[256][]int {
	all := new([256][]int)
	for i, n := range noise {
		first := firstBytes(n.form)
		for c := range all {
			if first[c] {
				all[c] = append(all[c], i)
			}
		}
	}
	return all
})

// firstBytes are the bytes with which a text that an anchored form matches may begin; all where that isn't plain.
func firstBytes(f *pattern.Pattern) (first [256]bool) {
	parsed, err := syntax.Parse(f.Text(), syntax.Perl)
	if err != nil || !addFirst(parsed.Simplify(), &first) {
		for c := range first {
			first[c] = true
		}
	}
	return first
}

// addFirst adds the first bytes of what a part of a form matches. It is false where that may be nothing, so that what follows counts
// too.
func addFirst(part *syntax.Regexp, first *[256]bool) bool {
	switch part.Op {
	case syntax.OpLiteral:
		for r := part.Rune[0]; ; {
			first[string(r)[0]] = true
			if part.Flags&syntax.FoldCase == 0 {
				return true
			}
			if r = unicode.SimpleFold(r); r == part.Rune[0] {
				return true
			}
		}
	case syntax.OpCharClass:
		for i := 0; i < len(part.Rune); i += 2 {
			for r := part.Rune[i]; r <= min(part.Rune[i+1], utf8.RuneSelf-1); r++ {
				first[r] = true
			}
			if part.Rune[i+1] >= utf8.RuneSelf {
				for c := utf8.RuneSelf; c < len(first); c++ {
					first[c] = true
				}
			}
		}
		return true
	case syntax.OpConcat:
		for _, p := range part.Sub {
			if addFirst(p, first) {
				return true
			}
		}
		return false
	case syntax.OpAlternate:
		all := true
		for _, p := range part.Sub {
			all = addFirst(p, first) && all
		}
		return all
	case syntax.OpCapture, syntax.OpPlus:
		return addFirst(part.Sub[0], first)
	case syntax.OpStar, syntax.OpQuest:
		addFirst(part.Sub[0], first)
		return false
	case syntax.OpEmptyMatch, syntax.OpBeginText, syntax.OpBeginLine, syntax.OpWordBoundary, syntax.OpNoWordBoundary, syntax.OpEndText, syntax.OpEndLine:
		return false
	}
	for c := range first {
		first[c] = true
	}
	return true
}

// kindOf tells what a line that says nothing of what was found says all the same, and the parts of it that its form has; false
// where it may say more.
func kindOf(text string) (k kind, parts []string, isNoise bool) {
	for _, i := range noiseFrom()[text[0]] {
		if needs := noise[i].needs; needs != nil && !needs(text) {
			continue
		}
		if m := noise[i].form.FindStringSubmatch(text); m != nil && !(noise[i].kind == wording && suspicion(text) != "") {
			return noise[i].kind, m, true
		}
	}
	return saysNothing, nil, false
}

// closingForms find the lines in which compilers count what they printed: warnings, errors, and what was counted twice.
var closingForms = []*pattern.Pattern{
	pattern.Of(`^(?:(\d+) warnings?)?(?: and )?(?:(\d+) errors?)?(?: generated\.)?()$`),
	pattern.Of(`^warning: (\d+) warnings? emitted()()$`),
	pattern.Of("^warning: `[^`]+` \\(.*\\) generated (\\d+) warnings?()(?: \\((\\d+) duplicates?\\))?(?: \\(run `.*` to apply .*\\))?$"),
	pattern.Of(`^Found ()(\d+) errors?(?: in (?:the same file, starting at: )?(?:\d+ files|\S+:\d+))?\.?()$`),
}
