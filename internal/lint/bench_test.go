package lint

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestAnswers: what was put is there again, what is old isn't, and a file that isn't whole counts as empty.
func TestAnswers(t *testing.T) {
	file := filepath.Join(t.TempDir(), "kept", "gauge.answers")
	first := OpenAnswers(file)
	keys := []Key{KeyOf("a"), KeyOf("b", "c"), KeyOf("bc"), KeyOf("")}
	for i, key := range keys {
		if _, known := first.Get(key); known {
			t.Errorf("answer %d is there before it was put", i)
		}
		first.Put(key, []byte(strings.Repeat("x", i*100)))
	}
	if err := first.Save(); err != nil {
		t.Fatal(err)
	}
	for i, key := range keys {
		if data, known := OpenAnswers(file).Get(key); !known || len(data) != i*100 {
			t.Errorf("answer %d: %d bytes, %v", i, len(data), known)
		}
	}
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for at := 0; at < len(whole); at += 7 {
		damaged := append([]byte{}, whole...)
		damaged[at] ^= 0x10
		for _, data := range [][]byte{damaged, whole[:at]} {
			if err := os.WriteFile(file, data, 0o600); err != nil {
				t.Fatal(err)
			}
			if a := OpenAnswers(file); a.Has(keys[0]) || a.Has(keys[3]) {
				t.Fatalf("byte %d: a damaged file answers", at)
			}
		}
	}
	old := OpenAnswers(file)
	old.today -= keptDays + 1
	old.Put(keys[0], nil)
	old.today += keptDays + 1
	old.Put(keys[1], nil)
	if err := old.Save(); err != nil {
		t.Fatal(err)
	}
	if a := OpenAnswers(file); a.Has(keys[0]) || !a.Has(keys[1]) {
		t.Error("an old answer is kept, or a new one isn't")
	}
}

// TestBench: what a process leaves, and what becomes of one that doesn't end by itself.
func TestBench(t *testing.T) {
	for _, c := range []struct {
		name    string
		script  string
		task    Task
		report  string
		problem string
		tail    string
	}{
		{"its output", "echo found; echo said >&2", Task{}, "found\n", "", "said"},
		{"its error output", "echo found >&2; echo said", Task{Stderr: true}, "found\n", "", "found"},
		{"its file", "echo found >out.txt", Task{File: "out.txt"}, "found\n", "", ""},
		{"an older file", ":", Task{File: "old.txt"}, "", "it ended well and didn't write", ""},
		{"a folder in the file's place", "mkdir out.txt", Task{File: "out.txt"}, "", "is no regular file", ""},
		{"another code", "echo 1; exit 4", Task{}, "", "code 4", ""},
		{"the last lines alone", "for i in 1 2 3 4 5 6 7; do echo line $i >&2; done; exit 4", Task{}, "", "code 4", "line 3|line 4|line 5|line 6|line 7"},
		{"killed", "kill -KILL $$", Task{}, "", "it ended by itself: signal: killed", ""},
		{"too slow", "sleep 60", Task{Timeout: 50 * time.Millisecond}, "", "it was stopped after 50ms", ""},
		{"where it starts", "pwd", Task{}, "DIR\n", "", ""},
		{"what it gets", `echo "$DEPTH"`, Task{Env: []string{"DEPTH=4"}}, "4\n", "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			b, err := NewBench()
			if err != nil {
				t.Fatal(err)
			}
			dir, err := b.Place()
			if err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(dir, "old.txt"), []byte("old\n"), 0o644); err != nil {
				t.Fatal(err)
			}
			task := c.task
			task.Command, task.Dir, task.Env = []string{"sh", "-c", c.script}, dir, append(task.Env, "PATH="+os.Getenv("PATH"))
			if task.File != "" {
				task.File = filepath.Join(dir, task.File)
			}
			if task.Timeout == 0 {
				task.Timeout = time.Minute
			}
			task.Fault = func(code int) string {
				if code == 0 {
					return ""
				}
				return fmt.Sprintf("code %d", code)
			}
			o := b.Run(context.Background(), task)
			report := ""
			if o.Report != "" {
				data, err := os.ReadFile(o.Report)
				if err != nil {
					t.Fatal(err)
				}
				report = strings.ReplaceAll(string(data), dir, "DIR")
			}
			if report != c.report || !strings.Contains(o.Problem, c.problem) || (o.Problem == "") != (c.problem == "") || strings.Join(o.Tail, "|") != c.tail {
				t.Errorf("report %q, problem %q, tail %q", report, o.Problem, o.Tail)
			}
			if err := b.Close(); err != nil {
				t.Error(err)
			}
			if _, err := os.Stat(b.Dir); err == nil {
				t.Error("its folder is still there")
			}
		})
	}
}

func TestCensus(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("core/tide.c", "a")
	write("fares/fare.go", "b")
	before := TakeCensus(dir)
	write("new.c", "c")
	if altered := before.Altered(dir); altered != "" {
		t.Errorf("a new file counts: %s", altered)
	}
	write("fares/fare.go", "bb")
	if altered := before.Altered(dir); altered != "fares/fare.go" {
		t.Errorf("altered: %q", altered)
	}
	os.Remove(filepath.Join(dir, "core/tide.c"))
	if altered := before.Altered(dir); altered != "core/tide.c" {
		t.Errorf("gone: %q", altered)
	}
}

// FuzzOpenAnswers: whatever a file holds, it is read or counts as empty.
func FuzzOpenAnswers(f *testing.F) {
	f.Add([]byte(storedHead))
	f.Add([]byte(storedHead + strings.Repeat("\x00", 100)))
	file := filepath.Join(f.TempDir(), "answers")
	f.Fuzz(func(t *testing.T, data []byte) {
		if err := os.WriteFile(file, data, 0o600); err != nil {
			t.Fatal(err)
		}
		a := OpenAnswers(file)
		a.Put(KeyOf("x"), data)
		if err := a.Save(); err != nil {
			t.Fatal(err)
		}
		if again, ok := OpenAnswers(file).Get(KeyOf("x")); !ok || string(again) != string(data) {
			t.Errorf("%q comes back as %q", data, again)
		}
	})
}
