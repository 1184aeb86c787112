package main

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// archive puts a platform's folder into one file: a .zip for Windows, a .tar.gz for all others.
func (r *release) archive(p platform, version, folder string) (string, error) {
	name := fmt.Sprintf("zincdoor-%s-%s-%s", version, p.system, p.machine)
	write, ending := r.tar, ".tar.gz"
	if p.system == "windows" {
		write, ending = r.zip, ".zip"
	}
	out, err := os.Create(filepath.Join(r.out, name+ending))
	if err != nil {
		return "", err
	}
	fmt.Println("archive", name+ending)
	return name + ending, errors.Join(write(out, folder, name), out.Close())
}

// each shows the files of a folder in the order of their names, with how they are to be stored: the program can be run, all else is read.
func each(folder string, show func(within string, mode fs.FileMode, size int64, content io.Reader) error) error {
	return filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		file, err := os.Open(path)
		if err != nil {
			return err
		}
		defer file.Close()
		info, err := file.Stat()
		if err != nil {
			return err
		}
		within, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if strings.TrimSuffix(within, ".exe") == "zincdoor" {
			mode = 0o755
		}
		return show(filepath.ToSlash(within), mode, info.Size(), file)
	})
}

func (r *release) tar(to io.Writer, folder, name string) error {
	packed, err := gzip.NewWriterLevel(to, gzip.BestCompression)
	if err != nil {
		return err
	}
	out := tar.NewWriter(packed)
	err = each(folder, func(within string, mode fs.FileMode, size int64, content io.Reader) error {
		err := out.WriteHeader(&tar.Header{Name: name + "/" + within, Mode: int64(mode), Size: size, ModTime: r.time, Format: tar.FormatPAX})
		if err == nil {
			_, err = io.Copy(out, content)
		}
		return err
	})
	return errors.Join(err, out.Close(), packed.Close())
}

func (r *release) zip(to io.Writer, folder, name string) error {
	out := zip.NewWriter(to)
	err := each(folder, func(within string, mode fs.FileMode, _ int64, content io.Reader) error {
		header := &zip.FileHeader{Name: name + "/" + within, Method: zip.Deflate, Modified: r.time}
		header.SetMode(mode)
		file, err := out.CreateHeader(header)
		if err == nil {
			_, err = io.Copy(file, content)
		}
		return err
	})
	return errors.Join(err, out.Close())
}

// writeSums writes the SHA-256 of files into a list that sha256sum --check reads.
func writeSums(folder string, names []string) error {
	slices.Sort(names)
	var list strings.Builder
	for _, name := range names {
		file, err := os.Open(filepath.Join(folder, name))
		if err != nil {
			return err
		}
		sum := sha256.New()
		_, err = io.Copy(sum, file)
		if err := errors.Join(err, file.Close()); err != nil {
			return err
		}
		fmt.Fprintf(&list, "%x  %s\n", sum.Sum(nil), name)
	}
	fmt.Print(list.String())
	return os.WriteFile(filepath.Join(folder, "SHA256SUMS"), []byte(list.String()), 0o644)
}
