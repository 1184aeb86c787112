// Package recordfile knows records as JSON, and what is kept beside them compressed: it writes them and reads them back. It doesn't
// know where they are kept.
package recordfile

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/record"
	"zincdoor/internal/verdictfile"
)

// version is what a record calls itself where it is written as a line of JSON.
const version = "record/1"

// recordJSON is the record/1 document.
type recordJSON struct {
	Version    string                    `json:"zincdoor"`
	ID         string                    `json:"id"`
	Repository string                    `json:"repository"`
	Branch     string                    `json:"branch,omitempty"`
	Tree       string                    `json:"tree,omitempty"`
	Time       time.Time                 `json:"time"`
	Took       int64                     `json:"took_ms"`
	Imported   bool                      `json:"imported,omitempty"`
	Apart      int                       `json:"findings_apart,omitempty"`
	Tallies    map[record.By][]tallyJSON `json:"tallies"`
	Reports    []reportJSON              `json:"reports,omitempty"`
	Verdict    json.RawMessage           `json:"verdict"`
}

type reportJSON struct {
	Name   string `json:"name"`
	Format string `json:"format,omitempty"`
	Digest string `json:"sha256"`
	Size   int64  `json:"size"`
}

type tallyJSON struct {
	Name     string                 `json:"name"`
	Findings int                    `json:"findings"`
	Cost     int                    `json:"cost,omitempty"`
	By       map[judge.Standing]int `json:"by"`
}

// describe is a record as a document, around its verdict's.
func describe(r *record.Record, verdict []byte) recordJSON {
	d := recordJSON{
		Version: version, ID: r.ID, Repository: r.Repository, Branch: r.Branch, Tree: r.Tree, Time: r.Time, Took: r.Took.Milliseconds(), Imported: r.Imported,
		Apart: r.Apart, Tallies: map[record.By][]tallyJSON{}, Verdict: verdict,
	}
	for by, tallies := range r.Tallies {
		for _, t := range tallies {
			d.Tallies[by] = append(d.Tallies[by], tallyJSON(t))
		}
	}
	for _, report := range r.Reports {
		d.Reports = append(d.Reports, reportJSON(report))
	}
	return d
}

// record reads the document, and beside the verdict's findings those of further arrays.
func (d recordJSON) record(arrays ...[]byte) (*record.Record, error) {
	verdict, err := verdictfile.Read(d.Verdict, arrays...)
	if err != nil {
		return nil, err
	}
	r := &record.Record{
		ID: d.ID, Repository: d.Repository, Branch: d.Branch, Tree: d.Tree, Time: d.Time.UTC(), Took: time.Duration(d.Took) * time.Millisecond, Imported: d.Imported,
		Apart: d.Apart, Tallies: d.tallies(), Verdict: verdict,
	}
	for _, report := range d.Reports {
		r.Reports = append(r.Reports, record.Report(report))
	}
	return r, nil
}

func (d recordJSON) tallies() map[record.By][]record.Tally {
	all := map[record.By][]record.Tally{}
	for by, tallies := range d.Tallies {
		for _, t := range tallies {
			all[by] = append(all[by], record.Tally(t))
		}
	}
	return all
}

// Line writes a record as a line of JSON, without a line end: the record/1 document.
func Line(r *record.Record) ([]byte, error) {
	var verdict bytes.Buffer
	if err := verdictfile.Write(&verdict, r.Verdict); err != nil {
		return nil, err
	}
	return plainJSON(describe(r, verdict.Bytes()))
}

// ReadLine reads a record that Line wrote.
func ReadLine(line []byte) (*record.Record, error) {
	d, err := decode(line)
	switch {
	case err != nil:
		return nil, err
	case d.Version != version:
		return nil, fmt.Errorf("it is no record of the form %s: it calls itself %q", version, d.Version)
	case !IsID(d.ID) || d.Time.IsZero():
		return nil, fmt.Errorf("it is no record: it has no id or no time")
	}
	return d.record()
}

func decode(document []byte) (d recordJSON, err error) {
	if err := json.Unmarshal(document, &d); err != nil {
		return d, fmt.Errorf("it is no record: %w", err)
	}
	return d, nil
}

// IsID reports whether a text is the id of a record.
func IsID(id string) bool {
	raw, err := hex.DecodeString(id)
	return err == nil && len(raw) == 8
}

func plainJSON(v any) ([]byte, error) {
	var out bytes.Buffer
	to := json.NewEncoder(&out)
	to.SetEscapeHTML(false)
	err := to.Encode(v)
	return bytes.TrimSuffix(out.Bytes(), []byte("\n")), err
}

// Name gives a record its id, unless it has one: an imported one a hash of its document, in which the ids of its findings stand for
// these, so that importing it again makes no other; and any other a random one, since several machines may judge the same in one moment.
func Name(r *record.Record) error {
	if r.ID != "" {
		return nil
	}
	if !r.Imported {
		var id [8]byte
		rand.Read(id[:])
		r.ID = hex.EncodeToString(id[:])
		return nil
	}
	document, err := WithoutFindings(r)
	for _, f := range r.Verdict.Findings {
		document = append(document, f.ID...)
	}
	r.ID = digestOf(document)[:16]
	return err
}

// WithoutFindings is the record's document with an empty list in the place of its findings.
func WithoutFindings(r *record.Record) ([]byte, error) {
	verdict, err := verdictfile.WithoutFindings(r.Verdict)
	if err != nil {
		return nil, err
	}
	return plainJSON(describe(r, verdict))
}

// Read reads a document, and beside its own findings those of further arrays.
func Read(document []byte, arrays ...[]byte) (*record.Record, error) {
	d, err := decode(document)
	if err != nil {
		return nil, err
	}
	return d.record(arrays...)
}

// Tallies reads what was counted when a record was made.
func Tallies(document []byte) (map[record.By][]record.Tally, error) {
	d, err := decode(document)
	return d.tallies(), err
}

// digestOf is the SHA-256 of something, in hexadecimal digits.
func digestOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}
