package main

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// quay is a running stand-in of a code host with the repository tideboard, and a clone of that.
type quay struct {
	*sandbox
	address string            // of the host
	tokens  map[string]string // by user
	data    string            // the host's folder
	recipe  string            // the file of its recipe
}

const keeper = "doorkeeper" // who sends reviews

// newQuay starts the stand-in with some options. main is guarded by the status of the door merge.
func newQuay(t *testing.T, options ...string) *quay {
	q := &quay{sandbox: repository(t), tokens: map[string]string{}, data: t.TempDir()}
	cmd := exec.Command(program, append([]string{"slipway", "--quiet", "--listen", "127.0.0.1:0", "--data", q.data}, options...)...)
	cmd.Env = q.environment()
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	q.address = strings.TrimSuffix(strings.Fields(line)[2], ",")
	q.furnish()
	return q
}

// furnish makes the users and the repository.
func (q *quay) furnish() {
	q.Helper()
	owner, err := os.ReadFile(filepath.Join(q.data, "owner.token"))
	if err != nil {
		q.Fatal(err)
	}
	q.tokens["owner"] = strings.TrimSpace(string(owner))
	for name, right := range map[string]string{keeper: "write", "ida": "write", "noor": "talk"} {
		q.tokens[name] = q.must("owner", "POST", "/users", map[string]any{"name": name, "right": right})["token"].(string)
	}
	q.must("owner", "POST", "/repositories", map[string]any{"name": "tideboard"})
	q.write(".zincdoor/policy.yaml", `zincdoor: 1
reports: {compiler: {file: build/r.txt, as: diagnostics, tool: gcc, clean: empty}}
doors:
  merge: {judges: branch, into: main, limits: [{count: new, severity: warning, most: 0}]}
  careful: {judges: branch, limits: [{count: new, severity: note, most: 0}]}
`)
	q.write(".gitignore", "build/\n")
	q.write("core/slack.c", lines(20))
	q.commit("Slack water")
	q.push("owner", "main")
	q.must("owner", "PUT", "/repositories/tideboard/guards/main", map[string]any{"statuses": []string{"zincdoor merge"}})
	recipe, _, _ := q.run("slipway", "--recipe")
	q.recipe = filepath.Join(q.TempDir(), "recipe.yaml")
	if err := os.WriteFile(q.recipe, []byte(recipe), 0o644); err != nil {
		q.Fatal(err)
	}
}

// call calls the interface as a user, until it is done: the stand-in may have been told to make trouble.
func (q *quay) call(user, method, path string, body any) (code int, answer map[string]any) {
	q.Helper()
	var last error
	for range 20 {
		var in io.Reader
		if body != nil {
			text, err := json.Marshal(body)
			if err != nil {
				q.Fatal(err)
			}
			in = bytes.NewReader(text)
		}
		r, err := http.NewRequest(method, q.address+"/slipway/1"+path, in)
		if err != nil {
			q.Fatal(err)
		}
		r.Header.Set("Slipway-Once", fmt.Sprintf("%x", sha256.Sum256(fmt.Append(nil, method, path, body))))
		r.Header.Set("Authorization", "Bearer "+q.tokens[user])
		reply, err := http.DefaultClient.Do(r)
		if last = err; err != nil {
			continue
		}
		text, err := io.ReadAll(reply.Body)
		reply.Body.Close()
		if last = err; err != nil || reply.StatusCode == http.StatusServiceUnavailable {
			continue
		}
		json.Unmarshal(text, &answer)
		return reply.StatusCode, answer
	}
	q.Fatalf("%s %s: %v", method, path, last)
	return 0, nil
}

// must is a call that is done.
func (q *quay) must(user, method, path string, body any) map[string]any {
	q.Helper()
	code, answer := q.call(user, method, path, body)
	if code >= 300 && code != http.StatusConflict {
		q.Fatalf("%s %s by %s: %d %v", method, path, user, code, answer)
	}
	return answer
}

// push pushes to the host as a user, with the token where no list of processes shows it.
func (q *quay) push(user string, what ...string) {
	q.Helper()
	cmd := exec.Command("git", append([]string{"-C", q.dir, "push", "-q", q.address + "/git/tideboard.git"}, what...)...)
	cmd.Env = append(q.environment(), "GIT_CONFIG_COUNT=1", "GIT_CONFIG_KEY_0=http.extraHeader", "GIT_CONFIG_VALUE_0=Authorization: Bearer "+q.tokens[user])
	if out, err := cmd.CombinedOutput(); err != nil {
		q.Fatalf("git push %v: %v\n%s", what, err, out)
	}
}

// propose pushes a branch and opens a pull request from it.
func (q *quay) propose(branch string) {
	q.Helper()
	q.push("ida", "+HEAD:refs/heads/"+branch)
	q.must("ida", "POST", "/repositories/tideboard/pulls", map[string]any{"title": "Ebb tables", "source": branch})
}

// send sends a review of the work tree's branch to pull request 1 as the keeper.
func (q *quay) send(args ...string) (out, errs string, code int) {
	q.Helper()
	return q.sendAs(keeper, append([]string{"--into", "main", "--door", "merge"}, args...)...)
}

func (q *quay) sendAs(user string, args ...string) (out, errs string, code int) {
	q.Helper()
	q.env = []string{"ZINCDOOR_TOKEN=" + q.tokens[user]}
	defer func() { q.env = nil }()
	out, errs, code = q.run(append([]string{"review", "send", "--host", q.recipe, "--address", q.address + "/slipway/1", "--repository", "tideboard", "--pull", "1", "--quiet"}, args...)...)
	for name, token := range q.tokens {
		if token != "" && strings.Contains(out+errs, token) {
			q.Errorf("the token of %s is in the output\n%s%s", name, out, errs)
		}
	}
	return out, errs, code
}

type anyThread struct {
	ID       int
	Resolved bool
	On       *struct {
		Commit, Path string
		First, Last  int
	}
	Comments []struct {
		ID           int
		Author, Text string
	}
}

func (q *quay) threads() (all []anyThread) {
	q.Helper()
	for after := 0; ; after += 100 {
		page := q.must("ida", "GET", fmt.Sprintf("/repositories/tideboard/pulls/1/threads?most=100&after=%d", after), nil)
		text, _ := json.Marshal(page["items"])
		var items []anyThread
		if err := json.Unmarshal(text, &items); err != nil {
			q.Fatal(err)
		}
		if all = append(all, items...); len(items) < 100 {
			return all
		}
	}
}

var anyMark = regexp.MustCompile(`\n*<!-- zincdoor [^\n]*-->`)

// shown is what the pull request shows, a line for each thread on lines, in order of their places; those of the summaries apart.
func (q *quay) shown() (threads, summaries []string) {
	q.Helper()
	head := q.must("ida", "GET", "/repositories/tideboard/pulls/1", nil)["head"].(string)
	for _, t := range q.threads() {
		var texts []string
		for _, c := range t.Comments {
			texts = append(texts, c.Author+": "+strings.Join(strings.Fields(anyMark.ReplaceAllString(c.Text, "")), " "))
		}
		text := strings.Join(texts, " | ")
		if t.On == nil {
			summaries = append(summaries, text)
			continue
		}
		line := fmt.Sprintf("%s:%d", t.On.Path, t.On.Last)
		if t.On.First < t.On.Last {
			line = fmt.Sprintf("%s:%d-%d", t.On.Path, t.On.First, t.On.Last)
		}
		if t.On.Commit != head {
			line += " (old)"
		}
		if t.Resolved {
			line += " resolved"
		}
		threads = append(threads, line+" "+text)
	}
	slices.Sort(threads)
	return threads, summaries
}

// statusOf is what the head's status of that name is.
func (q *quay) statusOf(commit, name string) string {
	q.Helper()
	for _, s := range q.must("ida", "GET", "/repositories/tideboard/commits/"+commit+"/statuses", nil)["items"].([]any) {
		if status := s.(map[string]any); status["name"] == name {
			return status["state"].(string)
		}
	}
	return ""
}

// expect checks what is shown on lines. Each is matched by its beginning.
func (q *quay) expect(when string, want ...string) {
	q.Helper()
	threads, _ := q.shown()
	ok := len(threads) == len(want)
	for i := 0; ok && i < len(want); i++ {
		ok = strings.HasPrefix(threads[i], want[i])
	}
	if !ok {
		q.Fatalf("%s, there is\n%s\nnot\n%s", when, strings.Join(threads, "\n"), strings.Join(want, "\n"))
	}
}

// ebb writes the file of the change: a function of 20 lines after some others, with some lines altered; and the compiler's report.
func (q *quay) ebb(name string, before int, altered map[int]string, warned ...int) {
	q.Helper()
	var text, report strings.Builder
	for i := range before {
		fmt.Fprintf(&text, "early %d;\n", i+1)
	}
	for i := range 20 {
		line := fmt.Sprintf("ebb %d;", i+1)
		if is, ok := altered[i+1]; ok {
			line = is
		}
		text.WriteString(line + "\n")
	}
	for _, n := range warned {
		report.WriteString(warn(name, before+n))
	}
	q.write(name, text.String())
	q.write("build/r.txt", report.String())
}

// threadAt finds a thread of the keeper by where it stands.
func (q *quay) threadAt(place string) anyThread {
	q.Helper()
	for _, t := range q.threads() {
		if t.On != nil && fmt.Sprintf("%s:%d", t.On.Path, t.On.Last) == place && t.Comments[0].Author == keeper {
			return t
		}
	}
	q.Fatalf("there is no thread at %s", place)
	return anyThread{}
}

func (q *quay) threadPath(t anyThread) string {
	return fmt.Sprintf("/repositories/tideboard/pulls/1/threads/%d", t.ID)
}

const (
	says = keeper + ": **warning** `-Wunused` unused"
	gone = keeper + ": **Gone** from the latest verdict."
)

// TestPullRequest: the life of a pull request, with each kind of trouble that a host makes.
func TestPullRequest(t *testing.T) {
	for name, options := range map[string][]string{"no trouble": nil, "slow": {"--trouble", "slow"}, "503": {"--trouble", "503"}, "cut": {"--trouble", "cut"}, "all": {"--trouble", "slow,503,cut"}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if name != "all" {
				wholeRun(t)
			}
			q := newQuay(t, options...)
			again := func(when string) { // the same once more changes nothing
				t.Helper()
				if out, errs, _ := q.send(); !strings.Contains(out, "nothing to do") {
					t.Fatalf("%s, sent again: %s%s", when, out, errs)
				}
			}
			step := func(when string, code int, want ...string) {
				t.Helper()
				head := q.commit(when)
				q.push("ida", "+HEAD:refs/heads/ebb")
				if out, errs, got := q.send(); got != code {
					t.Fatalf("%s: exit code %d\n%s%s", when, got, out, errs)
				}
				q.expect(when, want...)
				if is := q.statusOf(head, "zincdoor merge"); is != map[int]string{0: "good", 1: "bad", 2: "unknown"}[code] {
					t.Fatalf("%s: the status is %q", when, is)
				}
				again(when)
			}
			q.git("switch", "-q", "-c", "ebb")
			q.ebb("core/ebb.c", 0, nil, 3, 8, 15)
			q.commit("Begin")
			q.propose("ebb")
			step("posted", 1, "core/ebb.c:15 "+says, "core/ebb.c:3 "+says, "core/ebb.c:8 "+says)
			first := q.threadAt("core/ebb.c:8")

			q.ebb("core/ebb.c", 5, nil, 3, 8, 15)
			step("moved", 1, "core/ebb.c:13 "+says, "core/ebb.c:20 "+says, "core/ebb.c:8 "+says)
			q.git("mv", "core/ebb.c", "core/flow.c")
			q.ebb("core/flow.c", 5, map[int]string{8: "ebb 8 and some more;"}, 3, 8, 15)
			step("renamed, a line altered", 1, "core/flow.c:13 "+says, "core/flow.c:20 "+says, "core/flow.c:8 "+says)
			if is := q.threadAt("core/flow.c:13"); is.ID != first.ID || !strings.Contains(is.Comments[0].Text, markID(first.Comments[0].Text)) {
				t.Fatalf("another thread is at the altered line, or has another id: %+v, was %+v", is, first)
			}

			q.ebb("core/flow.c", 5, map[int]string{8: "ebb 8 and some more;"}, 3, 8)
			step("one fixed", 1, "core/flow.c:13 "+says, "core/flow.c:20 (old) resolved "+gone, "core/flow.c:8 "+says)
			q.ebb("core/flow.c", 5, map[int]string{8: "ebb 8 and some more;"}, 3, 8, 15)
			step("it came back", 1, "core/flow.c:13 "+says, "core/flow.c:20 "+says, "core/flow.c:8 "+says)

			os.Remove(filepath.Join(q.dir, "build/r.txt"))
			q.write("docs/tides.md", "ebb\n")
			step("no report", 2, "core/flow.c:13 (old) "+says, "core/flow.c:20 (old) "+says, "core/flow.c:8 (old) "+says)
			q.ebb("core/flow.c", 5, map[int]string{8: "ebb 8 and some more;"}, 3, 8, 15)
			q.write("docs/tides.md", "ebb and flow\n")
			step("a report again", 1, "core/flow.c:13 "+says, "core/flow.c:20 "+says, "core/flow.c:8 "+says)

			// What people do stays.
			third := q.threadAt("core/flow.c:8")
			q.must("noor", "POST", q.threadPath(third)+"/comments", map[string]any{"text": "Is it?"})
			q.must("ida", "PATCH", q.threadPath(third), map[string]any{"resolved": true})
			q.must("noor", "POST", "/repositories/tideboard/pulls/1/threads", map[string]any{
				"on": map[string]any{"commit": q.git("rev-parse", "HEAD"), "side": "new", "path": "core/flow.c", "first": 9, "last": 9}, "text": "A quote: " + third.Comments[0].Text})
			q.must("ida", "PATCH", q.threadPath(first), map[string]any{"text": strings.Replace(q.threadAt("core/flow.c:13").Comments[0].Text, "unused", "unused, really", 1)})
			q.must("ida", "DELETE", q.threadPath(q.threadAt("core/flow.c:20")), nil)
			const edited, answered = keeper + ": **warning** `-Wunused, really` unused", says + " | noor: Is it?"
			if out, errs, code := q.send(); code != 1 {
				t.Fatalf("%d\n%s%s", code, out, errs)
			}
			q.expect("people had a say", "core/flow.c:13 "+edited, "core/flow.c:8 resolved "+answered, "core/flow.c:9 noor: A quote:")
			if _, summaries := q.shown(); len(summaries) != 1 || !strings.Contains(summaries[0], "line 20") {
				t.Fatalf("the summary lacks what has no comment any more: %q", summaries)
			}
			again("people had a say")

			// Rebased, and main has moved.
			q.git("switch", "-q", "main")
			q.write("core/slack.c", "early\n"+lines(20))
			main := q.commit("Slack water, early")
			q.push("owner", "HEAD:refs/heads/side")
			q.git("switch", "-q", "ebb")
			q.git("rebase", "-q", "main")
			q.git("reset", "-q", "--soft", main)
			q.ebb("core/flow.c", 7, map[int]string{8: "ebb 8 and some more;"}, 3, 8)
			step("rebased", 1, "core/flow.c:13 (old) "+edited, "core/flow.c:8 (old) resolved "+answered, "core/flow.c:9 (old) noor")

			head := q.git("rev-parse", "HEAD")
			if code, answer := q.call("ida", "POST", "/repositories/tideboard/pulls/1/merge", map[string]any{"head": head}); code != http.StatusConflict {
				t.Fatalf("a shut door lets it be merged: %d %v", code, answer)
			}
			q.ebb("core/flow.c", 7, map[int]string{8: "ebb 8 and some more;", 3: "fixed;"})
			step("all fixed", 0, "core/flow.c:13 (old) resolved "+edited, "core/flow.c:8 (old) resolved "+gone+" It was: **warning** `-Wunused` unused | noor: Is it?", "core/flow.c:9 (old) noor")
			head = q.git("rev-parse", "HEAD")
			if answer := q.must("ida", "POST", "/repositories/tideboard/pulls/1/merge", map[string]any{"head": head}); answer["state"] != "merged" && answer["problem"] != "the pull request is merged" {
				t.Fatalf("an open door doesn't let it be merged: %v", answer)
			}
		})
	}
}

// markID is the id in a comment's mark.
func markID(text string) string {
	_, mark, _ := strings.Cut(text, "<!-- zincdoor 1 comment merge ")
	id, _, _ := strings.Cut(mark, " ")
	return id
}

// TestTestMerge: what is judged as the merge with the target's present tip gets the status, and the comments come to the head's lines.
func TestTestMerge(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	q.git("switch", "-q", "-c", "ebb")
	q.ebb("core/ebb.c", 0, nil, 3)
	q.write("core/slack.c", lines(20)+"late;\n")
	q.commit("Begin")
	q.propose("ebb")
	head := q.git("rev-parse", "HEAD")
	q.git("switch", "-q", "main")
	q.must("owner", "PUT", "/repositories/tideboard/guards/main", map[string]any{"statuses": []string{}})
	q.write("core/slack.c", "early;\n"+lines(20))
	q.commit("Early")
	q.push("owner", "main")
	q.must("owner", "PUT", "/repositories/tideboard/guards/main", map[string]any{"statuses": []string{"zincdoor merge"}})
	merge := q.must("ida", "POST", "/repositories/tideboard/pulls/1/test-merge", nil)["test_merge"].(map[string]any)["commit"].(string)
	q.git("fetch", "-q", q.address+"/git/tideboard.git", "refs/pulls/1/merge")
	q.git("checkout", "-q", "FETCH_HEAD")
	q.write("build/r.txt", warn("core/ebb.c", 3)+warn("core/slack.c", 22))
	if out, errs, code := q.send(); code != 1 {
		t.Fatalf("%d\n%s%s", code, out, errs)
	}
	q.expect("judged as a merge", "core/ebb.c:3 "+says, "core/slack.c:21 "+says)
	if is, of := q.statusOf(merge, "zincdoor merge"), q.statusOf(head, "zincdoor merge"); is != "bad" || of != "" {
		t.Errorf("the merge's status is %q, the head's %q", is, of)
	}
	if out, errs, _ := q.send(); !strings.Contains(out, "nothing to do") {
		t.Errorf("sent again: %s%s", out, errs)
	}
	q.write("build/r.txt", "")
	if out, errs, code := q.send(); code != 0 {
		t.Fatalf("without findings: %d\n%s%s", code, out, errs)
	}
	q.expect("without findings", "core/ebb.c:3 resolved "+gone, "core/slack.c:21 resolved "+gone)
	if merged := q.must("ida", "POST", "/repositories/tideboard/pulls/1/merge", map[string]any{"head": head})["merged"]; merged != merge {
		t.Errorf("%v was merged, not what was judged, %s", merged, merge)
	}

	// A verdict on another commit than what is proposed sets that one's status alone.
	q.git("checkout", "-q", "main")
	q.git("switch", "-q", "-c", "aside")
	q.write("core/aside.c", lines(3))
	other := q.commit("Aside")
	q.push("ida", "HEAD:refs/heads/aside")
	if out, errs, code := q.send(); code != 0 || !strings.Contains(errs, "only the status of that is set") || strings.Contains(out, "comment") {
		t.Errorf("on another commit: %d\n%s%s", code, out, errs)
	}
	if is := q.statusOf(other, "zincdoor merge"); is != "good" {
		t.Errorf("its status is %q", is)
	}
}

// TestManyFindings: a comment for each of the worst, and one that has the rest.
func TestManyFindings(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	q.git("switch", "-q", "-c", "ebb")
	q.write("core/ebb.c", lines(3000))
	var report strings.Builder
	for i := range 1500 {
		report.WriteString(warn("core/ebb.c", 2*i+1))
	}
	report.WriteString("core/ebb.c:3000:1: error: worst [-Werror]\n")
	q.write("build/r.txt", report.String())
	q.commit("Begin")
	q.propose("ebb")
	if out, errs, code := q.send(); code != 1 || !strings.Contains(out, "and 22 more") {
		t.Fatalf("%d\n%s%s", code, out, errs)
	}
	threads, summaries := q.shown()
	if len(threads) != 50 || !slices.ContainsFunc(threads, func(s string) bool { return strings.HasPrefix(s, "core/ebb.c:3000 doorkeeper: **error**") }) {
		t.Errorf("there are %d comments: %v", len(threads), threads)
	}
	if len(summaries) != 1 || !strings.Contains(summaries[0], "left out to stay within") || len(q.threads()[50].Comments[0].Text) > 65_000 {
		t.Errorf("the summary: %.300q", summaries)
	}
	q.send("--most", "60")
	if threads, _ := q.shown(); len(threads) != 60 {
		t.Errorf("with --most 60 there are %d", len(threads))
	}
}

// TestRights: a token that may not do everything does what it may, and says what it leaves out.
func TestRights(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	q.tokens["eel"] = q.must("owner", "POST", "/users", map[string]any{"name": "eel", "right": "look"})["token"].(string)
	q.git("switch", "-q", "-c", "ebb")
	q.ebb("core/ebb.c", 0, nil, 3, 8)
	head := q.commit("Begin")
	q.propose("ebb")
	into := []string{"--into", "main", "--door", "merge"}
	for _, c := range []struct {
		user, says string
		threads    int
	}{{"eel", "may not do create-comment", 0}, {"noor", "may not do set-status", 2}} {
		out, errs, code := q.sendAs(c.user, into...)
		if code != 1 || !strings.Contains(errs, c.says) {
			t.Errorf("%s: %d\n%s%s", c.user, code, out, errs)
		}
		if threads, _ := q.shown(); len(threads) != c.threads {
			t.Errorf("%s: there are %v", c.user, threads)
		}
		if is := q.statusOf(head, "zincdoor merge"); is != "" {
			t.Errorf("%s: the status is %s", c.user, is)
		}
	}
	q.tokens["nobody"] = ""
	if out, errs, code := q.sendAs("nobody", into...); code != 1 || !strings.Contains(errs, "there is no token, so nothing is sent") {
		t.Errorf("without a token: %d\n%s%s", code, out, errs)
	}
	delete(q.tokens, "nobody")
	file := filepath.Join(t.TempDir(), "token")
	os.WriteFile(file, []byte(q.tokens[keeper]+"\n"), 0o600)
	q.git("config", "zincdoor.tokenCommand", "cat "+file)
	if out, errs, code := q.run("review", "send", "--host", q.recipe, "--address", q.address+"/slipway/1", "--repository", "tideboard", "--pull", "1", "--into", "main", "--door", "merge"); code != 1 || q.statusOf(head, "zincdoor merge") != "bad" {
		t.Errorf("with the token of a command: %d\n%s%s", code, out, errs)
	}
	if out, errs, code := q.sendAs(keeper, append(into, "--pull", "9")...); code != 2 || !strings.Contains(errs, "there is no pull request 9") {
		t.Errorf("without a pull request: %d\n%s%s", code, out, errs)
	}
}

// TestTwoDoors: each door has its own comments and its own status, from a verdict in a file too; a dry run changes nothing.
func TestTwoDoors(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	q.git("switch", "-q", "-c", "ebb")
	q.ebb("core/ebb.c", 0, nil, 3)
	head := q.commit("Begin")
	q.propose("ebb")
	q.write("build/r.txt", warn("core/ebb.c", 3)+"core/ebb.c:9:1: note: look\n")
	if out, errs, code := q.send("--dry-run"); code != 1 || strings.Count(out, q.address) != 3 || !strings.Contains(out, "comment    core/ebb.c:3\n             POST ") {
		t.Errorf("a dry run: %d\n%s%s", code, out, errs)
	}
	q.expect("after a dry run")
	q.send()
	for _, door := range []string{"careful", "merge"} {
		file := filepath.Join(q.TempDir(), door+".json")
		q.run("gate", "--into", "main", "--door", door, "--write", "json="+file)
		out, errs, code := q.sendAs(keeper, "--verdict", file, "--link", "https://boards.example/"+door)
		if code != 1 || door == "merge" && strings.Contains(out, "comment") {
			t.Errorf("%s: %d\n%s%s", door, code, out, errs)
		}
		if is := q.statusOf(head, "zincdoor "+door); is != "bad" {
			t.Errorf("the status of %s is %q", door, is)
		}
	}
	q.expect("two doors", "core/ebb.c:3 "+says, "core/ebb.c:3 "+says)
	q.write("build/r.txt", "")
	q.send()
	q.expect("one of them open", "core/ebb.c:3 "+says, "core/ebb.c:3 resolved "+gone)
}

// TestReviewCalls: calls that make no sense.
func TestReviewCalls(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("a.c", "a\n")
	s.commit("A")
	recipe := filepath.Join(t.TempDir(), "host.yaml")
	os.WriteFile(recipe, []byte("zincdoor: host/1\nname: q\naddress: http://127.0.0.1:9\nacts:\n  read-pull: {call: 'GET /{pull}', fields: {head: $.h}}\n  set-status: {call: PUT /s}\n"), 0o644)
	os.WriteFile(recipe+".bad.yaml", []byte("zincdoor: host/1\nname: q\n"), 0o644)
	file := filepath.Join(t.TempDir(), "v.json")
	os.WriteFile(file, []byte(`{"zincdoor": "verdict/1", "outcome": "open", "change": {"head": "index"}}`), 0o644)
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"review send", 3, "name the pull request: --pull N"},
		{"review send --pull 1 --tree HEAD", 3, "name the code host"},
		{"review send --pull 1 --host quay --tree HEAD", 3, "the policy has no hosts"},
		{"review send --pull 1 --host no.yaml --tree HEAD", 3, "the host recipe can't be read"},
		{"review send --pull 1 --host " + recipe + ".bad.yaml --tree HEAD", 3, "the host recipe can't be used:\n  " + recipe + ".bad.yaml:1:1: host needs the key"},
		{"review send --pull 1 --host " + recipe + " --verdict no.json", 3, "gate writes one with --write json=FILE"},
		{"review send --pull 1 --host " + recipe + " --verdict " + recipe, 3, "gate writes one with --write json=FILE"},
		{"review send --pull 1 --host " + recipe + " --verdict " + file, 3, "a pull request proposes commits"},
		{"review send --pull 1 --host " + recipe + " --verdict " + file + " x", 3, "no change is named"},
		{"review send --pull 1 --host " + recipe + " --worktree", 3, "no option --worktree"},
		{"review send --pull 1 --host " + recipe + " --tree", 3, "a pull request proposes commits"},
		{"review send --pull 1 --host " + recipe + " --tree HEAD --set a", 3, "--set takes NAME=VALUE"},
		{"review send --pull 1 --host " + recipe + " --tree HEAD --set a=b", 3, `no variable "a"`},
		{"review send --pull 1 --host " + recipe + " --tree HEAD --set token=b", 3, `no variable "token"`},
		{"review send --pull 1 --host " + recipe + " --tree HEAD --ca no.pem", 3, "the certificates can't be read"},
		{"review send --pull 1 --host " + recipe + " --tree HEAD --token-from NO_SUCH", 3, "NO_SUCH is empty or not set"},
		{"review send --pull 1 --host " + recipe + " --tree HEAD --most -1", 3, "0 or more"},
		{"review send --pull 1 --host " + recipe + " --tree HEAD", 2, "connection refused"},
		{"review try --pull 1 --host " + recipe, 2, "connection refused"},
		{"slipway", 3, "--data DIR"},
		{"slipway --data " + file, 2, "can't be opened"},
		{"slipway --data " + t.TempDir() + " --trouble rain", 2, "slow, 503, cut"},
		{"slipway --data " + t.TempDir() + " --rate fast", 3, "60/1m"},
		{"slipway --data " + t.TempDir() + " --listen 256.0.0.1:1", 2, "--listen"},
		{"demo --pull-request --keep x", 3, "can't go together"},
	} {
		out, errs, code := s.run(strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%s: %d\n%s%s, want %d %s", c.args, code, out, errs, c.code, c.says)
		}
	}
	// The command of the user's configuration gives the token.
	s.git("config", "zincdoor.tokenCommand", "false")
	if _, errs, code := s.run("review", "send", "--pull", "1", "--host", recipe, "--tree", "HEAD"); code != 3 || !strings.Contains(errs, "zincdoor.tokenCommand: false") {
		t.Errorf("a command that fails: %d %s", code, errs)
	}
	// A policy that the change itself brings doesn't say where a token goes.
	s.git("switch", "-q", "-c", "ebb")
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\nhosts: {q: {address: 'http://127.0.0.1:9', acts: {read-pull: {call: 'GET /{pull}', fields: {head: $.h}}, set-status: {call: PUT /s}}}}\ndoors: {d: {judges: branch, limits: [{count: new, most: 0}]}}\n")
	s.commit("Policy")
	s.env = []string{"ZINCDOOR_TOKEN=tok-en-1"}
	s.git("config", "--unset", "zincdoor.tokenCommand")
	if _, errs, code := s.run("review", "send", "--pull", "1", "--host", "q", "--into", "main"); code != 3 || !strings.Contains(errs, "can't say where a token goes") {
		t.Errorf("a recipe of the change itself: %d %s", code, errs)
	}
	if _, errs, code := s.run("review", "send", "--pull", "1", "--host", "q", "--into", "main", "--policy", "HEAD:.zincdoor/policy.yaml"); code != 2 || !strings.Contains(errs, "connection refused") {
		t.Errorf("a recipe of a named policy: %d %s", code, errs)
	}
}

// TestPullRequestDemo: it ends well, within its time, and leaves nothing.
func TestPullRequestDemo(t *testing.T) {
	t.Parallel()
	s := &sandbox{T: t, dir: t.TempDir()}
	s.env = []string{"TMPDIR=" + s.dir}
	out, errs, code := s.run("demo", "--pull-request")
	if code != 0 || !strings.Contains(out, "merge refused: main is guarded") || !strings.Contains(out, "merged as") {
		t.Fatalf("%d\n%s%s", code, out, errs)
	}
	if left, _ := os.ReadDir(s.dir); len(left) > 0 {
		t.Errorf("it leaves %v", left)
	}
}

// TestFreshClones: where each run has a clone of its own, without the commits that were pushed over, comments are known again; a host
// with a budget of calls is waited for; and a comment may be as long as the host allows.
func TestFreshClones(t *testing.T) {
	t.Parallel()
	q := newQuay(t, "--rate", "12/1s")
	q.git("switch", "-q", "-c", "ebb")
	q.ebb("core/ebb.c", 0, nil, 3, 8, 15)
	q.write("build/r.txt", q.read("build/r.txt")+"core/ebb.c:18:1: warning: "+strings.Repeat("long ", 30_000)+"[-Wlong]\n")
	q.commit("Begin")
	q.propose("ebb")
	fresh := func() *quay {
		clone := *q
		clone.sandbox = &sandbox{T: t, dir: filepath.Join(t.TempDir(), "clone")}
		q.git("clone", "-q", q.address+"/git/tideboard.git", clone.dir)
		clone.git("switch", "-q", "ebb")
		clone.write("build/r.txt", q.read("build/r.txt"))
		return &clone
	}
	if out, errs, code := fresh().send(); code != 1 {
		t.Fatalf("%d\n%s%s", code, out, errs)
	}
	const long = keeper + ": **warning** `-Wlong` long long"
	q.expect("posted", "core/ebb.c:15 "+says, "core/ebb.c:18 "+long, "core/ebb.c:3 "+says, "core/ebb.c:8 "+says)
	id := q.threadAt("core/ebb.c:8").ID
	q.ebb("core/ebb.c", 2, map[int]string{8: "ebb eight;", 15: "ebb fifteen;", 18: "ebb;"}, 3, 8, 15)
	q.git("add", "-A")
	q.git("commit", "-q", "--amend", "-m", "Pushed over")
	q.push("ida", "+HEAD:refs/heads/ebb")
	if out, errs, code := fresh().send(); code != 1 {
		t.Fatalf("%d\n%s%s", code, out, errs)
	}
	q.expect("pushed over", "core/ebb.c:10 "+says, "core/ebb.c:17 "+says, "core/ebb.c:18 (old) resolved "+gone, "core/ebb.c:5 "+says)
	if is := q.threadAt("core/ebb.c:10").ID; is != id {
		t.Errorf("the thread at the edited line is another one")
	}
}
