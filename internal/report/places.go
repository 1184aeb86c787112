package report

import (
	"path"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/core/pattern"
)

// Places finds the paths of reports in a repository.
type Places struct {
	Root    string   // absolute path of the repository on this machine, "" where unknown
	Folder  string   // the folder of the call, relative to the root; "" at the root
	From    Mapping  // where the call says that reports' paths start
	Outside []string // how paths begin that lie outside of the repository; nil for the system's folders and package caches

	Has       func(path string) bool                   // the repository's tree holds a plain file at path
	HasFolder func(path string) bool                   // it holds files below path
	Link      func(path string) (to string, link bool) // where a symbolic link of the tree leads
	Altered   func(path string) bool                   // the change makes something else of what was at path
	OnDisk    func(path string) bool                   // the work tree holds a plain file at path, tracked or not
}

// Found is where a reported path leads.
type Found struct {
	Path    string // relative to the repository's root where Inside, else as reported
	Inside  bool   // it is a file of the tree
	Outside bool   // it is known to lie outside of the repository
	OnDisk  bool   // it is there, and no file of the tree
}

// Find looks a reported path up: as it is, then from the folder of the call, then relative to the base that the report
// names; each through symbolic links to the file that it means.
func (p Places) Find(reported, relative string) Found {
	candidates := p.candidates(reported, relative)
	for _, candidate := range candidates {
		if at, ok := p.Resolve(candidate); ok {
			return Found{Path: at, Inside: true}
		}
	}
	found := Found{Path: reported, Outside: p.isOutside(reported)}
	found.OnDisk = p.OnDisk != nil && slices.ContainsFunc(candidates, func(c string) bool { return isLocal(path.Clean(c)) && p.OnDisk(path.Clean(c)) })
	return found
}

// candidates are the paths relative to the root that a reported path may mean, likeliest first.
func (p Places) candidates(reported, relative string) (all []string) {
	if p.From != (Mapping{}) {
		if local, ok := p.From.Apply(reported); ok {
			all = append(all, local)
		}
	}
	switch {
	case isAbsolute(reported):
		if local, ok := p.underRoot(reported); ok {
			all = append(all, local)
		}
	case p.Folder != "":
		all = append(all, reported, p.Folder+"/"+reported)
	default:
		all = append(all, reported)
	}
	if relative != "" {
		all = append(all, relative)
	}
	return all
}

// isLocal reports whether a clean path leads to something below the root.
func isLocal(clean string) bool {
	return clean != "." && clean != ".." && !strings.HasPrefix(clean, "../") && !strings.HasPrefix(clean, "/")
}

// Resolve gives the file that a path relative to the root means; false where it is none of the tree.
func (p Places) Resolve(local string) (string, bool) {
	clean := path.Clean(local)
	straight := !strings.Contains(local[min(1, len(local)):], "/../") // else a link before it may lead elsewhere than it looks
	if straight && isLocal(clean) && p.Has(clean) {
		return clean, true
	}
	if p.Link == nil || strings.HasPrefix(local, "/") {
		return "", false
	}
	return p.follow(local)
}

// mostLinks bounds how many links one path leads through, as systems do.
const mostLinks = 40

// follow walks a path through the tree's links, as a system opens it. A link that leads to nothing in the tree is the file
// itself, and so is one that the change lets lead elsewhere: all that is found through it is new there.
func (p Places) follow(local string) (string, bool) {
	at, ahead := "", strings.Split(local, "/")
	end := "" // the link that the whole path led through last
	for links := 0; len(ahead) > 0; {
		name := ahead[0]
		ahead = ahead[1:]
		switch name {
		case "", ".":
			continue
		case "..":
			if at == "" {
				return end, end != ""
			}
			if at = path.Dir(at); at == "." {
				at = ""
			}
			continue
		}
		at = path.Join(at, name)
		to, link := p.Link(at)
		if !link {
			continue
		}
		if p.Altered(at) {
			return at, true
		}
		if links++; links > mostLinks {
			return "", false
		}
		if len(ahead) == 0 && end == "" {
			end = at
		}
		if isAbsolute(to) {
			under, ok := p.underRoot(to)
			if !ok {
				return end, end != ""
			}
			at, to = "", under
		} else if at = path.Dir(at); at == "." {
			at = ""
		}
		ahead = append(strings.Split(to, "/"), ahead...)
	}
	switch {
	case at != "" && p.Has(at):
		return at, true
	case at == "" || p.HasFolder(at):
		return "", false
	}
	return end, end != ""
}

func (p Places) underRoot(absolute string) (string, bool) {
	if p.Root == "" {
		return "", false
	}
	root := strings.TrimSuffix(filepath.ToSlash(p.Root), "/") + "/"
	if local, ok := strings.CutPrefix(absolute, root); ok {
		return local, true
	}
	clean := path.Clean(absolute)
	if local, ok := strings.CutPrefix(clean, root); ok {
		return local, true
	}
	// The same folder by another name, through a link.
	if real, err := filepath.EvalSymlinks(filepath.FromSlash(path.Dir(clean))); err == nil {
		if local, ok := strings.CutPrefix(filepath.ToSlash(real)+"/", root); ok {
			return path.Join(local, path.Base(clean)), true
		}
	}
	return "", false
}

// caches are folders that hold other people's code, wherever they stand in a path.
var caches = []string{"/pkg/mod/", "/.cargo/registry/", "/.rustup/toolchains/", "/.m2/repository/", "/site-packages/", "/dist-packages/", "/node_modules/"}

func inCache(path string) bool {
	return slices.ContainsFunc(caches, func(cache string) bool { return strings.Contains(path, cache) })
}

// isOutside reports whether a path that is no file of the tree is known to lie outside of the repository.
func (p Places) isOutside(reported string) bool {
	if p.Outside != nil {
		return slices.ContainsFunc(p.Outside, func(prefix string) bool { return isUnder(reported, prefix) })
	}
	return isUnder(reported, "/usr") || inCache(reported)
}

// libraries are folders of the system's in which nobody checks out a repository.
var libraries = pattern.Of(`^/usr/(?:local/)?(?:include|lib\w*|share|go)/`)

// IsLibrary reports whether a path that lies outside is known to be other people's code, whatever its file is called.
func (p Places) IsLibrary(reported string) bool {
	return p.Outside != nil || libraries.MatchString(reported) || inCache(reported)
}

// isUnder reports whether a path is a folder or lies below it.
func isUnder(p, folder string) bool {
	rest, ok := strings.CutPrefix(p, strings.TrimSuffix(folder, "/"))
	return ok && (rest == "" || rest[0] == '/')
}
