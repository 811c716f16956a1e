package workspace

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os/exec"
	"strconv"
	"strings"
	"sync"
)

// Contents reads files of the start and of a change, as git holds them. It is safe
// for use by several goroutines. Close frees it.
type Contents struct {
	start   map[string]entry
	became  map[string]entry
	command func(more ...string) *exec.Cmd
	mu      sync.Mutex
	err     error
	ended   bool
	single  *batch // asked for one file at a time
	in      io.WriteCloser
	ahead   *batch            // asked for many at once
	had     map[string][]byte // by id, what ahead answered and nobody wanted yet
}

// batch is a git that answers with objects.
type batch struct {
	cmd *exec.Cmd
	out *bufio.Reader
	// asked are what it has yet to answer, in this order.
	asked []string
}

// maxContent is how long a file may be that is read; longer ones are as if they were not there.
const maxContent = 16 << 20

// Contents opens what a change was made of and what it leads to.
func (g *Git) Contents(ctx context.Context, p *Prepared, c *Change) (*Contents, error) {
	dir := p.harness()
	if c.dir != "" {
		dir = c.gitDir()
	}
	known, err := g.listing(p)
	if err != nil {
		return nil, err
	}
	r := &Contents{start: known.files, became: c.became, had: map[string][]byte{}}
	r.command = func(more ...string) *exec.Cmd {
		return g.command(ctx, call{dir: "/", env: []string{"GIT_DIR=" + dir}, args: append([]string{"cat-file", "--batch"}, more...)})
	}
	r.single = &batch{cmd: r.command()}
	if r.in, err = r.single.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	return r, r.single.open()
}

func (b *batch) open() error {
	out, err := b.cmd.StdoutPipe()
	if err != nil {
		return err
	}
	b.out = bufio.NewReaderSize(out, 1<<16)
	return b.cmd.Start()
}

// Before and After are a file's content in the start and in the result; nil where
// there is no regular file of at most 16 MiB. Errors of git are told by Close.
func (r *Contents) Before(name string) []byte { return r.read(Asked{Name: name}) }
func (r *Contents) After(name string) []byte  { return r.read(Asked{Result: true, Name: name}) }

// id is the object of a file; "" where there is no regular one.
func (r *Contents) id(a Asked) string {
	e := r.start[a.Name]
	if now, changed := r.became[a.Name]; a.Result && changed {
		e = now
	}
	if !strings.HasPrefix(e.mode, "100") {
		return ""
	}
	return e.id
}

// Asked is a file of the start, or of the result.
type Asked struct {
	Result bool
	Name   string
}

// Ahead asks git for files that will be read, in the order in which they will be: so that
// it need not be waited for with each.
func (r *Contents) Ahead(ask []Asked) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ended || r.err != nil {
		return
	}
	r.dropAhead()
	var all strings.Builder
	next := &batch{cmd: r.command("--buffer")}
	for _, a := range ask {
		if id := r.id(a); id != "" {
			next.asked = append(next.asked, id)
			all.WriteString(id + "\n")
		}
	}
	next.cmd.Stdin = strings.NewReader(all.String())
	if r.err = next.open(); r.err == nil {
		r.ahead = next
	}
}

// dropAhead ends what was asked ahead; what it did not answer is asked for singly.
func (r *Contents) dropAhead() {
	if r.ahead == nil {
		return
	}
	if len(r.ahead.asked) > 0 {
		_ = r.ahead.cmd.Process.Kill()
	}
	err := r.ahead.cmd.Wait()
	if len(r.ahead.asked) == 0 && r.err == nil {
		r.err = err
	}
	r.ahead = nil
	clear(r.had)
}

func (r *Contents) read(a Asked) []byte {
	r.mu.Lock()
	defer r.mu.Unlock()
	object := r.id(a)
	if object == "" || r.err != nil || r.ended {
		return nil
	}
	if data, there := r.had[object]; there {
		delete(r.had, object)
		return data
	}
	var data []byte
	for r.ahead != nil && len(r.ahead.asked) > 0 { // what comes before it is kept
		next := r.ahead.asked[0]
		if data, r.err = r.ahead.answer(); r.err != nil {
			return nil
		}
		r.ahead.asked = r.ahead.asked[1:]
		if next == object {
			return data
		}
		r.had[next] = data
	}
	if data, there := r.had[object]; there {
		delete(r.had, object)
		return data
	}
	if _, r.err = io.WriteString(r.in, object+"\n"); r.err == nil {
		data, r.err = r.single.answer()
	}
	return data
}

func (b *batch) answer() ([]byte, error) {
	head, err := b.out.ReadString('\n')
	if err != nil {
		return nil, err
	}
	head = strings.TrimSuffix(head, "\n")
	if strings.HasSuffix(head, " missing") || strings.HasSuffix(head, " ambiguous") {
		return nil, nil
	}
	parts := strings.Fields(head)
	if len(parts) != 3 {
		return nil, fmt.Errorf("git cat-file answers %.80q", head)
	}
	size, err := strconv.ParseInt(parts[2], 10, 64)
	if err != nil {
		return nil, err
	}
	var data []byte
	if parts[1] == "blob" && size <= maxContent {
		data = make([]byte, size)
		_, err = io.ReadFull(b.out, data)
	} else {
		_, err = io.CopyN(io.Discard, b.out, size)
	}
	if err != nil {
		return nil, err
	}
	_, err = b.out.ReadByte()
	return data, err
}

// Close ends git, and tells whether a reading went wrong. A second call does nothing.
func (r *Contents) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ended {
		return nil
	}
	r.ended = true
	r.dropAhead()
	r.in.Close()
	err := r.single.cmd.Wait()
	if r.err != nil {
		return r.err
	}
	return err
}
