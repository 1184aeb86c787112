package render

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"strings"
	"text/template"

	"zincdoor/internal/core/judge"
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

// ParseTemplate reads a Go template that is given the verdict/1 document.
func ParseTemplate(name, text string) (*template.Template, error) {
	return template.New(name).Funcs(helpers).Option("missingkey=error").Parse(text)
}

// writeTemplate hands the verdict as its JSON document, with whole numbers as such, to a template.
func writeTemplate(w io.Writer, v judge.Verdict, o Options) error {
	if o.Template == nil {
		return fmt.Errorf("the format template needs a template")
	}
	var document bytes.Buffer
	if err := writeJSON(&document, v); err != nil {
		return err
	}
	decoder := json.NewDecoder(&document)
	decoder.UseNumber()
	var data any
	if err := decoder.Decode(&data); err != nil {
		return err
	}
	return o.Template.Execute(w, whole(data))
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
