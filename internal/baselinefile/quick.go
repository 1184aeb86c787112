package baselinefile

import (
	"bytes"
	"unicode/utf8"

	"zincdoor/internal/core/baseline"
)

// Nearly all lines are as this package writes them: a flat object of plain texts and numbers, without white space between, and nearly
// without escapes. Reading these needs no more than a look for the next quotation mark; whatever else a line has is left to the JSON
// library, which also tells what is wrong with one.

// quickly reads an entry of such a line, which must be empty; false leaves it in part filled, where the line isn't such a one. What it has
// in common with the entry before it shares.
func quickly(line []byte, e, before *baseline.Entry) bool {
	if len(line) < 2 || line[0] != '{' || !utf8.Valid(line) {
		return false
	}
	seen := 0
	for line = line[1:]; ; line = line[1:] {
		key, rest, ok := plainText(line)
		if !ok || len(rest) < 2 || rest[0] != ':' {
			return false
		}
		line = rest[1:]
		to, number, bit := fieldOf(e, key)
		switch {
		case bit == 0 || seen&bit != 0:
			return false
		case number != nil:
			if *number, line, ok = plainNumber(line); !ok {
				return false
			}
		default:
			text, rest, ok := plainText(line)
			if !ok {
				return false
			}
			line = rest
			if was, _, _ := fieldOf(before, key); *was == string(text) {
				*to = *was
			} else {
				*to = string(text)
			}
		}
		seen |= bit
		switch {
		case len(line) == 1 && line[0] == '}':
			return true
		case len(line) == 0 || line[0] != ',':
			return false
		}
	}
}

// fieldOf is where an entry has the value of a key, and a bit that is the key's own; 0 where it is none of an entry's.
func fieldOf(e *baseline.Entry, key []byte) (text *string, number *int, bit int) {
	switch string(key) {
	case "path":
		return &e.Path, nil, 1 << 0
	case "tool":
		return &e.Tool, nil, 1 << 1
	case "rule":
		return &e.Rule, nil, 1 << 2
	case "line":
		return nil, &e.Line, 1 << 3
	case "message":
		return &e.Message, nil, 1 << 4
	case "severity":
		return &e.Severity, nil, 1 << 5
	case "measure":
		return &e.Measure, nil, 1 << 6
	case "text":
		return &e.Text, nil, 1 << 7
	case "before":
		return &e.Before, nil, 1 << 8
	case "after":
		return &e.After, nil, 1 << 9
	case "twins":
		return nil, &e.Twins, 1 << 10
	case "prints":
		return &e.Fingerprints, nil, 1 << 11
	case "why":
		return (*string)(&e.Why), nil, 1 << 12
	case "reason":
		return &e.Reason, nil, 1 << 13
	case "by":
		return &e.By, nil, 1 << 14
	case "on":
		return &e.On, nil, 1 << 15
	case "until":
		return &e.Until, nil, 1 << 16
	case "link":
		return &e.Link, nil, 1 << 17
	case "owner":
		return &e.Owner, nil, 1 << 18
	}
	return nil, nil, 0
}

// plainText reads a text without escapes, and gives what follows it.
func plainText(line []byte) (text, rest []byte, ok bool) {
	if len(line) == 0 || line[0] != '"' {
		return nil, nil, false
	}
	end := bytes.IndexByte(line[1:], '"')
	if end < 0 {
		return nil, nil, false
	}
	text, rest = line[1:1+end], line[2+end:]
	for _, c := range text {
		if c < ' ' || c == '\\' {
			return nil, nil, false
		}
	}
	return text, rest, true
}

// plainNumber reads a whole number that isn't negative, of nine digits at most, and gives what follows it.
func plainNumber(line []byte) (number int, rest []byte, ok bool) {
	n := 0
	for n < len(line) && line[n] >= '0' && line[n] <= '9' {
		number = number*10 + int(line[n]-'0')
		n++
	}
	return number, line[n:], n > 0 && n < 10 && (line[0] != '0' || n == 1)
}
