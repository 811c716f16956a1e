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
	start, result string
	cmd           *exec.Cmd
	in            io.WriteCloser
	out           *bufio.Reader
	mu            sync.Mutex
	err           error
}

// maxContent is how long a file may be that is read; longer ones are as if they were not there.
const maxContent = 16 << 20

// Contents opens what a change was made of and what it leads to.
func (g *Git) Contents(ctx context.Context, p *Prepared, c *Change) (*Contents, error) {
	dir := p.harness()
	if c.dir != "" {
		dir = c.gitDir()
	}
	r := &Contents{start: p.Tree, result: c.Tree, cmd: g.command(ctx, call{dir: "/", env: []string{"GIT_DIR=" + dir}, args: []string{"cat-file", "--batch"}})}
	var err error
	if r.in, err = r.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	out, err := r.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	r.out = bufio.NewReaderSize(out, 1<<16)
	return r, r.cmd.Start()
}

// Before and After are a file's content in the start and in the result; nil where
// there is no regular file of at most 16 MiB, or where its name has a line end in it
// (older versions of git cannot be asked for those). Errors of git are told by Close.
func (r *Contents) Before(name string) []byte { return r.read(r.start, name) }
func (r *Contents) After(name string) []byte  { return r.read(r.result, name) }

func (r *Contents) read(tree, name string) []byte {
	if name == "" || strings.ContainsAny(name, "\x00\n") {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err != nil {
		return nil
	}
	data, err := r.ask(tree + ":" + name)
	if err != nil {
		r.err = err
	}
	return data
}

func (r *Contents) ask(object string) ([]byte, error) {
	if _, err := io.WriteString(r.in, object+"\n"); err != nil {
		return nil, err
	}
	head, err := r.out.ReadString('\n')
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
		_, err = io.ReadFull(r.out, data)
	} else {
		_, err = io.CopyN(io.Discard, r.out, size)
	}
	if err != nil {
		return nil, err
	}
	_, err = r.out.ReadByte()
	return data, err
}

// Close ends git, and tells whether a reading went wrong.
func (r *Contents) Close() error {
	r.in.Close()
	err := r.cmd.Wait()
	if r.err != nil {
		return r.err
	}
	return err
}
