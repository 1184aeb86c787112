package review

import (
	"bytes"
	"compress/flate"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"io"
	"net/url"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/source"
)

// Mark is what a comment carries in its last line, so that it is known again and what it speaks of is recognised:
//
//	zincdoor 1 comment DOOR ID STATE DIGEST COMMIT ENTRIES
//	zincdoor 1 summary DOOR - - DIGEST COMMIT IDS
//
// DIGEST is of the text above, so that an edit by somebody else shows. ENTRIES are the findings, as the list of accepted findings
// would have them, as they stood at COMMIT; IDS are the findings that have a comment.
type Mark struct {
	Summary bool
	Door    string
	ID      string
	Gone    bool // what it speaks of was gone when it was last written
	Digest  string
	Commit  string
	Entries []Entry
	IDs     map[string]bool // by shortID
}

// Entry is a finding that a comment speaks of.
type Entry struct {
	ID string
	baseline.Entry
}

const (
	markBegins = "zincdoor 1 "
	markFields = 9
	openState  = "open"
	goneState  = "gone"
	noValue    = "-"

	longestPayload = 6000 // of entries
	longestMessage = 500
	mostUnpacked   = 1 << 18
)

// Placeholder is what the form of a mark has in the place of the mark.
const Placeholder = "{mark}"

// Write puts a mark under a text, in a form.
func (m Mark) Write(text, form string) string {
	text = tidy(text)
	kind, id, state := "comment", m.ID, openState
	if m.Gone {
		state = goneState
	}
	var payload []byte
	if m.Summary {
		kind, id, state = "summary", noValue, noValue
		payload = packIDs(m.IDs)
	} else {
		payload = packEntries(m.Entries)
	}
	packed := base64.RawStdEncoding.EncodeToString(payload)
	if packed == "" {
		packed = noValue
	}
	commit := m.Commit
	if commit == "" {
		commit = noValue
	}
	mark := markBegins + strings.Join([]string{kind, url.PathEscape(m.Door), id, state, digest(text), commit, packed}, " ")
	return text + "\n\n" + strings.Replace(form, Placeholder, mark, 1)
}

// Read finds the mark in the last line of a comment; text is what is above it.
func Read(comment, form string) (m Mark, text string, ok bool) {
	comment = tidy(comment)
	before, after, _ := strings.Cut(form, Placeholder)
	at := strings.LastIndexByte(comment, '\n') + 1
	line := comment[at:]
	line, begins := strings.CutPrefix(line, strings.TrimLeft(before, " "))
	line, ends := strings.CutSuffix(line, strings.TrimRight(after, " "))
	fields := strings.Fields(line)
	if !begins || !ends || len(fields) != markFields || !strings.HasPrefix(line, markBegins) {
		return m, comment, false
	}
	text = tidy(comment[:at])
	door, err := url.PathUnescape(fields[3])
	if err != nil {
		return m, comment, false
	}
	m = Mark{Summary: fields[2] == "summary", Door: door, ID: fields[4], Gone: fields[5] == goneState, Digest: fields[6]}
	if fields[7] != noValue {
		m.Commit = fields[7]
	}
	payload, err := base64.RawStdEncoding.DecodeString(fields[8])
	switch {
	case err != nil:
	case m.Summary:
		m.IDs = unpackIDs(payload)
	default:
		m.Entries = unpackEntries(payload)
	}
	return m, text, true
}

// Edited reports whether a text isn't the one that the mark was written under.
func (m Mark) Edited(text string) bool { return m.Digest != digest(tidy(text)) }

// tidy is a text as hosts may keep it: line feeds alone, no blanks at the ends of lines and of the text.
func tidy(text string) string {
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " \t\r")
	}
	return strings.Trim(strings.Join(lines, "\n"), "\n")
}

func digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:6])
}

// packEntries packs as many entries as there is room for.
func packEntries(entries []Entry) []byte {
	var rows [][]any
	for _, e := range entries {
		rows = append(rows, []any{e.ID, e.Tool, e.Rule, e.Path, e.Line, shortMessage(e.Message), e.Text, e.Before, e.After, e.Twins, e.Fingerprints})
	}
	for ; len(rows) > 0; rows = rows[:len(rows)/2] {
		text, err := json.Marshal(rows)
		if err != nil {
			return nil
		}
		var packed bytes.Buffer
		w, _ := flate.NewWriter(&packed, flate.BestCompression)
		w.Write(text)
		w.Close()
		if packed.Len()*4/3 <= longestPayload {
			return packed.Bytes()
		}
	}
	return nil
}

// unpackEntries gives none where what is packed makes no sense.
func unpackEntries(packed []byte) (entries []Entry) {
	text, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), mostUnpacked))
	if err != nil {
		return nil
	}
	var rows [][]json.RawMessage
	if json.Unmarshal(text, &rows) != nil {
		return nil
	}
	for _, row := range rows {
		var e Entry
		parts := []any{&e.ID, &e.Tool, &e.Rule, &e.Path, &e.Line, &e.Message, &e.Text, &e.Before, &e.After, &e.Twins, &e.Fingerprints}
		if len(row) != len(parts) {
			return nil
		}
		for i, part := range parts {
			if json.Unmarshal(row[i], part) != nil {
				return nil
			}
		}
		entries = append(entries, e)
	}
	return entries
}

// shortMessage is a message as marks have it: of a long one the beginning, and a hash of all of it.
func shortMessage(message string) string {
	if len(message) <= longestMessage {
		return message
	}
	return strings.ToValidUTF8(message[:longestMessage], "") + " " + source.Hash(message)
}

// shortID is the beginning of a finding's id, which is enough to know it among those of one pull request.
func shortID(id string) string { return id[:min(len(id), 2*shortBytes)] }

const shortBytes = 6

func packIDs(ids map[string]bool) (packed []byte) {
	for _, id := range sortedKeys(ids) {
		short, err := hex.DecodeString(shortID(id))
		if err == nil && len(short) == shortBytes {
			packed = append(packed, short...)
		}
	}
	return packed
}

func unpackIDs(packed []byte) map[string]bool {
	ids := map[string]bool{}
	for ; len(packed) >= shortBytes; packed = packed[shortBytes:] {
		ids[hex.EncodeToString(packed[:shortBytes])] = true
	}
	return ids
}

// Clip cuts a text at a line so that there is room for a mark and for what is said once it is gone, where a comment has so many characters
// at most.
func Clip(text string, longest int) string {
	const more = "\n\n…"
	room := longest - longestPayload - 500
	if letters := []rune(text); len(letters) > room {
		cut := string(letters[:max(room, 0)])
		return cut[:max(strings.LastIndexByte(cut, '\n'), 0)] + more
	}
	return text
}
