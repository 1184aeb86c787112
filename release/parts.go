package main

import (
	"debug/buildinfo"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"strings"
	"time"

	"github.com/CycloneDX/cyclonedx-go"
)

// parts are what a program is built of, by its own word.
type parts struct{ *debug.BuildInfo }

// partsOf reads what a program is built of.
func partsOf(program string) (parts, error) {
	info, err := buildinfo.ReadFile(program)
	return parts{info}, err
}

// version is the program's: that of the tag, and of the commit where it has none.
func (p parts) version() string { return strings.TrimPrefix(p.Main.Version, "v") }

// toolchain is Go itself, whose packages are in the program too.
func (p parts) toolchain() string { return strings.TrimPrefix(p.GoVersion, "go") }

// write writes the list of parts, as CycloneDX 1.6 has it.
func (p parts) write(file string, when time.Time) error {
	component := func(kind cyclonedx.ComponentType, name, version string) cyclonedx.Component {
		where := "pkg:golang/" + name + "@" + url.PathEscape(version)
		return cyclonedx.Component{BOMRef: where, Type: kind, Name: name, Version: version, PackageURL: where}
	}
	program := component(cyclonedx.ComponentTypeApplication, p.Main.Path, p.Main.Version)
	list := []cyclonedx.Component{component(cyclonedx.ComponentTypeLibrary, "std", p.toolchain())}
	for _, m := range p.Deps {
		if m.Replace != nil {
			return fmt.Errorf("%s is replaced by something that isn't a module's version", m.Path)
		}
		c := component(cyclonedx.ComponentTypeLibrary, m.Path, m.Version)
		c.Properties = &[]cyclonedx.Property{{Name: "go:sum", Value: m.Sum}}
		list = append(list, c)
	}
	needs := make([]string, len(list))
	for i, c := range list {
		needs[i] = c.BOMRef
	}
	bom := cyclonedx.NewBOM()
	bom.SerialNumber = "" // which would be another one each time
	bom.Metadata = &cyclonedx.Metadata{Timestamp: when.Format(time.RFC3339), Component: &program}
	bom.Components = &list
	bom.Dependencies = &[]cyclonedx.Dependency{{Ref: program.BOMRef, Dependencies: &needs}}
	out, err := os.Create(file)
	if err != nil {
		return err
	}
	encoder := cyclonedx.NewBOMEncoder(out, cyclonedx.BOMFileFormatJSON)
	return errors.Join(encoder.SetPretty(true).EncodeVersion(bom, cyclonedx.SpecVersion1_6), out.Close())
}

// licenceName is how files with licences are called.
var licenceName = regexp.MustCompile(`(?i)^(.*[-_.])?(licen[cs]es?|copying|copyright|notice|patents)([-_.].*)?$`)

// licences copies the licences of all parts to a folder: a folder a part, whose name has its version.
func (r *release) licences(p parts, folder string) error {
	goroot, err := output(r.root, nil, "go", "env", "GOROOT")
	if err != nil {
		return err
	}
	if err := copyLicences(goroot, filepath.Join(folder, "go@"+p.toolchain()), false); err != nil {
		return err
	}
	ask := []string{"list", "-m", "-f", "{{.Dir}}"}
	for _, m := range p.Deps {
		ask = append(ask, m.Path)
	}
	folders, err := output(r.root, nil, "go", ask...)
	if err != nil {
		return err
	}
	for i, from := range strings.Split(folders, "\n") {
		m := p.Deps[i]
		if err := copyLicences(from, filepath.Join(folder, filepath.FromSlash(m.Path)+"@"+m.Version), true); err != nil {
			return err
		}
	}
	return copyFile(filepath.Join(r.root, "internal", "wordlist", "english.LICENSE"), filepath.Join(folder, "english-words.LICENSE"))
}

// copyLicences copies the licences in a folder, and where it is deep in those beneath, which others' code may stand in.
func copyLicences(from, to string, deep bool) error {
	found := false
	err := filepath.WalkDir(from, func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir():
			if path != from && (!deep || entry.Name() == "testdata") {
				return filepath.SkipDir
			}
			return nil
		case !entry.Type().IsRegular() || !licenceName.MatchString(entry.Name()) || filepath.Ext(path) == ".go":
			return nil
		}
		within, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		found = found || within == entry.Name()
		if err := os.MkdirAll(filepath.Dir(filepath.Join(to, within)), 0o755); err != nil {
			return err
		}
		return copyFile(path, filepath.Join(to, within))
	})
	if err == nil && !found {
		err = fmt.Errorf("%s has no licence", from)
	}
	return err
}
