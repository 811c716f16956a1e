package meter

import (
	"bufio"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"

	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/wire"
)

// keeper keeps the beginning of a body.
type keeper struct {
	most int64
	text []byte
	cut  bool
}

func (k *keeper) write(b []byte) {
	if k.most <= 0 {
		return
	}
	n := min(int64(len(b)), k.most-int64(len(k.text)))
	k.text = append(k.text, b[:n]...)
	k.cut = k.cut || n < int64(len(b))
}

func (k *keeper) bytes(secrets []string) []byte {
	if struck := workspace.Strike(k.text, secrets); struck != nil {
		return struck
	}
	return k.text
}

// requestTee reads a request's body as it is sent on. A service may answer, and
// the exchange end, while the body is still being sent.
type requestTee struct {
	from io.ReadCloser
	mu   sync.Mutex
	read *wire.Request
	keep keeper
	n    int64
}

func (t *requestTee) Read(p []byte) (int, error) {
	n, err := t.from.Read(p)
	t.mu.Lock()
	defer t.mu.Unlock()
	t.n += int64(n)
	_, _ = t.read.Write(p[:n])
	t.keep.write(p[:n])
	return n, err
}

// finish puts what was read into the exchange's record.
func (t *requestTee) finish(x *Exchange) {
	t.mu.Lock()
	defer t.mu.Unlock()
	x.Asked, x.BytesIn = t.read.Asked(), t.n
	x.RequestBody, x.BodiesCut = t.keep.bytes(x.secrets), t.keep.cut
}

func (t *requestTee) Close() error { return t.from.Close() }

// maxDecoded is how much of a compressed reply is read, in bytes: a few bytes can
// stand for gigabytes.
const maxDecoded = 64 << 20

// replyTee reads a reply's body as it passes: each piece is looked at when the
// next one is asked for, and so after it has been passed on.
type replyTee struct {
	from  io.ReadCloser
	reply *wire.Reply
	into  io.Writer
	keep  keeper
	last  []byte
	n     int64
	whole bool
	cause error
	// Of a compressed reply:
	packed  *io.PipeWriter
	decoded chan error
}

func newReplyTee(r *http.Response, o Options) *replyTee {
	t := &replyTee{from: r.Body, reply: o.Reading.Reply(wire.FormOf(r.Header.Get("Content-Type"))), keep: keeper{most: o.Keep}}
	t.into = t.reply
	if coding := strings.ToLower(strings.TrimSpace(r.Header.Get("Content-Encoding"))); coding != "" && coding != "identity" {
		pr, pw := io.Pipe()
		t.into, t.packed, t.decoded = pw, pw, make(chan error, 1)
		go func() { // ends with the body, or at the cap
			err := decode(coding, pr, t)
			pr.CloseWithError(errors.New("not read any further"))
			t.decoded <- err
		}()
	}
	return t
}

// decode reads a compressed body.
func decode(coding string, from io.Reader, t *replyTee) error {
	var r io.Reader
	var err error
	switch coding {
	case "gzip", "x-gzip":
		r, err = gzip.NewReader(from)
	case "deflate": // meant is zlib, but some send the bare form
		b := bufio.NewReader(from)
		head, _ := b.Peek(1)
		if len(head) == 1 && head[0]&0x0f == 8 {
			r, err = zlib.NewReader(b)
		} else {
			r = flate.NewReader(b)
		}
	case "br":
		r = brotli.NewReader(from)
	case "zstd":
		var d *zstd.Decoder
		if d, err = zstd.NewReader(from, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxWindow(8<<20)); err == nil {
			defer d.Close()
			r = d
		}
	default:
		return fmt.Errorf("the coding %s cannot be read", coding)
	}
	if err != nil {
		return err
	}
	n, err := io.Copy(writer(func(b []byte) { _, _ = t.reply.Write(b); t.keep.write(b) }), io.LimitReader(r, maxDecoded))
	if err == nil && n == maxDecoded {
		return fmt.Errorf("more than %d bytes, unpacked", maxDecoded)
	}
	return err
}

type writer func([]byte)

func (w writer) Write(b []byte) (int, error) { w(b); return len(b), nil }

// look reads the piece that was passed on last.
func (t *replyTee) look() {
	if len(t.last) == 0 {
		return
	}
	_, _ = t.into.Write(t.last)
	if t.packed == nil {
		t.keep.write(t.last)
	}
	t.last = t.last[:0]
}

func (t *replyTee) Read(p []byte) (int, error) {
	t.look()
	n, err := t.from.Read(p)
	t.n += int64(n)
	t.last = append(t.last, p[:n]...)
	switch {
	case errors.Is(err, io.EOF):
		t.whole = true
	case err != nil:
		t.cause = err
	}
	return n, err
}

func (t *replyTee) Close() error { return t.from.Close() }

// finish puts what was read into the exchange's record. Nothing reads the body any more.
func (t *replyTee) finish(x *Exchange) {
	t.look()
	x.BytesOut = t.n
	if t.packed != nil {
		var err error
		if t.whole {
			err = t.packed.Close()
		} else {
			err = t.packed.CloseWithError(io.ErrUnexpectedEOF)
		}
		err = errors.Join(err, <-t.decoded)
		if err != nil && t.whole {
			x.Partial, x.Trouble = true, "the reply cannot be unpacked: "+clean(err.Error())
		}
	}
	x.Read = t.reply.Read()
	x.ReplyBody = t.keep.bytes(x.secrets)
	x.BodiesCut = x.BodiesCut || t.keep.cut
	if t.whole || t.reply.Ended() {
		return
	}
	x.Partial = true
	switch {
	case t.cause != nil && !errors.Is(t.cause, context.Canceled):
		x.Trouble = "the reply was cut off: " + clean(t.cause.Error())
	default:
		x.Trouble = "the tool went away before the reply's end"
	}
}
