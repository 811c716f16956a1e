package service_test

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/timeline"
	"agonometer/internal/core/verdict"
)

// speaker is a tool that speaks the protocol: it asks whether it may edit, writes the
// file through its client, and says what it used. In its first prompt it does half.
const speaker = `
const lines = require('readline').createInterface({ input: process.stdin });
const send = (m) => process.stdout.write(JSON.stringify({ jsonrpc: '2.0', ...m }) + '\n');
let asked = 0, prompts = 0;
const waiting = new Map();
const ask = (method, params) => new Promise((done) => { send({ id: 'q' + ++asked, method, params }); waiting.set('q' + asked, done); });
const say = (text) => send({ method: 'session/update', params: { sessionId: 's', update: { sessionUpdate: 'agent_message_chunk', content: { type: 'text', text } } } });
lines.on('line', async (line) => {
  const m = JSON.parse(line);
  if (m.method === 'initialize') send({ id: m.id, result: { protocolVersion: 1, agentCapabilities: {}, agentInfo: { name: 'knot', version: '3.1' }, authMethods: [] } });
  else if (m.method === 'session/new') send({ id: m.id, result: { sessionId: 's' } });
  else if (m.method === 'session/prompt') {
    prompts++;
    const may = await ask('session/request_permission', { sessionId: 's', toolCall: { toolCallId: 'c' + prompts, title: 'Light the lamp', kind: 'edit' }, options: [{ optionId: 'y', name: 'Yes', kind: 'allow_once' }, { optionId: 'n', name: 'No', kind: 'reject_once' }] });
    if (may.result.outcome.optionId === 'y') await ask('fs/write_text_file', { sessionId: 's', path: process.cwd() + '/lamp.txt', content: prompts === 1 ? 'half\n' : 'on\n' });
    say('prompt ' + prompts + ': ' + m.params.prompt[0].text.split('\n')[0]);
    send({ id: m.id, result: { stopReason: 'end_turn', usage: { inputTokens: 100 * prompts, outputTokens: 10 * prompts, totalTokens: 110 * prompts } } });
  } else if (waiting.has(m.id)) waiting.get(m.id)(m);
});
`

const speakerFile = "contender: knot\ntitle: Speaks the protocol\ndrive: acp\nrun: [node, ../knot.js]\nreads: [\"%s\"]\n"

// Tools of every kind meet the same judge, and how each was driven is on record.
func TestEveryKindOfTool(t *testing.T) {
	p := newPort(t, "repair_rounds: 1\nprices: [prices.yaml]\nhourly_rate: 60 AVM\n", map[string]string{
		"asks": "contender: asks\ntitle: Asks in a terminal\npty: true\nversion_command: [sh, -c, 'echo asks 1.4; echo more']\nreplies: [{pattern: 'lamp\\.txt\\? \\[y/n\\]', send: y}]\n" +
			"run: [sh, -c, 'test -t 0 || exit 9; printf \"May I change lamp.txt? [y/n] \"; read -r a; [ \"$a\" = y ] && echo on > lamp.txt; echo done']\n",
		"waits":  "contender: waits\ntitle: Asks what nobody expects\nreplies: [{pattern: 'berth', send: y}]\nrun: [sh, -c, 'printf \"Which pilot? \"; read -r a; echo on > lamp.txt']\n",
		"by":     "contender: by\ntitle: Runs by itself\nrun: [sh, -c, 'echo on > lamp.txt']\nsetup_notes: {minutes: 12, steps: [Install it, Sign in], accounts: [one]}\n",
		"nobody": "contender: nobody\ntitle: Must not\ndrive: acp\nrun: [node, ../knot.js]\npermissions: [{kind: edit, answer: refuse}]\n",
	})
	price(t, p)
	p.files["knot.js"] = speaker
	for _, name := range []string{"nobody"} {
		p.files["tools/"+name+".yaml"] += "reads: [\"" + p.dir + "\"]\n"
	}
	p.files["tools/knot.yaml"] = strings.Replace(speakerFile, "%s", p.dir, 1)
	p.files["tools/waits.yaml"] += ""
	p.files["lamp.md"] = strings.Replace(portTask, "  time: 20s", "  time: 20s\n  quiet: 1s", 1)
	p.write(t)
	for name, run := range map[string]string{"knot": "../knot.js", "nobody": "../knot.js"} {
		p.files["tools/"+name+".yaml"] = strings.Replace(p.files["tools/"+name+".yaml"], run, filepath.Join(p.dir, "knot.js"), 1)
	}
	p.write(t)
	delete(p.files, "knot.js")
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))

	asks := show(t, c, only(t, d, "asks"))
	assert.Equal(t, verdict.Passed, asks.Verdict.Outcome, asks.Verdict.Detail)
	assert.Equal(t, []string{"command", "asks 1.4"}, []string{asks.Driver, asks.ToolVersion})
	assert.Equal(t, 1, asks.Effort.Answered)
	assert.False(t, asks.Effort.Needed(), "what a rule answers needs nobody")
	assert.Equal(t, 1.0, *asks.Effort.Kept)
	require.True(t, lastRound(t, asks).HasRecording)
	cast, err := c.Recording(t.Context(), asks.ID, 0)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(cast), `{"env":{"TERM":"xterm-256color"},"height":40`), string(cast))
	line, err := c.Timeline(t.Context(), asks.ID)
	require.NoError(t, err)
	asked := false
	for _, e := range line.Events {
		asked = asked || e.Kind == timeline.Asked && strings.Contains(e.Text, "-> y")
	}
	assert.True(t, asked)

	waits := show(t, c, only(t, d, "waits"))
	assert.Equal(t, verdict.QuietLimit, waits.Verdict.Reason)
	assert.Contains(t, waits.Verdict.Detail, "the last that it printed: Which pilot?")
	assert.Equal(t, 0, waits.Effort.Answered)

	knot := show(t, c, only(t, d, "knot"))
	assert.Equal(t, verdict.Passed, knot.Verdict.Outcome, knot.Verdict.Detail)
	assert.Equal(t, verdict.Failed, knot.First.Outcome)
	assert.Equal(t, []string{"acp", "knot 3.1"}, []string{knot.Driver, knot.ToolVersion})
	assert.Equal(t, 2, knot.Rounds, "a repair round is a further prompt of the same session")
	assert.Equal(t, ledger.Protocol, knot.Ledger.Source)
	assert.Equal(t, int64(220), *knot.Ledger.Total, "each prompt's own, added up")
	assert.Equal(t, 2, knot.Effort.Answered)
	log, err := c.Log(t.Context(), knot.ID, "", 1)
	require.NoError(t, err)
	assert.Contains(t, string(log), "permission: Light the lamp -> allow")
	nobody := show(t, c, only(t, d, "nobody"))
	assert.Equal(t, verdict.NoChange, nobody.Verdict.Reason)

	rows := d.Standings.Rows
	for _, r := range rows {
		assert.Equal(t, map[string]string{"asks": "command", "waits": "command", "by": "command", "knot": "acp", "nobody": "acp"}[r.Contender], r.Driven)
		assert.Equal(t, 1, r.EffortOf)
		assert.Zero(t, r.AttentionMS)
		assert.Equal(t, "0 AVM", r.PersonMoney.String())
	}
	assert.Contains(t, strings.Join(d.Standings.Notes, "\n"), "driven in different ways (acp, command)")
	differs := map[string]bool{}
	for _, s := range d.Differences {
		differs[s.Name] = s.Differs
	}
	assert.True(t, differs["driven"])
	assert.True(t, differs["may ask"])
	assert.False(t, differs["network"])
	for _, con := range d.Contenders {
		if con.Contender == "by" {
			assert.Equal(t, 12, *con.Setup.Minutes)
		}
	}
}

// What a tool is given beside the brief: guidance, attached files, what a first use
// left; and what it is told of its model and effort.
func TestWhatAToolIsGiven(t *testing.T) {
	s := newTides(t)
	p := newPort(t, "guidance: |\n  Lamps are lit with the word on.\nrepeats: 2\n", map[string]string{
		"reads": "contender: reads\ntitle: Reads its guidance\nmodel: spring\neffort: high\nguidance: {as: docs/GUIDE.md}\nattach: [--with, '{attachment}']\n" +
			"run: [sh, -c, 'grep -q \"the word on\" docs/GUIDE.md && grep -q picture \"$3\" && [ \"$2 $4 $5\" = \"--with spring high\" ] && echo on > lamp.txt', x, '{brief}', '{attachments}', '{model}', '{effort}']\n",
		"edits": "contender: edits\ntitle: Changes its guidance\nguidance: {as: GUIDE.md, text: Own words}\nrun: [sh, -c, 'echo more >> GUIDE.md; echo on > lamp.txt']\n",
		"drops": "contender: drops\ntitle: Takes its guidance away\nguidance: {as: GUIDE.md, text: Own words}\nrun: [sh, -c, 'rm GUIDE.md; grep -q /bout/attachments/sketch.txt /bout/brief.md || grep -q attachments/sketch.txt \"$0\"; echo on > lamp.txt', '{brief_file}']\n",
		"index": s.asks("index", "first_use:\n  keep: [\".index/**\"]\n  run:\n    - bash\n    - -c\n    - |\n        u=${METER#http://}; hp=${u%%/*}; at=/${u#*/}; exec 3<>/dev/tcp/${hp%:*}/${hp#*:}; b='{\"model\":\"spring\",\"tokens\":70,\"out\":7}'\n"+
			"        printf 'POST %s/v1/work HTTP/1.1\\r\\nHost: x\\r\\nConnection: close\\r\\nContent-Length: %s\\r\\n\\r\\n%s' \"$at\" ${#b} \"$b\" >&3; cat <&3\n        mkdir .index; echo quay > .index/words; echo known > ~/.known; date +%N > ~/.when; echo indexed\n",
			`[ "$(cat ~/.known)" = known ] && [ "$(cat .index/words)" = quay ] || exit 8
cat ~/.when; echo on > lamp.txt; echo more >> .index/words`),
		"broken": "contender: broken\ntitle: Cannot index\nfirst_use: {run: [sh, -c, 'echo no index today; exit 3']}\nrun: [sh, -c, 'echo on > lamp.txt']\n",
	})
	p.files["sketch.txt"] = "a picture of a lamp\n"
	p.files["lamp.md"] = strings.Replace(portTask, "checks:", "attachments: [sketch.txt]\nchecks:", 1)
	price(t, p)
	p.files["contest.yaml"] += "prices: [prices.yaml]\n"
	p.write(t)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	for _, b := range d.Bouts {
		full := show(t, c, b)
		diff, err := c.Patch(t.Context(), b.ID, 0)
		require.NoError(t, err)
		switch b.Contender {
		case "reads":
			assert.Equal(t, verdict.Passed, b.Verdict.Outcome, b.Verdict.Detail)
			assert.NotContains(t, string(diff), "GUIDE", "guidance is no part of the change")
			assert.NotContains(t, lastRound(t, full).Words, "sketch", "it is told by an argument")
		case "edits":
			assert.Contains(t, string(diff), "GUIDE.md")
			assert.Contains(t, strings.Join(b.Flags, ";"), "the guidance GUIDE.md was changed")
		case "drops":
			assert.NotContains(t, string(diff), "GUIDE")
			assert.Contains(t, strings.Join(b.Flags, ";"), "was taken away")
			assert.Contains(t, lastRound(t, full).Words, "With it go these files: ")
		case "index":
			assert.Equal(t, verdict.Passed, b.Verdict.Outcome, b.Verdict.Detail)
			assert.NotContains(t, string(diff), ".index")
			assert.Nil(t, b.Used.Tokens, "the first use's tokens are not the bout's")
		case "broken":
			assert.Equal(t, verdict.HandshakeFailed, b.Verdict.Reason)
			assert.Equal(t, verdict.Void, b.Verdict.Outcome, "it began nowhere")
			assert.Contains(t, b.Verdict.Detail, "no index today")
		}
	}
	uses := map[string]api.FirstUse{}
	for _, u := range d.FirstUses {
		_, twice := uses[u.Contender]
		assert.False(t, twice, "once for all repeats")
		uses[u.Contender] = u
	}
	require.Len(t, uses, 2)
	assert.Equal(t, int64(77), *uses["index"].Used.Tokens)
	assert.Equal(t, "0.000315 AVM", uses["index"].Used.Money.String())
	assert.Contains(t, uses["index"].Log, "indexed")
	assert.Contains(t, uses["broken"].Trouble, "exit status 3")
}

// One brief in several wordings: each is a bout of its own, and the table says how far
// results with them differ.
func TestWordings(t *testing.T) {
	tools := map[string]string{
		"picky": `grep -q politely "$0" 2>/dev/null; case "$1" in *politely*) echo on > lamp.txt;; *) echo off2 > lamp.txt;; esac`,
		"plain": "contender: plain\ntitle: Plain\nrun: [sh, -c, 'echo on > lamp.txt']\n",
	}
	tools["picky"] = "contender: picky\ntitle: Picky\nrun: [sh, -c, 'case \"$1\" in *politely*) echo on > lamp.txt;; *) echo out > lamp.txt;; esac', x, '{brief}']\n"
	p := newPort(t, "wordings: [all]\n", tools)
	head, _, _ := strings.Cut(portTask[3:], "---")
	p.files["lamp.md"] = "---" + head + "---\nAbout the lamp.\n\n## wording: short\nLight it.\n\n## wording: polite\nWould you politely light it?\n"
	p.write(t)
	_, c := start(t, t.TempDir())
	plan, err := c.PlanContest(t.Context(), p.bundle(), nil)
	require.NoError(t, err)
	assert.Equal(t, 4, plan.Bouts)
	assert.Equal(t, []string{"short", "polite"}, plan.Tasks[0].Wordings)
	d := finish(t, c, begin(t, c, p))
	require.Len(t, d.Bouts, 4)
	assert.Len(t, d.Tasks[0].Wordings, 2)
	for _, b := range d.Bouts {
		words := lastRound(t, show(t, c, b)).Words
		assert.Equal(t, map[string]string{"short": "About the lamp.\n\nLight it.", "polite": "About the lamp.\n\nWould you politely light it?"}[b.Wording], words)
	}
	require.Len(t, d.Standings.ByWording, 4)
	got := map[string]int{}
	for _, r := range d.Standings.ByWording {
		got[r.Contender+" "+r.Wording] = r.Passed
	}
	assert.Equal(t, map[string]int{"picky short": 0, "picky polite": 1, "plain short": 1, "plain polite": 1}, got)
	for _, s := range d.Standings.Spreads {
		assert.Equal(t, map[string]float64{"picky": 1, "plain": 0}[s.Contender], s.Share)
	}
}

// The clock, held against the tool's own: it notes when it did what.
func TestTheClock(t *testing.T) {
	p := newPort(t, "repeats: 6\n", map[string]string{
		"timed": "contender: timed\ntitle: Notes its own times\nreplies: [{pattern: 'ready\\?', send: \"\"}]\n" + `run:
  - bash
  - -c
  - |
    now() { echo "$1 $(( ${EPOCHREALTIME/[.,]/} - $2 ))"; }
    b=${EPOCHREALTIME/[.,]/}
    read -r -t 0.4 < <(:) ; sleep 0.4
    t=${EPOCHREALTIME/[.,]/}; echo on > lamp.txt
    sleep 1
    q=${EPOCHREALTIME/[.,]/}; echo 'ready?'; read -r a
    r=${EPOCHREALTIME/[.,]/}
    sleep 0.1; e=${EPOCHREALTIME/[.,]/}
    echo "edit $((t - b)) waited $((r - q)) all $((e - b))"
`})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	const allowed = 20_000 // microseconds
	best := map[string]int64{}
	note := func(what string, measured, own int64) {
		diff := measured - own
		if diff < 0 {
			diff = -diff
		}
		if had, ok := best[what]; !ok || diff < had {
			best[what] = diff
		}
	}
	for _, b := range d.Bouts {
		full := show(t, c, b)
		require.Equal(t, verdict.Passed, b.Verdict.Outcome)
		log, err := c.Log(t.Context(), b.ID, "", 0)
		require.NoError(t, err)
		own := map[string]int64{}
		fields := strings.Fields(string(log)[strings.Index(string(log), "edit"):])
		for i := 0; i+1 < len(fields); i += 2 {
			own[fields[i]], err = strconv.ParseInt(fields[i+1], 10, 64)
			require.NoError(t, err)
		}
		timing := full.Timing
		require.Equal(t, timing.Elapsed, timing.Parts.Whole(), "the parts add up")
		note("elapsed", timing.Elapsed, own["all"])
		note("first edit", *timing.FirstEdit, own["edit"])
		note("waiting", timing.Parts.Asked, own["waited"])
		// Quiet is what no edit and no output accounts for: a quarter of a second before
		// each is the tool's own work.
		reach := timeline.Us(timeline.Reach)
		note("quiet", timing.LongestQuiet, own["all"]-own["edit"]-own["waited"]-100_000-reach)
	}
	for what, diff := range best {
		assert.LessOrEqual(t, diff, int64(allowed), "%s, in the quietest of the bouts", what)
	}
	assert.Len(t, best, 4)
}

// A check of readiness with its trial bout is kept, and the contest's page shows it.
func TestReadiness(t *testing.T) {
	p := newPort(t, "", map[string]string{
		"good":   "contender: good\ntitle: Good\nversion_command: [echo, good 9]\nrun: [sh, -c, 'case \"$1\" in *LAMPS.txt*) echo all lamps are lit > LAMPS.txt;; *) echo on > lamp.txt;; esac', x, '{brief}']\n",
		"idle":   "contender: idle\ntitle: Idle\nrun: [sh, -c, 'echo nothing to do here']\n",
		"hands":  "contender: hands\ntitle: By hand\ndrive: hand\n",
		"deaf":   "contender: deaf\ntitle: Deaf\ndrive: acp\nrun: [sh, -c, 'echo hello; exit 0']\n",
		"speaks": "contender: speaks\ntitle: Speaks\ndrive: acp\nrun: [node, knot.js]\n",
	})
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "knot.js"), []byte(speaker), 0o644))
	p.files["tools/speaks.yaml"] = "contender: speaks\ntitle: Speaks\ndrive: acp\nrun: [node, \"" + filepath.Join(p.dir, "knot.js") + "\"]\nreads: [\"" + p.dir + "\"]\n"
	p.write(t)
	_, c := start(t, t.TempDir())
	check := func(name string) (api.Report, string) {
		b := p.bundle()
		b.Main = filepath.Join(p.dir, "tools", name+".yaml")
		r, err := c.CheckContender(t.Context(), "file", b, true)
		require.NoError(t, err)
		var words []string
		for _, f := range r.Findings {
			words = append(words, f.Level+" "+f.What+": "+f.Detail)
		}
		return r, strings.Join(words, "\n")
	}
	good, words := check("good")
	assert.True(t, good.OK)
	assert.Equal(t, "good 9", good.Version)
	require.NotNil(t, good.TrialMS, words)
	assert.Contains(t, words, "ok trial bout: it made the change that was asked for, in ")
	idle, words := check("idle")
	assert.True(t, idle.OK)
	assert.Contains(t, words, "warning trial bout: it ended and changed nothing")
	_, words = check("hands")
	assert.Contains(t, words, "by hand: a person starts it")
	deaf, words := check("deaf")
	assert.False(t, deaf.OK)
	assert.Contains(t, words, "missing handshake: it does not shake hands over the protocol: ended before it answered")
	assert.Nil(t, deaf.TrialMS, "no trial without a handshake")
	speaks, words := check("speaks")
	assert.Contains(t, words, "it shakes hands: knot 3.1")
	assert.Equal(t, "knot 3.1", speaks.Version)

	d := begin(t, c, p)
	d, err := c.Contest(t.Context(), d.ID)
	require.NoError(t, err)
	for _, con := range d.Contenders {
		require.NotNil(t, con.Readiness, con.Contender)
		if con.Contender == "good" {
			assert.Equal(t, good.TrialMS, con.Readiness.TrialMS)
		}
	}
	require.NoError(t, c.StopContest(t.Context(), d.ID))
}
