package confine

import (
	"bytes"
	"fmt"
	"sync"
)

// Output keeps what a command printed, up to a cap: its beginning and its end,
// with the number of bytes cut out between them. Both of a command's streams
// may be written to one Output.
type Output struct {
	mu    sync.Mutex
	limit int
	head  []byte
	tail  []byte // a ring once it is full
	next  int
	total int64
}

// NewOutput keeps at most limit bytes.
func NewOutput(limit int64) *Output {
	return &Output{limit: int(max(limit, 1024))}
}

func (o *Output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	n := len(p)
	o.total += int64(n)
	half := o.limit / 2
	if room := half - len(o.head); room > 0 {
		k := min(room, len(p))
		o.head = append(o.head, p[:k]...)
		p = p[k:]
	}
	ring := o.limit - half
	if len(p) > ring {
		p = p[len(p)-ring:]
	}
	if room := ring - len(o.tail); room > 0 {
		k := min(room, len(p))
		o.tail = append(o.tail, p[:k]...)
		p = p[k:]
	}
	for len(p) > 0 {
		k := copy(o.tail[o.next:], p)
		p = p[k:]
		o.next = (o.next + k) % ring
	}
	return n, nil
}

// Total is the number of bytes that were printed, kept or not.
func (o *Output) Total() int64 {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.total
}

// Cut is the number of bytes that were not kept.
func (o *Output) Cut() int64 {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.total - int64(len(o.head)+len(o.tail))
}

// Bytes is what was kept, with a line in the place of what was cut.
func (o *Output) Bytes() []byte {
	cut := o.Cut()
	o.mu.Lock()
	defer o.mu.Unlock()
	var b bytes.Buffer
	b.Write(o.head)
	if cut > 0 {
		fmt.Fprintf(&b, "\n… %d bytes cut …\n", cut)
	}
	b.Write(o.tail[o.next:])
	b.Write(o.tail[:o.next])
	return b.Bytes()
}
