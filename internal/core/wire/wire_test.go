package wire

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/ledger"
)

// told writes out what a reading found, so that tables are short.
func told(r Read) string {
	var b strings.Builder
	b.WriteString(r.Shape)
	if r.Model != "" {
		b.WriteString(" " + r.Model)
	}
	for _, k := range ledger.Kinds() {
		if n := r.Tokens.Of(k); n != nil {
			fmt.Fprintf(&b, " %s=%d", k, *n)
		}
	}
	if r.Strange {
		b.WriteString(" strange")
	}
	return strings.TrimSpace(b.String())
}

// read feeds a reply in pieces of a size; 0 is all at once.
func read(c *Reading, form Form, text string, size int) Read {
	r := c.Reply(form)
	for rest := []byte(text); len(rest) > 0; {
		n := len(rest)
		if size > 0 {
			n = min(n, size)
		}
		_, _ = r.Write(rest[:n])
		rest = rest[n:]
	}
	return r.Read()
}

func TestShapes(t *testing.T) {
	for _, c := range []struct{ name, form, text, want string }{
		{"counts at the end of a body", "json", `{"id":"x","choices":[{"message":{"content":"{\"usage\":{\"prompt_tokens\":1}}"}}],"model":"spring","usage":{"prompt_tokens":120,"completion_tokens":30,"prompt_tokens_details":{"cached_tokens":100},"completion_tokens_details":{"reasoning_tokens":7}}}`,
			"prompt-completion spring fresh=20 cached=100 output=30 reasoning=7"},
		{"a stream that sums up at its end", "events", "data: {\"model\":\"spring\",\"choices\":[{\"delta\":{\"content\":\"a\"}}],\"usage\":null}\n\ndata: {\"model\":\"spring\",\"choices\":[],\"usage\":{\"prompt_tokens\":12,\"completion_tokens\":3}}\n\ndata: [DONE]\n\n",
			"prompt-completion spring fresh=12 output=3"},
		{"a stream that counts at both ends", "events", "event: message_start\ndata: {\"type\":\"message_start\",\"message\":{\"model\":\"neap\",\"usage\":{\"input_tokens\":9,\"cache_read_input_tokens\":50,\"cache_creation_input_tokens\":4,\"output_tokens\":1}}}\r\n\r\nevent: message_delta\r\ndata: {\"usage\":{\"output_tokens\":41}}\r\n\r\n",
			"input-output neap fresh=9 cached=50 written=4 output=41"},
		{"a body with cached ones apart", "json", `{"model":"neap","usage":{"input_tokens":9,"cache_read_input_tokens":50,"output_tokens":41}}`, "input-output neap fresh=9 cached=50 output=41"},
		{"a stream whose last event holds the answer", "events", "data: {\"type\":\"delta\",\"delta\":\"hm\"}\n\ndata: {\"response\":{\"model\":\"ebb\",\"usage\":{\"input_tokens\":70,\"input_tokens_details\":{\"cached_tokens\":64},\"output_tokens\":5,\"output_tokens_details\":{\"reasoning_tokens\":2}}}}\n\n",
			"input-output-details ebb fresh=6 cached=64 output=5 reasoning=2"},
		{"running totals", "events", "data: {\"modelVersion\":\"slack\",\"usageMetadata\":{\"promptTokenCount\":5,\"candidatesTokenCount\":1}}\n\ndata: {\"usageMetadata\":{\"promptTokenCount\":5,\"candidatesTokenCount\":8,\"thoughtsTokenCount\":2}}\n\n",
			"usage-metadata slack fresh=5 output=10 reasoning=2"},
		{"a list of documents", "json", `[{"usageMetadata":{"promptTokenCount":5}},` + "\n" + `{"usageMetadata":{"promptTokenCount":5,"candidatesTokenCount":8}}]`, "usage-metadata fresh=5 output=8"},
		{"lines", "lines", "{\"model\":\"ebb\",\"done\":false}\n{\"model\":\"ebb\",\"done\":true,\"prompt_eval_count\":26,\"eval_count\":298}", "eval-count ebb fresh=26 output=298"},
		{"events without empty lines between", "events", "data: {\"usage\":{\"prompt_tokens\":1,\"completion_tokens\":2}}\ndata: {\"model\":\"m\"}\n", "prompt-completion m fresh=1 output=2"},
		{"an event over several lines", "events", "data: {\"usage\":\ndata: {\"prompt_tokens\":1,\ndata: \"completion_tokens\":2}}\n\n", "prompt-completion fresh=1 output=2"},
		{"garbage between events", "events", "data: {\"usage\":{\"prompt_tokens\":4,\"completion_tokens\":1}}\n\ndata: }{ nonsense\n\n: a remark\nid: 7\ndata: {\"usage\":{\"prompt_tokens\":4,\"completion_tokens\":2}}\n\n", "prompt-completion fresh=4 output=2"},
		{"no counts", "json", `{"model":"spring","choices":[]}`, "spring"},
		{"cut off in the middle", "events", "data: {\"message\":{\"model\":\"neap\",\"usage\":{\"input_tokens\":9,\"output_tokens\":1}}}\n\ndata: {\"usage\":{\"output_tokens\":4", "input-output-details neap fresh=9 output=1"},
		{"numbers that are none", "json", `{"usage":{"prompt_tokens":-4,"completion_tokens":"7","prompt_tokens_details":{"cached_tokens":1e3}}}`, ""},
		{"more cached than there is", "json", `{"usage":{"prompt_tokens":4,"completion_tokens":7,"prompt_tokens_details":{"cached_tokens":9}}}`, "prompt-completion fresh=4 output=7 strange"},
		{"keys with escapes", "json", `{"usa\u0067e":{"prompt_tokens":4,"completion_tokens":7}}`, "prompt-completion fresh=4 output=7"},
		{"no JSON at all", "json", `<html>busy</html>`, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			want := c.want
			if c.name == "cut off in the middle" {
				want = strings.Replace(want, "input-output-details", "input-output", 1)
			}
			for _, size := range []int{0, 1, 2, 3, 7, 64} {
				got := told(read(Compile(nil), Form(c.form), c.text, size))
				if c.name == "cut off in the middle" { // two shapes fit equally well there
					got = strings.Replace(got, "input-output-details", "input-output", 1)
				}
				assert.Equal(t, want, got, "in pieces of %d", size)
			}
		})
	}
}

func TestOwnReader(t *testing.T) {
	no := false
	own := &Reader{Body: Places{Model: []Pointer{"/by"}, Input: []Pointer{"/cost/in~1out/0"}, Cached: []Pointer{"/cost/old"}, Output: []Pointer{"/cost/in~1out/1"}, Reasoning: []Pointer{"/cost/thought"}},
		Take: TakeSum, CachedInInput: &no, ReasoningInOutput: &no, Refused: []int{418}, Cause: []Pointer{"/why"}, Asks: Asks{Model: []Pointer{"/wanted/0/name"}}}
	require.Empty(t, own.Check())
	c := Compile(own)
	text := `{"by":"ebb","cost":{"in/out":[3,4],"old":2,"thought":1}}`
	assert.Equal(t, "own ebb fresh=3 cached=2 output=5 reasoning=1", told(read(c, FormJSON, text, 1)))
	assert.Equal(t, "own ebb fresh=6 cached=4 output=10 reasoning=2", told(read(c, FormLines, text+"\n"+text, 1)), "each line adds")
	r := c.Request("/v1/work")
	_, _ = r.Write([]byte(`{"messages":[{"model":"no"}],"wanted":[{"name":"ebb"}],"reasoning_effort":"high"}`))
	assert.Equal(t, Asked{"ebb", "high"}, r.Asked())
	cause, refused := c.Refused(418, read(c, FormJSON, `{"why":"quota used up"}`, 0).Cause, false)
	assert.True(t, refused)
	assert.Equal(t, OwnAllowance, cause)

	assert.Len(t, (&Reader{Asks: Asks{Path: "("}, Refused: []int{200}}).Check(), 3)
	for _, bad := range []string{"usage", "/a~2", "", "/" + strings.Repeat("a/", 40)} {
		assert.Error(t, new(Pointer).ParseScalar(bad), bad)
	}
}

func TestRequests(t *testing.T) {
	for _, c := range []struct{ path, body, want string }{
		{"/v1/x", `{"model":"spring","reasoning_effort":"low"}`, "spring low"},
		{"/v1/x", `{"reasoning":{"effort":"high"},"model":"neap"}`, "neap high"},
		{"/v1beta/models/slack:generate", `{}`, "slack "},
		{"/v1/x", `{"model":"spri`, " "},
		{"/v1/x", "{\"model\":\"sp\\u001b[31mring\"}", "sp [31mring "},
	} {
		for size := 1; size < 4; size++ {
			r := Compile(nil).Request(c.path)
			for rest := c.body; rest != ""; {
				n := min(size, len(rest))
				_, _ = r.Write([]byte(rest[:n]))
				rest = rest[n:]
			}
			assert.Equal(t, c.want, r.Asked().Model+" "+r.Asked().Effort, c.body)
		}
	}
}

func TestRefusals(t *testing.T) {
	c := Compile(nil)
	for _, one := range []struct {
		status int
		body   string
		retry  bool
		want   Cause
	}{
		{429, `{"error":{"type":"rate_limit_error","message":"slow down"}}`, false, OwnAllowance},
		{429, ``, true, OwnAllowance}, {429, `{}`, false, Unknown},
		{429, `{"error":{"message":"the model is overloaded"}}`, true, Outage},
		{503, ``, false, Outage}, {529, `{}`, false, Outage}, {503, `{"error":"quota"}`, false, OwnAllowance},
	} {
		got, refused := c.Refused(one.status, read(c, FormJSON, one.body, 0).Cause, one.retry)
		assert.True(t, refused)
		assert.Equal(t, one.want, got, one.body)
	}
	for _, status := range []int{200, 400, 401, 404, 500} {
		_, refused := c.Refused(status, "rate limit", true)
		assert.False(t, refused, status)
	}
}

// Whatever document is written, the picker finds what encoding/json finds.
func TestPickerAgreesWithTheStandardLibrary(t *testing.T) {
	rng := rand.New(rand.NewPCG(20310355, 4))
	keys := []string{"a", "b", "usage", "x/y", "ü", "q\"", "0"}
	var make func(depth int) any
	make = func(depth int) any {
		switch n := rng.IntN(7); {
		case depth > 0 && n < 3:
			m := map[string]any{}
			for range rng.IntN(4) {
				m[keys[rng.IntN(len(keys))]] = make(depth - 1)
			}
			return m
		case depth > 0 && n < 5:
			l := []any{}
			for range rng.IntN(4) {
				l = append(l, make(depth-1))
			}
			return l
		case n == 5:
			return []string{"", "{\"a\":1}", "\\", "end\"]}", "tiefe Flut ✓"}[rng.IntN(5)]
		}
		return []any{float64(rng.IntN(1000)), -1.5, true, nil}[rng.IntN(4)]
	}
	var walk func(v any, at string, out map[string]string)
	walk = func(v any, at string, out map[string]string) {
		switch v := v.(type) {
		case map[string]any:
			for k, one := range v {
				walk(one, at+"/"+strings.NewReplacer("~", "~0", "/", "~1").Replace(k), out)
			}
		case []any:
			for i, one := range v {
				walk(one, at+"/"+strconv.Itoa(i), out)
			}
		default:
			if text, isText := v.(string); isText {
				out[at] = text
			} else {
				text, _ := json.Marshal(v)
				out[at] = string(text)
			}
		}
	}
	for range 3000 {
		doc := map[string]any{"top": make(4), "more": make(2)}
		text, err := json.Marshal(doc)
		require.NoError(t, err)
		all := map[string]string{}
		walk(doc, "", all)
		want, root, names := map[string]string{}, &trie{}, []string{}
		for at, v := range all {
			if rng.IntN(2) == 0 && strings.Count(at, "/") <= MaxPointer {
				want[at] = v
				root.add(Pointer(at), mark{rank: len(names)})
				names = append(names, at)
			}
		}
		got, docs := map[string]string{}, 0
		p := newPicker(root, func(m mark, s scalar) { got[names[m.rank]] = s.text }, func() { docs++ })
		for rest := text; len(rest) > 0; {
			n := min(1+rng.IntN(9), len(rest))
			p.write(rest[:n])
			rest = rest[n:]
		}
		require.Equal(t, want, got, string(text))
		require.Equal(t, 1, docs)
		require.True(t, p.whole())
	}
}

// A reply without end, or as deep as one likes, costs no more memory than a short one.
func TestHostileRepliesAreBounded(t *testing.T) {
	c := Compile(nil)
	piece := []byte(strings.Repeat(`{"usage":[`, 4096))
	for _, form := range []Form{FormJSON, FormEvents, FormLines} {
		r := c.Reply(form)
		_, _ = r.Write([]byte("data: "))
		for range 200 {
			_, _ = r.Write(piece)
		}
		assert.LessOrEqual(t, len(r.pick.frames), MaxPointer)
		assert.LessOrEqual(t, len(r.pick.buf)+len(r.line), maxValue+16)
		r = c.Reply(form)
		_, _ = r.Write([]byte(`data: {"model":"` + strings.Repeat("x", 1<<20)))
		assert.LessOrEqual(t, len(r.pick.buf), maxValue)
		assert.LessOrEqual(t, len(r.Read().Model), maxShort+4)
	}
}

func FuzzReply(f *testing.F) {
	f.Add("data: {\"usage\":{\"prompt_tokens\":1,\"completion_tokens\":2}}\n\n", 3)
	f.Add(`[{"usageMetadata":{"promptTokenCount":5}}]`, 1)
	f.Add("{\"model\":\"\\ud800\",\"usage\":{\"input_tokens\":1}}\xff", 2)
	c := Compile(nil)
	f.Fuzz(func(t *testing.T, text string, size int) {
		for _, form := range []Form{FormJSON, FormEvents, FormLines} {
			whole := read(c, form, text, 0)
			assert.Equal(t, whole, read(c, form, text, max(1, size%17)), "the pieces do not matter")
			if n := whole.Tokens.Total(); n != nil {
				assert.GreaterOrEqual(t, *n, int64(0))
			}
		}
	})
}

func BenchmarkReply(b *testing.B) {
	text := strings.Repeat("data: {\"id\":\"c-1\",\"object\":\"chunk\",\"model\":\"spring\",\"choices\":[{\"index\":0,\"delta\":{\"content\":\"some words\"}}]}\n\n", 200)
	c := Compile(nil)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		read(c, FormEvents, text, 4096)
	}
}
