package report

import (
	"path"
	"path/filepath"
	"strings"
)

// Places finds the paths of reports in a repository.
type Places struct {
	Root   string                 // absolute path of the repository on this machine, "" where unknown
	Folder string                 // the folder of the call, relative to the root; "" at the root
	From   Mapping                // where the call says that reports' paths start
	Has    func(path string) bool // the repository's tree holds a file at path
	OnDisk func(path string) bool // the work tree holds something at path, tracked or not
}

// Found is where a reported path leads.
type Found struct {
	Path    string // relative to the repository's root where Inside, else as reported
	Inside  bool
	Unknown bool // neither in the repository nor known to lie outside of it: the report may speak of another tree
}

// Find looks a reported path up: as it is, then from the folder of the call, then relative to the base that the report
// names.
func (p Places) Find(reported, relative string) Found {
	for _, candidate := range p.candidates(reported, relative) {
		if p.Has(candidate) {
			return Found{Path: candidate, Inside: true}
		}
	}
	for _, candidate := range p.candidates(reported, relative) {
		if p.OnDisk != nil && p.OnDisk(candidate) {
			return Found{Path: candidate} // there, but not tracked
		}
	}
	return Found{Path: reported, Unknown: !isOutside(reported)}
}

// candidates are the paths relative to the root that a reported path may mean, likeliest first.
func (p Places) candidates(reported, relative string) []string {
	var all []string
	add := func(local string) {
		if local = path.Clean(local); local != "." && local != ".." && !strings.HasPrefix(local, "../") && !strings.HasPrefix(local, "/") {
			all = append(all, local)
		}
	}
	if p.From != (Mapping{}) {
		if local, ok := p.From.Apply(reported); ok {
			add(local)
		}
	}
	switch {
	case isAbsolute(reported):
		if local, ok := p.underRoot(reported); ok {
			add(local)
		}
	default:
		add(reported)
		add(path.Join(p.Folder, reported))
	}
	if relative != "" {
		add(relative)
	}
	return all
}

func (p Places) underRoot(absolute string) (string, bool) {
	if p.Root == "" {
		return "", false
	}
	root := filepath.ToSlash(p.Root)
	clean := path.Clean(absolute)
	if local, ok := strings.CutPrefix(clean, strings.TrimSuffix(root, "/")+"/"); ok {
		return local, true
	}
	// The same folder by another name, through a link.
	if real, err := filepath.EvalSymlinks(filepath.FromSlash(path.Dir(clean))); err == nil {
		if local, ok := strings.CutPrefix(filepath.ToSlash(real)+"/", strings.TrimSuffix(root, "/")+"/"); ok {
			return path.Join(local, path.Base(clean)), true
		}
	}
	return "", false
}

// caches are folders that hold other people's code, wherever they stand in a path.
var caches = []string{"/pkg/mod/", "/.cargo/registry/", "/.rustup/toolchains/", "/.m2/repository/", "/site-packages/", "/dist-packages/", "/node_modules/"}

// isOutside reports whether a path is known to lie outside any repository: the system's and package caches.
func isOutside(reported string) bool {
	if strings.HasPrefix(reported, "/usr/") || strings.HasPrefix(reported, "<") {
		return true
	}
	for _, cache := range caches {
		if strings.Contains(reported, cache) {
			return true
		}
	}
	return false
}
