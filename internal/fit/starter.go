package fit

import (
	"bytes"
	_ "embed"
	"sync"
	"text/template"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/policyfile"
)

//go:embed policy.yaml
var starterText string

var starterTemplate = sync.OnceValue(func() *template.Template { return template.Must(template.New("starter policy").Parse(starterText)) })

// Starter is what a repository without a policy is given.
type Starter struct {
	Reports []policy.Report // what changes are judged by; without any, our own checks are all there is
	Branch  string          // that changes are merged into
	Advise  bool            // the limits only advise
}

// Text is the policy, commented.
func (s Starter) Text() ([]byte, error) {
	data := struct {
		Reports           []string
		Branch, Rest, Run string
		Advise            bool
	}{Branch: policyfile.Word(s.Branch), Advise: s.Advise}
	for _, r := range s.Reports {
		data.Reports = append(data.Reports, policyfile.WriteReport(r))
		if r.Run != nil {
			data.Run = " --run"
		}
	}
	if len(s.Reports) == 0 {
		data.Rest = "\n    needs: [house]  # until there is a linter"
	}
	if s.Advise {
		data.Rest += "\n    mode: advise"
	}
	var text bytes.Buffer
	err := starterTemplate().Execute(&text, data)
	return text.Bytes(), err
}
