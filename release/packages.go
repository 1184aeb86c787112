package main

import (
	"compress/gzip"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"text/template"
	"time"
)

// packageForms are the packages that a Linux platform gets, with the folders in which its shells look for completions.
var packageForms = []struct{ form, zsh string }{
	{"deb", "/usr/share/zsh/vendor-completions"},
	{"rpm", "/usr/share/zsh/site-functions"},
}

//go:embed package.yaml
var packageText string

var packageForm = template.Must(template.New("package.yaml").Parse(packageText))

// packages makes the packages of a platform's folder, and lists them.
func (r *release) packages(p platform, version, folder string) (made []string, err error) {
	man := filepath.Join(folder, "man")
	if err := compressAll(man); err != nil {
		return nil, err
	}
	if err := setTimes(folder, r.time); err != nil {
		return nil, err
	}
	for _, is := range packageForms {
		name := fmt.Sprintf("zincdoor-%s-%s.%s", version, p.machine, is.form)
		fmt.Println("package", name)
		settings := filepath.Join(folder, "package.yaml")
		file, err := os.Create(settings)
		if err != nil {
			return nil, err
		}
		err = packageForm.Execute(file, map[string]any{"Version": version, "Machine": p.machine, "Folder": folder, "Zsh": is.zsh, "Time": r.time.Format("2006-01-02T15:04:05Z")})
		if err := errors.Join(err, file.Close()); err != nil {
			return nil, err
		}
		if _, err := output(".", nil, "go", "tool", "nfpm", "package", "--config", settings, "--packager", is.form, "--target", filepath.Join(r.out, name)); err != nil {
			return nil, err
		}
		made = append(made, name)
	}
	return made, nil
}

// setTimes gives all that is in a folder one time: of the files in a tree the packages keep their own.
func setTimes(folder string, at time.Time) error {
	return filepath.WalkDir(folder, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Chtimes(path, at, at)
	})
}

// compressAll compresses each file of a folder, as packages have their man pages.
func compressAll(folder string) error {
	all, err := os.ReadDir(folder)
	for _, entry := range all {
		if err == nil {
			err = compress(filepath.Join(folder, entry.Name()))
		}
	}
	return err
}

func compress(path string) error {
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	out, err := os.Create(path + ".gz")
	if err != nil {
		return err
	}
	packed, err := gzip.NewWriterLevel(out, gzip.BestCompression)
	if err == nil {
		_, err = packed.Write(data)
		err = errors.Join(err, packed.Close())
	}
	return errors.Join(err, out.Close(), os.Remove(path))
}
