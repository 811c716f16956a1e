package drive

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/creack/pty"

	"agonometer/internal/bout/confine"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/timeline"
)

// terminalName is what a tool in a terminal is told that it is.
const terminalName = "xterm-256color"

// inTerminal runs the tool in a terminal of its own. All that it shows is recorded
// as an asciicast, and handed on as plain text.
func (h *HandOver) inTerminal(ctx context.Context, args []string, env map[string]string) (Ended, error) {
	master, slave, err := pty.Open()
	if err != nil {
		return Ended{}, &MissingError{"no terminal can be had on this machine: " + err.Error()}
	}
	defer master.Close()
	columns, rows := h.Contender.Terminal.Size()
	if err := pty.Setsize(master, &pty.Winsize{Cols: uint16(columns), Rows: uint16(rows)}); err != nil {
		slave.Close()
		return Ended{}, err
	}
	if _, set := env["TERM"]; !set {
		env["TERM"] = terminalName
	}
	began := time.Now()
	rec := newRecording(columns, rows, began, h.Keep)
	asks := newAnswerer(h, rec.input(master), "\r")
	p, err := confine.Start(ctx, h.World.Spec(args, env), confine.IO{TTY: slave})
	slave.Close()
	if err != nil {
		return Ended{}, err
	}
	h.started(p, p.Began)
	done := make(chan struct{})
	go func() { // ends when the last process that has the terminal has ended
		defer close(done)
		var plain plainText
		readTerminal(master, func(shown []byte) {
			rec.output(shown)
			if text := plain.take(shown); len(text) > 0 {
				_, _ = h.Stdout.Write(text)
				_, _ = asks.Write(text)
			}
		})
	}()
	res, err := p.Wait(h.Limit, h.Stop)
	select {
	case <-done:
	case <-time.After(time.Second): // somebody outside the bout holds the terminal: it is taken away
		master.Close()
		<-done
	}
	return Ended{Result: res, Recording: rec.bytes(), LastLine: asks.lastLine()}, err
}

// readTerminal reads a terminal to its end, at which it says EIO. On a busy machine
// the kernel says so once while what was written last is still on its way: the end
// is where it says so twice, with nothing between.
func readTerminal(master io.Reader, take func([]byte)) {
	buf := make([]byte, 32<<10)
	for failed := 0; failed < 2; {
		n, err := master.Read(buf)
		if n > 0 {
			take(buf[:n])
			failed = 0
		}
		if err != nil {
			failed++
		}
	}
}

// recording is what a terminal showed and what was typed, as an asciicast of
// version 2: a header, and a line of JSON for each piece.
type recording struct {
	mu    sync.Mutex
	out   bytes.Buffer
	began time.Time
	keep  int64
	cut   bool
	held  []byte // the beginning of a character whose end has not come yet
}

func newRecording(columns, rows int, began time.Time, keep int64) *recording {
	r := &recording{began: began, keep: keep}
	header, _ := json.Marshal(map[string]any{"version": 2, "width": columns, "height": rows, "timestamp": began.Unix(), "env": map[string]string{"TERM": terminalName}})
	r.out.Write(append(header, '\n'))
	return r
}

func (r *recording) output(p []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	p = append(r.held, p...)
	r.held = nil
	for i := max(0, len(p)-utf8.UTFMax+1); i < len(p); i++ {
		if utf8.RuneStart(p[i]) && !utf8.FullRune(p[i:]) {
			r.held = append(r.held, p[i:]...)
			p = p[:i]
			break
		}
	}
	r.add("o", p)
}

// add adds a piece; the lock is held.
func (r *recording) add(kind string, p []byte) {
	if len(p) == 0 || r.cut {
		return
	}
	text, _ := json.Marshal(strings.ToValidUTF8(string(p), "\ufffd"))
	line := fmt.Sprintf("[%.6f, %q, %s]\n", time.Since(r.began).Seconds(), kind, text)
	if r.cut = r.keep > 0 && int64(r.out.Len()+len(line)) > r.keep; r.cut {
		line = fmt.Sprintf("[%.6f, \"m\", \"the recording is cut here\"]\n", time.Since(r.began).Seconds())
	}
	r.out.WriteString(line)
}

// input records what is typed on its way to the terminal.
func (r *recording) input(to io.Writer) io.Writer { return typed{r, to} }

type typed struct {
	r  *recording
	to io.Writer
}

func (t typed) Write(p []byte) (int, error) {
	t.r.mu.Lock()
	t.r.add("i", p)
	t.r.mu.Unlock()
	return t.to.Write(p)
}

func (r *recording) bytes() []byte {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.add("o", r.held)
	return bytes.Clone(r.out.Bytes())
}

// minKey is the shortest text that is looked for: shorter ones stand everywhere by
// chance.
const minKey = 6

// Shows tells whether a recording shows one of some texts, whole or in pieces.
func Shows(cast []byte, secrets []string) bool {
	if len(cast) == 0 || len(secrets) == 0 {
		return false
	}
	var shown [2]strings.Builder // as it was sent, and without control sequences
	var plain plainText
	for line := range bytes.Lines(cast) {
		var event []any
		if json.Unmarshal(line, &event) != nil || len(event) != 3 {
			continue
		}
		text, _ := event[2].(string)
		shown[0].WriteString(text)
		shown[1].Write(plain.take([]byte(text)))
	}
	for i := range shown {
		text := shown[i].String()
		for _, s := range secrets {
			if len(s) >= minKey && strings.Contains(text, s) {
				return true
			}
		}
	}
	return false
}

// plainText takes the control sequences out of what a terminal is sent (ECMA-48):
// colours and titles go, a move of the cursor becomes white space, a carriage
// return alone begins a line. Screens that are painted come out in the order in
// which they were painted; the recording has them as they were.
type plainText struct {
	state  byte // 0 text, else what kind of sequence is open
	params []byte
	cr     bool
}

const maxParams = 64

func (t *plainText) take(p []byte) []byte {
	out := make([]byte, 0, len(p))
	for _, c := range p {
		switch t.state {
		case 0:
			if t.cr && c != '\n' && c != '\r' {
				out = append(out, '\n')
			}
			t.cr = c == '\r'
			switch {
			case c == 0x1b:
				t.state = 'e'
			case c == '\n' || c == '\t' || c >= 0x20 && c != 0x7f:
				out = append(out, c)
			}
		case 'e': // behind the escape
			t.params = t.params[:0]
			switch c {
			case '[':
				t.state = '['
			case ']', 'P', '_', '^', 'X':
				t.state = ']'
			case '(', ')', '*', '+', '#', '%', ' ':
				t.state = '('
			default:
				t.state = 0
			}
		case '(':
			t.state = 0
		case '[':
			if c >= 0x40 && c <= 0x7e {
				t.state = 0
				switch c {
				case 'H', 'f', 'E', 'B', 'd':
					out = append(out, '\n')
				case 'C':
					out = append(out, ' ')
				}
			} else if len(t.params) < maxParams {
				t.params = append(t.params, c)
			}
		case ']': // a string, to BEL or ST
			if c == 0x07 {
				t.state = 0
			} else if c == 0x1b {
				t.state = 's'
			}
		case 's':
			if t.state = ']'; c == '\\' {
				t.state = 0
			}
		}
	}
	return out
}

// maxAsked is how much of what was printed a question is looked for in, in bytes.
const maxAsked = 8 << 10

// answerer looks for questions in what a tool prints and answers them by rule.
type answerer struct {
	rules []contender.Reply
	res   []*regexp.Regexp
	to    io.Writer
	enter string
	seen  func(Seen)

	mu     sync.Mutex
	buf    []byte
	counts []int
	told   map[int]bool
}

func newAnswerer(h *HandOver, to io.Writer, enter string) *answerer {
	a := &answerer{rules: h.Contender.Replies, to: to, enter: enter, seen: h.seen, counts: make([]int, len(h.Contender.Replies)), told: map[int]bool{}}
	for i := range a.rules {
		a.res = append(a.res, a.rules[i].Compiled())
	}
	return a
}

// Write takes what the tool printed just now.
func (a *answerer) Write(p []byte) (int, error) {
	came := time.Now()
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.buf = append(a.buf, p...); len(a.buf) > maxAsked {
		a.buf = bytes.Clone(a.buf[len(a.buf)-maxAsked:])
	}
	for i, re := range a.res {
		at := re.FindIndex(a.buf)
		if at == nil {
			continue
		}
		rule := &a.rules[i]
		question := oneLine(string(a.buf[at[0]:at[1]]))
		if a.counts[i] >= rule.Times() {
			if !a.told[i] {
				a.told[i] = true
				a.seen(Seen{Kind: timeline.Denied, From: came, Until: came, Text: fmt.Sprintf("asked more than %d times, and not answered any more: %s", rule.Times(), question)})
			}
			continue
		}
		a.counts[i]++
		a.buf = bytes.Clone(a.buf[at[1]:])
		text := rule.Send
		if !rule.NoEnter {
			text += a.enter
		}
		_, err := io.WriteString(a.to, text)
		a.seen(Seen{Kind: timeline.Asked, From: came, Until: time.Now(), Text: question + " -> " + oneLine(rule.Send), OK: err == nil})
		break
	}
	return len(p), nil
}

// lastLine is the end of what was printed, where it looks like something that
// waits for an answer.
func (a *answerer) lastLine() string {
	if a == nil {
		return ""
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	text := strings.TrimRight(string(a.buf), " \n\t")
	return oneLine(text[strings.LastIndexByte(text, '\n')+1:])
}

// oneLine makes a short line of text.
func oneLine(s string) string {
	s = strings.Join(strings.Fields(strings.ToValidUTF8(s, "\ufffd")), " ")
	if r := []rune(s); len(r) > 200 {
		s = string(r[:200]) + "…"
	}
	return s
}
