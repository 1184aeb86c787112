package evidence

import (
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/source"
)

// markGenerated notes the findings in files that a marker line shows to be generated. A marker counts only where it stood
// before the change, in a file of the same path: what the change writes itself says nothing.
func (c *collector) markGenerated(all *Collected) error {
	marker := c.Policy.Marker
	if marker == nil {
		return nil
	}
	generated := map[string]bool{}
	for i := range all.Findings {
		f := &all.Findings[i]
		if f.Path == "" || f.Outside {
			continue
		}
		is, known := generated[f.Path]
		if !known {
			text, err := c.textBefore(f.Path, all.Change)
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
func (c *collector) textBefore(path string, judged *change.Change) (*source.Text, error) {
	file := judged.File(path)
	switch {
	case file == nil:
		return c.texts.wholeText(path)
	case c.Target.Diff == nil || file.Old != path: // a name that the change gives says nothing either
		return nil, nil
	}
	data, found, err := c.Target.Diff.ReadOld(file.Old)
	if err != nil || !found {
		return nil, err
	}
	return source.New(data), nil
}
