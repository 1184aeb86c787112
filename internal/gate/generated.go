package gate

import (
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/source"
)

// markGenerated notes the findings in files that a marker line shows to be generated. A marker counts only where it stood
// before the change: what the change writes itself says nothing.
func (w *witness) markGenerated() error {
	if w.marker == nil {
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
			is = text != nil && w.marked(text)
			generated[f.Path] = is
		}
		f.Generated = is
	}
	return nil
}

// textBefore is a file's text before the change, nil where it had none or none is known.
func (w *witness) textBefore(path string) (*source.Text, error) {
	read := w.head.Read
	if file := w.change.File(path); file != nil {
		if w.diff == nil || file.Status == change.Added {
			return nil, nil
		}
		path, read = file.Old, w.diff.ReadOld
	}
	data, found, err := read(path)
	if err != nil || !found {
		return nil, err
	}
	return source.New(data), nil
}

func (w *witness) marked(text *source.Text) bool {
	for n := 1; n <= text.Len(); n++ {
		if w.marker.MatchString(text.Line(n)) {
			return true
		}
	}
	return false
}
