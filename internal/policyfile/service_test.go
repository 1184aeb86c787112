package policyfile

import (
	"strings"
	"testing"
)

// TestService: settings that make no sense are refused with the line, and say what to do; a secret never stands in them.
func TestService(t *testing.T) {
	const head = "zincdoor: service/1\n"
	for text, want := range map[string]string{
		"zincdoor: service/9\n":                                              "form service/1",
		head + "adress: https://x.example\n":                                 `did you mean "address"`,
		head + "repositories: {tideboard: {}}\n":                             `needs the key "git"`,
		head + "repositories: {tideboard: {git: 'ext::sh -c x'}}\n":          "the address of a repository",
		head + "repositories: {tideboard: {git: --upload-pack=x}}\n":         "the address of a repository",
		head + "repositories: {tideboard: {git: 'https://a:b@x/y'}}\n":       "no password belongs in an address",
		head + "repositories: {t: {git: x, git-token-from: s3cr3t}}\n":       "a secret itself doesn't belong here",
		head + "repositories: {t: {git: 'http://x/y', git-token-from: A}}\n": "unencrypted",
		head + "repositories: {t: {git: x, pull-ref: 'refs/*/head'}}\n":      "{pull} in it once",
		head + "repositories: {t: {git: x, wait: soon}}\n":                   "a time like 90s",
		head + "repositories: {/t: {git: x}}\n":                              "without a slash at its ends",
		head + "notify: [{webhook: 'https://x.example'}]\n":                  "secret-from names the variable",
		head + "notify: [{webhook: 'file:///etc', secret-from: A}]\n":        "an address with https or http",
		head + "notify: [{mail: desk@x.example}]\n":                          "mail needs a server",
		head + "notify: [{about: door}]\n":                                   "either a webhook or mail",
		head + "notify: [{mail: a, webhook: b}]\n":                           "no mail address",
		head + "reading: everybody\n":                                        "reading is one of open, token",
	} {
		if _, err := ReadService("service.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), "service.yaml:") {
			t.Errorf("%s: %v, without %q", text, err, want)
		}
	}
	s, err := ReadService("service.yaml", []byte(head+`repositories: {tideboard: {git: x, hook: {secret-from: B, header: X-Mac}, branches: {main: push}}}
notify: [{webhook: "https://x.example", secret-from: A, repository: "tide*", team: tides, about: door}]
`))
	if err != nil {
		t.Fatal(err)
	}
	to := s.Notify[0]
	if !to.Takes("tideboard", []string{"fares", "tides"}, DoorNews) || to.Takes("tideboard", nil, DoorNews) || to.Takes("quay", []string{"tides"}, DoorNews) || to.Takes("tideboard", []string{"tides"}, LimitNews) {
		t.Error("a recipient takes what isn't for it, or not what is")
	}
	if r := s.Repositories[0]; r.Wait != usualWait || r.Branches[0] != (ServedBranch{"refs/heads/main", "push"}) || strings.Join(s.Variables(), " ") != "A B" {
		t.Errorf("%+v, %v", r, s.Variables())
	}
}

// FuzzService: whatever stands in a file, reading it ends.
func FuzzService(f *testing.F) {
	f.Add([]byte("zincdoor: service/1\nrepositories: {tideboard: {git: x, branches: [main]}}\nnotify: [{mail: a@b, about: door}]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if s, err := ReadService("service.yaml", data); err == nil && s == nil {
			t.Error("neither settings nor an error")
		}
	})
}
