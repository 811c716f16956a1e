package service_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/service"
)

type call struct {
	method, path, body string
	header             http.Header
	host               string
}

// do sends a raw request; without headers it carries the token.
func do(t *testing.T, s *service.Server, in call) (*http.Response, string) {
	t.Helper()
	if in.method == "" {
		in.method = http.MethodGet
	}
	req, err := http.NewRequestWithContext(t.Context(), in.method, s.URL()+in.path, strings.NewReader(in.body))
	require.NoError(t, err)
	if in.header == nil {
		in.header = http.Header{"Authorization": {"Bearer " + s.Token()}}
	}
	req.Header = in.header
	req.Host = in.host
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res, string(text)
}

func TestStrangersAreRefused(t *testing.T) {
	s, _ := start(t, t.TempDir())
	bearer := func(token string) http.Header { return http.Header{"Authorization": {"Bearer " + token}} }
	cases := []struct {
		name   string
		call   call
		status int
	}{
		{"no token", call{path: "/api/v1/contests", header: http.Header{}}, 401},
		{"wrong token", call{path: "/api/v1/contests", header: bearer("x")}, 401},
		{"empty token", call{path: "/api/v1/contests", header: bearer("")}, 401},
		{"wrong cookie", call{path: "/api/v1/contests", header: http.Header{"Cookie": {"agonometer_00000000=a.b"}}}, 401},
		{"foreign host", call{path: "/api/v1/contests", host: "port.example"}, 403},
		{"foreign host with our port", call{path: "/", host: "port.example:7117"}, 403},
		{"foreign origin", call{method: "POST", path: "/api/v1/prune", header: http.Header{"Authorization": {"Bearer " + s.Token()}, "Origin": {"http://port.example"}}}, 403},
		{"origin null", call{path: "/api/v1/contests", header: http.Header{"Authorization": {"Bearer " + s.Token()}, "Origin": {"null"}}}, 403},
		{"used-up code", call{method: "POST", path: "/api/v1/session", body: `{"code":"x"}`, header: http.Header{}}, 403},
		{"right", call{path: "/api/v1/contests"}, 200},
		{"own origin", call{path: "/api/v1/contests", header: http.Header{"Authorization": {"Bearer " + s.Token()}, "Origin": {s.URL()}}}, 200},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			res, body := do(t, s, c.call)
			assert.Equal(t, c.status, res.StatusCode, body)
			if c.status >= 400 {
				assert.Equal(t, "application/problem+json", res.Header.Get("Content-Type"))
				assert.NotContains(t, body, s.Token())
			}
		})
	}
}

func TestTokenIsTheOwnersAlone(t *testing.T) {
	data := t.TempDir()
	s, _ := start(t, data)
	st, err := os.Stat(filepath.Join(data, "token"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	token := s.Token()
	require.NoError(t, s.Close())
	again, _ := start(t, data)
	assert.Equal(t, token, again.Token(), "the token is made once")
}

func TestALinkSignsInOnce(t *testing.T) {
	s, c := start(t, t.TempDir())
	link, err := c.SignInLink(t.Context())
	require.NoError(t, err)
	_, code, _ := strings.Cut(link.URL, "#")
	body, err := json.Marshal(map[string]string{"code": code})
	require.NoError(t, err)
	res, _ := do(t, s, call{method: "POST", path: "/api/v1/session", body: string(body), header: http.Header{}})
	require.Equal(t, 204, res.StatusCode)
	cookie := res.Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	res, _ = do(t, s, call{path: "/api/v1/contests", header: http.Header{"Cookie": {cookie.Name + "=" + cookie.Value}}})
	assert.Equal(t, 200, res.StatusCode)
	res, _ = do(t, s, call{method: "POST", path: "/api/v1/session", body: string(body), header: http.Header{}})
	assert.Equal(t, 403, res.StatusCode)
}

func TestBadRequestsGetProblems(t *testing.T) {
	p := newPort(t, "", map[string]string{"good": "true"})
	s, c := start(t, t.TempDir())
	id := finish(t, c, begin(t, c, p)).ID
	broken := p.bundle()
	broken.Files[broken.Main] = []byte("contest: trial\ntasks: [nothing/*.md]\ncontenders: [\"tools/*.yaml\"]\nrepeats: many\n")
	request, err := json.Marshal(map[string]any{"bundle": broken})
	require.NoError(t, err)
	cases := []struct {
		name   string
		call   call
		status int
		says   string
	}{
		{"no such contest", call{path: "/api/v1/contests/01ABC"}, 404, "no such record"},
		{"no such bout", call{path: "/api/v1/bouts/../x"}, 404, ""},
		{"no such page of the API", call{path: "/api/v1/nothing"}, 404, "nothing here"},
		{"wrong method", call{method: "DELETE", path: "/api/v1/contests"}, 405, "not allowed"},
		{"not JSON", call{method: "POST", path: "/api/v1/contests", body: "{"}, 400, "cannot be read"},
		{"unknown field", call{method: "POST", path: "/api/v1/contests", body: `{"bundel":{}}`}, 400, "bundel"},
		{"mistakes in the files", call{method: "POST", path: "/api/v1/contests", body: string(request)}, 422, `"key":"repeats"`},
		{"no check of that name", call{path: "/api/v1/bouts/" + id + "/checks/x/log"}, 404, ""},
		{"event id", call{path: "/api/v1/contests/" + id + "/events?after=x"}, 400, "not a number"},
		{"stop what has ended", call{method: "POST", path: "/api/v1/contests/" + id + "/stop"}, 409, "has ended already"},
	}
	for _, tc := range cases {
		t.Run(tc.name, func(t *testing.T) {
			res, body := do(t, s, tc.call)
			assert.Equal(t, tc.status, res.StatusCode, body)
			assert.Contains(t, body, tc.says)
		})
	}
	list, err := c.Contests(t.Context())
	require.NoError(t, err)
	assert.Len(t, list, 1, "nothing was started by them")
}

func TestTheFeedContinuesWhereAClientLeftIt(t *testing.T) {
	p := newPort(t, "", map[string]string{"good": "echo on > lamp.txt"})
	s, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	read := func(header http.Header, n int) []string {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL()+"/api/v1/contests/"+d.ID+"/events", nil)
		require.NoError(t, err)
		req.Header = header
		req.Header.Set("Authorization", "Bearer "+s.Token())
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		assert.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
		var ids []string
		lines := bufio.NewScanner(res.Body)
		for len(ids) < n && lines.Scan() {
			if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
				ids = append(ids, id)
			}
		}
		return ids
	}
	all := read(http.Header{}, 6)
	require.Len(t, all, 6)
	assert.Equal(t, all[3:], read(http.Header{"Last-Event-Id": {all[2]}}, 3))
}

// The document names every route and no other, and what the service answers is as it says.
func TestOpenAPIAndTheService(t *testing.T) {
	p := newPort(t, "", map[string]string{"good": "echo on > lamp.txt", "idle": "true"})
	p.files["lamp.md"] = strings.Replace(portTask, "limits:", "reference_patch: fix.patch\nlimits:", 1)
	p.files["fix.patch"] = "diff --git a/lamp.txt b/lamp.txt\n--- a/lamp.txt\n+++ b/lamp.txt\n@@ -1 +1 @@\n-off\n+on\n"
	s, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	bout := only(t, d, "good").ID

	_, text := do(t, s, call{path: "/api/v1/openapi.json"})
	written, err := os.ReadFile(filepath.Join("..", "..", "docs", "openapi.json"))
	require.NoError(t, err)
	assert.JSONEq(t, string(written), text, "docs/openapi.json is not current: make docs")
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource("mem:///openapi.json", doc))

	request, err := json.Marshal(map[string]any{"bundle": p.bundle(), "dry_run": true})
	require.NoError(t, err)
	bodies := map[string]string{"startContest": string(request), "checkContender": "{}", "signIn": `{"code":"x"}`}
	var parsed struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
			Responses   map[string]struct {
				Content map[string]struct {
					Schema json.RawMessage `json:"schema"`
				} `json:"content"`
			} `json:"responses"`
		} `json:"paths"`
	}
	require.NoError(t, json.Unmarshal([]byte(text), &parsed))
	calls := 0
	for path, methods := range parsed.Paths {
		for method, op := range methods {
			if op.OperationID == "followContest" {
				continue // an endless answer; it has a test of its own
			}
			calls++
			id := d.ID
			if strings.Contains(path, "/bouts/") {
				id = bout
			}
			slug := "lamp"
			if strings.Contains(path, "/contenders/") {
				slug = "good"
			}
			at := strings.NewReplacer("{id}", id, "{check}", "lit", "{slug}", slug).Replace(path)
			res, body := do(t, s, call{method: strings.ToUpper(method), path: at, body: bodies[op.OperationID]})
			key := http.StatusText(res.StatusCode)
			answer, ok := op.Responses[jsonNumber(res.StatusCode)]
			if !ok {
				answer, ok = op.Responses["default"], res.StatusCode >= 400
			}
			require.True(t, ok, "%s answered %d %s, which the document does not have: %s", op.OperationID, res.StatusCode, key, body)
			for media := range answer.Content {
				assert.True(t, strings.HasPrefix(res.Header.Get("Content-Type"), media), "%s: %s is not %s", op.OperationID, res.Header.Get("Content-Type"), media)
				if !strings.HasSuffix(media, "json") || op.OperationID == "getOpenAPI" {
					continue
				}
				status := jsonNumber(res.StatusCode)
				if _, has := op.Responses[status]; !has {
					status = "default"
				}
				pointer := "#/paths/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(path) + "/" + method + "/responses/" + status + "/content/" + strings.ReplaceAll(media, "/", "~1") + "/schema"
				schema, err := compiler.Compile("mem:///openapi.json" + pointer)
				require.NoError(t, err, op.OperationID)
				value, err := jsonschema.UnmarshalJSON(bytes.NewReader([]byte(body)))
				require.NoError(t, err)
				assert.NoError(t, schema.Validate(value), op.OperationID)
			}
		}
	}
	assert.Equal(t, s.RouteCount()-1, calls)
}

func jsonNumber(n int) string { b, _ := json.Marshal(n); return string(b) }

func TestTheConsoleIsServedStrictly(t *testing.T) {
	s, _ := start(t, t.TempDir())
	res, body := do(t, s, call{path: "/contests/whatever", header: http.Header{}})
	require.Equal(t, 200, res.StatusCode, body)
	csp := res.Header.Get("Content-Security-Policy")
	assert.Contains(t, csp, "default-src 'none'")
	assert.NotContains(t, csp, "unsafe")
	assert.NotContains(t, body, "__NONCE__")
	assert.NotContains(t, body, "http://")
	assert.NotContains(t, body, "https://")
	res2, _ := do(t, s, call{path: "/", header: http.Header{}})
	assert.NotEqual(t, csp, res2.Header.Get("Content-Security-Policy"), "a nonce is used once")
	res, _ = do(t, s, call{path: "/assets/nothing.js", header: http.Header{}})
	assert.Equal(t, 404, res.StatusCode)
	res, _ = do(t, s, call{path: "/..%2f..%2fgo.mod", header: http.Header{}})
	assert.NotContains(t, res.Header.Get("Content-Type"), "text/plain")
}

func TestDoctorAndContenderCheck(t *testing.T) {
	p := newPort(t, "", map[string]string{"good": "echo on > lamp.txt", "absent": "contender: absent\ntitle: A\nrun: [no-such-tool]\nkeep_env: [NO_SUCH_KEY]\ncarry:\n  - from: /no/such/state\n"})
	p.files["lamp.md"] = strings.Replace(portTask, "run: test -f quay.txt", "run: no-such-compiler --build | sort", 1)
	_, c := start(t, t.TempDir())
	finish(t, c, begin(t, c, p))
	report, err := c.Doctor(t.Context())
	require.NoError(t, err)
	assert.False(t, report.OK)
	var missing []string
	for _, f := range report.Findings {
		if f.Level == "missing" {
			missing = append(missing, f.What)
			assert.NotEmpty(t, f.Remedy, f.What)
		}
	}
	assert.ElementsMatch(t, []string{"no-such-compiler", "contender absent: program", "contender absent: key", "contender absent: carried state"}, missing)
	good, err := c.CheckContender(t.Context(), "good", nil, false)
	require.NoError(t, err)
	assert.True(t, good.OK)
}

func TestPruneFreesAndEverythingIsMadeAgain(t *testing.T) {
	p := newPort(t, "", map[string]string{"good": "echo on > lamp.txt"})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	freed, err := c.Prune(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 2, freed.Folders, "one start repository, one prepared state")
	assert.NotEmpty(t, mustPatch(t, c, only(t, d, "good").ID), "records stay")
	d = finish(t, c, begin(t, c, p))
	assert.Equal(t, 1, d.Counts.Passed)
}

// Whoever sends its body a byte at a time, or not at all, does not hold a connection
// for long without the token.
func TestSlowBodiesWithoutATokenEnd(t *testing.T) {
	t.Parallel()
	s, _ := start(t, t.TempDir())
	for _, path := range []string{"/api/v1/sign-in", "/api/v1/contests"} {
		t.Run(path, func(t *testing.T) {
			t.Parallel()
			conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL(), "http://"))
			require.NoError(t, err)
			defer conn.Close()
			_, err = fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: 4000\r\n\r\n{", path)
			require.NoError(t, err)
			ended := make(chan error, 1)
			go func() { // ends with the connection
				_, err := io.Copy(io.Discard, conn)
				ended <- err
			}()
			drip := time.NewTicker(100 * time.Millisecond)
			defer drip.Stop()
			for waited := time.After(time.Minute); ; {
				select {
				case <-ended:
					return
				case <-drip.C:
					_, _ = conn.Write([]byte(" "))
				case <-waited:
					t.Fatal("the connection is still open")
				}
			}
		})
	}
}
