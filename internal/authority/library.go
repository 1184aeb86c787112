package authority

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/files"
	"zincdoor/internal/git"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

// library finds the policies that others inherit, and keeps what is to be said of that.
type library struct {
	*target.Target
	at   target.State // the state that paths are looked up in
	look bool         // its policy is only looked at: nothing is started for it
	by   Overrides

	paths   []string // of policy files that were read in the state
	notices []string
}

// ErrBounds is the error of a policy from where none may be inherited.
var ErrBounds = errors.New("the service reads no policies from there")

func (l *library) mayFetch() bool {
	if l.by.Within != nil {
		return !l.look // what may be named at all may be fetched
	}
	if l.at.Own {
		return !l.look && l.Repo.RunsAt(string(l.at.Side))
	}
	return !l.look && mayRun(l.Target, l.by)
}

// text is a policy file of the library's state, with the way to those that it inherits.
func (l *library) text(path string, data []byte) policyfile.Text {
	l.paths = append(l.paths, path)
	return policyfile.Text{Name: fileName(l.at.Side, l.at.Name, path), Data: data, Find: func(i policyfile.Inherit) (policyfile.Text, error) {
		if i.Git != "" {
			return l.foreign(i)
		}
		if i.Outside() {
			return l.outside(i)
		}
		data, found, err := l.Plain(l.at.Side, i.Path)
		if err == nil && !found {
			err = fmt.Errorf("%s has no such file", l.at.Name)
		}
		return l.text(i.Path, data), err
	}}
}

// outside reads a file of the machine, which the reference pins by its digest.
func (l *library) outside(i policyfile.Inherit) (policyfile.Text, error) {
	if l.by.Within != nil {
		return policyfile.Text{}, fmt.Errorf("%w: nothing outside of repositories is read here", ErrBounds)
	}
	data, err := os.ReadFile(target.InDir(l.Root, filepath.FromSlash(i.Path)))
	return policyfile.Text{Name: i.Path, Data: data, Find: func(next policyfile.Inherit) (policyfile.Text, error) {
		switch {
		case next.Git != "":
			return l.foreign(next)
		case filepath.IsAbs(next.Path) && next.Digest != "":
			return l.outside(next)
		}
		return policyfile.Text{}, fmt.Errorf("a policy outside a repository can inherit only an absolute path with a digest, or git with at")
	}}, err
}

// foreign reads a policy of another repository: of a folder of this machine, else of the copies that were kept, else from
// where it is.
func (l *library) foreign(i policyfile.Inherit) (policyfile.Text, error) {
	data, err := l.read(i)
	return policyfile.Text{Name: i.String(), Data: data, Find: func(next policyfile.Inherit) (policyfile.Text, error) {
		switch {
		case next.Git != "":
			return l.foreign(next)
		case next.Outside():
			return policyfile.Text{}, fmt.Errorf("it is outside of the repository %s", i.Git)
		}
		next.Git, next.At = i.Git, i.At
		return l.foreign(next)
	}}, err
}

// leave says how a user lets the program fetch policies.
const leave = "if you trust the policy that names it, allow the fetch: git config zincdoor.run true, or --run"

func (l *library) read(i policyfile.Inherit) ([]byte, error) {
	if l.Repo == nil {
		return nil, fmt.Errorf("there is no repository here")
	}
	if l.by.Within != nil && !slices.Contains(l.by.Within, i.Git) {
		return nil, fmt.Errorf("%w: whoever runs the service can allow it: policies: [%q] in its settings", ErrBounds, i.Git)
	}
	address, local := i.Git, !isAddress(i.Git)
	if local {
		address = target.InDir(l.Root, filepath.FromSlash(i.Git))
		if rel, err := filepath.Rel(l.Root, address); err == nil && filepath.IsLocal(rel) {
			return nil, fmt.Errorf("git: %s is a folder of this repository; name the file with path alone", i.Git)
		}
		if i.Pinned() || l.mayFetch() {
			return git.ReadAt(l.Repo.Context(), address, i.At, i.Path)
		}
		return nil, fmt.Errorf("it isn't pinned: pin it with a digest, or, %s", leave)
	}
	kept := keptCopy(i)
	copied, unread := os.ReadFile(kept)
	if unread == nil && i.Pinned() && (i.Digest == "" || i.Digest == policyfile.Text{Data: copied}.Digest()) {
		return copied, nil
	}
	if !l.mayFetch() {
		return nil, fmt.Errorf("there is no copy of it here; %s", leave)
	}
	data, err := git.FetchFile(l.Repo.Context(), address, i.At, i.Path)
	if err == nil && unread == nil && !bytes.Equal(copied, data) {
		l.notices = append(l.notices, fmt.Sprintf("the policy %s has changed since it was last read here: %s was moved. To pin what it is now: digest: %q", i, i.At, policyfile.Text{Data: data}.Digest()))
	}
	switch {
	case err == nil && kept != "":
		if os.MkdirAll(filepath.Dir(kept), 0o700) == nil {
			files.Write(kept, data, 0o600) // without a copy it is fetched again
		}
	case err != nil && unread == nil && !i.Pinned():
		l.notices = append(l.notices, fmt.Sprintf("the policy %s can't be fetched now (%v), so the last copy of it is used", i, err))
		return copied, nil
	}
	return data, err
}

// isAddress reports whether git takes a name for an address on another machine.
func isAddress(name string) bool {
	scheme, _, found := strings.Cut(name, ":")
	return found && len(scheme) > 1 && !strings.ContainsAny(scheme, `/\`)
}

// keptCopy is where a fetched policy is kept, "" where there is no place for it.
func keptCopy(i policyfile.Inherit) string {
	dir, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	sum := sha256.Sum256([]byte(strings.Join([]string{i.Git, i.At, i.Path}, "\x00")))
	return filepath.Join(dir, "zincdoor", "policies", hex.EncodeToString(sum[:16])+".yaml")
}
