package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"

	"zincdoor/internal/policyfile"
)

// versions has a folder for each version that was released, with what that one wrote and read: a repository with its policy, its list and
// its reports (repository.txtar), its verdict, a store of records with what it exports, the settings of a service, and the recipe of a
// code host. None is ever altered. ZINCDOOR_VERSION=v0.2.0 makes the folder of the next version, from the repository of the one before.
const versions = "testdata/versions"

// TestVersions: what earlier versions have written is read as ever.
func TestVersions(t *testing.T) {
	t.Parallel()
	all, err := os.ReadDir(versions)
	if err != nil || len(all) == 0 {
		t.Fatal("no version's files are there", err)
	}
	if next := os.Getenv("ZINCDOOR_VERSION"); next != "" {
		writeVersion(t, filepath.Join(versions, all[len(all)-1].Name()), filepath.Join(versions, next))
	}
	for _, is := range all {
		t.Run(is.Name(), func(t *testing.T) {
			t.Parallel()
			folder, err := filepath.Abs(filepath.Join(versions, is.Name()))
			if err != nil {
				t.Fatal(err)
			}
			s := versionRepository(t, folder)
			for _, kept := range []string{"verdict.json", "records.db", "records.jsonl"} {
				data, err := os.ReadFile(filepath.Join(folder, kept))
				if err != nil {
					t.Fatal(err)
				}
				s.write("build/"+kept, string(data)) // a store that is opened is brought to the present form
			}
			out, errs, _ := s.run(versionGate...)
			holds(t, "the verdict", s.read("build/verdict.json"), out)
			if errs != "" {
				t.Errorf("judging: %s", errs)
			}
			out, errs, code := s.run("history", "export", "--with-reports", "--history-file", "build/records.db")
			if code != 0 {
				t.Fatalf("exporting: %s", errs)
			}
			exported := strings.Split(s.read("build/records.jsonl"), "\n")
			now := strings.Split(out, "\n")
			if len(now) != len(exported) {
				t.Fatalf("%d records, and there were %d", len(now)-1, len(exported)-1)
			}
			for i := range exported {
				holds(t, fmt.Sprint("record ", i), exported[i], now[i])
			}
			if out, errs, code = s.run("history", "import", "build/records.jsonl", "--history-file", "build/fresh.db"); code != 0 {
				t.Errorf("importing: %s%s", out, errs)
			}
			listed, _, _ := s.run("history", "list", "--format", "jsonl", "--history-file", "build/records.db")
			if out, errs, code = s.run("history", "list", "--format", "jsonl", "--history-file", "build/fresh.db"); out != listed || out == "" {
				t.Errorf("what was imported is listed as %s, and was %s%s", out, listed, errs)
			}
			if out, errs, code := s.run("review", "send", "--verdict", "build/verdict.json", "--host", "host.yaml", "--pull", "1", "--repository", "tideboard", "--dry-run"); strings.Contains(errs, "verdict.json") || strings.Contains(errs, "recipe") {
				t.Errorf("reading the verdict and the recipe: %d\n%s%s", code, out, errs)
			}
			if _, err := policyfile.ReadService("service.yaml", []byte(s.read("service.yaml"))); err != nil {
				t.Error(err)
			}
			if out, errs, code := s.run("policy", "check"); code != 0 {
				t.Errorf("%s%s", out, errs)
			}
		})
	}
}

var versionGate = []string{"gate", "--tree", "--today", "2026-12-01", "--format", "json"}

// versionRepository makes the repository of a version.
func versionRepository(t *testing.T, folder string) *sandbox {
	t.Helper()
	archive, err := txtar.ParseFile(filepath.Join(folder, "repository.txtar"))
	if err != nil {
		t.Fatal(err)
	}
	s := repository(t)
	s.git("config", "zincdoor.repository", "tideboard")
	for _, file := range archive.Files {
		s.write(file.Name, string(file.Data))
	}
	s.commit("What is there")
	return s
}

// writeVersion makes a version's files by this program.
func writeVersion(t *testing.T, before, folder string) {
	t.Helper()
	s := versionRepository(t, before)
	verdict, errs, code := s.run(versionGate...)
	if code > 1 {
		t.Fatal(errs)
	}
	for range 2 {
		if _, errs, code := s.run(slices.Concat(versionGate, []string{"--record", "--history-file", "build/records.db"})...); code > 1 {
			t.Fatal(errs)
		}
	}
	exported, errs, code := s.run("history", "export", "--with-reports", "--history-file", "build/records.db")
	if code != 0 {
		t.Fatal(errs)
	}
	archive, err := os.ReadFile(filepath.Join(before, "repository.txtar"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"repository.txtar": string(archive), "verdict.json": verdict, "records.jsonl": exported, "records.db": s.read("build/records.db")} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// holds compares two documents: all that the older one says, the newer one says too.
func holds(t *testing.T, what, older, newer string) {
	t.Helper()
	if older == newer {
		return
	}
	var was, is any
	if err := json.Unmarshal([]byte(older), &was); err != nil {
		t.Fatalf("%s: %v", what, err)
	}
	if err := json.Unmarshal([]byte(newer), &is); err != nil {
		t.Fatalf("%s: %v\n%s", what, err, newer)
	}
	compare(t, what, was, is)
}

func compare(t *testing.T, where string, was, is any) {
	t.Helper()
	switch was := was.(type) {
	case map[string]any:
		now, ok := is.(map[string]any)
		if !ok {
			t.Errorf("%s was an object, and is %v", where, is)
		}
		for key, value := range was {
			if said, ok := now[key]; ok {
				compare(t, where+"."+key, value, said)
			} else {
				t.Errorf("%s.%s isn't said any more", where, key)
			}
		}
	case []any:
		now, ok := is.([]any)
		if !ok || len(now) != len(was) {
			t.Errorf("%s was %v, and is %v", where, was, is)
			return
		}
		for i := range was {
			compare(t, fmt.Sprintf("%s[%d]", where, i), was[i], now[i])
		}
	default:
		if !reflect.DeepEqual(was, is) {
			t.Errorf("%s was %v, and is %v", where, was, is)
		}
	}
}
