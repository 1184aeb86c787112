package change

import "zincdoor/internal/core/source"

// Window is as many lines that follow one another, collapsed, as a moved block has at least.
type Window [movedLines]string

// Suspects gathers the windows around the given lines, by path on the new side, that might have been moved there from a
// file whose hunks aren't known: only a file that held one of them can have lost it. Lines that aren't touched, or that
// stand among too few touched ones, give none.
func (c *Change) Suspects(lines map[string][]int, rules Rules) map[Window]bool {
	windows := map[Window]bool{}
	if rules.CountMoved {
		return windows
	}
	for path, numbers := range lines {
		f := c.File(path)
		if f == nil || len(f.Hunks) == 0 {
			continue
		}
		added, _ := unmatched(f, rules)
		at := make(map[int]bool, len(numbers))
		for _, n := range numbers {
			at[n] = f.Touched.Has(n)
		}
		eachWindow(added, func(i int, window Window) {
			for k := range movedLines {
				if at[added[i].number+k] {
					windows[window] = true
					return
				}
			}
		})
	}
	return windows
}

// Holds reports whether one of the windows stands in the text.
func Holds(text *source.Text, windows map[Window]bool) bool {
	first := make(map[string]bool, len(windows))
	for w := range windows {
		first[w[0]] = true
	}
	for n := 1; n+movedLines-1 <= text.Len(); n++ {
		var window Window
		if window[0] = source.Collapse(text.Line(n)); !first[window[0]] {
			continue
		}
		for k := 1; k < movedLines; k++ {
			window[k] = source.Collapse(text.Line(n + k))
		}
		if windows[window] {
			return true
		}
	}
	return false
}
