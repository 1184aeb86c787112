//go:build ignore

// This program packs the word lists of Debian's package scowl, whose folder is its argument, into english.zst: words of four letters and
// more in rising order, each as how many bytes it has in common with the one before, the rest, and how rare it is.
package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/text/encoding/charmap"
)

var taken = regexp.MustCompile(`^(english|american|british|british_z|canadian|australian)-(words|upper|contractions|proper-names)\.(\d+)$`)

func main() {
	if err := pack(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func pack(folder string) error {
	files, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	rare := map[string]int{}
	for _, file := range files {
		m := taken.FindStringSubmatch(file.Name())
		if m == nil {
			continue
		}
		size, _ := strconv.Atoi(m[3])
		if size > 70 || m[2] == "proper-names" && size > 50 || (m[1] == "canadian" || m[1] == "australian") && size > 60 {
			continue
		}
		data, err := os.ReadFile(filepath.Join(folder, file.Name()))
		if err != nil {
			return err
		}
		text, err := charmap.ISO8859_1.NewDecoder().Bytes(data)
		if err != nil {
			return err
		}
		for word := range strings.FieldsSeq(strings.ToLower(string(text))) {
			word = strings.TrimSuffix(word, "'s")
			if was, known := rare[word]; len(word) >= 4 && (!known || was > size) {
				rare[word] = size
			}
		}
	}
	var words []string
	for word := range rare {
		words = append(words, word)
	}
	slices.Sort(words)
	var out bytes.Buffer
	before := ""
	for _, word := range words {
		common := 0
		for common < min(len(word), len(before), 25) && word[common] == before[common] {
			common++
		}
		fmt.Fprintf(&out, "%c%s%c\n", 'a'+common, word[common:], '0'+rare[word]/10)
		before = word
	}
	encoder, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBestCompression))
	if err != nil {
		return err
	}
	return os.WriteFile("english.zst", encoder.EncodeAll(out.Bytes(), nil), 0o644)
}
