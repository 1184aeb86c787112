package lint

import (
	"io/fs"
	"path/filepath"
	"slices"
)

// Census is the files of a folder as they were at a time.
type Census map[string]taken

// TakeCensus looks at all files of a folder.
func TakeCensus(dir string) Census {
	all := Census{}
	filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if rel, err := filepath.Rel(dir, path); err == nil {
				all[rel] = take(path)
			}
		}
		return nil
	})
	return all
}

// Altered is the first file that isn't as it was, "" where all are. New files don't count.
func (c Census) Altered(dir string) string {
	var altered []string
	for path, before := range c {
		if now := take(filepath.Join(dir, path)); !now.is(before) {
			altered = append(altered, path)
		}
	}
	if len(altered) == 0 {
		return ""
	}
	return filepath.ToSlash(slices.Min(altered))
}
