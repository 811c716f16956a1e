package standin

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/bluekeyes/go-gitdiff/gitdiff"
)

// Model is one of the simulated models, named after tides.
type Model struct {
	Name, About string
	// RepliesAs is the name under which it replies; "" is its own.
	RepliesAs string
	// Think is the shortest and the longest time to the first word, Word the time
	// between two pieces of a streamed reply.
	Think [2]time.Duration
	Word  time.Duration
	// Reasons is how many tokens of reasoning each reply has.
	Reasons int64
	// Ways are the solutions that it may find in each style, with their likelihoods.
	Ways map[Style][]Way
	// Spins is how likely it makes no headway at all for a hasty tool.
	Spins float64
}

// Way is a solution of a playbook and how likely it is found.
type Way struct {
	Patch string
	Share float64
}

// Models are the simulated models.
func Models() []Model {
	ms := func(a, b int) [2]time.Duration {
		return [2]time.Duration{time.Duration(a) * time.Millisecond, time.Duration(b) * time.Millisecond}
	}
	spring := map[Style][]Way{Careful: {{"careful", 0.9}, {"lucky", 0.1}}, Hasty: {{"hasty", 0.5}, {"lucky", 0.5}}, Sprawling: {{"sprawling", 1}}}
	neap := map[Style][]Way{Careful: {{"careful", 0.4}, {"lucky", 0.2}, {"hasty", 0.4}}, Hasty: {{"hasty", 0.7}, {"lucky", 0.3}}, Sprawling: {{"sprawling", 0.6}, {"hasty", 0.4}}}
	ebb := map[Style][]Way{Careful: {{"hasty", 0.6}, {"lucky", 0.4}}, Hasty: {{"hasty", 0.8}, {"lucky", 0.2}}, Sprawling: {{"sprawling", 0.3}, {"hasty", 0.7}}}
	return []Model{
		{Name: "spring-tide", About: "large and slow", Think: ms(50, 130), Word: 3 * time.Millisecond, Reasons: 40, Ways: spring, Spins: 0.15},
		{Name: "neap-tide", About: "smaller, quicker, cheaper", Think: ms(30, 80), Word: 2 * time.Millisecond, Ways: neap, Spins: 0.15},
		{Name: "ebb-tide", About: "the smallest", Think: ms(15, 45), Word: time.Millisecond, Ways: ebb, Spins: 0.15},
		{Name: "king-tide", About: "asked for by this name, it replies under another", RepliesAs: "neap-tide", Think: ms(30, 80), Word: 2 * time.Millisecond, Ways: neap},
	}
}

// Service is the simulated model service, as an HTTP handler. It takes
// POST .../chat/completions, streamed or not, GET .../models, and POST /outage with
// {"on": true}, which makes it answer 503 until it is switched off again.
type Service struct {
	Playbooks fs.FS
	// Models are those it has; nil for all there are.
	Models []Model
	// Scale stretches all pauses; 1 is as the models have them.
	Scale float64
	// Refuses is the share of conversations whose first request to the largest
	// model is refused once, by their seed.
	Refuses float64
	// PerMinute is how many requests any model takes in a minute; 0 for no limit.
	PerMinute int

	mu      sync.Mutex
	outage  bool
	refused map[string]bool
	starts  map[string][]time.Time
}

func (s *Service) models() []Model {
	if s.Models != nil {
		return s.Models
	}
	return Models()
}

// Outage switches the outage on or off.
func (s *Service) Outage(on bool) {
	s.mu.Lock()
	s.outage = on
	s.mu.Unlock()
}

const maxConversation = 16 << 20

func (s *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "/chat/completions"):
		s.complete(w, r)
	case r.Method == http.MethodGet && strings.HasSuffix(r.URL.Path, "/models"):
		var list []map[string]string
		for _, m := range s.models() {
			list = append(list, map[string]string{"id": m.Name, "object": "model", "about": m.About})
		}
		answer(w, http.StatusOK, map[string]any{"object": "list", "data": list})
	case r.Method == http.MethodPost && r.URL.Path == "/outage":
		var in struct {
			On bool `json:"on"`
		}
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1024)).Decode(&in); err != nil {
			fail(w, http.StatusBadRequest, "invalid_request", `wanted is {"on": true} or {"on": false}`)
			return
		}
		s.Outage(in.On)
		answer(w, http.StatusOK, in)
	default:
		fail(w, http.StatusNotFound, "not_found", "there are POST /chat/completions, GET /models and POST /outage")
	}
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func fail(w http.ResponseWriter, status int, kind, words string) {
	var f failure
	f.Error.Type, f.Error.Message = kind, words
	answer(w, status, f)
}

func (s *Service) complete(w http.ResponseWriter, r *http.Request) {
	var in request
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxConversation)).Decode(&in); err != nil || len(in.Messages) == 0 {
		fail(w, http.StatusBadRequest, "invalid_request", "the conversation cannot be read")
		return
	}
	models := s.models()
	at := slices.IndexFunc(models, func(m Model) bool { return m.Name == in.Model })
	if at < 0 {
		fail(w, http.StatusNotFound, "model_not_found", "there is no model "+in.Model)
		return
	}
	m := &models[at]
	if status, kind, words, retry := s.refuse(&in, at == 0); status != 0 {
		if retry != "" {
			w.Header().Set("Retry-After", retry)
		}
		fail(w, status, kind, words)
		return
	}
	say, err := s.next(&in, m)
	if err != nil {
		fail(w, http.StatusInternalServerError, "server_error", err.Error())
		return
	}
	rng := rand.New(rand.NewPCG(in.Seed, uint64(len(in.Messages))))
	pause := m.Think[0] + time.Duration(rng.Int64N(int64(m.Think[1]-m.Think[0]+1)))
	if !s.pause(r, pause) {
		return
	}
	used := count(&in, say, m)
	name := m.Name
	if m.RepliesAs != "" {
		name = m.RepliesAs
	}
	head := reply{ID: fmt.Sprintf("tide-%d-%d", in.Seed, len(in.Messages)), Object: "chat.completion", Created: 1_924_992_000, Model: name}
	finish := "stop"
	if len(say.Calls) > 0 {
		finish = "tool_calls"
	}
	if !in.Stream {
		head.Choices, head.Usage = []choice{{Message: say, Finish: &finish}}, used
		answer(w, http.StatusOK, head)
		return
	}
	s.stream(w, r, &in, head, say, finish, used, m)
}

// pause waits, and tells whether the one who asked is still there.
func (s *Service) pause(r *http.Request, d time.Duration) bool {
	t := time.NewTimer(time.Duration(float64(d) * s.Scale))
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-r.Context().Done():
		return false
	}
}

func (s *Service) stream(w http.ResponseWriter, r *http.Request, in *request, head reply, say *message, finish string, used *usage, m *Model) {
	w.Header().Set("Content-Type", "text/event-stream")
	flush := http.NewResponseController(w)
	head.Object = "chat.completion.chunk"
	send := func(c []choice, u *usage) {
		head.Choices, head.Usage = c, u
		text, _ := json.Marshal(head)
		fmt.Fprintf(w, "data: %s\n\n", text)
		_ = flush.Flush()
	}
	words := strings.SplitAfter(say.Content, " ")
	for i := 0; i < len(words); i += 8 {
		send([]choice{{Delta: &message{Role: "assistant", Content: strings.Join(words[i:min(i+8, len(words))], "")}}}, nil)
		if !s.pause(r, m.Word) {
			return
		}
	}
	for i, c := range say.Calls {
		c.Index = &i
		send([]choice{{Delta: &message{Role: "assistant", Calls: []toolCall{c}}}}, nil)
	}
	send([]choice{{Delta: &message{Role: "assistant"}, Finish: &finish}}, nil)
	if in.StreamOptions != nil && in.StreamOptions.IncludeUsage {
		send([]choice{}, used)
	}
	fmt.Fprint(w, "data: [DONE]\n\n")
}

// refuse says whether the service refuses now, and why.
func (s *Service) refuse(in *request, largest bool) (status int, kind, words, retry string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.outage {
		return http.StatusServiceUnavailable, "overloaded", "the service is overloaded; there is an outage", ""
	}
	if s.PerMinute > 0 {
		if s.starts == nil {
			s.starts = map[string][]time.Time{}
		}
		now := time.Now()
		list := slices.DeleteFunc(s.starts[in.Model], func(t time.Time) bool { return now.Sub(t) >= time.Minute })
		if len(list) >= s.PerMinute {
			s.starts[in.Model] = list
			return http.StatusTooManyRequests, "rate_limit", fmt.Sprintf("more than %d requests per minute for %s", s.PerMinute, in.Model), fmt.Sprintf("%.1f", time.Minute.Seconds()-now.Sub(list[0]).Seconds())
		}
		s.starts[in.Model] = append(list, now)
	}
	if largest && s.Refuses > 0 && len(in.Messages) == 2 && rand.New(rand.NewPCG(in.Seed, 99)).Float64() < s.Refuses {
		key := fmt.Sprint(in.Seed, in.Messages)
		if s.refused == nil {
			s.refused = map[string]bool{}
		}
		if !s.refused[key] { // once, so that asking again helps; and again in the next contest
			s.refused[key] = true
			return http.StatusTooManyRequests, "rate_limit", "the allowance of requests per minute for " + in.Model + " is used up", "0.4"
		}
		delete(s.refused, key)
	}
	return 0, "", "", ""
}

// count makes the token counts of an exchange: a token for every four bytes. What
// an earlier request of the same conversation held is cached, in steps of 64.
func count(in *request, say *message, m *Model) *usage {
	size := func(list []message) int64 {
		text, _ := json.Marshal(list)
		return int64(len(text)/4) + 180 // the functions' descriptions
	}
	u := &usage{Prompt: size(in.Messages)}
	if last := slices.IndexFunc(in.Messages, func(m message) bool { return m.Role == "assistant" }); last >= 0 {
		before := len(in.Messages) - 1
		for in.Messages[before].Role != "assistant" {
			before--
		}
		u.Details.Cached = size(in.Messages[:before]) / 64 * 64
	}
	text, _ := json.Marshal(say)
	u.More.Reasoning = m.Reasons
	u.Completion = int64(len(text)/4) + m.Reasons
	u.Total = u.Prompt + u.Completion
	return u
}

// styleOf reads the style out of the system prompt.
func styleOf(talk []message) Style {
	for _, style := range []Style{Hasty, Sprawling} {
		if talk[0].Role == "system" && strings.Contains(talk[0].Content, "Style: "+string(style)) {
			return style
		}
	}
	return Careful
}

// looks is the share of a playbook's files that are read in a style.
var looks = map[Style]float64{Careful: 1, Hasty: 0.4, Sprawling: 0.8}

// Plan is what a model makes of a brief.
type Plan struct {
	Patch        string
	Tests, Spins bool
}

// Decide draws a plan: the same seed gives the same one.
func (m *Model) Decide(style Style, seed uint64) Plan {
	rng := rand.New(rand.NewPCG(seed, 1))
	spins, tests, roll := rng.Float64(), rng.Float64(), rng.Float64()
	ways := m.Ways[style]
	p := Plan{Spins: style == Hasty && spins < m.Spins, Tests: style == Careful || style == Sprawling && tests < 0.5, Patch: ways[len(ways)-1].Patch}
	for _, w := range ways {
		if roll < w.Share {
			p.Patch = w.Patch
			break
		}
		roll -= w.Share
	}
	return p
}

// next is what the model says now. It remembers nothing: all follows from the
// conversation, the seed and the playbooks.
func (s *Service) next(in *request, m *Model) (*message, error) {
	books, err := Playbooks(s.Playbooks)
	if err != nil {
		return nil, err
	}
	var users []int
	for i := range in.Messages {
		if in.Messages[i].Role == "user" {
			users = append(users, i)
		}
	}
	if len(users) == 0 {
		return nil, errors.New("nobody asked for anything")
	}
	last := users[len(users)-1]
	step := 0
	for _, one := range in.Messages[last:] {
		if one.Role == "assistant" {
			step++
		}
	}
	plan := m.Decide(styleOf(in.Messages), in.Seed)
	book, err := recognise(books, in.Messages[last].Content)
	if errors.Is(err, ErrLost) { // words of a repair round: it goes on with what it was at
		for _, u := range slices.Backward(users[:len(users)-1]) {
			if book, err = recognise(books, in.Messages[u].Content); err == nil {
				return s.again(book, plan, step)
			}
		}
		return &message{Role: "assistant", Content: "I do not know what to do about this."}, nil
	}
	if err != nil {
		return nil, err
	}
	return s.play(book, plan, styleOf(in.Messages), step)
}

func call(step int, name string, a arguments) *message {
	text, _ := json.Marshal(a)
	return &message{Role: "assistant", Calls: []toolCall{{ID: fmt.Sprintf("call-%d", step), Type: "function", Function: function{name, string(text)}}}}
}

// play is the step of a plan: look around, read, edit file by file, test, tell.
func (s *Service) play(book *Playbook, plan Plan, style Style, step int) (*message, error) {
	var steps []*message
	steps = append(steps, call(len(steps), "list", arguments{}))
	for i, name := range book.LooksAt {
		if float64(i) < looks[style]*float64(len(book.LooksAt)) {
			steps = append(steps, call(len(steps), "read", arguments{Path: name}))
		}
	}
	if plan.Spins && step >= len(steps) {
		m := call(step, "read", arguments{Path: book.LooksAt[step%len(book.LooksAt)]})
		m.Content = "hm, let me think about this once more ..."
		return m, nil
	}
	text, err := fs.ReadFile(s.Playbooks, book.Name+"/"+plan.Patch+".answer")
	answered := err == nil
	edits, err := s.edits(book.Name+"/"+plan.Patch+".patch", len(steps))
	if err != nil && !(answered && errors.Is(err, fs.ErrNotExist)) {
		return nil, err
	}
	steps = append(steps, edits...)
	if plan.Tests && len(book.Test) > 0 {
		steps = append(steps, call(len(steps), "run", arguments{Command: book.Test}))
	}
	if step < len(steps) {
		return steps[step], nil
	}
	if answered {
		return &message{Role: "assistant", Content: strings.TrimRight(string(text), "\n")}, nil
	}
	return s.close(book.Name+"/"+plan.Patch+".closing", "done."), nil
}

// close is the closing message of a plan, where there is one.
func (s *Service) close(name, otherwise string) *message {
	if text, err := fs.ReadFile(s.Playbooks, name); err == nil {
		otherwise = strings.TrimRight(string(text), "\n")
	}
	return &message{Role: "assistant", Content: otherwise}
}

// again is a later round: it mends what it made, where it knows how.
func (s *Service) again(book *Playbook, plan Plan, step int) (*message, error) {
	edits, err := s.edits(book.Name+"/"+plan.Patch+"-again.patch", 1)
	if errors.Is(err, fs.ErrNotExist) {
		return s.close(book.Name+"/"+plan.Patch+"-again.closing", "looking at what I made again. I see nothing wrong with it."), nil
	}
	if err != nil {
		return nil, err
	}
	if step < len(edits) {
		edits[step].Content = "looking at what I made again"
		return edits[step], nil
	}
	return &message{Role: "assistant", Content: "mended."}, nil
}

// edits makes a call of each file's part of a patch.
func (s *Service) edits(name string, from int) ([]*message, error) {
	data, err := fs.ReadFile(s.Playbooks, name)
	if err != nil {
		return nil, err
	}
	changes, _, err := gitdiff.Parse(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(changes, func(a, b *gitdiff.File) int { return strings.Compare(a.NewName, b.NewName) })
	var out []*message
	for i, c := range changes {
		out = append(out, call(from+i, "edit", arguments{Path: c.NewName, Diff: c.String()}))
	}
	return out, nil
}
