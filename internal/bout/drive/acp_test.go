package drive

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/bout/confine"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/timeline"
)

// peer is a tool that speaks the protocol with bare lines of JSON, well or badly.
func peer(how string) {
	in := bufio.NewScanner(os.Stdin)
	in.Buffer(nil, 16<<20)
	type message struct {
		ID     json.RawMessage `json:"id"`
		Method string          `json:"method"`
		Params json.RawMessage `json:"params"`
		Result json.RawMessage `json:"result"`
		Error  *struct {
			Message string         `json:"message"`
			Data    map[string]any `json:"data"`
		} `json:"error"`
	}
	send := func(format string, args ...any) { fmt.Printf(format+"\n", args...) }
	next := func() (m message) {
		for in.Scan() {
			if json.Unmarshal(in.Bytes(), &m) == nil {
				return m
			}
		}
		os.Exit(7)
		return m
	}
	asked := 100
	ask := func(method, params string) message {
		asked++
		send(`{"jsonrpc":"2.0","id":%d,"method":%q,"params":%s}`, asked, method, params)
		for {
			if m := next(); m.Method == "" {
				return m
			} else if m.Method == "session/cancel" {
				os.Exit(8)
			}
		}
	}
	update := func(body string) {
		send(`{"jsonrpc":"2.0","method":"session/update","params":{"sessionId":"s","update":%s}}`, body)
	}
	say := func(text string) {
		quoted, _ := json.Marshal(text)
		update(`{"sessionUpdate":"agent_message_chunk","content":{"type":"text","text":` + string(quoted) + `}}`)
	}
	told := func(m message) string {
		if m.Error != nil {
			return fmt.Sprint("error: ", m.Error.Message, " ", m.Error.Data)
		}
		return string(m.Result)
	}
	prompts := 0
	for {
		m := next()
		switch m.Method {
		case "initialize":
			switch how {
			case "old":
				send(`{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":0}}`, m.ID)
				continue
			case "mute":
				continue
			case "garbage":
				for range 5000 {
					send("this is no JSON at all")
				}
				continue
			}
			send(`{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":1,"agentCapabilities":{},"agentInfo":{"name":"knot","version":"2.7"},"authMethods":[]}}`, m.ID)
		case "session/new":
			if how == "signed out" {
				send(`{"jsonrpc":"2.0","id":%s,"error":{"code":-32000,"message":"Authentication required"}}`, m.ID)
				continue
			}
			send(`{"jsonrpc":"2.0","id":%s,"result":{"sessionId":"s","models":{"currentModelId":"ebb","availableModels":[{"modelId":"ebb","name":"Ebb"},{"modelId":"spring","name":"Spring"}]}}}`, m.ID)
		case "session/set_model":
			send(`{"jsonrpc":"2.0","id":%s,"result":{}}`, m.ID)
		case "session/prompt":
			prompts++
			switch how {
			case "hang":
				for next().Method != "session/cancel" {
				}
				if os.Getenv("STUBBORN") != "" {
					for {
						next()
					}
				}
				send(`{"jsonrpc":"2.0","id":%s,"result":{"stopReason":"cancelled"}}`, m.ID)
				continue
			case "flood":
				piece := strings.Repeat("flood ", 200)
				for range 20_000 {
					say(piece)
				}
			case "huge":
				say(strings.Repeat("x", 9<<20))
				continue
			case "invalid":
				send(`{"jsonrpc":"2.0","method":"session/update","params":{"sessionId":"s","update":{"sessionUpdate":"from_the_moon"}}}`)
				send(`{"jsonrpc":`)
				send(`[1,2]`)
				send(`nonsense`)
				send(`{"method":"session/update"}`)
				say("still here")
			case "files":
				say("looking")
				for _, name := range []string{"/etc/passwd", os.Getenv("WS") + "/../h/x", "relative", os.Getenv("WS") + "/out", os.Getenv("WS") + "/.."} {
					say("\nread " + told(ask("fs/read_text_file", fmt.Sprintf(`{"sessionId":"s","path":%q}`, name))))
				}
				say("\nwrite " + told(ask("fs/write_text_file", fmt.Sprintf(`{"sessionId":"s","path":%q,"content":"x"}`, os.Getenv("WS")+"/out/y"))))
				say("\nwrite " + told(ask("fs/write_text_file", fmt.Sprintf(`{"sessionId":"s","path":%q,"content":"one\ntwo\nthree\n"}`, os.Getenv("WS")+"/new/berths.txt"))))
				say("\nlines " + told(ask("fs/read_text_file", fmt.Sprintf(`{"sessionId":"s","path":%q,"line":2,"limit":1}`, os.Getenv("WS")+"/new/berths.txt"))))
				say("\nother " + told(ask("fs/format_disk", `{}`)))
			case "commands":
				say("\nout " + told(ask("terminal/create", `{"sessionId":"s","command":"id","cwd":"/etc"}`)))
				ask("terminal/create", `{"sessionId":"s","command":"sh","args":["-c","echo one; pwd; (setsid sleep 1000 >/dev/null 2>&1 &) ; exit 3"]}`)
				say("\nended " + told(ask("terminal/wait_for_exit", `{"sessionId":"s","terminalId":"terminal-1"}`)))
				say("\nshows " + told(ask("terminal/output", `{"sessionId":"s","terminalId":"terminal-1"}`)))
				ask("terminal/create", `{"sessionId":"s","command":"sh","args":["-c","sleep 1000 & sleep 1000"]}`)
				ask("terminal/kill", `{"sessionId":"s","terminalId":"terminal-2"}`)
				say("\nkilled " + told(ask("terminal/wait_for_exit", `{"sessionId":"s","terminalId":"terminal-2"}`)))
				ask("terminal/create", `{"sessionId":"s","command":"sh","args":["-c","sleep 1000 & sleep 1000"]}`)
				say("\nnone " + told(ask("terminal/output", `{"sessionId":"s","terminalId":"terminal-77"}`)))
			case "crash":
				say("about to")
				os.Exit(3)
			default:
				update(`{"sessionUpdate":"agent_thought_chunk","content":{"type":"text","text":"hm"}}`)
				say("I look. ")
				update(`{"sessionUpdate":"plan","entries":[{"content":"a","priority":"high","status":"completed"},{"content":"b","priority":"low","status":"pending"}]}`)
				update(`{"sessionUpdate":"tool_call","toolCallId":"c1","title":"Edit berths.go","kind":"edit","status":"pending"}`)
				for _, kind := range []string{"edit", "execute", "fetch"} {
					m := ask("session/request_permission", `{"sessionId":"s","toolCall":{"toolCallId":"c1","title":"Touch `+kind+`","kind":"`+kind+`"},"options":[{"optionId":"y","name":"Yes","kind":"allow_once"},{"optionId":"n","name":"No","kind":"reject_once"}]}`)
					say(kind + told(m))
				}
				update(`{"sessionUpdate":"tool_call_update","toolCallId":"c1","status":"completed"}`)
				update(`{"sessionUpdate":"tool_call","toolCallId":"c2","title":"Run the tests","kind":"execute"}`)
				update(`{"sessionUpdate":"tool_call_update","toolCallId":"c2","status":"failed"}`)
				update(`{"sessionUpdate":"usage_update","used":1200,"size":8000,"cost":{"amount":` + fmt.Sprint(0.25*float64(prompts)) + `,"currency":"AVM"}}`)
				say(fmt.Sprintf("Done, prompt %d: %s", prompts, m.Params))
			}
			n := prompts * 100
			send(`{"jsonrpc":"2.0","id":%s,"result":{"stopReason":"end_turn","usage":{"inputTokens":%d,"cachedReadTokens":%d,"outputTokens":%d,"thoughtTokens":%d,"totalTokens":%d}}}`, m.ID, n, 2*n, n/2, n/10, n+2*n+n/2+n/10)
		case "":
		default:
			if len(m.ID) > 0 {
				send(`{"jsonrpc":"2.0","id":%s,"error":{"code":-32601,"message":"Method not found"}}`, m.ID)
			}
		}
	}
}

// speaks makes a contender of a peer, and its surroundings.
func speaks(t *testing.T, how string) (*contender.Contender, confine.World) {
	t.Helper()
	c := &contender.Contender{Path: "/c.yaml"}
	self, err := os.Executable()
	require.NoError(t, err)
	c.Drive, c.Run = contender.DriveACP, []string{self, "peer", how}
	c.Env = map[specfile.EnvName]string{"WS": "{workspace}"}
	return c, world(t)
}

func TestOverTheProtocol(t *testing.T) {
	c, w := speaks(t, "well")
	c.Model = "spring"
	c.Permissions = []contender.Permission{{Kind: "fetch", Answer: contender.Refuse}, {Pattern: "execute", Answer: contender.Refuse}}
	out, seen := confine.NewOutput(1<<20), &watcher{}
	d := For(c)
	defer d.Close()
	h := HandOver{Contender: c, Brief: "Light the lamps", Attachments: []string{"/bout/attachments/lamp.png"}, World: w, Limit: time.Minute, Output: out, Seen: seen.take}
	first, err := d.HandOver(t.Context(), h)
	require.NoError(t, err)
	require.Zero(t, first.ExitCode, first.Signal)
	assert.True(t, first.Stays)
	assert.Equal(t, "knot 2.7", first.Version)
	answer := string(first.Answer)
	assert.Contains(t, answer, "Done, prompt 1")
	assert.Contains(t, answer, `"text":"Light the lamps"`)
	assert.Contains(t, answer, `"uri":"file:///bout/attachments/lamp.png"`)
	assert.NotContains(t, answer, "I look", "the closing words come after the last call")
	text := string(out.Bytes())
	assert.Contains(t, text, `edit{"outcome":{"optionId":"y","outcome":"selected"}}`)
	assert.Contains(t, text, `execute{"outcome":{"optionId":"n","outcome":"selected"}}`)
	assert.Contains(t, text, "call: Edit berths.go\npermission: Touch edit -> allow\n", "in the order in which it was told")
	assert.Contains(t, text, "permission: Touch fetch -> refuse\n")
	require.Len(t, seen.of(timeline.Asked), 3)
	calls := seen.of(timeline.Call)
	require.Len(t, calls, 2)
	assert.Equal(t, []bool{true, false}, []bool{calls[0].OK, calls[1].OK})
	assert.Equal(t, "Edit berths.go", calls[0].Text)
	assert.Len(t, seen.of(timeline.Thought), 1)
	assert.Contains(t, seen.texts(timeline.Plan), "1 of 2 steps")
	assert.Equal(t, int64(1200), seen.of(timeline.Usage)[0].Count)
	require.NotNil(t, first.Protocol)
	assert.Equal(t, "spring", first.Protocol.Model)
	assert.Equal(t, []int64{100, 200, 60, 10}, []int64{*first.Protocol.Tokens.Fresh, *first.Protocol.Tokens.Cached, *first.Protocol.Tokens.Output, *first.Protocol.Tokens.Reasoning})
	assert.Equal(t, "0.25 AVM", first.Protocol.Money.String())

	// A later round is a further prompt of the same session; its use is its own.
	h.Again, h.Brief = true, "And the other one"
	second, err := d.HandOver(t.Context(), h)
	require.NoError(t, err)
	assert.Contains(t, string(second.Answer), "Done, prompt 2")
	assert.Same(t, first.Process, second.Process)
	assert.Equal(t, int64(100), *second.Protocol.Tokens.Fresh)
	assert.Equal(t, "0.25 AVM", second.Protocol.Money.String())
}

func TestProtocolPeersGoneWrong(t *testing.T) {
	run := func(t *testing.T, how string, stop chan struct{}, env map[specfile.EnvName]string) (Ended, string, *watcher, confine.World, error) {
		c, w := speaks(t, how)
		for k, v := range env {
			c.Env[k] = v
		}
		require.NoError(t, os.Symlink("/etc", filepath.Join(w.Workspace, "out")))
		out, seen := confine.NewOutput(1<<20), &watcher{}
		d := For(c)
		defer d.Close()
		h := HandOver{Contender: c, Brief: "b", World: w, Limit: time.Minute, Stop: stop, Output: out, Seen: seen.take}
		if stop != nil {
			h.Started = func(*confine.Process, time.Time) { close(stop) }
		}
		res, err := d.HandOver(t.Context(), h)
		return res, string(out.Bytes()), seen, w, err
	}
	t.Run("hangs, and ends its turn when it is told to", func(t *testing.T) {
		res, _, _, _, err := run(t, "hang", make(chan struct{}), nil)
		require.NoError(t, err)
		assert.True(t, res.Stopped)
		assert.Less(t, res.Elapsed, 30*time.Second)
	})
	t.Run("hangs, and does not", func(t *testing.T) {
		res, _, _, _, err := run(t, "hang", make(chan struct{}), map[specfile.EnvName]string{"STUBBORN": "1"})
		require.NoError(t, err)
		assert.True(t, res.Stopped)
	})
	t.Run("never answers the handshake", func(t *testing.T) {
		res, _, _, _, err := run(t, "mute", make(chan struct{}), nil)
		require.NoError(t, err)
		assert.True(t, res.Stopped)
	})
	t.Run("floods", func(t *testing.T) {
		res, text, seen, _, err := run(t, "flood", nil, nil)
		require.NoError(t, err)
		assert.Zero(t, res.ExitCode, res.Signal)
		assert.LessOrEqual(t, len(text), 1<<20+100)
		assert.LessOrEqual(t, len(res.Answer), maxSaid)
		n := int64(0)
		for _, s := range seen.of(timeline.Said) {
			n += s.Count
		}
		assert.Equal(t, int64(20_000*1200), n, "every byte was counted, none kept beyond the cap")
	})
	t.Run("sends one message that is too large", func(t *testing.T) {
		res, _, _, _, err := run(t, "huge", nil, nil)
		require.NoError(t, err)
		assert.NotZero(t, res.ExitCode)
		assert.Contains(t, res.Signal, "8 MiB")
		assert.False(t, res.Stays)
	})
	t.Run("sends what is no JSON", func(t *testing.T) {
		res, text, seen, _, err := run(t, "invalid", nil, nil)
		require.NoError(t, err)
		assert.Zero(t, res.ExitCode, res.Signal)
		assert.Contains(t, text, "still here")
		assert.Contains(t, seen.texts(timeline.Denied), "3 messages could not be understood")
	})
	t.Run("sends nothing else", func(t *testing.T) {
		res, _, _, _, err := run(t, "garbage", nil, nil)
		require.NoError(t, err)
		assert.Contains(t, res.Signal, "does not speak the protocol")
	})
	t.Run("crashes", func(t *testing.T) {
		res, _, _, _, err := run(t, "crash", nil, nil)
		require.NoError(t, err)
		assert.Equal(t, 3, res.ExitCode)
		assert.False(t, res.Stays)
	})
	for how, says := range map[string]string{"old": "speaks version 0", "signed out": "signed in"} {
		t.Run(how, func(t *testing.T) {
			_, _, _, _, err := run(t, how, nil, nil)
			var missing *HandshakeError
			require.ErrorAs(t, err, &missing)
			assert.Contains(t, err.Error(), says)
		})
	}
	t.Run("asks for files outside the workspace", func(t *testing.T) {
		res, text, seen, w, err := run(t, "files", nil, nil)
		require.NoError(t, err)
		require.Zero(t, res.ExitCode, res.Signal)
		assert.NotContains(t, text, "root:")
		assert.Len(t, seen.of(timeline.Denied), 6, seen.texts(timeline.Denied))
		assert.NoFileExists(t, "/etc/y")
		data, err := os.ReadFile(filepath.Join(w.Workspace, "new", "berths.txt"))
		require.NoError(t, err)
		assert.Equal(t, "one\ntwo\nthree\n", string(data))
		assert.Contains(t, text, `lines {"content":"two\n"}`)
		assert.Contains(t, text, "Method not found")
	})
	t.Run("asks for commands that fork", func(t *testing.T) {
		res, text, seen, w, err := run(t, "commands", nil, nil)
		require.NoError(t, err)
		require.Zero(t, res.ExitCode, res.Signal)
		assert.Contains(t, text, "is outside the workspace")
		assert.Contains(t, text, `ended {"exitCode":3}`)
		ws, _, _, _ := w.Paths()
		assert.Contains(t, text, `one\n`+ws+`\n`)
		assert.Contains(t, text, "killed {")
		assert.Contains(t, text, "there is no terminal")
		assert.Contains(t, seen.texts(timeline.Call), "$ sh -c echo one")
		left, _ := exec.Command("pgrep", "-f", "^sleep 1000$").Output()
		assert.Empty(t, strings.TrimSpace(string(left)), "what the commands forked ended with the session")
	})
}

// The example agent of the protocol's Go SDK, built from the module cache.
func TestTheSDKsExampleAgent(t *testing.T) {
	bin := filepath.Join(t.TempDir(), "agent")
	build := exec.Command("go", "build", "-o", bin, "github.com/coder/acp-go-sdk/example/agent")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	exampleAgent(t, []string{bin}, "updated the configuration")
}

// The example agent of the protocol's TypeScript package, which the console's
// development packages bring along.
func TestTheTypeScriptExampleAgent(t *testing.T) {
	script, err := filepath.Abs("../../../console/node_modules/@agentclientprotocol/sdk/dist/examples/agent.js")
	require.NoError(t, err)
	if _, err := os.Stat(script); err != nil {
		t.Fatalf("run `npm ci` in console first (make test does): %v", err)
	}
	exampleAgent(t, []string{"node", script}, "updated the configuration")
}

func exampleAgent(t *testing.T, run []string, closing string) {
	c := &contender.Contender{Path: "/c.yaml"}
	c.Drive, c.Run = contender.DriveACP, run
	w := world(t)
	for _, arg := range run {
		if strings.Contains(arg, "node_modules") {
			w.Reads = append(w.Reads, arg[:strings.Index(arg, "node_modules")+len("node_modules")])
		}
	}
	out, seen := confine.NewOutput(1<<20), &watcher{}
	d := For(c)
	res, err := d.HandOver(t.Context(), HandOver{Contender: c, Brief: "Hello", World: w, Limit: time.Minute, Output: out, Seen: seen.take})
	d.Close()
	require.NoError(t, err)
	require.Zero(t, res.ExitCode, res.Signal+string(out.Bytes()))
	assert.Contains(t, string(res.Answer), closing)
	assert.Len(t, seen.of(timeline.Asked), 1)
	assert.Len(t, seen.of(timeline.Call), 2)
}
