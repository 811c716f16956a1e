package drive

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"sync"
	"syscall"
	"time"
	"unicode/utf8"

	acp "github.com/coder/acp-go-sdk"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/confine"
	"agonometer/internal/core/timeline"
)

// The bounds of what a tool may send over the protocol.
const (
	maxMessage = 8 << 20   // one message, in bytes
	maxInbound = 512 << 20 // all messages of a bout, in bytes
	maxStrange = 1000      // lines that are no messages
	maxQueued  = 256       // messages that have not been answered yet
)

// gate lets a tool's messages through to the connection, one line after the other,
// and no more at once than can be looked after: the rest waits in the pipe, and the
// tool with it. Lines that are no JSON are counted and left out.
type gate struct {
	lines *bufio.Reader
	rest  []byte
	slots chan struct{}
	total int64

	mu      sync.Mutex
	news    int // messages about the turn that have not been looked after yet
	settled *sync.Cond
	odd     int
	broken  error
}

func newGate(r io.Reader) *gate {
	g := &gate{lines: bufio.NewReaderSize(r, 64<<10), slots: make(chan struct{}, maxQueued)}
	g.settled = sync.NewCond(&g.mu)
	return g
}

func (g *gate) Read(p []byte) (int, error) {
	n, err := g.next(p)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, os.ErrClosed) {
		g.mu.Lock()
		g.broken = err
		g.mu.Unlock()
	}
	return n, err
}

// why says what was wrong with what the tool sent, where that ended the connection.
func (g *gate) why() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.broken
}

func (g *gate) next(p []byte) (int, error) {
	for len(g.rest) == 0 {
		line, err := g.line()
		if err != nil {
			return 0, err
		}
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		var head struct {
			Method string `json:"method"`
		}
		if !json.Valid(line) || json.Unmarshal(line, &head) != nil {
			g.mu.Lock()
			g.odd++
			over := g.odd > maxStrange
			g.mu.Unlock()
			if over {
				return 0, fmt.Errorf("more than %d lines were no messages: the tool does not speak the protocol", maxStrange)
			}
			continue
		}
		if waits(head.Method) {
			g.slots <- struct{}{} // given back when it has been answered
			g.inOrder(head.Method)
		}
		g.rest = append(line, '\n')
	}
	n := copy(p, g.rest)
	g.rest = g.rest[n:]
	return n, nil
}

func (g *gate) line() ([]byte, error) {
	var line []byte
	for {
		part, err := g.lines.ReadSlice('\n')
		line = append(line, part...)
		if g.total += int64(len(part)); g.total > maxInbound {
			return nil, fmt.Errorf("the tool sent more than %d MiB", maxInbound>>20)
		}
		if len(line) > maxMessage {
			return nil, fmt.Errorf("the tool sent a message of more than %d MiB", maxMessage>>20)
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			continue
		}
		return line, err
	}
}

// waits tells whether a message takes a place until it has been looked after;
// those of the connection itself are looked after at once.
func waits(method string) bool { return method != "" && !strings.HasPrefix(method, "$/") }

// served gives a message's place free.
func (g *gate) served(method string) {
	if !waits(method) {
		return
	}
	if method == acp.ClientMethodSessionUpdate {
		g.mu.Lock()
		g.news--
		g.settled.Broadcast()
		g.mu.Unlock()
	}
	<-g.slots
}

// inOrder holds a question back until all that the tool told before it has been
// looked after: the connection answers questions as they come, and news in turn.
func (g *gate) inOrder(method string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if method == acp.ClientMethodSessionUpdate {
		g.news++
		return
	}
	for g.news > 0 {
		g.settled.Wait()
	}
}

// strange is how many lines were no messages since the last time that it was asked.
func (g *gate) strange() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	n := g.odd
	g.odd = 0
	return n
}

// maxFile is the largest file that is read or written over the protocol, in bytes.
const maxFile = 16 << 20

// inside is a path of the tool's as a path below the workspace's root; what lies
// outside is refused, and that is on the record.
func (s *session) inside(what, name string) (string, error) {
	ws, _, _, _ := s.h.World.Paths()
	clean := path.Clean(name)
	if rel, ok := strings.CutPrefix(clean, ws+"/"); ok {
		return rel, nil
	}
	return "", s.denied(what, name, "it is outside the workspace "+ws)
}

func (s *session) denied(what, name, why string) error {
	now := time.Now()
	text := fmt.Sprintf("%s %s: %s", what, oneLine(name), why)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.line("denied: " + text)
	s.h.seen(Seen{Kind: timeline.Denied, From: now, Until: now, Text: text})
	return errors.New(text)
}

func (s *session) readFile(r acp.ReadTextFileRequest) (any, error) {
	name, err := s.inside("read", r.Path)
	if err != nil {
		return nil, err
	}
	f, err := s.tree.OpenFollowing(name)
	if err != nil {
		if leads(err) {
			return nil, s.denied("read", r.Path, "it leads out of the workspace")
		}
		if errors.Is(err, beneath.ErrNotRegular) {
			return nil, fmt.Errorf("%s is not a file", oneLine(r.Path))
		}
		return nil, fmt.Errorf("there is no file %s", oneLine(r.Path))
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, errors.New("the file cannot be read")
	}
	if st.Size() > maxFile {
		return nil, fmt.Errorf("%s has %d bytes; at most %d are read", oneLine(r.Path), st.Size(), maxFile)
	}
	data, err := io.ReadAll(io.LimitReader(f, maxFile))
	if err != nil {
		return nil, errors.New("the file cannot be read")
	}
	text := strings.ToValidUTF8(string(data), "\ufffd")
	if r.Line != nil || r.Limit != nil {
		lines := strings.SplitAfter(text, "\n")
		from := 0
		if r.Line != nil {
			from = min(max(*r.Line-1, 0), len(lines))
		}
		to := len(lines)
		if r.Limit != nil && *r.Limit >= 0 {
			to = min(to, from+*r.Limit)
		}
		text = strings.Join(lines[from:to], "")
	}
	return acp.ReadTextFileResponse{Content: text}, nil
}

// leads tells whether the kernel refused a path because a link in it leads out.
func leads(err error) bool { return errors.Is(err, syscall.ELOOP) || errors.Is(err, syscall.EXDEV) }

func (s *session) writeFile(r acp.WriteTextFileRequest) (any, error) {
	name, err := s.inside("write", r.Path)
	if err != nil {
		return nil, err
	}
	if len(r.Content) > maxFile {
		return nil, fmt.Errorf("%d bytes; at most %d are written", len(r.Content), maxFile)
	}
	if err := s.write(name, r.Content); err != nil {
		if leads(err) {
			return nil, s.denied("write", r.Path, "it leads out of the workspace")
		}
		return nil, fmt.Errorf("%s cannot be written: %w", oneLine(r.Path), err)
	}
	return acp.WriteTextFileResponse{}, nil
}

// write writes a file of the workspace, with the folders that it needs, as the tool
// itself would have. A file that is there keeps its owner and its mode.
func (s *session) write(name, content string) error {
	var owner *beneath.Owner
	if o := s.h.World.Owner; o.Root && s.h.World.Mode == confine.Namespaces {
		owner = &beneath.Owner{UID: o.UID, GID: o.GID}
	}
	f, err := s.tree.OpenForWrite(name)
	if err == nil {
		_, err = io.WriteString(f, content)
		return errors.Join(err, f.Close())
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	here, err := s.tree.Sub(".")
	parts := strings.Split(path.Dir(name), "/")
	for i := 0; err == nil && i < len(parts); i++ {
		next, openErr := s.tree.Following(path.Join(parts[:i+1]...))
		if errors.Is(openErr, fs.ErrNotExist) {
			if openErr = here.Mkdir(parts[i], 0o755); openErr == nil && owner != nil {
				openErr = here.Chown(parts[i], owner.UID, owner.GID)
			}
			if openErr == nil {
				next, openErr = here.Sub(parts[i])
			}
		}
		here.Close()
		here, err = next, openErr
	}
	if err != nil {
		return err
	}
	defer here.Close()
	return here.WriteFile(path.Base(name), []byte(content), 0o644, owner)
}

// The bounds of terminals.
const (
	maxTerminals = 32
	maxTermOut   = 1 << 20
)

// terminals are the commands that a tool asks its client to run. They run in the
// same confinement as the tool, and end with it.
type terminals struct {
	ctx   context.Context
	world confine.World
	seen  func(Seen)
	// breached may be nil.
	breached func(limit confine.LimitKind, detail string)

	mu   sync.Mutex
	all  map[string]*terminal
	next int
	shut bool
}

type terminal struct {
	p    *confine.Process
	out  *tail
	done chan struct{}
	stop chan struct{}
	once sync.Once
	res  confine.Result
}

// tail keeps the end of what was written.
type tail struct {
	mu    sync.Mutex
	limit int
	buf   []byte
	cut   bool
}

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.buf = append(t.buf, p...)
	if over := len(t.buf) - t.limit; over > 0 {
		t.buf, t.cut = append([]byte(nil), t.buf[over:]...), true
	}
	return len(p), nil
}

func (t *tail) text() (string, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	b := t.buf
	for t.cut && len(b) > 0 && !utf8.RuneStart(b[0]) {
		b = b[1:]
	}
	return strings.ToValidUTF8(string(b), "\ufffd"), t.cut
}

func (t *terminals) create(r acp.CreateTerminalRequest) (any, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := time.Now()
	deny := func(why string) error {
		text := "command " + oneLine(r.Command) + ": " + why
		t.seen(Seen{Kind: timeline.Denied, From: now, Until: now, Text: text})
		return errors.New(text)
	}
	ws, _, _, _ := t.world.Paths()
	dir := ws
	if r.Cwd != nil && *r.Cwd != "" {
		if dir = path.Clean(*r.Cwd); dir != ws && !strings.HasPrefix(dir, ws+"/") {
			return nil, deny("its folder " + oneLine(*r.Cwd) + " is outside the workspace")
		}
	}
	switch {
	case t.shut:
		return nil, errors.New("the session has ended")
	case r.Command == "":
		return nil, errors.New("no command")
	case len(t.all) >= maxTerminals:
		return nil, deny(fmt.Sprintf("%d commands are open already", maxTerminals))
	}
	env := map[string]string{}
	for _, v := range r.Env {
		env[v.Name] = v.Value
	}
	limit := maxTermOut
	if r.OutputByteLimit != nil && *r.OutputByteLimit >= 0 {
		limit = min(limit, *r.OutputByteLimit)
	}
	one := &terminal{out: &tail{limit: limit}, done: make(chan struct{}), stop: make(chan struct{})}
	world := t.world
	world.Listen = 0 // the way to the meter is the tool's own
	spec := world.Spec(append([]string{r.Command}, r.Args...), env)
	spec.Dir = dir
	p, err := confine.Start(t.ctx, spec, confine.IO{Stdout: one.out, Stderr: one.out})
	if err != nil {
		return nil, fmt.Errorf("%s cannot be started: %w", oneLine(r.Command), err)
	}
	one.p = p
	t.next++
	id := fmt.Sprintf("terminal-%d", t.next)
	t.all[id] = one
	title := oneLine(strings.Join(append([]string{r.Command}, r.Args...), " "))
	go func() { // ends with the command, or with close
		one.res, _ = p.Wait(0, one.stop)
		close(one.done)
		if one.res.Limit != "" && t.breached != nil {
			t.breached(one.res.Limit, one.res.LimitDetail)
		}
		t.seen(Seen{Kind: timeline.Call, From: now, Until: time.Now(), Text: "$ " + title, OK: !one.res.Failed()})
	}()
	return acp.CreateTerminalResponse{TerminalId: id}, nil
}

func (t *terminals) find(id string) (*terminal, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if one := t.all[id]; one != nil {
		return one, nil
	}
	return nil, fmt.Errorf("there is no terminal %s", oneLine(id))
}

func (one *terminal) status() *acp.TerminalExitStatus {
	select {
	case <-one.done:
	default:
		return nil
	}
	out := &acp.TerminalExitStatus{}
	if one.res.Signal != "" {
		out.Signal = &one.res.Signal
	} else {
		out.ExitCode = &one.res.ExitCode
	}
	return out
}

func (t *terminals) output(r acp.TerminalOutputRequest) (any, error) {
	one, err := t.find(r.TerminalId)
	if err != nil {
		return nil, err
	}
	status := one.status()
	text, cut := one.out.text()
	return acp.TerminalOutputResponse{Output: text, Truncated: cut, ExitStatus: status}, nil
}

func (t *terminals) wait(ctx context.Context, r acp.WaitForTerminalExitRequest) (any, error) {
	one, err := t.find(r.TerminalId)
	if err != nil {
		return nil, err
	}
	select {
	case <-one.done:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	s := one.status()
	return acp.WaitForTerminalExitResponse{ExitCode: s.ExitCode, Signal: s.Signal}, nil
}

func (one *terminal) end() { one.once.Do(func() { close(one.stop) }) }

func (t *terminals) kill(r acp.KillTerminalRequest) (any, error) {
	one, err := t.find(r.TerminalId)
	if err != nil {
		return nil, err
	}
	one.end()
	return acp.KillTerminalResponse{}, nil
}

func (t *terminals) release(r acp.ReleaseTerminalRequest) (any, error) {
	one, err := t.find(r.TerminalId)
	if err != nil {
		return nil, err
	}
	one.p.Kill()
	<-one.done
	t.mu.Lock()
	delete(t.all, r.TerminalId)
	t.mu.Unlock()
	return acp.ReleaseTerminalResponse{}, nil
}

// each does something with every command that runs.
func (t *terminals) each(do func(*confine.Process)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, one := range t.all {
		do(one.p)
	}
}

// close ends all of them, and waits for that.
func (t *terminals) close() {
	t.mu.Lock()
	t.shut = true
	left := t.all
	t.all = map[string]*terminal{}
	t.mu.Unlock()
	for _, one := range left {
		one.p.Kill()
		<-one.done
	}
}
