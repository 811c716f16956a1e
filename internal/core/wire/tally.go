package wire

import (
	"bytes"
	"mime"
	"sort"
	"strconv"
	"strings"

	"agonometer/internal/core/ledger"
)

// Asked is what a request names.
type Asked struct{ Model, Effort string }

// Request reads what a request asks for, from its path and its body as it is sent.
type Request struct {
	asked Asked
	rank  int
	pick  *picker
}

// Request begins to read a request.
func (c *Reading) Request(path string) *Request {
	r := &Request{rank: -1}
	if c.path != nil {
		if m := c.path.FindStringSubmatch(path); len(m) > 1 {
			r.asked.Model = short(m[1])
		}
	}
	r.pick = newPicker(c.asks, func(m mark, s scalar) {
		switch {
		case m.what == aModel && !s.number:
			r.asked.Model = short(s.text)
		case m.what == anEffort && (r.rank < 0 || m.rank <= r.rank) && s.text != "null":
			r.asked.Effort, r.rank = short(s.text), m.rank
		}
	}, func() {})
	return r
}

// Write takes the next piece of the body; it never fails.
func (r *Request) Write(b []byte) (int, error) { r.pick.write(b); return len(b), nil }

// Asked is what was found so far.
func (r *Request) Asked() Asked { return r.asked }

// maxShort is how much of a name or a cause is kept, in bytes.
const maxShort = 200

func short(s string) string { return OneLine(s, maxShort) }

// OneLine makes one line, of at most so many bytes, of what somebody else wrote:
// control characters become spaces, what is no UTF-8 is replaced, and a cut is shown.
func OneLine(s string, most int) string {
	s = strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return ' '
		}
		return c
	}, strings.ToValidUTF8(s, "\ufffd"))
	if len(s) > most {
		s = strings.ToValidUTF8(s[:most], "") + "…"
	}
	return s
}

// Form is how a reply's body is laid out.
type Form string

const (
	// FormJSON is one JSON document, or several after each other.
	FormJSON Form = "json"
	// FormEvents is a stream of server-sent events whose data are JSON.
	FormEvents Form = "events"
	// FormLines is JSON Lines.
	FormLines Form = "lines"
	// FormOther is anything else; nothing is read from it.
	FormOther Form = "other"
)

// FormOf tells the form from a Content-Type.
func FormOf(contentType string) Form {
	media, _, err := mime.ParseMediaType(contentType)
	if err != nil {
		media = strings.ToLower(strings.TrimSpace(strings.SplitN(contentType, ";", 2)[0]))
	}
	switch {
	case media == "text/event-stream":
		return FormEvents
	case media == "application/x-ndjson", media == "application/jsonl", media == "application/jsonlines", media == "application/stream+json":
		return FormLines
	case media == "application/json", strings.HasSuffix(media, "+json"), media == "text/plain", media == "":
		return FormJSON
	}
	return FormOther
}

// Reply reads models, tokens and causes out of a reply as it passes.
type Reply struct {
	c       *Reading
	form    Form
	pick    *picker
	tallies []tally
	causes  map[int]string

	line   []byte // of server-sent events: the field name, as far as it has come
	field  lineState
	events int
	data   []byte // the beginning of the present line of data
	ended  bool
}

// ends are the ways in which streams say that nothing more comes.
var ends = map[string]bool{"message_stop": true, "response.completed": true, "response.done": true}

// Ended tells whether a stream has said itself that it is at its end: then it
// does not matter that nobody waited for the connection's.
func (r *Reply) Ended() bool { return r.ended }

// tally is what one reader has found.
type tally struct {
	model, effort string
	money         string
	named         string // the model as it was last written; most events repeat it
	n             [whats]*int64
	event         [whats]*int64 // told by the present event
}

type lineState uint8

const (
	lineStart lineState = iota
	lineData
	lineOther
)

// Reply begins to read a reply of a form.
func (c *Reading) Reply(form Form) *Reply {
	r := &Reply{c: c, form: form, tallies: make([]tally, len(c.readers))}
	root := c.body
	if form == FormEvents || form == FormLines {
		root = c.event
	}
	r.pick = newPicker(root, r.found, r.endEvent)
	return r
}

func (r *Reply) found(m mark, s scalar) {
	if m.what == aCause {
		if r.causes == nil {
			r.causes = map[int]string{}
		}
		if s.text != "null" {
			r.causes[m.rank] = short(s.text)
		}
		return
	}
	if m.what == aType {
		r.ended = r.ended || ends[s.text]
		return
	}
	t := &r.tallies[m.reader]
	switch m.what {
	case aModel:
		if s.text != t.named && !s.number && s.text != "" && s.text != "null" {
			t.model, t.named = short(s.text), s.text
		}
	case aSum:
		t.money = s.text
	case anEffort:
		if s.text != "null" {
			t.effort = short(s.text)
		}
	default:
		if !s.number {
			return
		}
		if n, err := strconv.ParseInt(s.text, 10, 64); err == nil && n >= 0 && n <= ledger.MaxTokens {
			t.event[m.what] = &n
		}
	}
}

// endEvent takes what an event told into the whole.
func (r *Reply) endEvent() {
	r.events++
	for i := range r.tallies {
		t := &r.tallies[i]
		for w, n := range t.event {
			if n == nil {
				continue
			}
			t.event[w] = nil
			if old := t.n[w]; old != nil && r.c.readers[i].Take == TakeSum && r.form != FormJSON {
				both := min(*old+*n, ledger.MaxTokens)
				n = &both
			}
			t.n[w] = n
		}
	}
}

// Write takes the next piece of the body; it never fails.
func (r *Reply) Write(b []byte) (int, error) {
	n := len(b)
	switch r.form {
	case FormJSON:
		r.pick.write(b)
	case FormLines:
		r.lines(b)
	case FormEvents:
		r.stream(b)
	}
	return n, nil
}

// lines reads JSON Lines among which there may be lines of any other kind, as in
// what a tool prints: a document begins at a brace at the beginning of a line.
func (r *Reply) lines(b []byte) {
	for len(b) > 0 {
		if r.field == lineStart {
			if b[0] == '{' || r.pick.bad {
				r.pick.reset()
			}
			r.field = lineData
		}
		end := bytes.IndexByte(b, '\n')
		if end < 0 {
			r.pick.write(b)
			return
		}
		r.pick.write(b[:end+1])
		r.field = lineStart
		b = b[end+1:]
	}
}

// stream takes server-sent events apart: of each line that begins with data:
// the rest goes to the picker, an empty line ends the event. A service that
// leaves the empty line out is understood too: each document stands for itself.
func (r *Reply) stream(b []byte) {
	for len(b) > 0 {
		end := bytes.IndexByte(b, '\n')
		piece := b
		if end >= 0 {
			piece = b[:end]
		}
		if at := bytes.IndexByte(piece, '\r'); at >= 0 { // ends a line too
			end = at
		}
		if end >= 0 {
			piece = b[:end]
		}
		switch r.field {
		case lineStart:
			need := len("data:") - len(r.line)
			take := min(need, len(piece))
			r.line = append(r.line, piece[:take]...)
			piece = piece[take:]
			switch {
			case len(r.line) == len("data:") && string(r.line) == "data:":
				r.field = lineData
				r.data = r.data[:0]
				r.take(piece)
			case !strings.HasPrefix("data:", string(r.line)):
				r.field = lineOther
			}
		case lineData:
			r.take(piece)
		}
		if end < 0 {
			return
		}
		empty := r.field == lineStart && len(r.line) == 0
		if r.field == lineData {
			r.ended = r.ended || string(bytes.TrimSpace(r.data)) == "[DONE]"
			r.pick.write([]byte{'\n'})
		}
		if empty && b[end] == '\n' && (!r.pick.whole() || r.pick.bad) {
			r.endEvent()
			r.pick.reset()
		} else if r.pick.bad { // data that is no JSON, such as a closing word
			r.pick.reset()
		}
		r.field, r.line = lineStart, r.line[:0]
		b = b[end+1:]
	}
}

func (r *Reply) take(piece []byte) {
	if room := 16 - len(r.data); room > 0 {
		r.data = append(r.data, piece[:min(room, len(piece))]...)
	}
	r.pick.write(piece)
}

// Read is what a reply told.
type Read struct {
	// Shape names the reader that fitted; "" where nothing was counted.
	Shape         string
	Model, Effort string
	Tokens        ledger.Tokens
	// Money is what the other side says that it cost, in its own words.
	Money string
	// Strange is set where the service's counts contradict each other.
	Strange bool
	// Cause is why it was refused, in the service's words.
	Cause string
	// Events is how many documents or events there were.
	Events int
}

// Read sums up what was found so far.
func (r *Reply) Read() Read {
	r.pick.finish()
	// What an unfinished document told counts: better the beginning than nothing.
	unfinished := r.events
	r.endEvent()
	r.events = unfinished
	out := Read{Events: r.events}
	best, score := 0, 0
	for i := range r.tallies {
		t := &r.tallies[i]
		points := 0
		for w := anInput; w <= aReasoning; w++ {
			if t.n[w] == nil {
				continue
			}
			points++
			if w == anInput || w == anOutput {
				points += 10
			}
		}
		if points > score {
			best, score = i, points
		}
	}
	reader, t := &r.c.readers[best], &r.tallies[best]
	if score > 0 {
		out.Shape = reader.Name
		out.Tokens, out.Strange = reader.tokens(t.n)
	}
	out.Model, out.Effort, out.Money = t.model, t.effort, t.money
	for i := range r.tallies { // a reply without counts still names its model
		if out.Model == "" {
			out.Model = r.tallies[i].model
		}
	}
	ranks := make([]int, 0, len(r.causes))
	for k := range r.causes {
		ranks = append(ranks, k)
	}
	sort.Ints(ranks)
	var words []string
	for _, k := range ranks[:min(len(ranks), 3)] {
		words = append(words, r.causes[k])
	}
	out.Cause = short(strings.Join(words, ": "))
	return out
}
