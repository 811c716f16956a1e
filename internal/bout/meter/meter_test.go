package meter

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/wire"
)

var quiet = slog.New(slog.DiscardHandler)

// log collects what lines tell.
type record struct {
	mu  sync.Mutex
	all []*Exchange
}

func (r *record) add(x *Exchange) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.all = append(r.all, x)
}

// line opens a line to an upstream.
func line(t testing.TB, m *Meter, upstream string, change func(*Options)) (*Line, *record) {
	u, err := url.Parse(upstream)
	require.NoError(t, err)
	r := &record{}
	o := Options{Upstream: u, Reading: wire.Compile(nil), Ended: r.add}
	if change != nil {
		change(&o)
	}
	l, err := m.Open(o)
	require.NoError(t, err)
	return l, r
}

func meter(t testing.TB) *Meter {
	m, err := New(quiet)
	require.NoError(t, err)
	t.Cleanup(func() { _ = m.Close() })
	return m
}

// last waits until a line is quiet, and returns the last exchange.
func (r *record) last(t testing.TB, l *Line) *Exchange {
	l.Quiet()
	r.mu.Lock()
	defer r.mu.Unlock()
	require.NotEmpty(t, r.all)
	return r.all[len(r.all)-1]
}

// truth is what the service of the exactness test answers to request i.
type truth struct {
	body, packed []byte
	streamed     bool
	coding       string
	cut          bool
	in, out      int64
	cached       int64
	model        string
}

func truthOf(i int) truth {
	tr := truth{in: int64(100 + i), out: int64(1 + i%700), cached: int64(i % 90), model: []string{"spring", "neap", "ebb"}[i%3], streamed: i%2 == 0,
		coding: []string{"", "gzip", "", "br", "zstd"}[i%5], cut: i%11 == 0}
	words := strings.Repeat("low water ", i%40)
	switch {
	case tr.streamed:
		var b strings.Builder
		fmt.Fprintf(&b, "data: {\"message\":{\"model\":%q,\"usage\":{\"input_tokens\":%d,\"cache_read_input_tokens\":%d,\"output_tokens\":1}}}\n\n", tr.model, tr.in, tr.cached)
		for range i % 20 {
			fmt.Fprintf(&b, "data: {\"delta\":{\"text\":%q}}\n\n", words)
		}
		if tr.cut {
			tr.out = 1
		} else {
			fmt.Fprintf(&b, "data: {\"usage\":{\"output_tokens\":%d}}\n\n", tr.out)
		}
		tr.body = []byte(b.String())
	default:
		tr.cut = false
		tr.body = fmt.Appendf(nil, `{"model":%q,"content":%q,"usage":{"prompt_tokens":%d,"completion_tokens":%d,"prompt_tokens_details":{"cached_tokens":%d}}}`, tr.model, words, tr.in+tr.cached, tr.out, tr.cached)
	}
	return tr
}

// packer packs bodies; making one is what costs, so that it is used again.
type packer struct {
	gzip *gzip.Writer
	br   *brotli.Writer
	zstd *zstd.Encoder
}

func newPacker() *packer {
	z, _ := zstd.NewWriter(nil)
	return &packer{gzip.NewWriter(nil), brotli.NewWriterLevel(nil, 1), z}
}

func (p *packer) pack(coding string, b []byte) []byte {
	var out bytes.Buffer
	switch coding {
	case "gzip":
		p.gzip.Reset(&out)
		_, _ = p.gzip.Write(b)
		_ = p.gzip.Close()
	case "br":
		p.br.Reset(&out)
		_, _ = p.br.Write(b)
		_ = p.br.Close()
	case "zstd":
		return p.zstd.EncodeAll(b, nil)
	default:
		return b
	}
	return out.Bytes()
}

func digest(b []byte) string { s := sha256.Sum256(b); return hex.EncodeToString(s[:]) }

// Ten thousand mixed exchanges of fifty bouts at once: every count right, none
// in the wrong bout, bytes identical both ways.
func TestEveryTokenIsCounted(t *testing.T) {
	const bouts, each = 50, 200
	packer := newPacker()
	truths := make([]truth, bouts*each)
	for i := range truths {
		truths[i] = truthOf(i)
		truths[i].packed = packer.pack(truths[i].coding, truths[i].body)
	}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		i, _ := strconv.Atoi(r.URL.Query().Get("i"))
		body, _ := io.ReadAll(r.Body)
		tr := truths[i]
		packed := tr.packed
		w.Header().Set("X-Body", digest(body))
		w.Header().Set("X-Path", r.URL.EscapedPath())
		if tr.coding != "" {
			w.Header().Set("Content-Encoding", tr.coding)
		}
		w.Header().Set("Content-Type", map[bool]string{true: "text/event-stream", false: "application/json"}[tr.streamed])
		if !tr.streamed {
			_, _ = w.Write(packed)
			return
		}
		w.WriteHeader(http.StatusOK)
		for rest := packed; len(rest) > 0; {
			n := min(len(rest), 1+i%500)
			_, _ = w.Write(rest[:n])
			rest = rest[n:]
			if i%7 == 0 {
				w.(http.Flusher).Flush()
			}
		}
		if tr.cut {
			w.(http.Flusher).Flush()
			panic(http.ErrAbortHandler)
		}
	}))
	defer service.Close()
	service.Config.ErrorLog = slog.NewLogLogger(slog.DiscardHandler, 0)
	m := meter(t)
	client := &http.Client{Transport: &http.Transport{DisableCompression: true, MaxIdleConnsPerHost: 100}}
	defer client.CloseIdleConnections()
	var wg sync.WaitGroup
	lines, records := make([]*Line, bouts), make([]*record, bouts)
	for b := range bouts {
		lines[b], records[b] = line(t, m, service.URL+"/base", nil)
	}
	slots := make(chan struct{}, 64)
	for b := range bouts {
		for k := range each {
			wg.Add(1)
			slots <- struct{}{}
			go func() {
				defer func() { <-slots; wg.Done() }()
				i := b*each + k
				sent := []byte(fmt.Sprintf(`{"model":"asked-%d","input":%q}`, i, strings.Repeat("?", i%3000)))
				resp, err := client.Post(fmt.Sprintf("%s/v1/a%%2Fb?i=%d", lines[b].URL(), i), "application/json", bytes.NewReader(sent))
				if !assert.NoError(t, err) {
					return
				}
				got, err := io.ReadAll(resp.Body)
				resp.Body.Close()
				tr := truths[i]
				assert.Equal(t, tr.cut, err != nil, "what is cut there is cut here")
				assert.Equal(t, digest(tr.packed), digest(got))
				assert.Equal(t, digest(sent), resp.Header.Get("X-Body"))
				assert.Equal(t, "/base/v1/a%2Fb", resp.Header.Get("X-Path"))
			}()
		}
	}
	wg.Wait()
	total := 0
	for b := range bouts {
		lines[b].Quiet()
		require.Len(t, records[b].all, each)
		for _, x := range records[b].all {
			i, err := strconv.Atoi(strings.TrimPrefix(x.Asked.Model, "asked-"))
			require.NoError(t, err)
			require.Equal(t, b, i/each, "no exchange is in the wrong bout")
			tr := truths[i]
			require.Equal(t, tr.model, x.Read.Model, "%+v", x)
			require.Equal(t, tr.in, *x.Read.Tokens.Fresh, "%d: %+v", i, x)
			require.Equal(t, tr.cached, *x.Read.Tokens.Cached)
			require.Equal(t, tr.out, *x.Read.Tokens.Output, "%d", i)
			require.Equal(t, tr.cut, x.Partial, "%d: %s", i, x.Trouble)
			require.Equal(t, int64(len(tr.packed)), x.BytesOut)
			require.False(t, x.Ended.Before(x.FirstByte) || x.FirstByte.Before(x.Began))
			total++
		}
	}
	require.Equal(t, bouts*each, total)
}

// A streamed reply is passed on as it arrives: the tool has each event before the
// service writes the next one.
func TestStreamsKeepTheirPace(t *testing.T) {
	had := make(chan int)
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		w.Header().Set("Trailer", "X-Total")
		for i := range 50 {
			fmt.Fprintf(w, "data: {\"n\":%d}\n\n", i)
			w.(http.Flusher).Flush()
			if got := <-had; got != i {
				return
			}
		}
		w.Header().Set("X-Total", "50")
	}))
	defer service.Close()
	m := meter(t)
	l, r := line(t, m, service.URL, nil)
	resp, err := http.Post(l.URL()+"/stream", "application/json", strings.NewReader("{}"))
	require.NoError(t, err)
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	for i := 0; lines.Scan(); {
		if lines.Text() == fmt.Sprintf("data: {\"n\":%d}", i) {
			had <- i
			i++
		}
	}
	require.NoError(t, lines.Err())
	assert.Equal(t, "50", resp.Trailer.Get("X-Total"), "trailers pass")
	x := r.last(t, l)
	assert.True(t, x.Wanting, "no counts: not counted, and never zero")
	assert.False(t, x.Partial)
	assert.Equal(t, 50, x.Read.Events)
}

// A tool that goes away ends the upstream's work; a bout that ends cuts what is under way.
func TestGoingAway(t *testing.T) {
	began, ended := make(chan struct{}), make(chan struct{})
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, "data: {\"message\":{\"model\":\"neap\",\"usage\":{\"input_tokens\":9,\"output_tokens\":1}}}\n\n")
		w.(http.Flusher).Flush()
		began <- struct{}{}
		<-r.Context().Done()
		ended <- struct{}{}
	}))
	service.Config.Handler = http.HandlerFunc(func(h http.Handler) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/event-stream")
			h.ServeHTTP(w, r)
		}
	}(service.Config.Handler))
	defer service.Close()
	m := meter(t)
	l, r := line(t, m, service.URL, nil)
	ctx, cancel := context.WithCancel(t.Context())
	post := func(ctx context.Context) *http.Response {
		req, _ := http.NewRequestWithContext(ctx, http.MethodPost, l.URL()+"/x", strings.NewReader("{}"))
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		return resp
	}
	first := post(ctx)
	<-began
	cancel()
	<-ended
	first.Body.Close()
	x := r.last(t, l)
	assert.True(t, x.Partial)
	assert.Equal(t, int64(9), *x.Read.Tokens.Fresh, "what was counted so far is kept")
	assert.Contains(t, x.Trouble, "the tool went away")

	second := post(t.Context())
	defer second.Body.Close()
	<-began
	closed := make(chan struct{})
	go func() { l.Close(); close(closed) }()
	<-ended
	<-closed
	require.Len(t, r.all, 2)
	dead, err := http.Get(l.URL() + "/x")
	require.NoError(t, err)
	defer dead.Body.Close()
	assert.Equal(t, http.StatusGone, dead.StatusCode, "the path is dead with its bout")
	guess, err := http.Get(m.base + "/" + strings.Repeat("a", 32) + "/x")
	require.NoError(t, err)
	defer guess.Body.Close()
	assert.Equal(t, http.StatusGone, guess.StatusCode)
}

// Keys pass, and are struck out of all that is recorded.
// A service may begin its reply while the request still comes, and the rest of the
// request must reach it all the same.
func TestAReplyBeginsBeforeTheRequestEnds(t *testing.T) {
	for _, chunked := range []bool{false, true} {
		up := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			flow := http.NewResponseController(w)
			assert.NoError(t, flow.EnableFullDuplex())
			w.Header().Set("Content-Type", "text/event-stream")
			fmt.Fprint(w, "data: {\"model\":\"spring\"}\n\n")
			assert.NoError(t, flow.Flush())
			all, err := io.ReadAll(r.Body)
			assert.NoError(t, err)
			fmt.Fprintf(w, "data: {\"usage\":{\"prompt_tokens\":%d,\"completion_tokens\":1}}\n\n", len(all))
		}))
		l, r := line(t, meter(t), up.URL, nil)
		body, send := io.Pipe()
		req, err := http.NewRequest(http.MethodPost, l.URL()+"/v1/work", body)
		require.NoError(t, err)
		if !chunked {
			req.ContentLength = 24
		}
		go fmt.Fprint(send, "first half: ")
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		_, err = bufio.NewReader(resp.Body).ReadString('\n')
		require.NoError(t, err)
		fmt.Fprint(send, "second half.")
		send.Close()
		_, err = io.ReadAll(resp.Body)
		require.NoError(t, err)
		resp.Body.Close()
		x := r.last(t, l)
		assert.False(t, x.Partial, x.Trouble)
		assert.Equal(t, int64(24), x.BytesIn)
		require.NotNil(t, x.Read.Tokens.Total())
		assert.Equal(t, int64(25), *x.Read.Tokens.Total())
		up.Close()
	}
}

func TestKeysStayNowhere(t *testing.T) {
	const key, second, third = "tidal-key-123456", "query-key-98765", "kept-key-55555"
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		assert.Equal(t, "Bearer "+key, r.Header.Get("Authorization"))
		assert.Equal(t, second, r.URL.Query().Get("key"))
		assert.Equal(t, "gzip, br;q=0.5", r.Header.Get("Accept-Encoding"), "only codings that can be read are let through")
		assert.Equal(t, "lamp/1", r.Header.Get("User-Agent"))
		assert.Equal(t, "1.2.3.4", r.Header.Get("X-Forwarded-For"), "nothing is added")
		assert.Empty(t, r.Header.Get("Connection"))
		w.Header().Set("Retry-After", "7")
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(429)
		fmt.Fprintf(w, `{"error":{"type":"rate_limit","message":"key %s is over its quota"},"echo":%q}`, key, body)
	}))
	defer service.Close()
	m := meter(t)
	l, r := line(t, m, service.URL, func(o *Options) { o.Keep, o.Secrets = 1<<20, []string{third} })
	req, _ := http.NewRequest(http.MethodPost, l.URL()+"/p/"+key+"?key="+second, strings.NewReader(`{"model":"spring","k":"`+third+second+`"}`))
	for k, v := range map[string]string{"Authorization": "Bearer " + key, "Accept-Encoding": "gzip, br;q=0.5, sdch", "User-Agent": "lamp/1", "X-Forwarded-For": "1.2.3.4", "Connection": "X-Gone", "X-Gone": "1"} {
		req.Header.Set(k, v)
	}
	resp, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	body, _ := io.ReadAll(resp.Body)
	resp.Body.Close()
	assert.Contains(t, string(body), key, "the tool gets it as it is")
	assert.Equal(t, "7", resp.Header.Get("Retry-After"))
	x := r.last(t, l)
	assert.True(t, x.Refused)
	assert.Equal(t, wire.OwnAllowance, x.Cause)
	assert.Equal(t, "7", x.RetryAfter)
	assert.False(t, x.Wanting, "a refusal uses nothing")
	assert.Contains(t, x.CauseWords, "is over its quota")
	all := fmt.Sprintf("%+v %s %s %s", *x, x.RequestBody, x.ReplyBody, x.Path)
	all = strings.Replace(all, fmt.Sprint(x.secrets), "", 1)
	for _, k := range []string{key, second, third} {
		assert.NotContains(t, all, k)
	}
	assert.Contains(t, string(x.RequestBody), "spring")
}

func TestUpstreams(t *testing.T) {
	answer := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"model":%q,"usage":{"prompt_tokens":3,"completion_tokens":4}}`, r.Proto)
	})
	m := meter(t)
	secure := httptest.NewUnstartedServer(answer)
	secure.EnableHTTP2 = true
	secure.Config.ErrorLog = slog.NewLogLogger(slog.DiscardHandler, 0)
	secure.StartTLS()
	defer secure.Close()
	roots := filepath.Join(t.TempDir(), "roots.pem")
	require.NoError(t, os.WriteFile(roots, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: secure.Certificate().Raw}), 0o600))
	ask := func(l *Line) int {
		resp, err := http.Post(l.URL()+"/v1", "application/json", strings.NewReader("{}"))
		require.NoError(t, err)
		_, _ = io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		return resp.StatusCode
	}
	l, r := line(t, m, secure.URL, func(o *Options) { o.CAFile = roots })
	assert.Equal(t, 200, ask(l))
	assert.Equal(t, "HTTP/2.0", r.last(t, l).Read.Model)

	l, r = line(t, m, secure.URL, nil)
	assert.Equal(t, 502, ask(l), "nobody vouches for it")
	x := r.last(t, l)
	assert.Contains(t, x.Trouble, "cannot be reached")
	assert.Equal(t, wire.Outage, x.Cause)

	// A tool may speak HTTP/2 in clear to the meter.
	plain := httptest.NewServer(answer)
	defer plain.Close()
	l, _ = line(t, m, plain.URL, nil)
	var h2 http.Protocols
	h2.SetUnencryptedHTTP2(true)
	resp, err := (&http.Client{Transport: &http.Transport{Protocols: &h2}}).Post(l.URL()+"/v1", "application/json", strings.NewReader("{}"))
	require.NoError(t, err)
	assert.Equal(t, 2, resp.ProtoMajor)
	resp.Body.Close()

	// Another listener, as one in a network namespace.
	on, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go l.Serve(on)
	resp, err = http.Post(l.URLOn(on.Addr().String())+"/v1", "application/json", strings.NewReader("{}"))
	require.NoError(t, err)
	resp.Body.Close()
	l.Close()
	_, err = http.Post(l.URLOn(on.Addr().String())+"/v1", "application/json", strings.NewReader("{}"))
	assert.Error(t, err, "it ends with the line")

	_, err = m.Open(Options{Upstream: &url.URL{}, CAFile: "/nowhere.pem"})
	assert.Error(t, err)
	empty := filepath.Join(t.TempDir(), "empty.pem")
	require.NoError(t, os.WriteFile(empty, []byte("nothing"), 0o600))
	_, err = m.Open(Options{Upstream: &url.URL{}, CAFile: empty})
	assert.ErrorContains(t, err, "holds none in PEM")
}

// hostile answers a connection with whatever raw does, and nothing of HTTP's manners.
func hostile(t *testing.T, raw func(net.Conn)) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				if r, err := http.ReadRequest(bufio.NewReader(c)); err == nil {
					_, _ = io.Copy(io.Discard, r.Body)
				}
				raw(c)
			}()
		}
	}()
	return "http://" + l.Addr().String()
}

// Whatever a service sends, it costs bounded memory and ends in a recorded fact.
func TestHostileUpstreams(t *testing.T) {
	if testing.Short() {
		t.Skip("moves a gigabyte")
	}
	m := meter(t)
	head := "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n"
	many := bytes.Repeat([]byte("x"), 1<<20)
	var bomb bytes.Buffer
	z := gzip.NewWriter(&bomb)
	for range 200 {
		_, _ = z.Write(make([]byte, 1<<20))
	}
	_ = z.Close()
	for _, c := range []struct {
		name string
		raw  func(net.Conn)
		want func(t *testing.T, x *Exchange)
	}{
		{"endless headers", func(c net.Conn) {
			fmt.Fprint(c, "HTTP/1.1 200 OK\r\n")
			for i := 0; ; i++ {
				if _, err := fmt.Fprintf(c, "X-%d: %s\r\n", i, many[:1000]); err != nil {
					return
				}
			}
		}, func(t *testing.T, x *Exchange) { assert.Contains(t, x.Trouble, "cannot be reached") }},
		{"half a gigabyte of one text", func(c net.Conn) {
			fmt.Fprintf(c, "%sConnection: close\r\n\r\n{\"model\":\"", head)
			for range 512 {
				if _, err := c.Write(many); err != nil {
					return
				}
			}
		}, func(t *testing.T, x *Exchange) {
			assert.True(t, x.Wanting)
			assert.Equal(t, int64(512<<20)+10, x.BytesOut)
		}},
		{"less than it said", func(c net.Conn) {
			fmt.Fprintf(c, "%sContent-Length: 1000\r\n\r\n{\"usage\":{\"prompt_tokens\":3}", head)
		}, func(t *testing.T, x *Exchange) {
			assert.True(t, x.Partial && x.Wanting)
			assert.Equal(t, int64(3), *x.Read.Tokens.Fresh)
		}},
		{"more than it said", func(c net.Conn) {
			fmt.Fprintf(c, "%sContent-Length: 2\r\n\r\n{}{\"usage\":{\"prompt_tokens\":3}", head)
		}, func(t *testing.T, x *Exchange) { assert.Nil(t, x.Read.Tokens.Fresh) }},
		{"no UTF-8", func(c net.Conn) {
			fmt.Fprintf(c, "%sConnection: close\r\n\r\n{\"model\":\"\xff\xfe\",\"usage\":{\"prompt_tokens\":3,\"completion_tokens\":1}}", head)
		}, func(t *testing.T, x *Exchange) { assert.Equal(t, int64(3), *x.Read.Tokens.Fresh) }},
		{"a few bytes that stand for many", func(c net.Conn) {
			fmt.Fprintf(c, "%sContent-Encoding: gzip\r\nContent-Length: %d\r\n\r\n", head, bomb.Len())
			_, _ = c.Write(bomb.Bytes())
		}, func(t *testing.T, x *Exchange) {
			assert.Contains(t, x.Trouble, "cannot be unpacked")
			assert.True(t, x.Wanting)
		}},
		{"packed, it says", func(c net.Conn) {
			fmt.Fprintf(c, "%sContent-Encoding: br\r\nConnection: close\r\n\r\nnot at all", head)
		}, func(t *testing.T, x *Exchange) { assert.Contains(t, x.Trouble, "cannot be unpacked") }},
		{"no HTTP", func(c net.Conn) { fmt.Fprint(c, "ahoy\r\n\r\n") }, func(t *testing.T, x *Exchange) { assert.Contains(t, x.Trouble, "cannot be reached") }},
		{"nothing", func(c net.Conn) {}, func(t *testing.T, x *Exchange) { assert.Equal(t, wire.Outage, x.Cause) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			l, r := line(t, m, hostile(t, c.raw), nil)
			var before, after runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&before)
			resp, err := http.Post(l.URL()+"/v1", "application/json", strings.NewReader("{}"))
			if err == nil {
				_, _ = io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
			}
			x := r.last(t, l)
			runtime.GC()
			runtime.ReadMemStats(&after)
			c.want(t, x)
			assert.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(16<<20))
		})
	}
	t.Run("a stream that never ends", func(t *testing.T) {
		l, r := line(t, m, hostile(t, func(c net.Conn) {
			fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\n")
			for i := 0; ; i++ {
				if _, err := fmt.Fprintf(c, "data: {\"usage\":{\"input_tokens\":5,\"output_tokens\":%d}}\n\n", i); err != nil {
					return
				}
			}
		}), nil)
		resp, err := http.Post(l.URL()+"/v1", "application/json", strings.NewReader("{}"))
		require.NoError(t, err)
		_, _ = io.CopyN(io.Discard, resp.Body, 10<<20)
		resp.Body.Close()
		l.Close()
		x := r.last(t, l)
		assert.True(t, x.Partial)
		assert.Greater(t, *x.Read.Tokens.Output, int64(1000))
	})
}

func TestPacing(t *testing.T) {
	now := time.Now()
	p := &Pacer{Requests: 3}
	for range 3 {
		assert.Zero(t, p.delay(now))
	}
	assert.Equal(t, time.Minute, p.delay(now))
	assert.Equal(t, 20*time.Second, p.delay(now.Add(40*time.Second)))
	assert.Zero(t, p.delay(now.Add(time.Minute)))
	p = &Pacer{Tokens: 100, spent: []spending{{now.Add(-50 * time.Second), 60}, {now.Add(-10 * time.Second), 60}}}
	assert.Equal(t, 10*time.Second, p.delay(now), "until the first sixty are a minute old")
	assert.Zero(t, p.delay(now.Add(10*time.Second)))

	// On a line: the wait is seen, is not sent, and ends with the tool.
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {}))
	defer service.Close()
	began := make(chan *Exchange, 1)
	m := meter(t)
	shared := &Pacer{Requests: 1}
	short, r := line(t, m, service.URL, func(o *Options) { o.Most = 1 })
	for _, want := range []int{200, 403} {
		resp, err := http.Post(short.URL(), "application/json", strings.NewReader("{}"))
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, want, resp.StatusCode)
	}
	r.last(t, short)
	assert.Len(t, r.all, 1, "a flood is not recorded")
	l, r := line(t, m, service.URL, func(o *Options) { o.Pacer, o.Began = shared, func(x *Exchange) { began <- x } })
	resp, err := http.Post(l.URL(), "application/json", strings.NewReader("{}"))
	require.NoError(t, err)
	resp.Body.Close()
	<-began
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	req, _ := http.NewRequestWithContext(ctx, http.MethodPost, l.URL(), strings.NewReader("{}"))
	_, err = http.DefaultClient.Do(req)
	require.Error(t, err)
	x := r.last(t, l)
	assert.Contains(t, x.Trouble, "while it was paced")
	assert.Positive(t, x.Began.Sub(x.Arrived))
	assert.False(t, x.Wanting, "it was never sent")
}

// A line that is refused relays nothing more, and lets end what is under way.
func TestARefusedLine(t *testing.T) {
	asked, goOn := make(chan struct{}, 2), make(chan struct{})
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked <- struct{}{}
		<-goOn
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"model":"spring-tide","usage":{"prompt_tokens":7,"completion_tokens":2}}`)
	}))
	t.Cleanup(service.Close)
	l, r := line(t, meter(t), service.URL, nil)
	post := func() (int, string) {
		resp, err := http.Post(l.URL(), "application/json", strings.NewReader("{}"))
		if err != nil {
			return 0, err.Error()
		}
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(body)
	}
	under := make(chan int)
	go func() { // ends with the request that is under way
		status, _ := post()
		under <- status
	}()
	<-asked
	l.Refuse("this bout is being stopped (token-limit)")
	status, why := post()
	assert.Equal(t, http.StatusForbidden, status)
	assert.Equal(t, "this bout is being stopped (token-limit)\n", why)
	close(goOn)
	assert.Equal(t, http.StatusOK, <-under)
	x := r.last(t, l)
	assert.Equal(t, int64(9), *x.Read.Tokens.Total(), "and it is counted")
	assert.Len(t, r.all, 1, "nothing was sent")
	assert.Empty(t, asked)
}

func TestClimbs(t *testing.T) {
	for path, want := range map[string]bool{
		"/v1/replies": false, "/v1/a..b/...": false, "/v1/models/tide.1": false, "/": false, "": false,
		"/v1/../admin": true, "/v1/./admin": true, "/..": true, `/v1/..\admin`: true, "/v1/..;x=1/admin": true,
		"/v1/%2e%2e/admin": true, "/v1/%252e%252e%252fadmin": true, "/v1/%25252525252e/": true,
	} {
		assert.Equal(t, want, climbs(path), path)
	}
}

// What goes over a connection that speaks another protocol is not counted, so the whole is
// more than what was; replies that have no output are counted as they are.
func TestWhatIsNotCountedAndWhatIsWhole(t *testing.T) {
	up := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Upgrade") != "" {
			conn, buf, err := w.(http.Hijacker).Hijack()
			if err != nil {
				return
			}
			defer conn.Close()
			_, _ = buf.WriteString("HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
			_ = buf.Flush()
			one := make([]byte, 4)
			if _, err := io.ReadFull(buf, one); err == nil {
				_, _ = conn.Write(one)
			}
			return
		}
		fmt.Fprint(w, `{"model":"spring","data":[0.1],"usage":{"prompt_tokens":8,"total_tokens":8}}`)
	}))
	defer up.Close()
	l, r := line(t, meter(t), up.URL, nil)
	u, err := url.Parse(l.URL())
	require.NoError(t, err)
	conn, err := net.Dial("tcp", u.Host)
	require.NoError(t, err)
	fmt.Fprintf(conn, "GET %s/v1/live HTTP/1.1\r\nHost: %s\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n", u.Path, u.Host)
	require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
	back := bufio.NewReader(conn)
	status, err := back.ReadString('\n')
	require.NoError(t, err)
	assert.Contains(t, status, "101 Switching Protocols")
	for said := status; strings.TrimSpace(said) != ""; {
		said, err = back.ReadString('\n')
		require.NoError(t, err)
	}
	fmt.Fprint(conn, "ping")
	ping := make([]byte, 4)
	_, err = io.ReadFull(back, ping)
	require.NoError(t, err)
	assert.Equal(t, "ping", string(ping), "it passes")
	conn.Close()
	x := r.last(t, l)
	assert.Equal(t, http.StatusSwitchingProtocols, x.Status)
	assert.True(t, x.Wanting)
	for path, wanting := range map[string]bool{"/v1/embeddings": false, "/v2/rerank": false, "/v1/chat": true} {
		resp, err := http.Post(l.URL()+path, "application/json", strings.NewReader("{}"))
		require.NoError(t, err)
		_, _ = io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		x := r.last(t, l)
		assert.Equal(t, wanting, x.Wanting, path)
		assert.Equal(t, int64(8), *x.Read.Tokens.Fresh)
	}
}
