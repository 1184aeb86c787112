package finding

import "testing"

func TestMeasure(t *testing.T) {
	for _, c := range []struct {
		message string
		gauge   *Gauge
		measure string
		less    bool
	}{
		{"complexity 21, at most 10", nil, "21", false},
		{"function 'tide2' has 81 lines (limit 60)", nil, "81", false},
		{"cyclomatic complexity of 12 exceeds 10", nil, "12", false},
		{"81 > 60 lines", nil, "81", false},
		{"covers 71.5 percent, at least 80", nil, "71.5", true},
		{"too many arguments: 9, maximum allowed is 7", nil, "9", false},
		{"stack usage is 2048 bytes", nil, "2048", false},
		{"declared again, first on line 100", nil, "", false},
		{"conversion from int64 to int32", nil, "", false},
		{"'81 lines'", nil, "", false},
		{"between 3 and 9", nil, "", false},
		{"between 3 and 9", &Gauge{Number: 2}, "9", false},
		{"81 lines", &Gauge{}, "", false},
		{"score 4.5", &Gauge{Number: 1, Less: true}, "4.5", true},
		{"no number", &Gauge{Number: 1}, "", false},
	} {
		if measure, less := Measure(c.message, c.gauge); measure != c.measure || less != c.less {
			t.Errorf("%q: %q, %v; want %q, %v", c.message, measure, less, c.measure, c.less)
		}
	}
	if !Worsened("81", "95", false) || Worsened("95", "81", false) || !Worsened("80", "71.5", true) || Worsened("", "3", false) {
		t.Error("Worsened compares wrongly")
	}
}
