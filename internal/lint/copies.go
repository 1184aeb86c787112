package lint

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/gob"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/google/renameio/v2"
	"golang.org/x/sync/errgroup"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
)

// A copy of a state is kept from one call to the next, in one place for each clone, branch and use, so that compilers find in
// their own caches what they made of it. Before each use its files are exactly the state's: each is held against the content
// that git has of it, unless the system knows of no change since that was done, and what isn't of the state is removed, but for
// what the policy says to keep.

// The bounds of what is kept.
const (
	copyDays   = 14 // after which a copy that wasn't used is removed
	mostCopies = 8  // of all repositories together
	mostFiles  = 300_000
)

// keptCopy is one that this call uses alone.
type keptCopy struct {
	dir   string // the files
	notes string // the file with what is known of them
	lock  *flock.Flock
}

// borrow takes a copy for this call: the one of the given use, else none where another call has it.
func borrow(folder string, use Key) (*keptCopy, error) {
	place := filepath.Join(folder, fmt.Sprintf("%x", use[:12]))
	if err := os.MkdirAll(place, 0o700); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(place, "lock"))
	if free, err := lock.TryLock(); err != nil || !free {
		return nil, err
	}
	now := time.Now()
	os.Chtimes(place, now, now)
	real, err := filepath.EvalSymlinks(place) // as linters will name it
	if err != nil {
		return nil, errors.Join(err, lock.Unlock())
	}
	return &keptCopy{dir: filepath.Join(real, "tree"), notes: filepath.Join(real, "notes"), lock: lock}, nil
}

// giveBack lets other calls use the copy.
func (c *keptCopy) giveBack() error { return c.lock.Unlock() }

// clearOld removes copies that weren't used for long, and the oldest where there are too many.
func clearOld(folder string) {
	places, err := os.ReadDir(folder)
	if err != nil {
		return
	}
	type used struct {
		path string
		at   time.Time
	}
	var all []used
	for _, p := range places {
		if info, err := p.Info(); err == nil && p.IsDir() {
			all = append(all, used{filepath.Join(folder, p.Name()), info.ModTime()})
		}
	}
	slices.SortFunc(all, func(a, b used) int { return b.at.Compare(a.at) })
	for i, u := range all {
		if i < mostCopies && time.Since(u.at) < copyDays*24*time.Hour {
			continue
		}
		lock := flock.New(filepath.Join(u.path, "lock"))
		if free, err := lock.TryLock(); err == nil && free {
			removeAll(u.path)
			lock.Unlock()
		}
	}
}

// notes are what is known of a copy: by what rules git wrote it, of the files that those altered what was written, and what was
// held against git's contents, when.
type notes struct {
	Rules   string
	Altered map[string]altered
	Seen    map[string]seen
	At      int64 // nanoseconds since 1970; nothing was let loose on the copy between then and what was seen
}

// seen is a file that held a content, and how the system can tell that it still does.
type seen struct {
	Content string
	Stamp   stamp
}

// stamp tells a file's state apart from all later ones.
type stamp struct {
	Size    int64
	Changed int64 // nanoseconds since 1970
	Node    uint64
	Mode    uint32
}

// settled is how much older than notes a change must be to be told apart from later ones: more than systems' clocks tick.
const settled = 10 * time.Millisecond

// altered is a file that git's conversions made something else of.
type altered struct {
	Content string // as git names it
	Sum     string // SHA-256 of what was written
}

// restore makes the copy what the side holds. Keep are globs of what else may stay.
func (c *keptCopy) restore(repo *git.Repo, side git.Side, keep []string) error {
	entries, err := repo.Entries(side)
	if err != nil {
		return err
	}
	if len(entries) > mostFiles {
		return fmt.Errorf("there are more than %d files", mostFiles)
	}
	rules, err := repo.ConversionRules()
	if err != nil {
		return err
	}
	for name, e := range entries {
		if path.Base(name) == ".gitattributes" {
			rules += "\n" + name + " " + e.Content
		}
	}
	known := notes{}
	if data, err := os.ReadFile(c.notes); err == nil {
		if gob.NewDecoder(bytes.NewReader(data)).Decode(&known) != nil {
			known = notes{} // nothing is known
		}
	}
	rules = fmt.Sprintf("%x", KeyOf(slices.Sorted(strings.SplitSeq(rules, "\n"))...))
	if known.Rules != rules {
		known = notes{Rules: rules}
		if err := removeAll(c.dir); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(c.dir, 0o755); err != nil {
		return err
	}
	if err := c.clean(entries, keep); err != nil {
		return err
	}
	missing, fresh, err := c.missing(entries, known)
	if err != nil {
		return err
	}
	if len(missing) > 0 {
		if err := repo.CheckOut(side, c.dir, missing); err != nil {
			return err
		}
	}
	for _, name := range missing {
		delete(known.Altered, name)
		content, sum, err := c.hash(name, entries[name], false)
		if err == nil && content != entries[name].Content {
			if known.Altered == nil {
				known.Altered = map[string]altered{}
			}
			known.Altered[name] = altered{entries[name].Content, sum}
		}
		c.note(fresh, name, entries[name])
	}
	if len(missing) > 0 {
		time.Sleep(settled + settled/2)
	}
	known.Seen, known.At = fresh, time.Now().UnixNano()
	var data bytes.Buffer
	if err := gob.NewEncoder(&data).Encode(known); err != nil {
		return err
	}
	return renameio.WriteFile(c.notes, data.Bytes(), 0o600)
}

// note notes a file that holds what it should.
func (c *keptCopy) note(all map[string]seen, name string, e git.Entry) {
	info, err := os.Lstat(filepath.Join(c.dir, filepath.FromSlash(name)))
	if err != nil {
		return
	}
	if s, known := stampOf(info); known {
		all[name] = seen{e.Content, s}
	}
}

// clean removes what isn't of the state: files, links, folders, and what stands where one of another kind should.
func (c *keptCopy) clean(entries map[string]git.Entry, keep []string) error {
	folders := map[string]bool{".": true}
	for name := range entries {
		for at := path.Dir(name); !folders[at]; at = path.Dir(at) {
			folders[at] = true
		}
	}
	var others []string // folders that aren't of the state, outer ones first
	err := filepath.WalkDir(c.dir, func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(c.dir, file)
		if err != nil {
			return err
		}
		name := filepath.ToSlash(rel)
		e, tracked := entries[name]
		switch {
		case d.IsDir() && tracked:
			if err := removeAll(file); err != nil {
				return err
			}
			return fs.SkipDir
		case d.IsDir():
			if !folders[name] {
				others = append(others, file)
			}
			return nil
		case tracked && (d.Type()&fs.ModeSymlink != 0) == e.Link && (e.Link || d.Type().IsRegular()):
			return nil
		case !tracked && !folders[name] && policy.MatchPath(keep, name):
			return nil
		}
		return remove(file)
	})
	for _, folder := range slices.Backward(others) {
		os.Remove(folder) // where it is empty now
	}
	return err
}

// missing lists the files of the state that the copy doesn't hold as git wrote them, and notes those that it does. What is there
// in the place of the others is removed.
func (c *keptCopy) missing(entries map[string]git.Entry, known notes) (missing []string, fresh map[string]seen, err error) {
	names := make([]string, 0, len(entries))
	for name := range entries {
		names = append(names, name)
	}
	slices.Sort(names)
	lacking, stamps := make([]bool, len(names)), make([]stamp, len(names))
	group := errgroup.Group{}
	group.SetLimit(runtime.GOMAXPROCS(0))
	const share = 256
	for from := 0; from < len(names); from += share {
		group.Go(func() error {
			for i := from; i < min(from+share, len(names)); i++ {
				file := filepath.Join(c.dir, filepath.FromSlash(names[i]))
				info, err := os.Lstat(file)
				if err == nil {
					var told bool
					if stamps[i], told = stampOf(info); told && known.has(names[i], entries[names[i]], stamps[i]) {
						continue
					}
				}
				if err == nil && c.holds(names[i], entries[names[i]], known) {
					continue
				}
				lacking[i] = true
				if err := remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
			return nil
		})
	}
	err = group.Wait()
	fresh = make(map[string]seen, len(names))
	for i, name := range names {
		switch {
		case lacking[i]:
			missing = append(missing, name)
		case stamps[i] != stamp{}:
			fresh[name] = seen{entries[name].Content, stamps[i]}
		}
	}
	return missing, fresh, err
}

// has reports whether a file was seen to hold what it should, and nothing has changed it since.
func (n notes) has(name string, e git.Entry, now stamp) bool {
	before, known := n.Seen[name]
	executable := now.Mode&0o100 != 0
	return known && before == seen{e.Content, now} && now.Changed < n.At-int64(settled) && (e.Link || executable == e.Executable)
}

// holds reports whether a file holds what it should.
func (c *keptCopy) holds(name string, e git.Entry, known notes) bool {
	made := known.Altered[name]
	converted := made.Content == e.Content
	content, sum, err := c.hash(name, e, converted)
	return err == nil && (converted && sum == made.Sum || !converted && content == e.Content)
}

// hash names a file's content as git does, and gives its SHA-256 where that is asked for or the content is another one. A file
// of another kind, or with another right to be run, is an error.
func (c *keptCopy) hash(name string, e git.Entry, sums bool) (content, sum string, err error) {
	file := filepath.Join(c.dir, filepath.FromSlash(name))
	info, err := os.Lstat(file)
	if err != nil {
		return "", "", err
	}
	var data []byte
	switch {
	case e.Link:
		to, err := os.Readlink(file)
		if err != nil {
			return "", "", err
		}
		data = []byte(to)
	case !info.Mode().IsRegular() || runtime.GOOS != "windows" && info.Mode()&0o100 != 0 != e.Executable:
		return "", "", fs.ErrInvalid
	default:
		if data, err = os.ReadFile(file); err != nil {
			return "", "", err
		}
	}
	var own hash.Hash = sha1.New()
	if len(e.Content) == hex.EncodedLen(sha256.Size) {
		own = sha256.New()
	}
	fmt.Fprintf(own, "blob %d\x00", len(data))
	own.Write(data)
	content = hex.EncodeToString(own.Sum(nil))
	if content == e.Content && !sums {
		return content, "", nil
	}
	plain := sha256.Sum256(data)
	return content, hex.EncodeToString(plain[:]), nil
}

// remove removes a file, also from a folder that was made unwritable.
func remove(file string) error {
	err := os.Remove(file)
	if errors.Is(err, fs.ErrPermission) {
		os.Chmod(filepath.Dir(file), 0o700)
		err = os.Remove(file)
	}
	return err
}

// removeAll removes a folder with all that is in it, also where folders were made unwritable.
func removeAll(dir string) error {
	err := os.RemoveAll(dir)
	if err == nil {
		return nil
	}
	filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() {
			os.Chmod(path, 0o700)
		}
		return nil
	})
	return os.RemoveAll(dir)
}
