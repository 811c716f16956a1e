// Package meter is the relay between contenders and their model services. Each
// bout has a line of its own, under a path that cannot be guessed; what passes
// over it is counted and timed, and nothing of it is changed but hop-by-hop
// headers and the codings that a reply may come in.
//
// Replies are read from a copy, after they have been passed on, so that no
// byte waits for the counting. A line ends with its bout: its path is dead then,
// and what was under way is cut.
package meter

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base32"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/wire"
)

// Meter serves the lines of all bouts of this machine on one loopback port.
type Meter struct {
	base   string
	server *http.Server
	log    *slog.Logger

	mu         sync.Mutex
	lines      map[string]*Line
	transports map[string]*http.Transport
}

// New opens the meter's port. Close ends it.
func New(log *slog.Logger) (*Meter, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("the meter cannot listen: %w", err)
	}
	m := &Meter{base: "http://" + l.Addr().String(), log: log, lines: map[string]*Line{}, transports: map[string]*http.Transport{}}
	m.server = newServer(m, log)
	go m.serve(l) // ends with Close
	return m, nil
}

func newServer(h http.Handler, log *slog.Logger) *http.Server {
	var protocols http.Protocols
	protocols.SetHTTP1(true)
	protocols.SetUnencryptedHTTP2(true)
	return &http.Server{Handler: h, Protocols: &protocols, ReadHeaderTimeout: time.Minute, MaxHeaderBytes: maxHeader,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
}

// maxHeader is how large the headers of a request and of a reply may be, in bytes.
const maxHeader = 1 << 20

func (m *Meter) serve(l net.Listener) {
	if err := m.server.Serve(l); err != nil && !errors.Is(err, http.ErrServerClosed) {
		m.log.Error("the meter has stopped", "error", err)
	}
}

// Close ends the meter and all its lines.
func (m *Meter) Close() error {
	m.mu.Lock()
	lines := make([]*Line, 0, len(m.lines))
	for _, l := range m.lines {
		lines = append(lines, l)
	}
	m.mu.Unlock()
	for _, l := range lines {
		l.Close()
	}
	err := m.server.Close()
	for _, t := range m.transports {
		t.CloseIdleConnections()
	}
	return err
}

// Options are what a line needs to know.
type Options struct {
	// Upstream is the model service's address; a path in it stands before every request's.
	Upstream *url.URL
	// CAFile holds the certificates that sign the upstream's, in PEM; "" for the system's.
	CAFile  string
	Reading *wire.Reading
	// Pacer, where it is not nil, makes exchanges wait.
	Pacer *Pacer
	// Most is how many exchanges the line relays; 0 for any number.
	Most int
	// Keep is how much of each body is kept, in bytes; 0 for nothing.
	Keep int64
	// Secrets are struck out of everything that is recorded, beside the keys that
	// the requests themselves carry.
	Secrets []string
	// Began is told when a request comes, Ended when its exchange is over; Pacing,
	// with true and then with false, around the wait of one that has to wait. They
	// are called from many goroutines and must not block long. Any may be nil.
	Began, Ended func(x *Exchange)
	Pacing       func(begins bool)
}

// Exchange is one request with its reply, as it was seen.
type Exchange struct {
	// Number counts the line's exchanges from 1, in the order in which they arrived.
	Number int
	Round  int
	// Arrived is when the request came, Began when it was sent on (the time
	// between is pacing), FirstByte when the reply's head came (zero for none), Ended
	// when all was over.
	Arrived, Began, FirstByte, Ended time.Time
	Method, Path                     string
	// Status is that of the reply; 0 where none came.
	Status            int
	BytesIn, BytesOut int64
	Asked             wire.Asked
	Read              wire.Read
	// Wanting is set where there should have been counts and there were none.
	Wanting bool
	// Partial is set where the reply was cut off: what was counted is kept.
	Partial bool
	Refused bool
	Cause   wire.Cause
	// CauseWords are the service's own; RetryAfter its hint when to come again.
	CauseWords, RetryAfter string
	// Trouble says in words what went wrong on the way.
	Trouble string
	// RequestBody and ReplyBody are kept where the line keeps bodies.
	RequestBody, ReplyBody []byte
	// BodiesCut is set where they are longer than what is kept.
	BodiesCut bool

	secrets  []string
	request  *requestTee
	reply    *replyTee
	awaiting bool // counts are to be expected
}

// Ledger is the exchange as the ledger sees it.
func (x *Exchange) Ledger() ledger.Exchange {
	return ledger.Exchange{Round: x.Round, At: x.Began, TookMS: x.Ended.Sub(x.Began).Milliseconds(), Asked: x.Asked.Model, Replied: x.Read.Model,
		Tokens: x.Read.Tokens, Wanting: x.Wanting, Partial: x.Partial, Refused: x.Refused}
}

// Line is a bout's way to its model service.
type Line struct {
	m      *Meter
	token  string
	opt    Options
	proxy  *httputil.ReverseProxy
	ctx    context.Context
	cancel context.CancelFunc

	mu      sync.Mutex
	round   int
	number  int
	open    int
	idle    chan struct{} // closed when the last exchange has ended; nil while there is none
	closed  bool
	refused string // why nothing is relayed any more; "" while it is
	servers []*http.Server
}

// Open makes a line. Close ends it.
func (m *Meter) Open(o Options) (*Line, error) {
	transport, err := m.transport(o.CAFile)
	if err != nil {
		return nil, err
	}
	raw := make([]byte, 20)
	if _, err := rand.Read(raw); err != nil {
		return nil, err
	}
	l := &Line{m: m, opt: o, token: strings.ToLower(base32.StdEncoding.EncodeToString(raw)), round: 1}
	l.ctx, l.cancel = context.WithCancel(context.Background())
	l.proxy = &httputil.ReverseProxy{Rewrite: l.rewrite, Transport: transport, FlushInterval: -1, BufferPool: &buffers, ModifyResponse: l.response,
		ErrorHandler: l.failed, ErrorLog: slog.NewLogLogger(m.log.Handler(), slog.LevelDebug)}
	m.mu.Lock()
	m.lines[l.token] = l
	m.mu.Unlock()
	return l, nil
}

// buffers are what bodies are copied with: small, since a line of a stream is
// small, and there may be hundreds.
var buffers = pool{sync.Pool{New: func() any { b := make([]byte, 16<<10); return &b }}}

type pool struct{ sync.Pool }

func (p *pool) Get() []byte  { return *p.Pool.Get().(*[]byte) }
func (p *pool) Put(b []byte) { p.Pool.Put(&b) }

// transport is what requests are sent with: one for each file of certificates.
func (m *Meter) transport(caFile string) (*http.Transport, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if t := m.transports[caFile]; t != nil {
		return t, nil
	}
	t := &http.Transport{Proxy: http.ProxyFromEnvironment, DisableCompression: true, ForceAttemptHTTP2: true, MaxIdleConnsPerHost: 256,
		IdleConnTimeout: 90 * time.Second, TLSHandshakeTimeout: 20 * time.Second, MaxResponseHeaderBytes: maxHeader,
		DialContext: (&net.Dialer{Timeout: 20 * time.Second}).DialContext, ReadBufferSize: 16 << 10}
	if caFile != "" {
		pem, err := os.ReadFile(caFile)
		if err != nil {
			return nil, fmt.Errorf("the meter's certificates: %w", err)
		}
		roots := x509.NewCertPool()
		if !roots.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("the meter's certificates: %s holds none in PEM", caFile)
		}
		t.TLSClientConfig = &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}
	}
	m.transports[caFile] = t
	return t, nil
}

// URL is what a tool is told instead of its model service's address.
func (l *Line) URL() string { return l.m.base + "/" + l.token }

// URLOn is the same line where another listener serves it.
func (l *Line) URLOn(addr string) string { return "http://" + addr + "/" + l.token }

// Serve serves the line on another listener too, until the line or the listener is closed.
func (l *Line) Serve(on net.Listener) {
	s := newServer(l.m, l.m.log)
	l.mu.Lock()
	closed := l.closed
	l.servers = append(l.servers, s)
	l.mu.Unlock()
	if closed {
		on.Close()
		return
	}
	_ = s.Serve(on)
}

// Round says to which round the exchanges belong that begin from now on.
func (l *Line) Round(n int) {
	l.mu.Lock()
	l.round = n
	l.mu.Unlock()
}

// Refuse relays nothing that comes from now on, and says why; what is under way goes on.
// A request that is refused is no exchange: nothing was sent.
func (l *Line) Refuse(why string) {
	l.mu.Lock()
	l.refused = why
	l.mu.Unlock()
}

// Close ends the line: its path is dead, what was under way is cut, and all of
// it has been told when Close returns.
func (l *Line) Close() {
	l.m.mu.Lock()
	delete(l.m.lines, l.token)
	l.m.mu.Unlock()
	l.mu.Lock()
	l.closed = true
	servers := l.servers
	l.mu.Unlock()
	l.cancel()
	for _, s := range servers {
		_ = s.Close()
	}
	l.Quiet()
}

// Quiet waits until nothing is under way on the line.
func (l *Line) Quiet() {
	l.mu.Lock()
	idle := l.idle
	l.mu.Unlock()
	if idle != nil {
		<-idle
	}
}

// QuietWithin waits until nothing is under way on the line, and tells whether
// that was so within a time.
func (l *Line) QuietWithin(d time.Duration) bool {
	l.mu.Lock()
	idle := l.idle
	l.mu.Unlock()
	if idle == nil {
		return true
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-idle:
		return true
	case <-t.C:
		return false
	}
}

// ServeHTTP finds the line that a path belongs to, and relays the request.
func (m *Meter) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	raw := strings.TrimPrefix(r.URL.EscapedPath(), "/")
	token, rest, _ := strings.Cut(raw, "/")
	m.mu.Lock()
	l := m.lines[token]
	m.mu.Unlock()
	if l == nil {
		http.Error(w, "no bout is behind this address; it may have ended", http.StatusGone)
		return
	}
	l.serve(w, r, "/"+rest)
}

// maxOpen is how many exchanges of one line may be under way at once, so that a
// flood costs bounded memory. One that is turned away is not recorded: nothing was sent.
const maxOpen = 512

type exchangeKey struct{}

func (l *Line) serve(w http.ResponseWriter, r *http.Request, rest string) {
	path, err := url.PathUnescape(rest)
	if err != nil {
		http.Error(w, "the path cannot be read", http.StatusBadRequest)
		return
	}
	if climbs(path) {
		// The upstream's path in the contender's file is where its tool may go; a server
		// that resolves dot segments would lead it out of there.
		http.Error(w, "a path with . or .. segments is not relayed", http.StatusBadRequest)
		return
	}
	l.mu.Lock()
	if l.closed {
		l.mu.Unlock()
		http.Error(w, "the bout has ended", http.StatusGone)
		return
	}
	if why := l.refused; why != "" {
		l.mu.Unlock()
		http.Error(w, why, http.StatusForbidden)
		return
	}
	if l.opt.Most > 0 && l.number >= l.opt.Most {
		l.mu.Unlock()
		http.Error(w, "this bout has had all the exchanges that one may have", http.StatusForbidden)
		return
	}
	if l.open >= maxOpen {
		l.mu.Unlock()
		http.Error(w, "too many exchanges at once", http.StatusServiceUnavailable)
		return
	}
	l.number++
	if l.open++; l.open == 1 {
		l.idle = make(chan struct{})
	}
	x := &Exchange{Number: l.number, Round: l.round, Arrived: time.Now(), Method: r.Method, awaiting: r.Method == http.MethodPost}
	l.mu.Unlock()
	x.secrets = append(keys(r), l.opt.Secrets...)
	x.Path = strike(path, x.secrets)

	ctx, cancel := context.WithCancel(context.WithValue(r.Context(), exchangeKey{}, x))
	defer cancel()
	stop := context.AfterFunc(l.ctx, cancel)
	defer stop()
	if l.opt.Began != nil {
		l.opt.Began(x)
	}
	defer l.finish(x) // also when the proxy panics to cut a connection
	if l.opt.Pacer != nil {
		// The server sees that a tool goes away once the request has been read.
		head, err := io.ReadAll(io.LimitReader(r.Body, maxHeader))
		r.Body = struct {
			io.Reader
			io.Closer
		}{io.MultiReader(bytes.NewReader(head), r.Body), r.Body}
		if err != nil {
			x.Began, x.Trouble = time.Now(), "the request could not be read: "+clean(err.Error())
			return
		}
		if err := l.opt.Pacer.wait(ctx, l.opt.Pacing); err != nil {
			x.Began, x.Trouble = time.Now(), "the tool went away while it was paced"
			return
		}
	}
	x.Began = time.Now()
	// A reply may begin while the request is still being sent. Without this the
	// server would swallow the rest of the request at the reply's first byte, and the
	// upstream's connection, from which the reply is being read, would be given up
	// because of it.
	_ = http.NewResponseController(w).EnableFullDuplex() // what has no such switch is so by nature
	out := r.WithContext(ctx)
	u := *r.URL
	u.Path, u.RawPath = path, rest
	out.URL = &u
	if r.Body != nil && r.Body != http.NoBody {
		x.request = &requestTee{from: r.Body, read: l.opt.Reading.Request(path), keep: keeper{most: l.opt.Keep}}
		out.Body = x.request
	} else {
		x.Asked = l.opt.Reading.Request(path).Asked()
	}
	l.proxy.ServeHTTP(w, out)
}

// climbs tells whether a path, decoded once or more often, has a dot segment as
// RFC 3986 (and servers that also take backslashes and path parameters) read it.
func climbs(path string) bool {
	for range 4 {
		for part := range strings.FieldsFuncSeq(path, func(r rune) bool { return r == '/' || r == '\\' }) {
			if part, _, _ = strings.Cut(part, ";"); part == "." || part == ".." {
				return true
			}
		}
		again, err := url.PathUnescape(path)
		if err != nil || again == path {
			return false
		}
		path = again
	}
	return true // nobody encodes a path five times over in good faith
}

// withoutOutput finds the paths of calls whose replies are no text of a model's: numbers
// that stand for a text, or an order of several.
var withoutOutput = regexp.MustCompile(`(?i)/[\w-]*(embed|rerank)[\w-]*/?$`)

// finish makes an exchange's record whole and tells of it.
func (l *Line) finish(x *Exchange) {
	x.Ended = time.Now()
	if x.request != nil {
		x.request.finish(x)
	}
	if x.reply != nil {
		x.reply.finish(x)
	}
	x.Read.Cause = strike(x.Read.Cause, x.secrets)
	words := x.Read.Cause
	x.Cause, x.Refused = l.opt.Reading.Refused(x.Status, words, x.RetryAfter != "")
	x.CauseWords = words
	switch {
	case x.Refused, x.Status >= 400:
		// Nothing was used, as far as anyone says.
	case x.Status == 0:
		x.Wanting = x.awaiting && !x.Began.IsZero() && x.request != nil
		x.Partial = x.Wanting
	case x.Status == http.StatusSwitchingProtocols:
		x.Wanting = true // whatever went over it, nobody counted
	case x.awaiting && x.Read.Tokens.Fresh != nil && withoutOutput.MatchString(x.Path):
	case x.awaiting && !(x.Read.Tokens.Fresh != nil && x.Read.Tokens.Output != nil) && x.Status != http.StatusNoContent:
		x.Wanting = true
	}
	if x.Status < 400 {
		x.CauseWords = ""
	}
	for _, s := range []*string{&x.Asked.Model, &x.Asked.Effort, &x.Read.Model, &x.Read.Effort, &x.CauseWords, &x.Trouble, &x.RetryAfter} {
		*s = strike(*s, x.secrets)
	}
	if p := l.opt.Pacer; p != nil {
		if n := x.Read.Tokens.Total(); n != nil {
			p.used(*n)
		}
	}
	if l.opt.Ended != nil {
		l.opt.Ended(x)
	}
	l.mu.Lock()
	if l.open--; l.open == 0 {
		close(l.idle)
		l.idle = nil
	}
	l.mu.Unlock()
}

var readable = []string{"gzip", "deflate", "br", "zstd", "identity"}

// rewrite turns a request to the line into one to the upstream. What the
// standard proxy takes away or adds beyond hop-by-hop headers is put back.
func (l *Line) rewrite(p *httputil.ProxyRequest) {
	up := l.opt.Upstream
	u := p.Out.URL
	u.Scheme, u.Host, u.User = up.Scheme, up.Host, nil
	if base := strings.TrimSuffix(up.EscapedPath(), "/"); base != "" {
		raw := base + p.In.URL.EscapedPath()
		if path, err := url.PathUnescape(raw); err == nil {
			u.Path, u.RawPath = path, raw
		}
	}
	u.RawQuery = p.In.URL.RawQuery
	p.Out.Host = up.Host
	if up.User != nil && p.Out.Header.Get("Authorization") == "" {
		password, _ := up.User.Password()
		p.Out.SetBasicAuth(up.User.Username(), password)
	}
	for _, name := range []string{"Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto"} {
		if v, ok := p.In.Header[name]; ok {
			p.Out.Header[name] = v
		}
	}
	if codings := p.Out.Header.Values("Accept-Encoding"); len(codings) > 0 {
		var keep []string
		for c := range strings.SplitSeq(strings.Join(codings, ","), ",") {
			name, _, _ := strings.Cut(strings.TrimSpace(c), ";")
			if slices.Contains(readable, strings.ToLower(strings.TrimSpace(name))) {
				keep = append(keep, strings.TrimSpace(c))
			}
		}
		p.Out.Header.Del("Accept-Encoding")
		if len(keep) > 0 {
			p.Out.Header.Set("Accept-Encoding", strings.Join(keep, ", "))
		}
	}
}

// response sees a reply's head, and sets up the reading of its body.
func (l *Line) response(r *http.Response) error {
	x := r.Request.Context().Value(exchangeKey{}).(*Exchange)
	x.FirstByte, x.Status = time.Now(), r.StatusCode
	x.RetryAfter = clean(r.Header.Get("Retry-After"))
	if r.StatusCode == http.StatusSwitchingProtocols {
		x.Trouble = "the two speak another protocol from here on"
		return nil
	}
	x.reply = newReplyTee(r, l.opt)
	r.Body = x.reply
	return nil
}

// failed answers for an upstream that did not.
func (l *Line) failed(w http.ResponseWriter, r *http.Request, err error) {
	x := r.Context().Value(exchangeKey{}).(*Exchange)
	if r.Context().Err() != nil {
		x.Trouble = "the tool went away before the reply came"
		if l.ctx.Err() != nil {
			x.Trouble = "the bout ended before the reply came"
		}
		w.WriteHeader(http.StatusBadGateway)
		return
	}
	x.Status, x.Trouble = http.StatusBadGateway, "the model service cannot be reached: "+clean(err.Error())
	http.Error(w, "the model service cannot be reached", http.StatusBadGateway)
}
