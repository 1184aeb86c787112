package policy

import (
	"fmt"
	"strconv"
	"time"
)

// History says whether verdicts are recorded, and for how long. Where they are recorded isn't a policy's to say.
type History struct {
	Record bool
	Keep   Period // records and their reports are kept for as long; the zero value leaves it to the program
}

// Period is a time in days or months of the calendar. The zero value is none.
type Period struct {
	Days, Months int
	text         string
}

// ParsePeriod reads a period such as 90d, 12w or 6m.
func ParsePeriod(s string) (Period, error) {
	if s != "" {
		n, err := strconv.Atoi(s[:len(s)-1])
		switch unit := s[len(s)-1]; {
		case err != nil || n < 1 || n > 9999:
		case unit == 'd':
			return Period{Days: n, text: s}, nil
		case unit == 'w':
			return Period{Days: 7 * n, text: s}, nil
		case unit == 'm':
			return Period{Months: n, text: s}, nil
		}
	}
	return Period{}, fmt.Errorf("%q is no time like 90d, 12w or 6m", s)
}

// After is the time that comes the period after t.
func (p Period) After(t time.Time) time.Time { return t.AddDate(0, p.Months, p.Days) }

// Before is the time that lies the period before t.
func (p Period) Before(t time.Time) time.Time { return t.AddDate(0, -p.Months, -p.Days) }

// String is the period as it was written.
func (p Period) String() string { return p.text }

// EndDate reads a last day, YYYY-MM-DD: a date, or a time from today in days, weeks or months. "" is none.
func EndDate(s, today string) (string, error) {
	if s == "" {
		return "", nil
	}
	day, err := time.Parse(time.DateOnly, s)
	if err != nil {
		period, bad := ParsePeriod(s)
		start, broken := time.Parse(time.DateOnly, today)
		if bad != nil || broken != nil {
			return "", fmt.Errorf("%q is no date like 2027-02-01 and no time like 90d, 12w or 6m", s)
		}
		day = period.After(start)
	}
	if date := day.Format(time.DateOnly); date >= today {
		return date, nil
	}
	return "", fmt.Errorf("%s is past", s)
}
