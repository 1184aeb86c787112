package gate

import (
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/source"
)

// markGenerated notes the findings in files that a marker line shows to be generated. A marker counts only where it stood
// before the change: what the change writes itself says nothing.
func (w *witness) markGenerated() error {
	marker := w.rules.policy.Marker
	if marker == nil {
		return nil
	}
	generated := map[string]bool{}
	for i := range w.findings {
		f := &w.findings[i]
		if f.Path == "" || f.Outside {
			continue
		}
		is, known := generated[f.Path]
		if !known {
			text, err := w.textBefore(f.Path)
			if err != nil {
				return err
			}
			is = text != nil && text.Any(marker.MatchString)
			generated[f.Path] = is
		}
		f.Generated = is
	}
	return nil
}

// textBefore is a file's text before the change, nil where it had none or none is known.
func (w *witness) textBefore(path string) (*source.Text, error) {
	file := w.change.File(path)
	switch {
	case file == nil:
		return w.wholeText(path)
	case w.diff == nil || file.Status == change.Added:
		return nil, nil
	}
	data, found, err := w.diff.ReadOld(file.Old)
	if err != nil || !found {
		return nil, err
	}
	return source.New(data), nil
}
