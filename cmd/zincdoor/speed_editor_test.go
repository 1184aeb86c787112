package main

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/creachadair/jrpc2"
)

// BenchmarkTyping types in an editor in a repository of 100,000 files, with house checks and spelling: how long it takes from the end of the
// pause to the diagnostics, in the 95th of a hundred times, and how much memory the server takes. Beside it stands the gate of the same
// work tree.
func BenchmarkTyping(b *testing.B) {
	const goal, mostMemory = 150.0, 150e6
	s := &sandbox{T: &testing.T{}, dir: b.TempDir()}
	s.git("clone", "-q", "--no-hardlinks", largeRepository(b, 0).dir, ".")
	s.write(".zincdoor/policy.yaml", `zincdoor: 1
doors: {commit: {judges: worktree, needs: [house], waivers: {code: true}, limits: [{count: new, severity: note, most: 0}]}}
house: {blank-ends: on, json-syntax: on, conflict-marks: on, last-line-end: on, spelling: on}
`)
	s.commit("policy")
	s.run("gate", "--worktree") // so that the words of all files are known
	name := strings.Split(s.git("ls-files", "*.c"), "\n")[500]
	for b.Loop() {
		shown := make(chan int, 1000)
		e := s.edit(`{}`, func(req *jrpc2.Request) {
			var p struct{ Version int }
			if req.Method() == "textDocument/publishDiagnostics" && req.UnmarshalParams(&p) == nil {
				shown <- p.Version
			}
		})
		peak := watchPeak(e.cmd.Process.Pid)
		lines := strings.SplitAfter(s.read(name), "\n")
		document := e.document(name)
		document["version"], document["text"] = 1, strings.Join(lines, "")
		e.tell("textDocument/didOpen", map[string]any{"textDocument": document})
		<-shown
		random := rand.New(rand.NewPCG(1, 1))
		var took []float64
		for version := 2; version < 102; version++ {
			lines = slices.Insert(lines, random.IntN(len(lines)), fmt.Sprintf("// it recieves %d  \n", version))
			document := e.document(name)
			document["version"] = version
			began := time.Now()
			e.tell("textDocument/didChange", map[string]any{"textDocument": document, "contentChanges": []any{map[string]any{"text": strings.Join(lines, "")}}})
			for <-shown != version {
			}
			took = append(took, ms(time.Since(began))-300)
		}
		e.leave()
		slices.Sort(took)
		memory := float64(peak())
		beside := s.time(b, gate("--worktree"))
		b.ReportMetric(took[50], "ms-median")
		b.ReportMetric(memory/1e6, "MB")
		b.ReportMetric(ms(beside.wall), "ms/gate")
		hold(b, took[95], took[95], goal, "ms-p95")
		if memory > mostMemory {
			b.Errorf("the server took %.0f MB, more than %.0f", memory/1e6, mostMemory/1e6)
		}
	}
}
