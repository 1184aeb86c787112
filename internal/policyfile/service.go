package policyfile

import (
	_ "embed"
	"net"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/transport"
)

// ServiceVersion is what the file with a service's settings calls itself.
const ServiceVersion = "service/1"

//go:embed service.schema.json
var serviceSchema []byte

// ServiceSchema is the JSON Schema (2020-12) of a file with a service's settings.
func ServiceSchema() []byte { return serviceSchema }

// Service are the settings of a service. Of secrets they have no more than the names of environment variables.
type Service struct {
	Address      string // by which people reach it, without a slash at the end; "" where nobody says
	ByToken      bool   // reading takes a token
	Repositories []ServedRepository
	Notify       []Recipient
	Mail         *MailServer // nil where no mail is sent
	Policies     []string    // the repositories from which policies may be inherited, as these name them
	Expiring     int         // how many days before its end an acceptance is spoken of
}

// ServedRepository is a repository whose changes a service judges.
type ServedRepository struct {
	Name      string
	Git       string // its address
	GitToken  string // the environment variable with the token to fetch by; "" for none
	Host      string // the file with the recipe of its code host, relative to the settings; "" for none
	HostAt    string // the address of the code host; "" for the recipe's
	HostToken string // the environment variable with the token for it
	HostName  string // what the host calls the repository
	PullRef   string // the ref of a pull request's head, in which {pull} stands for its number; "" for none
	Hook      *HostHook
	Wait      time.Duration // how long reports are waited for
	Look      time.Duration // how often its branches are looked at
	Door      string        // at which pull requests are judged; "" for the only one that judges branches
	Branches  []ServedBranch
	PlainHTTP bool // a token may go to another machine unencrypted
}

// ServedBranch is a guarded branch whose states are judged.
type ServedBranch struct {
	Ref  string // a whole one, "" for the one that the repository checks out
	Door string // "" for the one that the policy has for it
}

// HostHook is how a code host says that something has changed.
type HostHook struct {
	Secret string // the environment variable with the secret that it signs by
	Header string // which has the HMAC-SHA-256 of the body by the secret, in hexadecimal digits
	Pull   string // where the body has the number of a pull request (RFC 9535)
}

// News is a kind of what is worth a notice.
type News string

// The kinds.
const (
	DoorNews       News = "door"       // a guarded branch's door answers otherwise than before
	LimitNews      News = "limit"      // a limit comes near
	AcceptanceNews News = "acceptance" // an acceptance is about to expire
)

// AllNews are the kinds of it.
var AllNews = []News{DoorNews, LimitNews, AcceptanceNews}

// Recipient gets news: by a webhook or by mail.
type Recipient struct {
	Webhook      string
	Secret       string // the environment variable with the secret that webhooks are signed by
	Mail         []string
	About        []News
	Repositories []string // globs; empty for all
	Teams        []string // empty for all
}

// Takes reports whether news of a repository, which concerns some teams or nobody in particular, is for a recipient.
func (r Recipient) Takes(repository string, teams []string, about News) bool {
	repositories := len(r.Repositories) == 0 || slices.ContainsFunc(r.Repositories, func(glob string) bool { return doublestar.MatchUnvalidated(glob, repository) })
	concerned := len(r.Teams) == 0 || slices.ContainsFunc(teams, func(team string) bool { return slices.Contains(r.Teams, team) })
	return repositories && concerned && slices.Contains(r.About, about)
}

// MailServer is what sends mail.
type MailServer struct {
	Server   string // host:port
	From     string
	User     string // "" for none
	Password string // the environment variable with it
}

// Repository is the repository of that name.
func (s *Service) Repository(name string) (ServedRepository, bool) {
	i := slices.IndexFunc(s.Repositories, func(r ServedRepository) bool { return r.Name == name })
	if i < 0 {
		return ServedRepository{}, false
	}
	return s.Repositories[i], true
}

// Variables are the environment variables with the secrets that the settings need.
func (s *Service) Variables() (all []string) {
	for _, r := range s.Repositories {
		all = append(all, r.GitToken, r.HostToken)
		if r.Hook != nil {
			all = append(all, r.Hook.Secret)
		}
	}
	for _, r := range s.Notify {
		all = append(all, r.Secret)
	}
	if s.Mail != nil {
		all = append(all, s.Mail.Password)
	}
	slices.Sort(all)
	return slices.DeleteFunc(slices.Compact(all), func(name string) bool { return name == "" })
}

// What holds where the settings don't say.
const (
	usualWait     = 30 * time.Minute
	usualLook     = 5 * time.Minute
	usualExpiring = 14
)

// ReadService reads a file with a service's settings. The error is a Problems.
func ReadService(file string, data []byte) (*Service, error) {
	s := &Service{Expiring: usualExpiring}
	d, err := newDocument(file, data, "the file with the settings", `"zincdoor: `+ServiceVersion+`"`)
	if err != nil {
		return nil, err
	}
	r := reader{document: d}
	var notify *yaml.Node
	r.mapping(d.root, keys{what: "the settings", need: []string{"zincdoor"}, read: map[string]func(*yaml.Node){
		"zincdoor": func(n *yaml.Node) {
			if is := r.text(n, "zincdoor"); is != "" && is != ServiceVersion {
				r.complain(n, "this program reads settings of the form %s, not %q", ServiceVersion, is)
			}
		},
		"address":  func(n *yaml.Node) { s.Address = strings.TrimRight(r.webAddress(n, "address"), "/") },
		"reading":  func(n *yaml.Node) { s.ByToken = r.oneOf(n, "reading", "open", "token") == "token" },
		"policies": func(n *yaml.Node) { s.Policies = r.texts(n, "policies") },
		"expiring": func(n *yaml.Node) { s.Expiring = r.number(n, "expiring") },
		"mail":     func(n *yaml.Node) { s.Mail = r.mailServer(n) },
		"notify":   func(n *yaml.Node) { notify = n }, // needs mail
		"repositories": func(n *yaml.Node) {
			for _, f := range r.fields(n, "repositories") {
				s.Repositories = append(s.Repositories, r.servedRepository(f))
			}
		},
	}})
	if notify != nil {
		r.recipients(notify, s)
	}
	return s, d.result()
}

func (r *reader) oneOf(n *yaml.Node, what string, words ...string) string {
	word := r.text(n, what)
	if word != "" && !slices.Contains(words, word) {
		r.complain(n, "%s is one of %s, not %q", what, strings.Join(words, ", "), word)
	}
	return word
}

// webAddress reads an address with http or https, in which no password stands.
func (r *reader) webAddress(n *yaml.Node, what string) string {
	text := r.text(n, what)
	u, err := url.Parse(text)
	switch {
	case text == "":
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		r.complain(n, "%s is an address with https or http, not %q", what, text)
	case u.User != nil:
		r.complain(n, "no name and no password belong in an address")
	}
	return text
}

// variable reads the name of an environment variable.
func (r *reader) variable(n *yaml.Node, what string) string {
	name := r.text(n, what)
	if strings.Trim(name, "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_") != "" {
		r.complain(n, "%s is the name of an environment variable, as in QUAY_TOKEN; a secret itself doesn't belong here", what)
	}
	return name
}

func (r *reader) servedRepository(f field) ServedRepository {
	s := ServedRepository{Name: f.name, HostName: f.name, Wait: usualWait, Look: usualLook}
	r.mapping(f.value, keys{what: "repository " + f.name, need: []string{"git"}, read: map[string]func(*yaml.Node){
		"git":             func(n *yaml.Node) { s.Git = r.gitAddress(n) },
		"git-token-from":  func(n *yaml.Node) { s.GitToken = r.variable(n, "git-token-from") },
		"host":            func(n *yaml.Node) { s.Host = r.text(n, "host") },
		"host-address":    func(n *yaml.Node) { s.HostAt = r.webAddress(n, "host-address") },
		"host-token-from": func(n *yaml.Node) { s.HostToken = r.variable(n, "host-token-from") },
		"name-at-host":    func(n *yaml.Node) { s.HostName = r.text(n, "name-at-host") },
		"plain-http":      func(n *yaml.Node) { s.PlainHTTP = r.boolean(n, "plain-http") },
		"pull-ref": func(n *yaml.Node) {
			if s.PullRef = r.text(n, "pull-ref"); strings.Count(s.PullRef, "{pull}") != 1 || !strings.HasPrefix(s.PullRef, "refs/") || strings.ContainsAny(s.PullRef, " *:^~?[\\") {
				r.complain(n, "pull-ref is a whole ref that has {pull} in it once, as in refs/pulls/{pull}/head")
			}
		},
		"hook": func(n *yaml.Node) { s.Hook = r.hostHook(n) },
		"wait": func(n *yaml.Node) { s.Wait = r.duration(n, "wait") },
		"look": func(n *yaml.Node) { s.Look = r.duration(n, "look") },
		"door": func(n *yaml.Node) { s.Door = r.text(n, "door") },
		"branches": func(n *yaml.Node) {
			if resolve(n).Kind != yaml.MappingNode {
				for _, name := range r.texts(n, "branches") {
					s.Branches = append(s.Branches, ServedBranch{Ref: policy.WholeRef(name)})
				}
				return
			}
			for _, f := range r.fields(n, "branches") {
				s.Branches = append(s.Branches, ServedBranch{Ref: policy.WholeRef(f.name), Door: r.text(f.value, f.name)})
			}
		},
	}})
	if u, err := url.Parse(s.Git); err == nil && u.Scheme == "http" && s.GitToken != "" && !s.PlainHTTP && !transport.IsLoopback(u.Hostname()) {
		r.complain(f.value, "the token of git-token-from would go to %s unencrypted: use an address with https, or allow it with plain-http: true", u.Host)
	}
	if len(s.Branches) == 0 {
		s.Branches = []ServedBranch{{}}
	}
	if strings.Trim(f.name, "/") != f.name || len(f.name) > 200 || strings.ContainsFunc(f.name, func(c rune) bool { return c < ' ' || c == 0x7f }) {
		r.complain(f.key, "a repository's name is one line without a slash at its ends")
	}
	return s
}

// gitAddress reads the address of a repository. One that would start a program, or be taken for an option, is none.
func (r *reader) gitAddress(n *yaml.Node) string {
	text := r.text(n, "git")
	switch u, err := url.Parse(text); {
	case strings.HasPrefix(text, "-") || strings.Contains(text, "::"):
		r.complain(n, "git is the address of a repository, not %q", text)
	case err == nil && u.User != nil:
		if _, secret := u.User.Password(); secret {
			r.complain(n, "no password belongs in an address: git-token-from names the variable with a token")
		}
	}
	return text
}

func (r *reader) hostHook(n *yaml.Node) *HostHook {
	h := &HostHook{}
	r.mapping(n, keys{what: "hook", need: []string{"secret-from", "header"}, read: map[string]func(*yaml.Node){
		"secret-from": func(n *yaml.Node) { h.Secret = r.variable(n, "secret-from") },
		"header":      func(n *yaml.Node) { h.Header = r.headerName(n) },
		"pull":        func(n *yaml.Node) { h.Pull = r.jsonPath(n, "pull") },
	}})
	return h
}

func (r *reader) mailServer(n *yaml.Node) *MailServer {
	m := &MailServer{}
	r.mapping(n, keys{what: "mail", need: []string{"server", "from"}, read: map[string]func(*yaml.Node){
		"server": func(n *yaml.Node) {
			m.Server = r.text(n, "server")
			if _, _, err := net.SplitHostPort(m.Server); err != nil {
				r.complain(n, "server is a host and a port, as in mail.brackwater.example:587, not %q", m.Server)
			}
		},
		"from":          func(n *yaml.Node) { m.From = r.mailAddress(n) },
		"user":          func(n *yaml.Node) { m.User = r.text(n, "user") },
		"password-from": func(n *yaml.Node) { m.Password = r.variable(n, "password-from") },
	}})
	return m
}

func (r *reader) mailAddress(n *yaml.Node) string {
	text := r.text(n, "an address")
	is, err := mail.ParseAddress(text)
	if err != nil {
		r.complain(n, "%q is no mail address", text)
		return ""
	}
	return is.Address
}

func (r *reader) recipients(n *yaml.Node, s *Service) {
	list := resolve(n)
	if list.Kind != yaml.SequenceNode {
		r.complain(n, "notify must be a list of recipients, not %s", kindOf(list))
		return
	}
	for _, item := range list.Content {
		is := Recipient{About: AllNews}
		r.mapping(item, keys{what: "a recipient", read: map[string]func(*yaml.Node){
			"webhook":     func(n *yaml.Node) { is.Webhook = r.webAddress(n, "webhook") },
			"secret-from": func(n *yaml.Node) { is.Secret = r.variable(n, "secret-from") },
			"mail": func(n *yaml.Node) {
				for _, one := range itemsOf(n) {
					is.Mail = append(is.Mail, r.mailAddress(one))
				}
			},
			"about": func(n *yaml.Node) {
				is.About = nil
				for _, one := range itemsOf(n) {
					is.About = append(is.About, News(r.oneOf(one, "about", "door", "limit", "acceptance")))
				}
			},
			"repository": func(n *yaml.Node) {
				is.Repositories = r.texts(n, "repository")
				for _, glob := range is.Repositories {
					if !doublestar.ValidatePattern(glob) {
						r.complain(n, "%q is no glob", glob)
					}
				}
			},
			"team": func(n *yaml.Node) { is.Teams = r.texts(n, "team") },
		}})
		switch {
		case (is.Webhook == "") == (len(is.Mail) == 0):
			r.complain(item, "a recipient has either a webhook or mail")
		case is.Webhook != "" && is.Secret == "":
			r.complain(item, "what goes to a webhook is signed: secret-from names the variable with the secret")
		case len(is.Mail) > 0 && s.Mail == nil:
			r.complain(item, "mail needs a server: mail: {server: HOST:PORT, from: ADDRESS}")
		}
		s.Notify = append(s.Notify, is)
	}
}

// itemsOf are the items of a list, or the one value.
func itemsOf(n *yaml.Node) []*yaml.Node {
	if list := resolve(n); list.Kind == yaml.SequenceNode {
		return list.Content
	}
	return []*yaml.Node{n}
}
