package seal

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json"
	vsa "github.com/in-toto/attestation/go/predicates/vsa/v1"
	intoto "github.com/in-toto/attestation/go/v1"
	"github.com/secure-systems-lab/go-securesystemslib/dsse"
	"github.com/youmark/pkcs8"
	"google.golang.org/protobuf/encoding/protojson"
)

const (
	tree     = "4b825dc642cb6eb9a060e54bf8d69288fbee4904"
	longTree = "6ef19b41225c5369f1c104d45d8d85efa9b057b53b14b4b9b939dd74decc5321"
	digest   = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
)

func newKey(t testing.TB) (Private, Public) {
	private, public, err := Generate("boards", nil)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := ParsePrivate(private, nil)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ParsePublic(public)
	if err != nil {
		t.Fatal(err)
	}
	return secret, key
}

func samples() map[string]Statement {
	at, exit := time.Date(2030, 3, 1, 12, 0, 0, 0, time.UTC), 1
	reports := []Report{{Name: "compiler", Files: []File{{digest, 0}}, Tool: "gcc", Version: "12.2", Command: "make -k", Exit: &exit}}
	verdict := &Verdict{
		Passed: true, Door: "merge", Mode: "enforce", Outcome: "open", Enforced: "open", Kind: "branch", Ref: "refs/heads/main", Base: tree, Tip: tree,
		Policy: "sha256:" + digest, From: "origin/main: a policy", Baseline: "sha256:" + digest, Day: "2030-03-01", Reports: reports, Time: at, Program: "v1",
	}
	shut := *verdict
	shut.Passed, shut.Outcome, shut.Enforced = false, "shut", "shut"
	return map[string]Statement{
		"reports":          {Tree: tree, Commit: tree, Reports: &Reports{Reports: reports, Time: at, Program: "v1"}},
		"a verdict":        {Tree: tree, Verdict: verdict},
		"a shut door":      {Tree: tree, Verdict: &shut},
		"a long object id": {Tree: longTree, Commit: longTree, Verdict: verdict},
		"an exception":     {Tree: tree, Exception: &Exception{Door: "merge", Reason: "the tide gauge is down", By: "Ida", Until: "2030-03-02", Time: at, Program: "v1"}},
	}
}

func TestSeal(t *testing.T) {
	secret, key := newKey(t)
	_, other := newKey(t)
	for name, statement := range samples() {
		t.Run(name, func(t *testing.T) {
			data, err := Seal(statement, secret)
			if err != nil {
				t.Fatal(err)
			}
			read, err := Read(data)
			if err != nil {
				t.Fatal(err)
			}
			if !reflect.DeepEqual(read.Statement, statement) {
				t.Errorf("%+v came back as %+v", statement, read.Statement)
			}
			if !read.SignedBy(key) || read.SignedBy(other) {
				t.Error("the wrong key counts")
			}
			checkByReference(t, data, key, statement)
		})
	}
}

// checkByReference reads an envelope with the reference libraries alone.
func checkByReference(t *testing.T, data []byte, key Public, sealed Statement) {
	var envelope dsse.Envelope
	if err := json.Unmarshal(data, &envelope); err != nil {
		t.Fatal(err)
	}
	verifier, err := dsse.NewEnvelopeVerifier(key)
	if err != nil {
		t.Fatal(err)
	}
	accepted, payload, err := verifier.VerifyAndDecode(context.Background(), &envelope)
	if err != nil || len(accepted) != 1 || accepted[0].KeyID != key.ID {
		t.Fatalf("%v, %v", accepted, err)
	}
	var statement intoto.Statement
	if err := protojson.Unmarshal(payload, &statement); err != nil {
		t.Fatal(err)
	}
	if err := statement.Validate(); err != nil {
		t.Fatal(err)
	}
	if sealed.Verdict == nil {
		return
	}
	predicate, err := protojson.Marshal(statement.Predicate)
	if err != nil {
		t.Fatal(err)
	}
	var summary vsa.VerificationSummary
	if err := (protojson.UnmarshalOptions{DiscardUnknown: true}).Unmarshal(predicate, &summary); err != nil {
		t.Fatal(err)
	}
	want := map[bool]string{true: "PASSED", false: "FAILED"}[sealed.Verdict.Passed]
	if statement.PredicateType != "https://slsa.dev/verification_summary/v1" || summary.VerificationResult != want || summary.Policy.Digest["sha256"] != digest || summary.ResourceUri == "" || summary.Verifier.Id == "" {
		t.Errorf("another verifier reads %v", &summary)
	}
}

func TestForged(t *testing.T) {
	secret, key := newKey(t)
	data, err := Seal(samples()["reports"], secret)
	if err != nil {
		t.Fatal(err)
	}
	honest, err := Read(data)
	if err != nil {
		t.Fatal(err)
	}
	payload := string(honest.Payload)
	signed := string(data)
	repacked := func(payload string) string {
		return strings.Replace(signed, base64.StdEncoding.EncodeToString(honest.Payload), base64.StdEncoding.EncodeToString([]byte(payload)), 1)
	}
	mustChange := func(old, new string) string {
		if !strings.Contains(payload, old) {
			t.Fatalf("%q isn't in %s", old, payload)
		}
		return strings.Replace(payload, old, new, 1)
	}
	quotedTree := `"` + tree + `"`
	for name, c := range map[string]struct{ data, want string }{
		"another tree":       {repacked(mustChange(tree, strings.Repeat("a", 40))), "unsigned"},
		"another digest":     {repacked(mustChange(digest, strings.Repeat("a", 64))), "unsigned"},
		"cut off":            {signed[:len(signed)/2], "isn't a DSSE envelope"},
		"empty":              {"", "isn't a DSSE envelope"},
		"two payloads":       {strings.Replace(signed, `{`, `{"payload":"e30=",`, 1), "isn't a DSSE envelope"},
		"two statements":     {signed + signed, "isn't a DSSE envelope"},
		"no signature":       {signed[:strings.Index(signed, `"signatures":`)] + `"signatures":[]}`, "payload and signatures are needed"},
		"another type":       {strings.Replace(signed, "vnd.in-toto+json", "json", 1), "its payload is of the type"},
		"names twice":        {repacked(mustChange(`{`, `{"predicateType":"x",`)), "names something twice"},
		"two trees":          {repacked(mustChange(`"subject":[`, `"subject":[{"name":"tree","digest":{"gitTree":`+quotedTree+`}},`)), "each once"},
		"two digests":        {repacked(strings.Replace(strings.ReplaceAll(payload, " ", ""), `{"gitTree":`, `{"sha1":`+quotedTree+`,"gitTree":`, 1)), "isn't an object id"},
		"another subject":    {repacked(strings.Replace(strings.ReplaceAll(payload, " ", ""), `"name":"commit"`, `"name":"ship"`, 1)), "isn't an object id"},
		"a statement of old": {repacked(mustChange("Statement/v1", "Statement/v0.1")), "its statement is of the type"},
		"another predicate":  {repacked(mustChange("zincdoor:reports/1", "zincdoor:reports/2")), "no report, no verdict and no exception"},
		"a short digest":     {repacked(mustChange(digest, "e3b0")), "isn't a SHA-256"},
		"no report":          {repacked(mustChange(`"reports":[`, `"reports":[],"more":[`)), "0 reports"},
		"large":              {signed + strings.Repeat(" ", MostBytes), "over 1048576 bytes"},
		"many signatures":    {strings.Replace(signed, `"signatures":[`, `"signatures":[`+strings.Repeat(`{"keyid":"","sig":""},`, 16), 1), "has 17 signatures"},
	} {
		t.Run(name, func(t *testing.T) {
			read, err := Read([]byte(c.data))
			switch {
			case c.want == "unsigned":
				if err != nil || read.SignedBy(key) {
					t.Errorf("%v; it counts as signed", err)
				}
			case !errors.Is(err, ErrMalformed) || !strings.Contains(err.Error(), c.want):
				t.Errorf("%v, where it should say %q", err, c.want)
			}
		})
	}
	t.Run("a key that a signature only names", func(t *testing.T) {
		_, other := newKey(t)
		read, err := Read([]byte(strings.Replace(signed, key.ID, other.ID, 1)))
		if err != nil || read.SignedBy(other) || !read.SignedBy(key) {
			t.Errorf("the name of a key decides: %v", err)
		}
	})
	t.Run("twice the same report", func(t *testing.T) {
		twice := samples()["reports"]
		twice.Reports.Reports = append(twice.Reports.Reports, twice.Reports.Reports[0])
		data, err := Seal(twice, secret)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Read(data); err == nil || !strings.Contains(err.Error(), "two reports called") {
			t.Error(err)
		}
	})
}

func TestKeys(t *testing.T) {
	secret := func(text string) func() ([]byte, error) { return func() ([]byte, error) { return []byte(text), nil } }
	none := func() ([]byte, error) { return nil, errors.New("nobody is there to ask") }
	plain, line, err := Generate("Ida's key", nil)
	if err != nil {
		t.Fatal(err)
	}
	locked, _, err := Generate("", []byte("slack water"))
	if err != nil {
		t.Fatal(err)
	}
	_, ed, _ := ed25519.GenerateKey(rand.Reader)
	inPEM := func(kind string, data []byte, err error) []byte {
		if err != nil {
			t.Fatal(err)
		}
		return pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: data})
	}
	marshalled, err := x509.MarshalPKCS8PrivateKey(ed)
	pkcs := inPEM("PRIVATE KEY", marshalled, err)
	marshalled, err = pkcs8.MarshalPrivateKey(ed, []byte("slack water"), pkcs8.DefaultOpts)
	pkcsLocked := inPEM("ENCRYPTED PRIVATE KEY", marshalled, err)
	marshalled, err = x509.MarshalPKIXPublicKey(ed.Public())
	public := inPEM("PUBLIC KEY", marshalled, err)
	large, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	marshalled, err = x509.MarshalPKCS8PrivateKey(large)
	rsaKey := inPEM("PRIVATE KEY", marshalled, err)
	marshalled, err = x509.MarshalPKIXPublicKey(large.Public())
	rsaPublic := inPEM("PUBLIC KEY", marshalled, err)

	for name, c := range map[string]struct {
		data []byte
		ask  func() ([]byte, error)
		want string // of the error
	}{
		"OpenSSH":                     {plain, none, ""},
		"OpenSSH, encrypted":          {locked, secret("slack water"), ""},
		"OpenSSH, wrong passphrase":   {locked, secret("high water"), "passphrase is wrong"},
		"OpenSSH, nobody there":       {locked, none, "nobody is there"},
		"PKCS #8":                     {pkcs, none, ""},
		"PKCS #8, encrypted":          {pkcsLocked, secret("slack water"), ""},
		"PKCS #8, wrong passphrase":   {pkcsLocked, secret("high water"), "passphrase is wrong"},
		"RSA":                         {rsaKey, none, "only Ed25519"},
		"a public key":                {[]byte(line), none, "this is a public key"},
		"a public key in PEM":         {public, none, "this is a public key"},
		"nothing":                     {nil, none, "isn't a private key"},
		"cut off":                     {plain[:len(plain)/2], none, "isn't a private key"},
		"damaged":                     {[]byte(strings.Replace(string(plain), "AAA", "AAB", 1)), none, "isn't a private key"},
		"PKCS #8, encrypted, damaged": {inPEM("ENCRYPTED PRIVATE KEY", []byte("no"), nil), secret("slack water"), "passphrase is wrong"},
	} {
		if _, err := ParsePrivate(c.data, c.ask); c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %v, where %q was expected", name, err, c.want)
		}
	}
	for name, c := range map[string]struct{ text, want string }{
		"a line":           {line + "\n", ""},
		"no comment":       {strings.Join(strings.Fields(line)[:2], " "), ""},
		"PEM":              {string(public), ""},
		"two lines":        {line + "\n" + line, "more than one"},
		"two in PEM":       {string(public) + string(public), "more than one"},
		"options":          {"restrict " + line, "options"},
		"RSA in PEM":       {string(rsaPublic), "only Ed25519"},
		"a private key":    {string(plain), "private key"},
		"a private in PEM": {string(pkcs), "private key"},
		"nothing":          {"", "isn't a public key"},
		"words":            {"ssh-ed25519 boards", "isn't a public key"},
	} {
		if _, err := ParsePublic(c.text); c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %v, where %q was expected", name, err, c.want)
		}
	}
}

// FuzzRead holds that an envelope, or what is in one, either is refused, or says what it says each time; and that no key signed it that
// didn't.
func FuzzRead(f *testing.F) {
	secret, _ := newKey(f)
	_, other := newKey(f)
	for _, statement := range samples() {
		data, err := Seal(statement, secret)
		if err != nil {
			f.Fatal(err)
		}
		read, err := Read(data)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
		f.Add(read.Payload)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		read, err := Read(data)
		if err == nil && read.SignedBy(other) {
			t.Fatal("a key counts that signed nothing")
		}
		s := Statement{}
		if err == nil {
			s = read.Statement
		} else if errors.Is(err, ErrMalformed) {
			s, err = readStatement(data)
		}
		if err != nil {
			if !errors.Is(err, ErrMalformed) {
				t.Fatal(err)
			}
			return
		}
		if s.Tree == "" || s.Reports == nil && s.Verdict == nil && s.Exception == nil {
			t.Fatalf("it says nothing: %+v", s)
		}
		if again, err := Seal(s, secret); err != nil {
			t.Fatalf("what was read can't be sealed again: %v", err)
		} else if back, err := Read(again); err != nil || said(t, back.Statement) != said(t, s) {
			t.Fatalf("%s is read back as %+v, %v", said(t, s), back, err)
		}
	})
}

// said is all that a statement says; an empty list says what none says.
func said(t *testing.T, s Statement) string {
	data, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}
