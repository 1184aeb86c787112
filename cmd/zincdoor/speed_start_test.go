package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"
)

// BenchmarkStart: what the start of the program takes over that of an empty one that is built the same way, medians of one run.
func BenchmarkStart(b *testing.B) {
	dir := b.TempDir()
	empty := filepath.Join(dir, "empty.go")
	if err := os.WriteFile(empty, []byte("package main\n\nfunc main() {}\n"), 0o644); err != nil {
		b.Fatal(err)
	}
	programs := map[string]string{"empty": empty, "zincdoor": "."}
	for name, source := range programs {
		build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", filepath.Join(dir, name), source)
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			b.Fatalf("%v\n%s", err, out)
		}
	}
	times := map[string][]time.Duration{}
	start := func(name string) {
		began := time.Now()
		if err := exec.Command(filepath.Join(dir, name), "version").Run(); err != nil {
			b.Fatal(err)
		}
		times[name] = append(times[name], time.Since(began))
	}
	for b.Loop() {
		start("empty")
		start("zincdoor")
	}
	for _, all := range times {
		slices.Sort(all)
	}
	median := func(name string) float64 { return ms(times[name][len(times[name])/2]) }
	b.ReportMetric(median("empty"), "ms/reference")
	b.ReportMetric(median("zincdoor"), "ms/zincdoor")
	hold(b, median("zincdoor")-median("empty"), ms(times["zincdoor"][0]-times["empty"][0]), 5, "ms-over")
}
