package report

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"

	"zincdoor/internal/core/policy"
)

// table reads rows, the first of which names the columns unless the recipe says otherwise. A row has at most mostText bytes.
func (c *recipeReader) table(in *bufio.Reader) error {
	bounded := &bounded{in: in}
	rows := csv.NewReader(bounded)
	rows.FieldsPerRecord, rows.ReuseRecord = -1, true
	if c.As == policy.TSVText {
		rows.Comma, rows.LazyQuotes = '\t', true
	}
	var names map[string]int
	for first := true; ; first = false {
		bounded.left = mostText + 1<<16 // which it reads ahead
		row, err := rows.Read()
		var broken *csv.ParseError
		switch {
		case err == io.EOF:
			return nil
		case errors.Is(err, errTooLong):
			return fmt.Errorf("byte %d: a row is over %d MiB long: %w", bounded.read, mostText>>20, ErrMalformed)
		case errors.As(err, &broken):
			return fmt.Errorf("line %d, column %d: no %s: %v: %w", broken.Line, broken.Column, strings.ToUpper(c.As), broken.Err, ErrMalformed)
		case err != nil:
			return err
		}
		line, _ := rows.FieldPos(0)
		if first && c.Header {
			names = map[string]int{}
			for i, name := range row {
				names[strings.TrimSpace(name)] = i
			}
			for _, field := range policy.RecipeFields {
				f := c.Fields[field]
				if _, known := names[f.At]; f.At != "" && !known {
					return fmt.Errorf("line 1: no column is called %q; there are %s: %w", f.At, clip(strings.Join(row, ", ")), ErrMalformed)
				}
			}
			continue
		}
		v := c.constants()
		for name, f := range c.Fields {
			at := f.Nth - 1
			if f.At != "" {
				i, known := names[f.At]
				if !known {
					continue
				}
				at = i
			}
			if at >= 0 && at < len(row) {
				if value := cut(f, row[at]); value != "" {
					v[name] = value
				}
			}
		}
		if err := c.add(v, fmt.Sprintf("line %d", line)); err != nil {
			return err
		}
	}
}
