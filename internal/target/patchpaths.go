package target

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/source"
)

// A patch may name its files otherwise than the folder does: with prefixes of its own, from two folders beside each other, from a
// folder below. Its paths are those under which its texts are found.

// leads is how paths of a patch become paths of the folder: so many leading folders go, and one comes in their place.
type leads struct {
	strip int
	add   string
}

func (l leads) apply(name string) (string, bool) {
	parts := strings.Split(name, "/")
	if l.strip >= len(parts) {
		return "", false
	}
	return path.Join(l.add, strings.Join(parts[l.strip:], "/")), true
}

// fitness is how well a patch's paths fit a folder: in how many files its new text is found, how many are there at all, and how
// many new ones have a folder to be in.
type fitness struct{ texts, files, folders int }

func (f fitness) better(than fitness) bool {
	switch {
	case f.texts != than.texts:
		return f.texts > than.texts
	case f.files != than.files:
		return f.files > than.files
	}
	return f.folders > than.folders
}

// mostLeading is how many leading folders are taken off, mostListed in how many files of the folder a path is looked for.
const (
	mostLeading = 16
	mostListed  = 200_000
)

// placePatch names the files of a patch as the folder does. Where that has files of their kinds, and none of the patch's, it
// can't be told what the patch changes; where it has none of these kinds, the patch speaks for itself.
func placePatch(root fs.FS, files []change.File) (placed []change.File, notices []string, err error) {
	fit := func(l leads) (f fitness) {
		for i := range files {
			file := &files[i]
			name, ok := file.Path, true
			if !isNamed(file) {
				name, ok = l.apply(file.Path)
			}
			if !ok || !fs.ValidPath(name) {
				continue
			}
			info, err := fs.Stat(root, name)
			switch {
			case err == nil && info.Mode().IsRegular():
				f.files++
				if data, err := fs.ReadFile(root, name); err == nil && file.Status != change.Deleted && addsLines(file) && fits(source.New(data), file) {
					f.texts++
				}
			case file.Status == change.Added && path.Dir(name) != ".":
				if info, err := fs.Stat(root, path.Dir(name)); err == nil && info.IsDir() {
					f.folders++
				}
			}
		}
		return f
	}
	best, found := leads{}, fit(leads{})
	for strip := 1; strip <= mostLeading && found.texts == 0; strip++ {
		if f := fit(leads{strip: strip}); f.better(found) {
			best, found = leads{strip: strip}, f
		}
	}
	kinds := map[string]bool{}
	for _, f := range files {
		kinds[path.Ext(f.Path)] = true
	}
	if found.texts == 0 {
		below, hasKind, err := foldersBelow(root, files, kinds)
		if err != nil {
			return nil, nil, err
		}
		var rivals []string
		for _, add := range below {
			switch f := fit(leads{add: add}); {
			case f.texts > found.texts:
				best, found, rivals = leads{add: add}, f, nil
			case f.texts > 0 && f == found:
				rivals = append(rivals, add)
			}
		}
		if len(rivals) > 0 {
			return nil, nil, fmt.Errorf("the patch's paths may start at %s or at %s; make it with paths from the root, as git diff does", best.add, strings.Join(rivals, " or at "))
		}
		if found == (fitness{}) && hasKind && slices.ContainsFunc(files, func(f change.File) bool { return f.Status != change.Added || path.Dir(f.Path) != "." }) {
			return nil, nil, fmt.Errorf("none of the patch's files is here (%s), even without leading folders; run zincdoor in the folder that its paths start from", ClipList(pathsOf(files)))
		}
		if found == (fitness{}) && !hasKind {
			notices = append(notices, "the folder has no file of the kinds that the patch changes, so the patch's own text is judged")
		}
	}
	if best == (leads{}) {
		return files, notices, nil
	}
	placed = slices.Clone(files)
	for i := range placed {
		f := &placed[i]
		if isNamed(f) {
			continue
		}
		if name, ok := best.apply(f.Path); ok {
			f.Path = name
		}
		switch old, ok := best.apply(f.Old); {
		case f.Status == change.Modified, f.Status == change.Deleted:
			f.Old = f.Path
		case ok && f.Old != "":
			f.Old = old
		}
	}
	where := "without their first " + map[bool]string{true: "folder", false: fmt.Sprintf("%d folders", best.strip)}[best.strip == 1]
	if best.add != "" {
		where = "from " + best.add
	}
	return placed, append(notices, fmt.Sprintf("the patch's paths are taken %s, where its files are: %s", where, ClipList(pathsOf(placed)))), nil
}

// addsLines reports whether a file's new text can be told from the old one: it has lines that the old one hasn't.
func addsLines(f *change.File) bool {
	return f.Opaque == "" && slices.ContainsFunc(f.Hunks, func(h change.Hunk) bool { return len(h.Added) > 0 })
}

// isNamed reports whether git itself says a file's paths, as it does of renamed and copied ones, without any prefix.
func isNamed(f *change.File) bool { return f.Status == change.Renamed || f.Status == change.Copied }

func pathsOf(files []change.File) (all []string) {
	for _, f := range files {
		all = append(all, f.Path)
	}
	return all
}

// foldersBelow are the folders from which the first of a patch's paths that isn't new leads to a file, and whether there are files
// of its kinds.
func foldersBelow(root fs.FS, files []change.File, kinds map[string]bool) (all []string, hasKind bool, err error) {
	seek := ""
	for _, f := range files {
		if seek == "" || f.Status == change.Modified {
			seek = "/" + f.Path
		}
		if f.Status == change.Modified {
			break
		}
	}
	listed := 0
	err = fs.WalkDir(root, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil && d != nil && d.IsDir():
			return fs.SkipDir
		case err != nil:
			return nil
		case d.IsDir() && (d.Name() == ".git" || d.Name() == "node_modules"):
			return fs.SkipDir
		case d.IsDir():
			return nil
		}
		hasKind = hasKind || kinds[path.Ext(name)]
		if add, ok := strings.CutSuffix("/"+name, seek); ok && add != "" {
			all = append(all, strings.TrimPrefix(add, "/"))
		}
		if listed++; listed > mostListed {
			return errListed
		}
		return nil
	})
	if errors.Is(err, errListed) {
		err = nil
	}
	return all, hasKind, err
}

var errListed = errors.New("too many files to look through")
