package wire

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"agonometer/internal/core/ledger"
)

// Take says what a kind of tokens comes to when several events of a stream tell it.
type Take string

const (
	// TakeLast is for services that tell running totals.
	TakeLast Take = "last"
	// TakeSum is for services that tell what each event adds.
	TakeSum Take = "sum"
)

func (t *Take) ParseScalar(text string) error {
	if Take(text) != TakeLast && Take(text) != TakeSum {
		return fmt.Errorf("unknown")
	}
	*t = Take(text)
	return nil
}

func (*Take) Expected() string { return "last or sum" }

// Places say where figures stand in a reply, or in one event of a stream. Of
// several pointers whichever is found counts.
type Places struct {
	Model     []Pointer `yaml:"model" json:"model,omitempty" jsonschema_description:"The model that replied."`
	Effort    []Pointer `yaml:"effort" json:"effort,omitempty" jsonschema_description:"The effort that the service says it used."`
	Input     []Pointer `yaml:"input" json:"input,omitempty" jsonschema_description:"Tokens of the prompt."`
	Cached    []Pointer `yaml:"cached" json:"cached,omitempty" jsonschema_description:"Tokens of the prompt that were read from a cache."`
	Written   []Pointer `yaml:"written" json:"written,omitempty" jsonschema_description:"Tokens of the prompt that were written to a cache."`
	Output    []Pointer `yaml:"output" json:"output,omitempty" jsonschema_description:"Tokens of the reply."`
	Reasoning []Pointer `yaml:"reasoning" json:"reasoning,omitempty" jsonschema_description:"Tokens of the reply that were spent on reasoning."`
	Money     []Pointer `yaml:"money" json:"money,omitempty" jsonschema_description:"What it cost, as the other side says."`
}

// Asks say where a request names what it wants.
type Asks struct {
	Model  []Pointer `yaml:"model" json:"model,omitempty" jsonschema_description:"The model that is asked for."`
	Effort []Pointer `yaml:"effort" json:"effort,omitempty" jsonschema_description:"The effort that is asked for."`
	Path   string    `yaml:"path" json:"path,omitempty" jsonschema_description:"A regular expression on the request's path whose first group is the model, where the path names it."`
}

// Reader says where a model service's answers name models, tokens and causes.
type Reader struct {
	Name              string    `yaml:"name" json:"name,omitempty" jsonschema_description:"What the shape is called in the records; default: own."`
	Asks              Asks      `yaml:"asks" json:"asks,omitempty" jsonschema_description:"Where a request names what it wants; default: the usual places."`
	Body              Places    `yaml:"body" json:"body,omitempty" jsonschema_description:"Where figures stand in a reply that comes as one JSON document."`
	Event             Places    `yaml:"event" json:"event,omitempty" jsonschema_description:"Where figures stand in one event of a streamed reply; default: as in body."`
	Take              Take      `yaml:"take" json:"take,omitempty" jsonschema_description:"Of several events of one stream: last (running totals, the default) or sum."`
	CachedInInput     *bool     `yaml:"cached_in_input" json:"cached_in_input,omitempty" jsonschema_description:"Whether input counts the cached tokens too; default true."`
	ReasoningInOutput *bool     `yaml:"reasoning_in_output" json:"reasoning_in_output,omitempty" jsonschema_description:"Whether output counts the reasoning tokens too; default true."`
	Refused           []int     `yaml:"refused" json:"refused,omitempty" jsonschema_description:"Further statuses that mean a refusal, beside 429, 503 and 529."`
	Cause             []Pointer `yaml:"cause" json:"cause,omitempty" jsonschema_description:"Where a refusal names its cause; default: the usual places."`
}

func yes(b *bool) bool { return b == nil || *b }

// Shapes are the presets: wire shapes that many model servers share, named
// after what their counts look like.
func Shapes() []Reader {
	no := false
	p := func(list ...Pointer) []Pointer { return list }
	return []Reader{
		{Name: "prompt-completion", // usage: {prompt_tokens, completion_tokens}, in the last event of a stream
			Body: Places{Model: p("/model"), Effort: p("/reasoning_effort"), Input: p("/usage/prompt_tokens"), Output: p("/usage/completion_tokens"),
				Cached: p("/usage/prompt_tokens_details/cached_tokens", "/usage/prompt_cache_hit_tokens"), Reasoning: p("/usage/completion_tokens_details/reasoning_tokens")}},
		{Name: "input-output-details", // usage: {input_tokens, input_tokens_details, ...}; a stream's last event holds the whole answer
			Body: Places{Model: p("/model"), Effort: p("/reasoning/effort"), Input: p("/usage/input_tokens"), Output: p("/usage/output_tokens"),
				Cached: p("/usage/input_tokens_details/cached_tokens"), Reasoning: p("/usage/output_tokens_details/reasoning_tokens")},
			Event: Places{Model: p("/response/model"), Effort: p("/response/reasoning/effort"), Input: p("/response/usage/input_tokens"), Output: p("/response/usage/output_tokens"),
				Cached: p("/response/usage/input_tokens_details/cached_tokens"), Reasoning: p("/response/usage/output_tokens_details/reasoning_tokens")}},
		{Name: "input-output", // usage: {input_tokens, output_tokens}, cached ones apart; a stream tells them at its beginning and again at its end
			Body: Places{Model: p("/model"), Input: p("/usage/input_tokens"), Output: p("/usage/output_tokens"),
				Cached: p("/usage/cache_read_input_tokens"), Written: p("/usage/cache_creation_input_tokens")},
			Event: Places{Model: p("/message/model"), Input: p("/message/usage/input_tokens", "/usage/input_tokens"), Output: p("/message/usage/output_tokens", "/usage/output_tokens"),
				Cached:  p("/message/usage/cache_read_input_tokens", "/usage/cache_read_input_tokens"),
				Written: p("/message/usage/cache_creation_input_tokens", "/usage/cache_creation_input_tokens")},
			CachedInInput: &no},
		{Name: "usage-metadata", // usageMetadata: {promptTokenCount, ...}; every event has running totals
			Body: Places{Model: p("/modelVersion"), Input: p("/usageMetadata/promptTokenCount"), Output: p("/usageMetadata/candidatesTokenCount"),
				Cached: p("/usageMetadata/cachedContentTokenCount"), Reasoning: p("/usageMetadata/thoughtsTokenCount")},
			ReasoningInOutput: &no},
		{Name: "eval-count", // {prompt_eval_count, eval_count} in the answer itself, or in the last line of JSON Lines
			Body: Places{Model: p("/model"), Input: p("/prompt_eval_count"), Output: p("/eval_count")}},
	}
}

// ShapeNames lists the presets.
func ShapeNames() []string {
	var out []string
	for _, r := range Shapes() {
		out = append(out, r.Name)
	}
	return out
}

// usualAsks are the places where requests name what they want.
var usualAsks = Asks{Model: []Pointer{"/model"}, Effort: []Pointer{"/reasoning_effort", "/reasoning/effort", "/effort", "/output_config/effort", "/thinking/budget_tokens",
	"/generationConfig/thinkingConfig/thinkingBudget"}, Path: `/models/([^/:]+)`}

var usualCauses = []Pointer{"/error/type", "/error/code", "/error/status", "/error/message", "/type", "/title", "/message", "/detail", "/error"}

// Problem is a mistake in a reader, with the key where it stands.
type Problem struct{ Key, Found, Expected string }

// Check finds what is wrong with a reader beyond the form of its keys.
func (r *Reader) Check() []Problem {
	var out []Problem
	if len(r.Body.Input)+len(r.Body.Output)+len(r.Event.Input)+len(r.Event.Output) == 0 {
		out = append(out, Problem{"body", "no place of any count", "at least input or output"})
	}
	if r.Asks.Path != "" {
		if re, err := regexp.Compile(r.Asks.Path); err != nil || re.NumSubexp() < 1 {
			out = append(out, Problem{"asks.path", r.Asks.Path, "a regular expression with a group for the model"})
		}
	}
	for i, s := range r.Refused {
		if s < 400 || s > 599 {
			out = append(out, Problem{fmt.Sprintf("refused[%d]", i), fmt.Sprint(s), "a status from 400 to 599"})
		}
	}
	return out
}

// what is a kind of thing that a pointer leads to.
type what uint8

const (
	aModel what = iota
	anEffort
	anInput
	aCached
	aWritten
	anOutput
	aReasoning
	aSum // money
	aCause
	aType // what kind of event it is
	whats
)

// mark says what a pointer leads to, and for which of the readers.
type mark struct {
	reader int
	what   what
	rank   int // of several causes the first listed is told first
}

// Reading is a Reader, or all presets at once, made ready for use. It is safe
// for concurrent use.
type Reading struct {
	readers           []Reader
	asks, body, event *trie
	path              *regexp.Regexp
	refused           []int
}

// Compile makes a reader ready; nil is all presets, of which the one that fits
// what a reply looks like is taken.
func Compile(r *Reader) *Reading {
	c := &Reading{readers: Shapes(), asks: &trie{}, body: &trie{}, event: &trie{}}
	asks, causes := usualAsks, usualCauses
	if r != nil {
		one := *r
		if one.Name == "" {
			one.Name = "own"
		}
		c.readers, c.refused = []Reader{one}, one.Refused
		if len(one.Asks.Model) > 0 {
			asks.Model = one.Asks.Model
		}
		if len(one.Asks.Effort) > 0 {
			asks.Effort = one.Asks.Effort
		}
		if one.Asks.Path != "" {
			asks.Path = one.Asks.Path
		}
		if len(one.Cause) > 0 {
			causes = one.Cause
		}
	}
	c.path, _ = regexp.Compile(asks.Path) // one that is wrong was refused by Check
	for i := range c.readers {
		r := &c.readers[i]
		addPlaces(c.body, i, &r.Body)
		event := &r.Event
		if len(event.Input)+len(event.Output) == 0 {
			event = &r.Body
		}
		addPlaces(c.event, i, event)
	}
	for i, p := range causes {
		c.body.add(p, mark{what: aCause, rank: i})
		c.event.add(p, mark{what: aCause, rank: i})
	}
	c.event.add("/type", mark{what: aType})
	for _, p := range asks.Model {
		c.asks.add(p, mark{what: aModel})
	}
	for i, p := range asks.Effort {
		c.asks.add(p, mark{what: anEffort, rank: i})
	}
	return c
}

func addPlaces(t *trie, reader int, p *Places) {
	for w, list := range [...][]Pointer{aModel: p.Model, anEffort: p.Effort, anInput: p.Input, aCached: p.Cached, aWritten: p.Written, anOutput: p.Output, aReasoning: p.Reasoning, aSum: p.Money} {
		for _, one := range list {
			t.add(one, mark{reader: reader, what: what(w)})
		}
	}
}

// Preset finds a preset by its name.
func Preset(name string) (*Reader, bool) {
	all := Shapes()
	at := slices.IndexFunc(all, func(r Reader) bool { return r.Name == name })
	if at < 0 {
		return nil, false
	}
	return &all[at], true
}

// Cause is why a request was refused, as far as it is said.
type Cause string

const (
	// OwnAllowance is a limit of the one who asked.
	OwnAllowance Cause = "own-allowance"
	// Outage is a service that cannot answer anybody.
	Outage  Cause = "outage"
	Unknown Cause = "unknown"
)

// Refused tells whether a status means that the service refused to work, and
// why, from the status, the words of the reply and whether it says when to come back.
func (c *Reading) Refused(status int, words string, retryAfter bool) (Cause, bool) {
	own := slices.Contains(c.refused, status)
	if status != 429 && status != 502 && status != 503 && status != 504 && status != 529 && !own {
		return "", false
	}
	words = strings.ToLower(words)
	has := func(list ...string) bool {
		return slices.ContainsFunc(list, func(w string) bool { return strings.Contains(words, w) })
	}
	switch {
	case has("overload", "unavailable", "outage", "maintenance", "capacity"):
		return Outage, true
	case has("rate limit", "rate_limit", "rate-limit", "ratelimit", "quota", "allowance", "too many requests", "billing", "credit", "exhausted", "per minute"):
		return OwnAllowance, true
	case status == 429 && retryAfter:
		return OwnAllowance, true
	case status == 502 || status == 503 || status == 504 || status == 529:
		return Outage, true
	}
	return Unknown, true
}

// tokens makes of what a service counts the kinds that everyone is compared by.
func (r *Reader) tokens(n [whats]*int64) (t ledger.Tokens, strange bool) {
	t = ledger.Tokens{Fresh: n[anInput], Cached: n[aCached], Written: n[aWritten], Output: n[anOutput], Reasoning: n[aReasoning]}
	if t.Fresh != nil && yes(r.CachedInInput) {
		fresh := *t.Fresh
		for _, part := range []*int64{t.Cached, t.Written} {
			if part != nil {
				fresh -= *part
			}
		}
		if fresh < 0 { // the service contradicts itself: its own total is kept
			strange = true
			t.Cached, t.Written = nil, nil
		} else {
			t.Fresh = &fresh
		}
	}
	if t.Reasoning != nil {
		switch {
		case !yes(r.ReasoningInOutput) && t.Output != nil:
			both := *t.Output + *t.Reasoning
			t.Output = &both
		case !yes(r.ReasoningInOutput):
			t.Output = t.Reasoning
		case t.Output != nil && *t.Reasoning > *t.Output:
			strange, t.Reasoning = true, nil
		}
	}
	return t, strange
}
