package render

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"strings"
	"sync"
	"text/template"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/verdictfile"
)

// helpers are what templates may call beside the language's own functions. Each makes text from outside safe for one kind
// of output.
var helpers = template.FuncMap{
	"csv":      csvField,
	"xml":      func(s any) string { return html.EscapeString(xmlText(fmt.Sprint(s))) },
	"markdown": func(s any) string { return escapeMarkdown(fmt.Sprint(s)) },
	"plain":    func(s any) string { return Safe(fmt.Sprint(s)) },
	"shell":    func(s any) string { return ShellWords([]string{fmt.Sprint(s)}) },
	"json": func(v any) (string, error) {
		out, err := json.Marshal(v)
		return string(out), err
	},
	"upper": strings.ToUpper,
	"lower": strings.ToLower,
	"only":  only,
	"join": func(by string, list []any) string {
		parts := make([]string, len(list))
		for i, part := range list {
			parts[i] = fmt.Sprint(part)
		}
		return strings.Join(parts, by)
	},
}

// csvField writes a field of a spreadsheet.
func csvField(v any) (string, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	if err := w.Write([]string{spreadsheetText(fmt.Sprint(v))}); err != nil {
		return "", err
	}
	w.Flush()
	return strings.TrimSuffix(out.String(), "\n"), w.Error()
}

// only keeps the objects of a list that have a value under a key: {{range only "standing" "new" .findings}}.
func only(key string, value any, list []any) (kept []any) {
	for _, item := range list {
		if object, ok := item.(map[string]any); ok && fmt.Sprint(object[key]) == fmt.Sprint(value) {
			kept = append(kept, item)
		}
	}
	return kept
}

// The bounds of a template.
const (
	longestTemplate = 1 << 20          // bytes
	mostMade        = 256 << 20        // bytes of what it makes of a verdict
	longestMaking   = 20 * time.Second // that this may take
)

// ParseTemplate reads a Go template that is given the verdict/1 document.
func ParseTemplate(name, text string) (*template.Template, error) {
	if len(text) > longestTemplate {
		return nil, fmt.Errorf("%s is over %d MiB long", name, longestTemplate>>20)
	}
	return template.New(name).Funcs(helpers).Option("missingkey=error").Parse(text)
}

// writeTemplate hands the verdict as its JSON document, with whole numbers as such, to a template.
func writeTemplate(w io.Writer, v judge.Verdict, o Options) error {
	if o.Template == nil {
		return fmt.Errorf("the format template needs a template")
	}
	var document bytes.Buffer
	if err := verdictfile.Write(&document, v); err != nil {
		return err
	}
	decoder := json.NewDecoder(&document)
	decoder.UseNumber()
	var data any
	if err := decoder.Decode(&data); err != nil {
		return err
	}
	made := make(chan error, 1) // a template that goes on is left to itself, and ends with the program
	out := &making{out: w, left: mostMade}
	go func() { made <- o.Template.Execute(out, whole(data)) }()
	select {
	case err := <-made:
		return err
	case <-time.After(longestMaking):
		out.end()
		return fmt.Errorf("the template %s takes over %v", o.Template.Name(), longestMaking)
	}
}

// making takes what a template makes until it ends, or it is too much.
type making struct {
	sync.Mutex
	out   io.Writer
	left  int64
	ended bool
}

func (m *making) Write(data []byte) (int, error) {
	m.Lock()
	defer m.Unlock()
	if m.left -= int64(len(data)); m.left < 0 || m.ended {
		return 0, fmt.Errorf("it makes over %d MiB", mostMade>>20)
	}
	return m.out.Write(data)
}

func (m *making) end() {
	m.Lock()
	defer m.Unlock()
	m.ended = true
}

// whole makes numbers that are whole ints, so that templates can compare them.
func whole(v any) any {
	switch v := v.(type) {
	case json.Number:
		if n, err := v.Int64(); err == nil {
			return int(n)
		}
		f, _ := v.Float64()
		return f
	case []any:
		for i := range v {
			v[i] = whole(v[i])
		}
	case map[string]any:
		for k := range v {
			v[k] = whole(v[k])
		}
	}
	return v
}
