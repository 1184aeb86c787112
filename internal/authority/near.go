package authority

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/target"
)

// nearForms are names that a policy may have been given by mistake: in its folder, and at the root.
var (
	nearForm = pattern.Of(`(?i)^[^/]*\.(?:ya?ml|json)$`)
	rootForm = pattern.Of(`(?i)^\.?(?:zinc-?door|policy|door)[^/]*\.(?:ya?ml|json)$`)
)

// nearMisses reports files that look like the policy of a repository that has none where it counts: one that isn't there yet in
// what is judged, or that has another name or place.
func nearMisses(t *target.Target) (notices []string) {
	if t.IsPatch && t.Repo == nil || t.Repo != nil && t.Repo.Bare {
		return nil
	}
	missing := "so the built-in policy judges"
	if _, err := os.Lstat(filepath.Join(t.Root, filepath.FromSlash(policy.Path))); err == nil {
		switch {
		case t.Side == git.Index:
			return []string{fmt.Sprintf("%s isn't staged, %s; git add %s", policy.Path, missing, policy.Path)}
		case !t.Local():
			return []string{fmt.Sprintf("%s isn't committed on the target, %s", policy.Path, missing)}
		}
		return nil
	}
	look := func(dir string, form *pattern.Pattern) (found []string) {
		entries, err := os.ReadDir(filepath.Join(t.Root, filepath.FromSlash(dir)))
		if err != nil {
			return nil
		}
		for _, e := range entries {
			if name := path.Join(dir, e.Name()); e.Type().IsRegular() && form.MatchString(e.Name()) && isPolicy(filepath.Join(t.Root, filepath.FromSlash(name))) {
				found = append(found, name)
			}
		}
		return found
	}
	for _, name := range slices.Concat(look(policy.Folder, nearForm), look(".", rootForm)) {
		notices = append(notices, fmt.Sprintf("%s looks like a policy, but the policy belongs in %s, %s; move it: mv %s %s", name, policy.Path, missing, name, policy.Path))
	}
	return notices
}

// isPolicy reports whether a file begins as a policy does.
func isPolicy(file string) bool {
	in, err := os.Open(file)
	if err != nil {
		return false
	}
	defer in.Close()
	data, err := io.ReadAll(io.LimitReader(in, 4096))
	if err != nil {
		return false
	}
	for line := range bytes.Lines(data) {
		text := strings.TrimSpace(string(line))
		if text != "" && !strings.HasPrefix(text, "#") && text != "---" {
			return strings.HasPrefix(strings.TrimLeft(text, `{"' `), "zincdoor")
		}
	}
	return false
}
