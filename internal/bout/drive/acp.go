package drive

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	acp "github.com/coder/acp-go-sdk"
	"github.com/shopspring/decimal"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/confine"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/timeline"
)

// session is a tool that is driven over the Agent Client Protocol (version 1): one
// process and one session for all rounds of a bout. Agonometer is the client. What
// the tool asks of its client is served inside the workspace only.
type session struct {
	process *confine.Process
	exit    chan ended
	closed  bool
	gone    *ended
	stdin   *os.File
	stdout  *os.File
	deaf    atomic.Bool // it reads no more
	conn    *acp.Connection
	gate    *gate
	id      acp.SessionId
	version string
	model   string
	tree    *beneath.Dir
	terms   *terminals
	// still is held while what the tool left is being looked at: what the tool asked its
	// client to do before, and was not answered yet, waits.
	still sync.RWMutex

	mu    sync.Mutex
	h     HandOver // the present round
	round roundTalk
	usage acp.Usage  // all rounds so far
	cost  *acp.Cost  // likewise
	told  *acp.Usage // by the last reply
	spent *acp.Cost
}

type ended struct {
	confine.Result
	err error
}

// roundTalk is what the tool has said in a round.
type roundTalk struct {
	all, last strings.Builder // last is what came since the last tool call
	burst     Seen
	calls     map[acp.ToolCallId]*Seen
	midLine   bool
}

// maxSaid is how much of what a tool says in a round is kept as its closing words,
// in bytes.
const maxSaid = 1 << 20

// goodbye is how long a tool has to end a turn that was cancelled, or to end when
// its input was closed.
const goodbye = 3 * time.Second

func (s *session) HandOver(ctx context.Context, h HandOver) (Ended, error) {
	began := time.Now()
	if s.gone != nil { // it ended between two rounds
		return Ended{Result: confine.Result{ExitCode: 1, Signal: "had ended before the round"}}, nil
	}
	s.mu.Lock()
	s.h, s.round = h, roundTalk{calls: map[acp.ToolCallId]*Seen{}}
	s.mu.Unlock()
	if s.process == nil {
		if err := s.start(ctx, &h); err != nil {
			return Ended{}, err
		}
		began = s.process.Began // making its surroundings was not the tool's time
	}
	h.started(s.process, began)
	turn, cancel := context.WithCancel(ctx)
	defer cancel()
	type answer struct {
		reason acp.StopReason
		err    error
	}
	done := make(chan answer, 1)
	go func() { // ends with the turn, or with the connection
		s.mu.Lock()
		id := s.id
		s.mu.Unlock()
		if id == "" {
			var err error
			if id, err = s.shake(turn); err != nil {
				done <- answer{err: err}
				return
			}
		}
		resp, err := acp.SendRequest[acp.PromptResponse](s.conn, turn, acp.AgentMethodSessionPrompt, acp.PromptRequest{SessionId: id, Prompt: prompt(&h)})
		if err == nil && resp.Usage != nil {
			s.mu.Lock()
			s.told = resp.Usage
			s.mu.Unlock()
		}
		done <- answer{resp.StopReason, err}
	}()
	var limit <-chan time.Time
	if h.Limit > 0 {
		t := time.NewTimer(h.Limit)
		defer t.Stop()
		limit = t.C
	}
	out := Ended{Process: s.process, Stays: true}
	finish := func(a answer) error {
		var missing *HandshakeError
		switch {
		case errors.As(a.err, &missing):
			return missing
		case a.err != nil:
			out.ExitCode, out.Signal = 1, "error: "+oneLine(a.err.Error())
		case a.reason != acp.StopReasonEndTurn && a.reason != acp.StopReasonCancelled:
			out.ExitCode, out.Signal = 1, "stopped by itself: "+string(a.reason)
		}
		return nil
	}
	var err error
	select {
	case a := <-done:
		err = finish(a)
		if a.err != nil {
			s.afterError(&out)
		}
	case e := <-s.exit:
		s.gone = &e
		out.Result, out.Stays = e.Result, false
		if err = e.err; out.ExitCode == 0 {
			out.ExitCode, out.Signal = 1, "ended before it answered"
		}
		select { // the answer may have come with its last breath
		case a := <-done:
			if a.err == nil {
				out.ExitCode, out.Signal = 0, ""
				err = finish(a)
			}
		case <-time.After(goodbye / 10):
		}
	case <-h.Stop:
		out.Stopped = true
		s.cancel(done2(done))
	case <-limit:
		out.TimedOut = true
		s.cancel(done2(done))
	case <-ctx.Done():
	}
	out.Elapsed = time.Since(began)
	if s.gone != nil {
		out.Process = nil
	}
	s.close(&out)
	return out, err
}

// afterError looks at what an answer that is an error leaves behind: a tool whose
// connection is gone cannot be talked to any more, and ends.
func (s *session) afterError(out *Ended) {
	if !s.hungUp() {
		return
	}
	var e ended
	select {
	case e = <-s.exit:
	case <-time.After(goodbye / 10):
		s.process.Kill()
		e = <-s.exit
	}
	s.gone = &e
	out.Result, out.Stays = e.Result, false
	if out.ExitCode == 0 || s.gate.why() != nil {
		out.ExitCode, out.Signal = 1, "ended before it answered"
	}
	if why := s.gate.why(); why != nil {
		out.Signal = why.Error()
	}
}

// done2 forgets what kind of answer a channel brings.
func done2[T any](c <-chan T) <-chan struct{} {
	out := make(chan struct{})
	go func() { <-c; close(out) }() // ends with the connection at the latest
	return out
}

// cancel asks the tool to end its turn, and gives it a moment for that.
func (s *session) cancel(done <-chan struct{}) {
	s.mu.Lock()
	id := s.id
	s.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), goodbye)
	defer cancel()
	go func() { // a tool that does not read must not hold this up
		_ = s.conn.SendNotification(ctx, acp.AgentMethodSessionCancel, acp.CancelNotification{SessionId: id})
	}()
	select {
	case <-done:
	case <-ctx.Done():
	case e := <-s.exit:
		s.gone = &e
	}
}

// close ends a round: what was open is told, and what the tool said gathered.
func (s *session) close(out *Ended) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.endBurst()
	now := time.Now()
	for _, call := range s.round.calls {
		call.Until = now
		s.h.seen(*call)
	}
	s.round.calls = map[acp.ToolCallId]*Seen{}
	if text := strings.TrimSpace(s.round.last.String()); text != "" {
		out.Answer = []byte(text)
	} else {
		out.Answer = []byte(strings.TrimSpace(s.round.all.String()))
	}
	if n := s.gate.strange(); n > 0 {
		s.h.seen(Seen{Kind: timeline.Denied, From: now, Until: now, Text: fmt.Sprintf("%d messages could not be understood", n)})
	}
	out.Version = s.version
	out.Protocol = s.used()
}

// Freeze and Thaw stop the tool and its commands between two rounds. What does not come
// to a stop is ended: it would work on while nobody counts.
func (s *session) Freeze() {
	s.still.Lock()
	if s.process == nil || s.gone != nil {
		return
	}
	stop := func(p *confine.Process) {
		if !p.Freeze() && s.h.World.Mode == confine.Namespaces {
			p.Kill()
		}
	}
	stop(s.process)
	s.terms.each(stop)
}

func (s *session) Thaw() {
	defer s.still.Unlock()
	if s.process != nil && s.gone == nil {
		s.terms.each((*confine.Process).Thaw)
		s.process.Thaw()
	}
}

// Close ends the tool and everything that it had asked for.
func (s *session) Close() {
	if s.process == nil || s.closed {
		return
	}
	s.closed = true
	_ = s.stdin.Close()
	if s.gone == nil {
		select {
		case <-s.exit:
		case <-time.After(goodbye):
			s.process.Kill()
			<-s.exit
		}
	}
	s.terms.close()
	_ = s.stdout.Close()
	_ = s.tree.Close()
}

// start starts the program, with pipes to talk over.
func (s *session) start(ctx context.Context, h *HandOver) error {
	args, env, err := h.start(h.Contender.Run)
	if err != nil {
		return err
	}
	tree, err := beneath.Open(h.World.Workspace)
	if err != nil {
		return err
	}
	inR, inW, err := os.Pipe()
	if err != nil {
		tree.Close()
		return err
	}
	outR, outW, err := os.Pipe()
	if err != nil {
		tree.Close()
		inR.Close()
		inW.Close()
		return err
	}
	p, err := confine.Start(ctx, h.World.Spec(args, env), confine.IO{Stdin: inR, Stdout: outW, Stderr: h.Output})
	inR.Close()
	outW.Close()
	if err != nil {
		tree.Close()
		inW.Close()
		outR.Close()
		return err
	}
	s.process, s.stdin, s.stdout, s.tree = p, inW, outR, tree
	s.terms = &terminals{ctx: ctx, world: h.World, all: map[string]*terminal{}, seen: func(e Seen) { s.tell(e) }, breached: h.Breached}
	s.exit = make(chan ended, 1)
	go func() { // ends with the process
		res, err := p.Wait(0, nil)
		s.exit <- ended{res, err}
	}()
	s.gate = newGate(outR)
	s.conn = acp.NewConnection(s.serve, &mouth{to: inW, closed: &s.deaf}, s.gate)
	s.conn.SetLogger(slog.New(slog.DiscardHandler)) // it would log whole messages of the tool
	return nil
}

// tell passes on what happened in the present round.
func (s *session) tell(e Seen) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.h.seen(e)
}

// shake shakes hands: versions, a session in the workspace, the model.
func (s *session) shake(ctx context.Context) (acp.SessionId, error) {
	init, err := acp.SendRequest[acp.InitializeResponse](s.conn, ctx, acp.AgentMethodInitialize, acp.InitializeRequest{
		ProtocolVersion: acp.ProtocolVersionNumber, ClientInfo: &acp.Implementation{Name: "agonometer", Version: "1"},
		ClientCapabilities: acp.ClientCapabilities{Fs: acp.FileSystemCapabilities{ReadTextFile: true, WriteTextFile: true}, Terminal: true}})
	if err != nil {
		return "", s.refused("initialize", err)
	}
	if init.ProtocolVersion != acp.ProtocolVersionNumber {
		return "", &HandshakeError{fmt.Sprintf("the tool speaks version %d of the protocol; this service speaks %d", init.ProtocolVersion, acp.ProtocolVersionNumber)}
	}
	ws, _, _, _ := s.h.World.Paths()
	made, err := acp.SendRequest[acp.NewSessionResponse](s.conn, ctx, acp.AgentMethodSessionNew, acp.NewSessionRequest{Cwd: ws, McpServers: []acp.McpServer{}})
	if err != nil {
		return "", s.refused("a new session", err)
	}
	if made.SessionId == "" {
		return "", &HandshakeError{"the tool made a session without an id"}
	}
	model := ""
	if m := made.Models; m != nil {
		model = string(m.CurrentModelId)
		if want := s.h.Contender.Model; want != "" && want != model {
			if err := s.choose(ctx, made, want); err != nil {
				return "", err
			}
			model = want
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if i := init.AgentInfo; i != nil {
		s.version = strings.TrimSpace(oneLine(i.Name + " " + i.Version))
	}
	s.id, s.model = made.SessionId, model
	return s.id, nil
}

// Handshake starts a tool that speaks the protocol, shakes hands and opens a session,
// and ends it again. It returns what the tool says that it is.
func Handshake(ctx context.Context, h HandOver) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, h.Limit)
	defer cancel()
	s := &session{h: h, round: roundTalk{calls: map[acp.ToolCallId]*Seen{}}}
	if err := s.start(ctx, &h); err != nil {
		return "", err
	}
	defer s.Close()
	if _, err := s.shake(ctx); err != nil {
		if ctx.Err() != nil {
			return "", &HandshakeError{fmt.Sprintf("it does not shake hands over the protocol: no answer within %s", h.Limit)}
		}
		var missing *HandshakeError
		if !errors.As(err, &missing) {
			var out Ended
			s.afterError(&out)
			missing = &HandshakeError{strings.TrimSuffix("it does not shake hands over the protocol: "+out.Signal, ": ")}
		}
		return "", missing
	}
	return s.version, nil
}

// choose asks for the contender's model.
func (s *session) choose(ctx context.Context, made acp.NewSessionResponse, want string) error {
	var names []string
	for _, m := range made.Models.AvailableModels {
		names = append(names, string(m.ModelId))
		if string(m.ModelId) != want {
			continue
		}
		_, err := acp.SendRequest[acp.UnstableSetSessionModelResponse](s.conn, ctx, acp.AgentMethodSessionSetModel,
			acp.UnstableSetSessionModelRequest{SessionId: made.SessionId, ModelId: acp.UnstableModelId(want)})
		if err != nil {
			return s.refused("the model "+want, err)
		}
		return nil
	}
	return &HandshakeError{fmt.Sprintf("the tool does not offer the model %s; it offers %s", want, strings.Join(names, ", "))}
}

// mouth writes to a tool, and notes when the tool does not listen any more: the
// connection makes of that an answer which the tool never gave.
type mouth struct {
	to     io.Writer
	closed *atomic.Bool
}

func (m *mouth) Write(p []byte) (int, error) {
	n, err := m.to.Write(p)
	if err != nil {
		m.closed.Store(true)
	}
	return n, err
}

// hungUp tells whether the connection is gone, on either side.
func (s *session) hungUp() bool {
	select {
	case <-s.conn.Done():
		return true
	default:
		return s.deaf.Load()
	}
}

// refused tells an answer that is an error from a connection that broke.
func (s *session) refused(what string, err error) error {
	var answer *acp.RequestError
	if s.hungUp() {
		return err
	}
	if !errors.As(err, &answer) || answer.Code == -32603 && strings.Contains(answer.Error(), "peer disconnected") {
		return err
	}
	if answer.Code == acp.NewAuthRequired(nil).Code {
		return &HandshakeError{"the tool wants to be signed in: sign it in on the service's machine and carry its state (carry), or pass its key (keep_env)"}
	}
	return &HandshakeError{"the tool refused " + what + ": " + oneLine(answer.Error())}
}

// prompt is the brief with links to its attachments.
func prompt(h *HandOver) []acp.ContentBlock {
	out := []acp.ContentBlock{acp.TextBlock(h.Brief)}
	for _, name := range h.Attachments {
		out = append(out, acp.ResourceLinkBlock(filepath.Base(name), "file://"+name))
	}
	return out
}

// used is what this round added to the session's counts; the lock is held. A tool
// that counts anew for each prompt shows less than before: then its count is the
// round's own.
func (s *session) used() *ledger.Told {
	t := &ledger.Told{Model: s.model}
	if u := s.told; u != nil {
		now, before := kinds(u), kinds(&s.usage)
		anew := false
		for i := range now {
			anew = anew || now[i] < before[i]
		}
		var d [5]int64
		for i := range now {
			if d[i] = now[i]; !anew {
				d[i] -= before[i]
			}
		}
		fresh, cached, written, output := d[0], d[1], d[2], d[3]
		t.Tokens = ledger.Tokens{Fresh: &fresh, Output: &output}
		if u.CachedReadTokens != nil {
			t.Tokens.Cached = &cached
		}
		if u.CachedWriteTokens != nil {
			t.Tokens.Written = &written
		}
		if u.ThoughtTokens != nil {
			thought := d[4]
			t.Tokens.Reasoning = &thought
		}
		s.usage, s.told = *u, nil
	}
	if c := s.spent; c != nil {
		now, before := costOf(c), decimal.Zero
		if s.cost != nil && s.cost.Currency == c.Currency {
			before = costOf(s.cost)
		}
		m := &ledger.Money{}
		if now.GreaterThanOrEqual(before) && m.ParseScalar(now.Sub(before).Truncate(12).String()+" "+c.Currency) == nil {
			t.Money = m
		}
		s.cost, s.spent = c, nil
	}
	if t.Empty() {
		return nil
	}
	return t
}

// kinds are the counts of a usage: fresh, cached, written, all output, thoughts.
// The protocol calls the total the sum of all kinds; where thoughts are a part of
// the output already, the sum tells.
func kinds(u *acp.Usage) [5]int64 {
	at := func(n *int) int64 {
		if n == nil {
			return 0
		}
		return int64(max(*n, 0))
	}
	in, out, thought := int64(max(u.InputTokens, 0)), int64(max(u.OutputTokens, 0)), at(u.ThoughtTokens)
	cached, written := at(u.CachedReadTokens), at(u.CachedWriteTokens)
	total := int64(u.TotalTokens)
	if in+out+cached+written != total || thought == 0 {
		if in+out == total { // input counts the cached ones, output the thoughts
			in -= min(in, cached+written)
			return [5]int64{in, cached, written, out, thought}
		}
		out += thought
	}
	return [5]int64{in, cached, written, out, thought}
}

func costOf(c *acp.Cost) decimal.Decimal {
	d, err := decimal.NewFromString(strconv.FormatFloat(c.Amount, 'f', -1, 64))
	if err != nil {
		return decimal.Zero
	}
	return d
}

// serve answers what the tool asks of its client.
func (s *session) serve(ctx context.Context, method string, params json.RawMessage) (any, *acp.RequestError) {
	defer s.gate.served(method)
	switch method {
	case acp.ClientMethodSessionUpdate:
		return serve(params, func(n acp.SessionNotification) (any, error) { s.update(n.Update); return nil, nil })
	case acp.ClientMethodSessionRequestPermission:
		return serve(params, s.permission)
	case acp.ClientMethodFsReadTextFile:
		return serveStill(s, params, s.readFile)
	case acp.ClientMethodFsWriteTextFile:
		return serveStill(s, params, s.writeFile)
	case acp.ClientMethodTerminalCreate:
		return serveStill(s, params, s.terms.create)
	case acp.ClientMethodTerminalOutput:
		return serve(params, s.terms.output)
	case acp.ClientMethodTerminalWaitForExit:
		return serve(params, func(r acp.WaitForTerminalExitRequest) (any, error) { return s.terms.wait(ctx, r) })
	case acp.ClientMethodTerminalKill:
		return serveStill(s, params, s.terms.kill)
	case acp.ClientMethodTerminalRelease:
		return serveStill(s, params, s.terms.release)
	}
	return nil, acp.NewMethodNotFound(method)
}

// serveStill is serve for what touches the workspace, or starts and ends commands.
func serveStill[T any](s *session, params json.RawMessage, do func(T) (any, error)) (any, *acp.RequestError) {
	s.still.RLock()
	defer s.still.RUnlock()
	return serve(params, do)
}

func serve[T any](params json.RawMessage, do func(T) (any, error)) (any, *acp.RequestError) {
	var in T
	if err := json.Unmarshal(params, &in); err != nil {
		return nil, acp.NewInvalidParams(map[string]any{"error": err.Error()})
	}
	out, err := do(in)
	if err != nil {
		return nil, acp.NewInvalidParams(map[string]any{"error": err.Error()})
	}
	return out, nil
}

// update takes one piece of what the tool tells about its turn.
func (s *session) update(u acp.SessionUpdate) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := time.Now()
	switch {
	case u.AgentMessageChunk != nil:
		text := textOf(u.AgentMessageChunk.Content)
		s.gather(timeline.Said, now, len(text))
		s.print(text)
		for _, into := range []*strings.Builder{&s.round.all, &s.round.last} {
			if into.Len()+len(text) <= maxSaid {
				into.WriteString(text)
			}
		}
	case u.AgentThoughtChunk != nil:
		s.gather(timeline.Thought, now, len(textOf(u.AgentThoughtChunk.Content)))
		s.line("")
	case u.Plan != nil:
		s.endBurst()
		done := 0
		for _, e := range u.Plan.Entries {
			if e.Status == acp.PlanEntryStatusCompleted {
				done++
			}
		}
		text := fmt.Sprintf("plan: %d of %d steps done", done, len(u.Plan.Entries))
		s.line(text)
		s.h.seen(Seen{Kind: timeline.Plan, From: now, Until: now, Text: text, Count: int64(len(u.Plan.Entries))})
	case u.ToolCall != nil:
		s.endBurst()
		s.round.last.Reset()
		c := u.ToolCall
		s.line("call: " + oneLine(c.Title))
		s.call(c.ToolCallId, c.Title, c.Status, now)
	case u.ToolCallUpdate != nil:
		s.endBurst()
		c := u.ToolCallUpdate
		title, status := "", acp.ToolCallStatus("")
		if c.Title != nil {
			title = *c.Title
		}
		if c.Status != nil {
			status = *c.Status
		}
		s.call(c.ToolCallId, title, status, now)
	case u.UsageUpdate != nil:
		x := u.UsageUpdate
		if x.Cost != nil {
			s.spent = x.Cost
		}
		s.h.seen(Seen{Kind: timeline.Usage, From: now, Until: now, Count: int64(x.Used), Text: fmt.Sprintf("%d of %d tokens of context", x.Used, x.Size)})
		s.line("")
	default:
		s.line("")
	}
}

// maxCalls bounds how many tool calls are followed at once.
const maxCalls = 1000

// call follows a tool call from its first word to its end; the lock is held.
func (s *session) call(id acp.ToolCallId, title string, status acp.ToolCallStatus, now time.Time) {
	c := s.round.calls[id]
	if c == nil {
		if len(s.round.calls) >= maxCalls {
			return
		}
		c = &Seen{Kind: timeline.Call, From: now}
		s.round.calls[id] = c
	}
	if title != "" {
		c.Text = oneLine(title)
	}
	if status == acp.ToolCallStatusCompleted || status == acp.ToolCallStatusFailed {
		c.Until, c.OK = now, status == acp.ToolCallStatusCompleted
		s.h.seen(*c)
		delete(s.round.calls, id)
	}
}

// gather joins pieces of messages that come close together; the lock is held.
func (s *session) gather(kind timeline.Kind, now time.Time, n int) {
	if b := &s.round.burst; b.Kind == kind && now.Sub(b.Until) < timeline.Reach && now.Sub(b.From) < 5*time.Second {
		b.Until, b.Count = now, b.Count+int64(n)
		return
	}
	s.endBurst()
	s.round.burst = Seen{Kind: kind, From: now, Until: now, Count: int64(n)}
}

func (s *session) endBurst() {
	if s.round.burst.Kind != "" {
		s.h.seen(s.round.burst)
		s.round.burst = Seen{}
	}
}

// print writes what the tool says to its log; the lock is held.
func (s *session) print(text string) {
	if text != "" {
		s.round.midLine = !strings.HasSuffix(text, "\n")
	}
	_, _ = io.WriteString(s.h.Output, text)
}

// line writes a line of its own; "" only shows that the tool is alive.
func (s *session) line(text string) {
	if text == "" {
		_, _ = s.h.Output.Write(nil)
		return
	}
	if s.round.midLine {
		text = "\n" + text
	}
	s.print(text + "\n")
}

func textOf(c acp.ContentBlock) string {
	switch {
	case c.Text != nil:
		return c.Text.Text
	case c.ResourceLink != nil:
		return "[" + oneLine(c.ResourceLink.Name) + "]"
	case c.Image != nil:
		return "[a picture]"
	}
	return ""
}

// permission answers by the contender's rules.
func (s *session) permission(r acp.RequestPermissionRequest) (any, error) {
	came := time.Now()
	title, kind := "", string(acp.ToolKindOther)
	if r.ToolCall.Title != nil {
		title = *r.ToolCall.Title
	}
	if r.ToolCall.Kind != nil {
		kind = string(*r.ToolCall.Kind)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.round.calls[r.ToolCall.ToolCallId]; title == "" && c != nil {
		title = c.Text
	}
	wanted := []acp.PermissionOptionKind{acp.PermissionOptionKindAllowOnce, acp.PermissionOptionKindAllowAlways}
	answer := s.h.Contender.Answer(kind, title)
	if answer == contender.Refuse {
		wanted = []acp.PermissionOptionKind{acp.PermissionOptionKindRejectOnce, acp.PermissionOptionKindRejectAlways}
	}
	out := acp.RequestPermissionResponse{Outcome: acp.RequestPermissionOutcome{Cancelled: &acp.RequestPermissionOutcomeCancelled{Outcome: "cancelled"}}}
	said := "there is no such choice"
find:
	for _, k := range wanted {
		for _, o := range r.Options {
			if o.Kind == k {
				out.Outcome = acp.RequestPermissionOutcome{Selected: &acp.RequestPermissionOutcomeSelected{Outcome: "selected", OptionId: o.OptionId}}
				said = string(answer)
				break find
			}
		}
	}
	text := "permission: " + oneLine(title) + " -> " + said
	s.endBurst()
	s.line(text)
	s.h.seen(Seen{Kind: timeline.Asked, From: came, Until: time.Now(), Text: text, OK: answer == contender.Allow})
	return out, nil
}
