package source

import (
	"unicode/utf8"

	"github.com/rivo/uniseg"
)

// Columns is the unit in which a report counts the columns of a line. Columns are 1-based in every unit.
type Columns uint8

const (
	// UTF16 counts UTF-16 code units.
	UTF16 Columns = iota
	// CodePoints counts Unicode code points.
	CodePoints
	// Bytes counts bytes of UTF-8.
	Bytes
	// Display counts terminal cells; a tab reaches to the next multiple of 8.
	Display
)

// TabWidth is the distance of tab stops in the Display unit.
const TabWidth = 8

// Offset returns the byte offset in line at which column stands, from 0 to len(line). A column past the end gives
// len(line).
func Offset(line string, column int, unit Columns) int {
	at, i := 1, 0
	for i < len(line) && at < column {
		r, size := utf8.DecodeRuneInString(line[i:])
		switch unit {
		case UTF16:
			at++
			if r > 0xFFFF {
				at++
			}
		case CodePoints:
			at++
		case Bytes:
			at += size
		case Display:
			if r == '\t' {
				at += TabWidth - (at-1)%TabWidth
			} else {
				at += uniseg.StringWidth(line[i : i+size])
			}
		}
		i += size
	}
	return i
}
