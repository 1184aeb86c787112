package slipway

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v4"
)

// quay is a slipway with users and a repository that has a branch to merge.
type quay struct {
	*testing.T
	*Slipway
	address string
	tokens  map[string]string
	clone   string
}

func newQuay(t *testing.T, o Options) *quay {
	o.Dir = t.TempDir()
	s, err := Open(o)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(s)
	t.Cleanup(func() {
		server.Close()
		s.Close()
	})
	q := &quay{T: t, Slipway: s, address: server.URL, tokens: map[string]string{}, clone: t.TempDir()}
	owner, err := os.ReadFile(filepath.Join(o.Dir, OwnerFile))
	if err != nil {
		t.Fatal(err)
	}
	q.tokens["owner"] = strings.TrimSpace(string(owner))
	return q
}

// saved writes what a slow machine saves later.
func (q *quay) saved() {
	q.mu.Lock()
	defer q.mu.Unlock()
	if err := q.Slipway.write(); err != nil {
		q.Fatal(err)
	}
}

// furnish makes users, and a repository with the branch ebb that changes core/ebb.c.
func (q *quay) furnish() {
	for name, right := range map[string]Right{"ida": Write, "noor": Talk, "eel": Look} {
		q.tokens[name] = q.must("owner", "POST", "/users", map[string]any{"name": name, "right": right})["token"].(string)
	}
	q.must("owner", "POST", "/repositories", map[string]any{"name": "tideboard"})
	q.git("init", "-q", "-b", "main")
	q.write("core/ebb.c", "one\ntwo\nthree\n")
	q.git("push", "-q", q.remote("ida", "tideboard"), "main")
	q.git("switch", "-q", "-c", "ebb")
	q.write("core/ebb.c", "one\n2\nthree\n")
	q.git("push", "-q", q.remote("ida", "tideboard"), "ebb")
}

func (q *quay) write(name, text string) {
	q.Helper()
	os.MkdirAll(filepath.Dir(filepath.Join(q.clone, name)), 0o755)
	os.WriteFile(filepath.Join(q.clone, name), []byte(text), 0o644)
	q.git("add", "-A")
	q.git("commit", "-q", "-m", "Write "+name)
}

func (q *quay) remote(user, repository string) string {
	return strings.Replace(q.address, "//", "//"+user+":"+q.tokens[user]+"@", 1) + "/git/" + repository + ".git"
}

func (q *quay) git(args ...string) string {
	q.Helper()
	out, err := q.tryGit(args...)
	if err != nil {
		q.Fatalf("git %s: %v: %s", args[0], err, out)
	}
	return out
}

func (q *quay) tryGit(args ...string) (string, error) {
	cmd := exec.Command("git", append([]string{"-C", q.clone}, args...)...)
	cmd.Env = gitEnvironment()
	out, err := cmd.CombinedOutput()
	return strings.TrimSpace(string(out)), err
}

func (q *quay) call(user, method, path string, body any) (int, map[string]any, http.Header) {
	q.Helper()
	var in io.Reader
	if body != nil {
		text, _ := json.Marshal(body)
		in = bytes.NewReader(text)
	}
	r, err := http.NewRequest(method, q.address+"/"+Interface+path, in)
	if err != nil {
		q.Fatal(err)
	}
	if token := q.tokens[user]; token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	reply, err := http.DefaultClient.Do(r)
	if err != nil {
		q.Fatal(err)
	}
	defer reply.Body.Close()
	var answer map[string]any
	json.NewDecoder(reply.Body).Decode(&answer)
	q.described(method, path, reply.StatusCode, answer)
	return reply.StatusCode, answer, reply.Header
}

var description = sync.OnceValue(func() *jsonschema.Compiler {
	var read any
	if err := yaml.Unmarshal(OpenAPI, &read); err != nil {
		panic(err)
	}
	text, err := json.Marshal(read)
	if err != nil {
		panic(err)
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		panic(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("openapi.json", document); err != nil {
		panic(err)
	}
	return compiler
})

// pathOf is the path of the interface that a call is one of, "" for none.
func (q *quay) pathOf(method, path string) string {
	path, _, _ = strings.Cut(path, "?")
	for _, r := range q.routes() {
		parts, asked := strings.Split(r.path, "/"), strings.Split(path, "/")
		same := r.method == method && len(parts) == len(asked)
		for i := 0; same && i < len(parts); i++ {
			same = parts[i] == asked[i] || strings.HasPrefix(parts[i], "{")
		}
		if same {
			return r.path
		}
	}
	return ""
}

// described checks that an answer is as the description says.
func (q *quay) described(method, path string, code int, answer map[string]any) {
	q.Helper()
	path = q.pathOf(method, path)
	if path == "" || code == http.StatusNoContent {
		return
	}
	pointer := "openapi.json#/paths/" + strings.NewReplacer("~", "~0", "/", "~1", "{", "%7B", "}", "%7D").Replace(path) + "/" + strings.ToLower(method) + "/responses/" + fmt.Sprint(code)
	schema, err := description().Compile(pointer + "/content/application~1json/schema")
	if err != nil {
		if _, refers := description().Compile(pointer + "/$ref"); refers == nil || code < 400 {
			q.Errorf("%s %s: the answer %d isn't described: %v", method, path, code, err)
		}
		schema, err = description().Compile("openapi.json#/components/schemas/Problem")
	}
	if err == nil {
		err = schema.Validate(any(answer))
	}
	if err != nil {
		q.Errorf("%s %s: %v\n%v", method, path, err, answer)
	}
}

// TestDescribed: every call is described, and nothing else; and the guide has the description.
func TestDescribed(t *testing.T) {
	var document struct {
		Paths map[string]map[string]any
	}
	if err := yaml.Unmarshal(OpenAPI, &document); err != nil {
		t.Fatal(err)
	}
	calls := 0
	for _, r := range (&Slipway{}).routes() {
		if _, there := document.Paths[r.path][strings.ToLower(r.method)]; !there {
			t.Errorf("%s %s isn't described", r.method, r.path)
		}
		calls++
	}
	for _, methods := range document.Paths {
		for method := range methods {
			if method != "parameters" {
				calls--
			}
		}
	}
	if calls != 0 {
		t.Errorf("there are %d more calls than are described", calls)
	}
	guide, err := os.ReadFile("../../docs/slipway.md")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(guide), "```yaml\n"+string(OpenAPI)+"```\n") {
		t.Error("docs/slipway.md has another description than openapi.yaml")
	}
}

func (q *quay) must(user, method, path string, body any) map[string]any {
	q.Helper()
	code, answer, _ := q.call(user, method, path, body)
	if code >= 300 {
		q.Fatalf("%s %s by %s: %d %v", method, path, user, code, answer)
	}
	return answer
}

// TestCalls: who may do what, and what makes no sense.
func TestCalls(t *testing.T) {
	q := newQuay(t, Options{})
	q.furnish()
	head := q.git("rev-parse", "ebb")
	const pulls, pull = "/repositories/tideboard/pulls", "/repositories/tideboard/pulls/1"
	on := func(line int) map[string]any {
		return map[string]any{"on": map[string]any{"commit": head, "side": "new", "path": "core/ebb.c", "first": line, "last": line}, "text": "Is it?"}
	}
	status := "/repositories/tideboard/commits/" + head + "/statuses/door"
	for _, c := range []struct {
		user, method, path string
		body               any
		code               int
		says               string
	}{
		{"", "GET", "/me", nil, 401, "needs a token"},
		{"", "GET", "/repositories/tideboard", nil, 200, ""},
		{"", "GET", "/repositories/boards", nil, 404, `no repository "boards"`},
		{"", "GET", "/nothing", nil, 404, "no such thing"},
		{"ida", "POST", "/users", map[string]any{"name": "x"}, 403, "ida has not the right to own"},
		{"owner", "POST", "/users", map[string]any{"name": "../x"}, 400, "a name has small letters"},
		{"owner", "POST", "/users", map[string]any{"name": "x", "right": "all"}, 400, "a right is one of"},
		{"owner", "POST", "/users", map[string]any{"name": "ida"}, 409, "a user ida already"},
		{"owner", "POST", "/users", map[string]any{"nick": "ida"}, 400, `unknown field "nick"`},
		{"owner", "POST", "/repositories", map[string]any{"name": "../../etc"}, 400, "at most one slash"},
		{"owner", "POST", "/repositories", map[string]any{"name": "a", "main": "-x"}, 400, "can't be the name of a branch"},
		{"eel", "POST", pulls, map[string]any{"source": "ebb"}, 403, "right to talk"},
		{"noor", "POST", pulls, map[string]any{"source": "flood"}, 422, "no branch flood"},
		{"noor", "POST", pulls, map[string]any{"source": "--all"}, 400, "names of branches"},
		{"noor", "POST", pulls, map[string]any{"source": "ebb", "title": "Ebb"}, 201, ""},
		{"noor", "POST", pulls, map[string]any{"source": "ebb"}, 409, "an open pull request"},
		{"", "GET", pulls + "/2", nil, 404, `no pull request "2"`},
		{"eel", "POST", pull + "/threads", on(2), 403, "right to talk"},
		{"noor", "POST", pull + "/threads", on(2), 201, ""},
		{"noor", "POST", pull + "/threads", on(90), 422, "isn't near a line"},
		{"noor", "POST", pull + "/threads", map[string]any{"text": " "}, 400, "says something"},
		{"noor", "POST", pull + "/threads", map[string]any{"text": strings.Repeat("x", longestText+1)}, 400, "at most"},
		{"noor", "POST", pull + "/threads", map[string]any{"text": strings.Repeat("x", longestBody)}, 413, "longer than"},
		{"noor", "PUT", status, map[string]any{"state": "good"}, 403, "right to write"},
		{"ida", "PUT", status, map[string]any{"state": "green"}, 400, "a status is one of"},
		{"ida", "PUT", strings.Replace(status, head, "HEAD", 1), map[string]any{"state": "good"}, 404, `no commit "HEAD"`},
		{"noor", "PATCH", pull, map[string]any{"title": "Ebb tables"}, 200, ""},
		{"noor", "POST", pull + "/merge", map[string]any{"head": head}, 403, "right to write"},
		{"ida", "GET", pull + "/threads?most=1000", nil, 400, "most can't be"},
		{"ida", "GET", pull + "/threads?after=-1", nil, 400, "after can't be"},
		{"owner", "POST", "/repositories/tideboard/hooks", map[string]any{"address": "file:///etc", "secret": "x"}, 400, "address with http"},
		{"owner", "POST", "/repositories/tideboard/hooks", map[string]any{"address": "http://a.example"}, 400, "has a secret"},
		{"ida", "GET", "/repositories/tideboard/hooks", nil, 403, "right to own"},
	} {
		code, answer, _ := q.call(c.user, c.method, c.path, c.body)
		if text := fmt.Sprint(answer["problem"]); code != c.code || c.says != "" && !strings.Contains(text, c.says) {
			t.Errorf("%s %s by %q: %d %s, want %d %s", c.method, c.path, c.user, code, text, c.code, c.says)
		}
	}
	thread := pull + fmt.Sprintf("/threads/%v", q.must("noor", "GET", pull+"/threads", nil)["items"].([]any)[0].(map[string]any)["id"])
	q.tokens["tove"] = q.must("owner", "POST", "/users", map[string]any{"name": "tove"})["token"].(string)
	if code, _, _ := q.call("tove", "PATCH", thread, map[string]any{"text": "Mine"}); code != 403 {
		t.Errorf("another's comment is altered: %d", code)
	}
	q.must("tove", "POST", thread+"/comments", map[string]any{"text": "It is."})
	if code, _, _ := q.call("noor", "DELETE", thread, nil); code != 403 {
		t.Errorf("a thread with another's comment is deleted: %d", code)
	}
	if _, err := Open(Options{Dir: q.Dir}); err == nil || !strings.Contains(err.Error(), "another slipway") {
		t.Errorf("two use one folder: %v", err)
	}
	q.saved()
	copied := filepath.Join(t.TempDir(), "copy")
	if err := os.CopyFS(copied, os.DirFS(q.Dir)); err != nil {
		t.Fatal(err)
	}
	again, err := Open(Options{Dir: copied})
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if got := again.state.Repositories[0].Pulls[0].Threads[0]; len(got.Comments) != 2 || got.Comments[1].Author != "tove" {
		t.Errorf("opened again, the thread is %+v", got)
	}
}

// TestMerges: a guarded branch takes what is good for exactly the head, or for the test merge with its present tip, which is then what
// merges; and no push.
func TestMerges(t *testing.T) {
	q := newQuay(t, Options{})
	q.furnish()
	q.must("owner", "PUT", "/repositories/tideboard/guards/main", map[string]any{"statuses": []string{"door", "build"}})
	if out, err := q.tryGit("push", "-q", q.remote("ida", "tideboard"), "ebb:main"); err == nil || !strings.Contains(out, "guarded") {
		t.Errorf("a guarded branch takes a push: %s", out)
	}
	for _, ref := range []string{"refs/pulls/1/head", "refs/zincdoor/x"} {
		if out, err := q.tryGit("push", "-q", q.remote("ida", "tideboard"), "ebb:"+ref); err == nil {
			t.Errorf("%s takes a push: %s", ref, out)
		}
	}
	if out, err := q.tryGit("push", "-q", q.remote("noor", "tideboard"), "ebb:refs/heads/noor"); err == nil {
		t.Errorf("who may only talk pushes: %s", out)
	}
	const pull = "/repositories/tideboard/pulls/1"
	head := q.git("rev-parse", "ebb")
	q.must("ida", "POST", "/repositories/tideboard/pulls", map[string]any{"source": "ebb", "title": "Ebb"})
	set := func(commit, name, state string) {
		t.Helper()
		q.must("ida", "PUT", "/repositories/tideboard/commits/"+commit+"/statuses/"+name, map[string]any{"state": state})
	}
	merge := func(head string, want int, says string) map[string]any {
		t.Helper()
		code, answer, _ := q.call("ida", "POST", pull+"/merge", map[string]any{"head": head})
		if code != want || !strings.Contains(fmt.Sprint(answer), says) {
			t.Errorf("merge: %d %v, want %d %s", code, answer, want, says)
		}
		return answer
	}
	merge(head, 409, "door state:not set")
	set(head, "door", "good")
	set(head, "build", "bad")
	merge(head, 409, "build state:bad")

	test := q.must("ida", "POST", pull+"/test-merge", nil)["test_merge"].(map[string]any)["commit"].(string)
	set(test, "door", "good")
	set(test, "build", "good")
	q.must("owner", "PUT", "/repositories/tideboard/guards/main", map[string]any{"statuses": []string{}})
	q.git("switch", "-q", "main")
	q.write("docs/tides.md", "ebb\n") // the target moves
	q.git("push", "-q", q.remote("ida", "tideboard"), "main")
	q.must("owner", "PUT", "/repositories/tideboard/guards/main", map[string]any{"statuses": []string{"door", "build"}})
	merge(head, 409, "build state:bad") // what was tested isn't what would merge
	fresh := q.must("ida", "POST", pull+"/test-merge", nil)["test_merge"].(map[string]any)["commit"].(string)
	set(fresh, "door", "good")
	set(fresh, "build", "good")
	q.git("switch", "-q", "ebb")
	q.write("core/flow.c", "flow\n") // the head moves
	q.git("push", "-q", q.remote("ida", "tideboard"), "ebb")
	merge(head, 409, "look at it again")
	head = q.git("rev-parse", "ebb")
	merge(head, 409, "door state:not set")
	tested := q.must("ida", "POST", pull+"/test-merge", nil)["test_merge"].(map[string]any)["commit"].(string)
	set(tested, "door", "good")
	set(tested, "build", "good")
	if merged := merge(head, 200, "merged")["merged"]; merged != tested {
		t.Errorf("%v merged, not what was tested, %s", merged, tested)
	}
	merge(head, 409, "is merged")
	if tip := q.git("ls-remote", q.remote("ida", "tideboard"), "refs/heads/main"); !strings.HasPrefix(tip, tested) {
		t.Errorf("main is %s, not %s", tip, tested)
	}
}

// TestForks: a fork is its owner's alone, and its pull request brings its commits over.
func TestForks(t *testing.T) {
	q := newQuay(t, Options{})
	q.furnish()
	q.must("noor", "POST", "/repositories/tideboard/forks", nil)
	q.write("core/noor.c", "n\n")
	q.git("push", "-q", q.remote("noor", "noor/tideboard"), "HEAD:refs/heads/mine")
	p := q.must("noor", "POST", "/repositories/tideboard/pulls", map[string]any{"from": "noor/tideboard", "source": "mine", "title": "From a fork"})
	if p["head"] != q.git("rev-parse", "HEAD") {
		t.Errorf("the head is %v", p["head"])
	}
	if code, _, _ := q.call("noor", "PUT", fmt.Sprintf("/repositories/tideboard/commits/%v/statuses/door", p["head"]), map[string]any{"state": "good"}); code != 403 {
		t.Errorf("who forked sets statuses: %d", code)
	}
	q.write("core/noor.c", "nn\n")
	q.git("push", "-q", q.remote("noor", "noor/tideboard"), "HEAD:refs/heads/mine")
	if now := q.must("noor", "GET", "/repositories/tideboard/pulls/1", nil); now["head"] != q.git("rev-parse", "HEAD") {
		t.Errorf("after a push the head is %v", now["head"])
	}
}

// TestHooks: what happens is sent, signed, until it is taken.
func TestHooks(t *testing.T) {
	q := newQuay(t, Options{})
	q.furnish()
	var mu sync.Mutex
	told := make(chan string, 20)
	refused := false
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		body, _ := io.ReadAll(r.Body)
		mac := hmac.New(sha256.New, []byte("harbour"))
		mac.Write(body)
		if got := r.Header.Get(SignatureHeader); got != hex.EncodeToString(mac.Sum(nil)) {
			t.Errorf("signed as %s", got)
		}
		if !refused {
			refused = true
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		var said struct {
			Event    string
			Delivery int
		}
		json.Unmarshal(body, &said)
		if r.Header.Get("Slipway-Delivery") != fmt.Sprint(said.Delivery) {
			t.Errorf("the delivery is %s", r.Header.Get("Slipway-Delivery"))
		}
		told <- said.Event
	}))
	defer hook.Close()
	q.must("owner", "POST", "/repositories/tideboard/hooks", map[string]any{"address": hook.URL, "secret": "harbour", "events": []string{"pull.opened", "comment.made"}})
	q.must("ida", "POST", "/repositories/tideboard/pulls", map[string]any{"source": "ebb"})
	q.must("noor", "POST", "/repositories/tideboard/pulls/1/threads", map[string]any{"text": "Is it?"})
	got := map[string]bool{}
	for range 2 {
		select {
		case event := <-told:
			got[event] = true
		case <-time.After(20 * time.Second):
			t.Fatalf("told is %v alone", got)
		}
	}
	if !got["pull.opened"] || !got["comment.made"] {
		t.Errorf("told is %v", got)
	}
}

func TestRate(t *testing.T) {
	q := newQuay(t, Options{Rate: Rate{Calls: 3, In: time.Hour}})
	for range 3 {
		q.must("owner", "GET", "/me", nil)
	}
	if code, _, headers := q.call("owner", "GET", "/me", nil); code != 429 || headers.Get("Retry-After") != "3600" {
		t.Errorf("the fourth call: %d, Retry-After %s", code, headers.Get("Retry-After"))
	}
	if code, _, _ := q.call("", "GET", "/repositories", nil); code != 200 {
		t.Errorf("another's call: %d", code)
	}
	for text, want := range map[string]Rate{"60/1m": {60, time.Minute}, "1/100ms": {1, 100 * time.Millisecond}, "0/1m": {}, "x": {}, "5": {}, "5/": {}} {
		if got, err := ParseRate(text); got != want || (err == nil) != (want.Calls > 0) {
			t.Errorf("%s: %v %v", text, got, err)
		}
	}
}

// TestPage: what people write comes out as text.
func TestPage(t *testing.T) {
	q := newQuay(t, Options{})
	q.furnish()
	q.must("ida", "POST", "/repositories/tideboard/pulls", map[string]any{"source": "ebb", "title": "<script>alert(1)</script>"})
	head := q.git("rev-parse", "ebb")
	q.must("noor", "POST", "/repositories/tideboard/pulls/1/threads", map[string]any{"text": "<img src=x onerror=alert(2)> [x](javascript:alert(3)) **bold**\n<!-- hidden -->", "on": map[string]any{"commit": head, "side": "new", "path": "core/ebb.c", "first": 2, "last": 2}})
	q.must("ida", "PUT", "/repositories/tideboard/commits/"+head+"/statuses/door", map[string]any{"state": "bad", "text": "<b>", "link": "javascript:alert(4)"})
	reply, err := http.Get(q.address + "/see/tideboard/pulls/1")
	if err != nil {
		t.Fatal(err)
	}
	defer reply.Body.Close()
	text, _ := io.ReadAll(reply.Body)
	for _, bad := range []string{"<script>", "<img", `href="javascript:`, "hidden", "<b>&lt;", ": <b>"} {
		if strings.Contains(string(text), bad) {
			t.Errorf("the page has %q", bad)
		}
	}
	for _, good := range []string{"<strong>bold</strong>", "&lt;script&gt;", `<tr class="add">`, "core/ebb.c"} {
		if !strings.Contains(string(text), good) {
			t.Errorf("the page lacks %q", good)
		}
	}
}

func TestMarkdown(t *testing.T) {
	for text, want := range map[string]string{
		"": "", "a\nb\n\nc": "<p>a\nb</p><p>c</p>", "## Door `merge`": "<h2>Door <code>merge</code></h2>",
		"**bold** and **not": "<p><strong>bold</strong> and **not</p>",
		"a \\*b\\* size\\_t &lt;x&gt; &amp;lt; &x &nosuch;": "<p>a *b* size_t &lt;x&gt; &amp;lt; &amp;x &amp;nosuch;</p>",
		"`` a`b ``, `c":                     "<p><code>a`b</code>, `c</p>",
		"- one\n  more\n- **two**":          "<ul><li>one<br>more</li><li><strong>two</strong></li></ul>",
		"| a | b |\n|---|--:|\n| 1 | x<y |": "<table><tr><th>a</th><th>b</th></tr><tr><td>1</td><td>x&lt;y</td></tr></table>",
		"```\n<b>\n```\nafter":              "<pre>&lt;b&gt;</pre><p>after</p>", "```\nopen": "<pre>open</pre>",
		"says:\n\n    if (a)\n      b":                     "<p>says:</p><pre>if (a)\n  b\n</pre>",
		"<https://a.example/?b=\"c> <https://a.example/x>": "<p>&lt;https://a.example/?b=&#34;c&gt; <a href=\"https://a.example/x\">https://a.example/x</a></p>",
		"<script>alert(1)</script> [x](javascript:y)":      "<p>&lt;script&gt;alert(1)&lt;/script&gt; [x](javascript:y)</p>",
		"a\n<!-- zincdoor 1 -->":                           "<p>a</p>", "|": "<table><tr><th></th></tr></table>", "    ": "", "#": "<h2></h2>", "**": "<p>**</p>",
	} {
		if got := string(markdown(text)); got != want {
			t.Errorf("%q is %q, not %q", text, got, want)
		}
	}
}

func FuzzMarkdown(f *testing.F) {
	f.Add("## a\n\n| b | c |\n|---|\n\n- `d`\n  **e** <https://f.example>\n```\n&amp;\n")
	f.Fuzz(func(t *testing.T, text string) {
		out := string(markdown(text))
		for _, tag := range []string{"<script", "<img", "javascript:\"", "onerror=\""} {
			if strings.Contains(out, tag) {
				t.Errorf("%q gives %q", text, out)
			}
		}
		for _, tag := range []string{"strong", "code", "pre", "p", "ul", "li", "table", "tr", "td", "th", "h2", "a"} {
			if opened, closed := strings.Count(out, "<"+tag+">")+strings.Count(out, "<"+tag+" "), strings.Count(out, "</"+tag+">"); opened != closed {
				t.Errorf("%q opens %d %s and closes %d: %q", text, opened, tag, closed, out)
			}
		}
	})
}

// TestPaging: every thing of a list once, in order.
func TestPaging(t *testing.T) {
	q := newQuay(t, Options{})
	q.furnish()
	q.must("ida", "POST", "/repositories/tideboard/pulls", map[string]any{"source": "ebb"})
	for i := range 7 {
		q.must("noor", "POST", "/repositories/tideboard/pulls/1/threads", map[string]any{"text": fmt.Sprint("number ", i)})
	}
	var got []string
	path := "/repositories/tideboard/pulls/1/threads?most=3"
	for path != "" {
		_, answer, headers := q.call("", "GET", path, nil)
		for _, t := range answer["items"].([]any) {
			got = append(got, t.(map[string]any)["comments"].([]any)[0].(map[string]any)["text"].(string))
		}
		_, rest, _ := strings.Cut(headers.Get("Link"), "<")
		next, _, _ := strings.Cut(rest, ">")
		path = strings.TrimPrefix(next, "/"+Interface)
		if (path == "") != (answer["next"] == "") {
			t.Errorf("the link is %q, next is %v", path, answer["next"])
		}
	}
	if strings.Join(got, ",") != "number 0,number 1,number 2,number 3,number 4,number 5,number 6" {
		t.Errorf("listed are %v", got)
	}
}
