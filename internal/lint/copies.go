package lint

import (
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/sync/errgroup"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/files"
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
	saved sync.WaitGroup // until that is written

	rules string // what prepare found: by which rules git writes files
	known notes
	there *folder
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
func (c *keptCopy) giveBack() error {
	c.saved.Wait()
	return c.lock.Unlock()
}

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
			files.RemoveAll(u.path)
			lock.Unlock()
		}
	}
}

// fewWritten is how many files may be written without waiting until later changes can be told apart: they are held against
// git's contents once more the next time.
const fewWritten = 256

// prepare finds out what is known of the copy, and what is there, which restore needs.
func (c *keptCopy) prepare(repo *git.Repo) error {
	if err := os.MkdirAll(c.dir, 0o755); err != nil {
		return err
	}
	var group errgroup.Group
	group.Go(func() (err error) {
		c.rules, err = repo.ConversionRules()
		return err
	})
	group.Go(func() error {
		c.known = readNotes(c.notes)
		return nil
	})
	group.Go(func() (err error) {
		c.there, err = look(c.dir)
		return err
	})
	return group.Wait()
}

// restore makes the copy, once it is prepared, what a side with some entries holds. Keep are globs of what else may stay. What
// is known of its files may still be being written down afterwards, until the copy is given back.
func (c *keptCopy) restore(repo *git.Repo, side git.Side, entries map[string]git.Entry, keep []string) error {
	if len(entries) > mostFiles {
		return fmt.Errorf("there are more than %d files", mostFiles)
	}
	known, there, rules := c.known, c.there, rulesOf(c.rules, entries)
	if known.Rules != rules {
		known, there = notes{Rules: rules}, &folder{}
		if err := errors.Join(files.RemoveAll(c.dir), os.MkdirAll(c.dir, 0o755)); err != nil {
			return err
		}
	}
	if err := c.clean(there, entries, keep); err != nil {
		return err
	}
	missing, learned, err := c.missing(there, entries, &known)
	if err != nil || len(missing) == 0 && !learned {
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
	}
	if len(missing) > fewWritten {
		for _, name := range missing {
			if info, err := os.Lstat(c.at(name)); err == nil {
				if s, distinct := stampOf(info); distinct {
					known.Seen[name] = seen{entries[name].Content, s}
				}
			}
		}
		time.Sleep(settled + settled/2)
	}
	known.At = time.Now().UnixNano()
	c.saved.Go(func() { known.write(c.notes) }) // without which everything is held against git's contents the next time
	return nil
}

// rulesOf tells apart by what rules git writes files: those of its configuration, and the attributes in the tree.
func rulesOf(configured string, entries map[string]git.Entry) string {
	rules := strings.Split(configured, "\n")
	for name, e := range entries {
		if path.Base(name) == ".gitattributes" {
			rules = append(rules, name+" "+e.Content)
		}
	}
	slices.Sort(rules)
	return fmt.Sprintf("%x", KeyOf(rules...))
}

// clean removes what isn't of the state: files, links, folders, and what is in the place of one of another kind.
func (c *keptCopy) clean(there *folder, entries map[string]git.Entry, keep []string) error {
	folders := map[string]bool{".": true}
	for name := range entries {
		for at := path.Dir(name); !folders[at]; at = path.Dir(at) {
			folders[at] = true
		}
	}
	for _, name := range there.folders {
		if _, tracked := entries[name]; tracked {
			if err := files.RemoveAll(c.at(name)); err != nil {
				return err
			}
		}
	}
	for name, f := range there.files {
		e, tracked := entries[name]
		if tracked && (f.mode&fs.ModeSymlink != 0) == e.Link && (e.Link || f.mode.IsRegular()) ||
			!tracked && !folders[name] && policy.MatchPath(keep, name) {
			continue
		}
		delete(there.files, name)
		if err := remove(c.at(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	for _, name := range slices.Backward(there.folders) { // inner ones first
		if !folders[name] {
			os.Remove(c.at(name)) // where it is empty now
		}
	}
	return nil
}

// at is where a file of the copy is.
func (c *keptCopy) at(name string) string { return filepath.Join(c.dir, filepath.FromSlash(name)) }

// missing lists the files of the state that the copy doesn't hold as git wrote them, removes what is there in their place, and
// says whether more or less is known of the others than before.
func (c *keptCopy) missing(there *folder, entries map[string]git.Entry, known *notes) (missing []string, learned bool, err error) {
	var doubtful []string
	had := 0
	for name, e := range entries {
		f, ok := there.files[name]
		switch {
		case !ok:
			missing = append(missing, name)
		case f.distinct && known.has(name, e, f.stamp):
			had++
		default:
			doubtful = append(doubtful, name)
		}
	}
	held := make([]bool, len(doubtful))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, name := range doubtful {
		group.Go(func() error {
			if held[i] = c.holds(name, entries[name], *known); held[i] {
				return nil
			}
			return remove(c.at(name))
		})
	}
	err = group.Wait()
	if learned = had < len(known.Seen) || len(doubtful) > 0; learned {
		maps.DeleteFunc(known.Seen, func(name string, s seen) bool {
			return !there.files[name].distinct || !known.has(name, entries[name], there.files[name].stamp)
		})
	}
	if known.Seen == nil {
		known.Seen = map[string]seen{}
	}
	for i, name := range doubtful {
		f := there.files[name]
		switch {
		case !held[i]:
			missing = append(missing, name)
		case f.distinct:
			known.Seen[name] = seen{entries[name].Content, f.stamp}
		}
	}
	slices.Sort(missing)
	return missing, learned, err
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
	file := c.at(name)
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
