package change

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// ErrPatch is the error of a text that isn't a unified diff; the detail, with the line, is wrapped around it.
var ErrPatch = errors.New("not a unified diff")

// ErrCombined is the error of a merge's combined diff, which has several old sides.
var ErrCombined = errors.New("a combined diff of a merge has several old sides; compare with one parent instead")

// ReadUnified reads a unified diff, as git, other version-control programs or plain diff write it, with any amount of
// context. The files come in the diff's order, without Touched lines. Text around the diffs is passed over; a hunk that
// ends early or a diff without any file is an error that wraps ErrPatch and names the line. It takes time and memory in proportion to
// the diff's length, which its caller bounds.
func ReadUnified(r io.Reader) ([]File, error) {
	p := &patchReader{in: bufio.NewReaderSize(r, 1<<16)}
	p.next()
	for !p.done {
		if err := p.step(); err != nil {
			return nil, err
		}
	}
	if p.err != nil {
		return nil, p.err
	}
	p.finish()
	if len(p.files) == 0 && p.text {
		return nil, fmt.Errorf("no file header (--- and +++, or diff --git) in %d lines: %w", p.number, ErrPatch)
	}
	return eachOnce(p.files)
}

// unmerged begins what git says in place of the diff of a file that isn't merged yet.
const unmerged = "* Unmerged path "

// eachOnce makes the removal and the addition of one path, which is how git writes a change of type, one file. A path
// that comes twice otherwise means several changes one upon another, whose lines don't fit together.
func eachOnce(files []File) ([]File, error) {
	at := make(map[string]int, len(files))
	once := files[:0]
	for _, f := range files {
		i, twice := at[f.Path]
		switch {
		case !twice:
			at[f.Path] = len(once)
			once = append(once, f)
		case once[i].Status == Deleted && f.Status == Added:
			once[i] = File{Path: f.Path, Old: f.Path, Status: Retyped, Opaque: "of another type than before"}
		default:
			return nil, fmt.Errorf("%s comes twice: the diffs of several changes can't be judged together, make one of them: %w", f.Path, ErrPatch)
		}
	}
	return once, nil
}

// patchReader holds one line of a diff and the file it belongs to.
type patchReader struct {
	in     *bufio.Reader
	line   string // the current line, without its line feed
	number int    // its number, from 1
	crlf   bool   // the diff itself has CR LF line ends
	done   bool
	text   bool // a line that isn't blank was seen
	err    error

	files []File
	file  *File // the file being read, nil before the first
	named bool  // its header gave a path outright
	git   bool  // it came with a diff --git line
}

func (p *patchReader) next() {
	line, err := p.in.ReadString('\n')
	if line == "" && err != nil {
		p.done = true
		p.line = ""
		if err != io.EOF {
			p.err = fmt.Errorf("reading the diff after line %d: %w", p.number, err)
		}
		return
	}
	p.number++
	p.line = strings.TrimSuffix(line, "\n")
	p.text = p.text || strings.TrimSpace(p.line) != "" && !strings.HasPrefix(p.line, unmerged)
}

// header is the current line as a header: without the CR that a whole diff in CR LF has at every line's end.
func (p *patchReader) header() string { return strings.TrimSuffix(p.line, "\r") }

func (p *patchReader) wrong(format string, args ...any) error {
	return fmt.Errorf("line %d: %s: %w", p.number, fmt.Sprintf(format, args...), ErrPatch)
}

func (p *patchReader) step() error {
	line := p.header()
	key, rest, _ := strings.Cut(line, " ")
	switch {
	case strings.HasPrefix(line, "diff --cc ") || strings.HasPrefix(line, "diff --combined ") || strings.HasPrefix(line, "@@@ "):
		return fmt.Errorf("line %d: %w", p.number, ErrCombined)
	case strings.HasPrefix(line, "diff --git "):
		p.begin(strings.TrimPrefix(line, "diff --git "))
	case strings.HasPrefix(line, "--- ") && p.fileFollows():
		return p.paths()
	case p.file == nil:
	case strings.HasPrefix(line, "@@ "):
		return p.hunk()
	case !p.git:
	case key == "new" && strings.HasPrefix(rest, "file mode "):
		p.file.Status = Added
		p.mode(rest)
	case key == "deleted" && strings.HasPrefix(rest, "file mode "):
		p.file.Status = Deleted
		p.mode(rest)
	case key == "index":
		p.mode(rest)
	case key == "rename", key == "copy":
		return p.moved(key, rest)
	case strings.HasPrefix(line, "Binary files ") || line == "GIT binary patch":
		p.file.Opaque = "binary"
	}
	p.next()
	return nil
}

// begin starts a file at a "diff --git" line, whose paths serve where no later header gives them.
func (p *patchReader) begin(names string) {
	p.finish()
	p.files = append(p.files, File{Status: Modified})
	p.file, p.named, p.git = &p.files[len(p.files)-1], false, true
	if old, path, ok := splitNames(names); ok {
		p.file.Old, p.file.Path = stripPrefixes(old, path)
	}
}

// finish settles the file that was being read.
func (p *patchReader) finish() {
	if p.file == nil {
		return
	}
	if !p.git && len(p.file.Hunks) == 1 { // plain diff has no word for a file that one side lacks
		switch h := p.file.Hunks[0]; {
		case h.OldStart == 0 && h.OldCount == 0:
			p.file.Status = Added
		case h.NewStart == 0 && h.NewCount == 0:
			p.file.Status = Deleted
		}
	}
	switch p.file.Status {
	case Added:
		p.file.Old = ""
	case Deleted:
		p.file.Path = p.file.Old
	}
	p.file = nil
}

// submoduleMode is the mode of a commit of another repository in git's trees.
const submoduleMode = "160000"

func (p *patchReader) mode(rest string) {
	if strings.HasSuffix(rest, submoduleMode) {
		p.file.Opaque = Submodule
	}
}

func (p *patchReader) moved(key, rest string) error {
	side, name, _ := strings.Cut(rest, " ")
	name, err := Unquote(name)
	if err != nil {
		return p.wrong("%v", err)
	}
	switch side {
	case "from":
		p.file.Old = name
		p.file.Status = map[string]Status{"rename": Renamed, "copy": Copied}[key]
	case "to":
		p.file.Path = name
	}
	p.named = true
	p.next()
	return nil
}

// fileFollows reports whether a "--- " line is followed by a "+++ " line, as in a file's header.
func (p *patchReader) fileFollows() bool {
	ahead, _ := p.in.Peek(4)
	return string(ahead) == "+++ "
}

// paths reads the two lines "--- old" and "+++ new".
func (p *patchReader) paths() error {
	if p.git && p.file != nil && len(p.file.Hunks) > 0 || !p.git {
		p.finish()
		p.files = append(p.files, File{Status: Modified})
		p.file, p.named, p.git = &p.files[len(p.files)-1], false, false
	}
	p.crlf = strings.HasSuffix(p.line, "\r")
	old, err := pathOf(p.header())
	if err != nil {
		return p.wrong("%v", err)
	}
	p.next()
	path, err := pathOf(p.header())
	if err != nil {
		return p.wrong("%v", err)
	}
	p.next()
	if old == devNull && path == devNull {
		return p.wrong("both sides are %s", devNull)
	}
	if !p.named {
		switch {
		case old == devNull:
			p.file.Status = Added
			_, p.file.Path = stripPrefixes(path, path)
		case path == devNull:
			p.file.Status = Deleted
			p.file.Old, _ = stripPrefixes(old, old)
		default:
			p.file.Old, p.file.Path = stripPrefixes(old, path)
		}
	}
	return nil
}

const devNull = "/dev/null"

// hunk reads one "@@" line and its body, cutting it into stretches without context.
func (p *patchReader) hunk() error {
	oldAt, oldCount, newAt, newCount, ok := hunkHeader(p.header())
	if !ok {
		return p.wrong("%q is no hunk header", short(p.line))
	}
	if oldCount == 0 {
		oldAt++
	}
	if newCount == 0 {
		newAt++
	}
	if n := len(p.file.Hunks); n > 0 {
		if last := p.file.Hunks[n-1]; oldAt < last.OldStart+last.OldCount || newAt < last.NewStart+last.NewCount {
			return p.wrong("%q begins before the end of the hunk above it", short(p.line))
		}
	}
	start := p.number
	p.next()
	cut := cutter{file: p.file, old: oldAt, new: newAt}
	cut.current.Removed = make([]string, 0, min(oldCount, plausible))
	cut.current.Added = make([]string, 0, min(newCount, plausible))
	for oldCount > 0 || newCount > 0 {
		if p.err != nil {
			return p.err
		}
		if p.done {
			return fmt.Errorf("the hunk at line %d is cut off: %d old and %d new lines are missing: %w", start, oldCount, newCount, ErrPatch)
		}
		body := p.line
		if p.crlf {
			body = strings.TrimSuffix(body, "\r")
		}
		sign := byte(' ') // some programs strip the blank of an empty context line
		if body != "" {
			sign, body = body[0], body[1:]
		}
		switch {
		case sign == ' ' && oldCount > 0 && newCount > 0:
			cut.keep()
			oldCount, newCount = oldCount-1, newCount-1
		case sign == '-' && oldCount > 0:
			cut.remove(body)
			oldCount--
		case sign == '+' && newCount > 0:
			cut.add(body)
			newCount--
		case sign == '\\':
		default:
			return p.wrong("%q doesn't belong in the hunk at line %d, which needs %d old and %d new lines more", short(p.line), start, oldCount, newCount)
		}
		p.next()
	}
	cut.keep()
	return nil
}

// cutter collects removed and added lines into hunks without context.
type cutter struct {
	file     *File
	old, new int // the next line of either side
	current  Hunk
}

func (c *cutter) remove(line string) { c.current.Removed = append(c.current.Removed, line) }
func (c *cutter) add(line string)    { c.current.Added = append(c.current.Added, line) }

// keep passes a line that both sides have, which ends the hunk before it.
func (c *cutter) keep() {
	h := c.current
	h.OldCount, h.NewCount = len(h.Removed), len(h.Added)
	h.OldStart, h.NewStart = c.old, c.new
	if h.OldCount == 0 {
		h.OldStart--
	}
	if h.NewCount == 0 {
		h.NewStart--
	}
	if h.OldCount+h.NewCount > 0 {
		c.file.Hunks = append(c.file.Hunks, h)
	}
	c.old, c.new, c.current = c.old+h.OldCount+1, c.new+h.NewCount+1, Hunk{}
}

// hunkHeader reads "@@ -a,b +c,d @@…"; an absent count is 1.
func hunkHeader(line string) (oldAt, oldCount, newAt, newCount int, ok bool) {
	rest, _ := strings.CutPrefix(line, "@@ -")
	olds, rest, found := strings.Cut(rest, " +")
	news, _, closed := strings.Cut(rest, " @@")
	oldAt, oldCount, good := startAndCount(olds)
	newAt, newCount, fine := startAndCount(news)
	possible := (oldAt > 0 || oldCount == 0) && (newAt > 0 || newCount == 0) // only an empty side begins at line 0
	return oldAt, oldCount, newAt, newCount, found && closed && good && fine && possible
}

// plausible is up to how many lines room is made for at once on a header's word.
const plausible = 1 << 12

// maxLine bounds the line numbers believed of a diff, far above any real file and far below overflow.
const maxLine = 1 << 40

func startAndCount(s string) (start, count int, ok bool) {
	from, size, counted := strings.Cut(s, ",")
	start, err := strconv.Atoi(from)
	if err != nil || start < 0 || start > maxLine {
		return 0, 0, false
	}
	if !counted {
		return start, 1, true
	}
	count, err = strconv.Atoi(size)
	return start, count, err == nil && count >= 0 && count <= maxLine
}

func short(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}
