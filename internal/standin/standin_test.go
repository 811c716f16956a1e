package standin

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/demo"
	"agonometer/internal/core/task"
)

// serve starts the model service with these models, and no pauses.
func serve(t *testing.T, s *Service) string {
	if s.Playbooks == nil {
		s.Playbooks = demo.Playbooks()
	}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	return server.URL + "/v1"
}

// always is a model that finds one solution.
func always(patch string) []Model {
	way := []Way{{patch, 1}}
	return []Model{{Name: "spring-tide", Ways: map[Style][]Way{Careful: way, Hasty: way, Sprawling: way}}}
}

// Every way of every model applies to the repository that its task names, and
// leaves something that a reviewer would take for a change.
func TestEveryPlaybookFitsItsTask(t *testing.T) {
	dir := t.TempDir()
	git, err := exec.LookPath("git")
	require.NoError(t, err)
	require.NoError(t, demo.Unpack(t.Context(), dir, "/bin/true", "http://127.0.0.1:1/v1", git))
	books, err := Playbooks(demo.Playbooks())
	require.NoError(t, err)
	require.Len(t, books, 7)
	for _, book := range books {
		if book.Name == "trial" { // no task of the demo: the trial bout of contender check, tried there
			continue
		}
		file := filepath.Join(dir, "tasks", book.Name+".md")
		source, err := os.ReadFile(file)
		require.NoError(t, err)
		one, doc := task.Parse(file, file, source, named(t, file, source))
		require.Empty(t, doc.Problems)
		for _, patch := range []string{"careful", "lucky", "hasty", "sprawling"} {
			t.Run(book.Name+"/"+patch, func(t *testing.T) {
				work := filepath.Join(t.TempDir(), "w")
				out, err := exec.Command(git, "clone", "-q", "--branch", one.StartCommit, one.RepositoryAddress(), work).CombinedOutput()
				require.NoError(t, err, string(out))
				c := Characters()[1] // runs no tests
				c.Streams = patch == "lucky"
				var said bytes.Buffer
				run := Run{Character: c, Brief: one.Brief, Seed: 1, Dir: work, Out: &said, Service: serve(t, &Service{Models: always(patch)}), Model: "spring-tide", Home: t.TempDir()}
				require.NoError(t, run.Do(t.Context()))
				assert.Contains(t, said.String(), "looked at")
				if one.Kind == task.Question {
					assert.Regexp(t, `[a-z]+\.(go|js):[0-9]+`, said.String())
					return
				}
				closing := func(name, otherwise string) string {
					if text, err := fs.ReadFile(demo.Playbooks(), book.Name+"/"+patch+name); err == nil {
						return string(text)
					}
					return otherwise
				}
				assert.Contains(t, said.String(), closing(".closing", "done."))
				// A later round, with words that are no brief: it knows what it was at.
				run.Brief = "This is not yet right."
				require.NoError(t, run.Do(t.Context()))
				assert.Contains(t, said.String(), closing("-again.closing", "looking at what I made again"))
				changed, err := exec.Command(git, "-C", work, "status", "--porcelain").Output()
				require.NoError(t, err)
				assert.NotEmpty(t, changed)
			})
		}
	}
}

// named reads what a task file names.
func named(t *testing.T, file string, source []byte) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	files, folders := task.Names(file, source)
	for _, dir := range folders {
		require.NoError(t, filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				files = append(files, name)
			}
			return err
		}))
	}
	for _, name := range files {
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		out[name] = data
	}
	return out
}

func TestTheSameSeedGivesTheSamePlan(t *testing.T) {
	m := Models()[0]
	spins, patches := 0, map[string]int{}
	for seed := range uint64(2000) {
		p := m.Decide(Hasty, seed)
		assert.Equal(t, p, m.Decide(Hasty, seed))
		if p.Spins {
			spins++
		}
		patches[p.Patch]++
	}
	assert.InDelta(t, 2000*m.Spins, spins, 60)
	assert.InDelta(t, 1000, patches["hasty"], 120)
	_, err := Find("albatross")
	assert.ErrorContains(t, err, "turnstone, sanderling, whimbrel")
}

// A tool that is refused asks again, or falls back to a smaller model; one that
// makes no headway goes on until it is ended.
func TestRefusalsAndHeadway(t *testing.T) {
	limited := Models()
	for i := range limited {
		limited[i].Spins, limited[i].Think, limited[i].Word = 0, [2]time.Duration{}, 0
	}
	find := func(name string) Character { c, err := Find(name); require.NoError(t, err); return c }
	for name, want := range map[string]string{"turnstone": "", "sanderling": "falling back to ebb-tide"} {
		var out bytes.Buffer
		s := &Service{Models: limited, Refuses: 1, Scale: 1}
		require.NoError(t, Run{Character: find(name), Brief: "the fish pier: how deep under the keel", Dir: t.TempDir(), Out: &out, Service: serve(t, s), Model: "spring-tide"}.Do(t.Context()))
		assert.Contains(t, out.String(), "spring-tide is refused: the allowance of requests per minute")
		assert.Contains(t, out.String(), want)
		assert.Regexp(t, `"used":\{"cached":\d+,"input":\d+`, out.String())
	}
	spinning := always("hasty")
	spinning[0].Spins, spinning[0].Think = 1, [2]time.Duration{time.Millisecond, 2 * time.Millisecond}
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	var out bytes.Buffer
	err := Run{Character: find("sanderling"), Brief: "an export with a small heap", Dir: t.TempDir(), Out: &out, Service: serve(t, &Service{Models: spinning, Scale: 1}), Model: "spring-tide"}.Do(ctx)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Contains(t, out.String(), "let me think about this once more")
}

// The service speaks to anyone who speaks its shape.
func TestTheModelService(t *testing.T) {
	s := &Service{PerMinute: 2}
	base := serve(t, s)
	ask := func(body string) (*http.Response, string) {
		resp, err := http.Post(base+"/chat/completions", "application/json", strings.NewReader(body))
		require.NoError(t, err)
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return resp, string(text)
	}
	hello := `{"model":"king-tide","seed":3,"messages":[{"role":"user","content":"paint the pier"}]}`
	resp, text := ask(hello)
	assert.Equal(t, 200, resp.StatusCode)
	assert.Contains(t, text, `"model":"neap-tide"`, "it replies under another's name")
	assert.Contains(t, text, "I do not know what to do about this.")
	_, again := ask(hello)
	assert.Equal(t, text, again, "the same seed, the same answer")
	resp, text = ask(hello)
	assert.Equal(t, 429, resp.StatusCode)
	assert.NotEmpty(t, resp.Header.Get("Retry-After"))
	assert.Contains(t, text, "rate_limit")
	s.Outage(true)
	resp, _ = ask(hello)
	assert.Equal(t, 503, resp.StatusCode)
	on, err := http.Post(strings.TrimSuffix(base, "/v1")+"/outage", "application/json", strings.NewReader(`{"on":false}`))
	require.NoError(t, err)
	on.Body.Close()
	for body, status := range map[string]int{"{": 400, `{"model":"full-tide","messages":[{}]}`: 404, `{"model":"ebb-tide","messages":[{"role":"system"}]}`: 500} {
		resp, _ = ask(body)
		assert.Equal(t, status, resp.StatusCode, body)
	}
	list, err := http.Get(base + "/models")
	require.NoError(t, err)
	defer list.Body.Close()
	names, _ := io.ReadAll(list.Body)
	assert.Contains(t, string(names), "spring-tide")

	// Caching shows in the counts: what an earlier request held.
	talk := []message{{Role: "user", Content: strings.Repeat("fish pier, under the keel ", 40)}, {Role: "assistant", Content: "x"}, {Role: "tool", Content: "y"}}
	u := count(&request{Messages: talk}, &message{}, &Models()[1])
	assert.Positive(t, u.Details.Cached)
	assert.Less(t, u.Details.Cached, u.Prompt)
	assert.Zero(t, count(&request{Messages: talk[:1]}, &message{}, &Models()[1]).Details.Cached)
}
