// Package service is the HTTP API, the live feed, sign-in, and the console's
// files. It decides nothing about bouts; it asks the scheduler and the store.
package service

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"math"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"agonometer/console"
	"agonometer/internal/api"
	"agonometer/internal/bout"
	"agonometer/internal/core/specfile"
	"agonometer/internal/schedule"
	"agonometer/internal/store"
)

// Prefix is where the API lies.
const Prefix = "/api/v1"

// DefaultListen is where the service listens unless told otherwise.
const DefaultListen = "127.0.0.1:7117"

// Options are what a service is started with.
type Options struct {
	Data           string
	Listen         string
	AllowHosts     []string
	KeepWorkspaces bool
	// Unconfined runs bouts without namespaces even where the machine has them.
	Unconfined bool
	Version    string
	Log        *slog.Logger
}

// Server is a running service.
type Server struct {
	opt      Options
	store    *store.Store
	engine   *bout.Engine
	sched    *schedule.Scheduler
	listener net.Listener
	http     *http.Server
	token    string
	cookie   string
	feeds    context.Context
	endFeeds context.CancelFunc
	served   chan error
	// operations counts what the router really has.
	operations int

	mu    sync.Mutex
	codes map[string]time.Time
}

// softMemory is how much memory the service has before its collector works harder, in
// bytes: large changes come and go, and need not add up.
const softMemory = 256 << 20

// Start opens the data folder and serves until Close.
func Start(opt Options) (*Server, error) {
	if opt.Listen == "" {
		opt.Listen = DefaultListen
	}
	if debug.SetMemoryLimit(-1) == math.MaxInt64 { // and nobody set GOMEMLIMIT
		debug.SetMemoryLimit(softMemory)
	}
	st, err := store.Open(opt.Data, time.Now)
	if err != nil {
		return nil, err
	}
	s := &Server{opt: opt, store: st, codes: map[string]time.Time{}, served: make(chan error, 1)}
	if err := s.start(); err != nil {
		if s.listener != nil {
			s.listener.Close()
		}
		st.Close()
		return nil, err
	}
	return s, nil
}

func (s *Server) start() error {
	var err error
	if s.token, err = loadToken(s.opt.Data); err != nil {
		return err
	}
	if s.engine, err = bout.NewEngine(s.opt.Data, s.opt.Log); err != nil {
		return err
	}
	s.engine.KeepWorkspaces = s.opt.KeepWorkspaces
	if s.opt.Unconfined {
		s.engine.Unconfine("the service was started with --unconfined")
	}
	if s.listener, err = net.Listen("tcp", s.opt.Listen); err != nil {
		return fmt.Errorf("cannot listen on %s: %w (another address: --listen 127.0.0.1:0 takes any free port)", s.opt.Listen, err)
	}
	instance := sha256.Sum256([]byte(s.token + s.listener.Addr().String()))
	s.cookie = fmt.Sprintf("agonometer_%x", instance[:4])
	if s.sched, err = schedule.New(s.store, s.engine, s.opt.Log); err != nil {
		return err
	}
	s.feeds, s.endFeeds = context.WithCancel(context.Background())
	s.http = &http.Server{Handler: s.handler(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(s.opt.Log.Handler(), slog.LevelWarn)}
	// Clients on this machine find the service by this file.
	if err := writeFile(filepath.Join(s.opt.Data, "address"), s.URL()+"\n"); err != nil {
		return err
	}
	go func() { s.served <- s.http.Serve(s.listener) }() // ends with Shutdown
	s.opt.Log.Info("serving", "address", s.URL(), "confinement", s.engine.Capability.Mode)
	return nil
}

// Close ends the feeds, the calls, the bouts and the records, in this order.
func (s *Server) Close() error {
	s.endFeeds()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	err := s.http.Shutdown(ctx)
	s.sched.Close()
	_ = os.Remove(filepath.Join(s.opt.Data, "address"))
	return errors.Join(err, s.engine.Close(), s.store.Close())
}

// Failed delivers the error with which serving ended before Close.
func (s *Server) Failed() <-chan error { return s.served }

// URL is the service's address.
func (s *Server) URL() string { return "http://" + s.listener.Addr().String() }

// Token is what clients authorise themselves with.
func (s *Server) Token() string { return s.token }

// Capability tells how bouts are held on this machine.
func (s *Server) Capability() (mode, why string) {
	return string(s.engine.Capability.Mode), s.engine.Capability.Why
}

// loadToken reads the service's token, and makes it at the first start.
func loadToken(data string) (string, error) {
	name := filepath.Join(data, "token")
	if text, err := os.ReadFile(name); err == nil && len(strings.TrimSpace(string(text))) >= 32 {
		return strings.TrimSpace(string(text)), nil
	}
	token := random()
	if err := writeFile(name, token+"\n"); err != nil {
		return "", fmt.Errorf("write the token: %w", err)
	}
	return token, nil
}

// writeFile replaces a file that only its owner may read.
func writeFile(name, text string) error {
	tmp := name + ".new"
	if err := os.WriteFile(tmp, []byte(text), 0o600); err != nil {
		return err
	}
	return os.Rename(tmp, name)
}

func random() string {
	b := make([]byte, 32)
	if _, err := rand.Read(b); err != nil {
		panic(err) // crypto/rand does not fail on the systems that we run on
	}
	return base64.RawURLEncoding.EncodeToString(b)
}

// codeLife is how long a one-time link can be used.
const codeLife = time.Hour

// SignInLink makes a link that signs a browser in, once.
func (s *Server) SignInLink() string {
	code := random()
	s.mu.Lock()
	defer s.mu.Unlock()
	for c, until := range s.codes {
		if time.Now().After(until) {
			delete(s.codes, c)
		}
	}
	s.codes[code] = time.Now().Add(codeLife)
	// Behind a # it stays in the browser: no log and no proxy sees it.
	return s.URL() + "/sign-in#" + code
}

func (s *Server) signIn(c *gin.Context) {
	var in api.SignIn
	if err := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, 4096)).Decode(&in); err != nil {
		s.problem(c, http.StatusBadRequest, "The request cannot be read", err.Error())
		return
	}
	s.mu.Lock()
	until, ok := s.codes[in.Code]
	delete(s.codes, in.Code)
	s.mu.Unlock()
	if !ok || time.Now().After(until) {
		s.problem(c, http.StatusForbidden, "This link has been used or is too old", "Make a new one with: agonometer console")
		return
	}
	nonce := random()
	http.SetCookie(c.Writer, &http.Cookie{Name: s.cookie, Value: nonce + "." + s.sign(nonce), Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: 30 * 24 * 3600})
	c.Status(http.StatusNoContent)
}

func (s *Server) makeLink(c *gin.Context) {
	c.JSON(http.StatusCreated, api.SignInLink{URL: s.SignInLink()})
}

func (s *Server) sign(nonce string) string {
	h := hmac.New(sha256.New, []byte(s.token))
	h.Write([]byte("console:" + nonce))
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil))
}

func (s *Server) authorised(r *http.Request) bool {
	if given, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return subtle.ConstantTimeCompare([]byte(given), []byte(s.token)) == 1
	}
	cookie, err := r.Cookie(s.cookie)
	if err != nil {
		return false
	}
	nonce, mac, _ := strings.Cut(cookie.Value, ".")
	return subtle.ConstantTimeCompare([]byte(mac), []byte(s.sign(nonce))) == 1
}

// hostAllowed refuses names that a foreign page could have pointed at this machine.
func (s *Server) hostAllowed(host string) bool {
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	name = strings.Trim(name, "[]")
	if name == "localhost" {
		return true
	}
	if ip := net.ParseIP(name); ip != nil {
		if ip.IsLoopback() {
			return true
		}
		listen, _, err := net.SplitHostPort(s.opt.Listen)
		if own := net.ParseIP(listen); err == nil && own != nil && (own.IsUnspecified() || own.Equal(ip)) {
			return true
		}
	}
	for _, allowed := range s.opt.AllowHosts {
		if strings.EqualFold(name, allowed) {
			return true
		}
	}
	return false
}

func (s *Server) handler() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.Use(s.recoverFromPanic, boundBody, s.guard)
	for _, route := range s.routes() {
		handlers := []gin.HandlerFunc{route.handle}
		if !route.open {
			handlers = append([]gin.HandlerFunc{s.needToken}, handlers...)
		}
		r.Handle(route.method, Prefix+pathParam.ReplaceAllString(route.path, ":$1"), handlers...)
	}
	s.operations = len(r.Routes())
	r.NoRoute(s.consoleFile)
	r.NoMethod(func(c *gin.Context) {
		s.problem(c, http.StatusMethodNotAllowed, "This method is not allowed here", c.Request.Method+" "+c.Request.URL.Path)
	})
	return r
}

func (s *Server) recoverFromPanic(c *gin.Context) {
	defer func() {
		if v := recover(); v != nil {
			if v == http.ErrAbortHandler {
				panic(v)
			}
			s.opt.Log.Error("a call panicked", "path", c.Request.URL.Path, "panic", v)
			if !c.Writer.Written() {
				s.problem(c, http.StatusInternalServerError, "Agonometer has a fault here", "The service's log says more.")
			}
			c.Abort()
		}
	}()
	c.Next()
}

func (s *Server) guard(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	if !s.hostAllowed(c.Request.Host) {
		s.problem(c, http.StatusForbidden, "This host name is not allowed", fmt.Sprintf("The service does not answer to %q; see --allow-host.", c.Request.Host))
		return
	}
	if origin := c.GetHeader("Origin"); origin != "" {
		u, err := url.Parse(origin)
		if err != nil || !strings.EqualFold(u.Host, c.Request.Host) {
			s.problem(c, http.StatusForbidden, "Requests from other sites are refused", "Origin: "+specfile.Quote(origin))
			return
		}
	}
	c.Next()
}

// openBodyTime is how long a request without a token may take to send its body, and
// bodyPause how long an authorised one may send nothing in the middle of it.
const (
	openBodyTime = 10 * time.Second
	bodyPause    = time.Minute
)

// boundBody gives every request's body a deadline: without one, whoever sends a
// byte now and then holds a connection for ever, token or not. The deadline stays
// where nobody reads the body, since the server then reads what is left of it.
func boundBody(c *gin.Context) {
	if c.Request.Body != nil && c.Request.Body != http.NoBody {
		rc := http.NewResponseController(c.Writer)
		_ = rc.SetReadDeadline(time.Now().Add(openBodyTime))
		c.Request.Body = &timedBody{ReadCloser: c.Request.Body, rc: rc}
	}
	c.Next()
}

// timedBody is a body with a deadline, which is put off with every read once its
// sender has shown the token, and lifted at its end: a live feed has none.
type timedBody struct {
	io.ReadCloser
	rc         *http.ResponseController
	authorised bool
}

func (b *timedBody) Read(p []byte) (int, error) {
	if b.authorised {
		_ = b.rc.SetReadDeadline(time.Now().Add(bodyPause))
	}
	n, err := b.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) {
		_ = b.rc.SetReadDeadline(time.Time{})
	}
	return n, err
}

func (s *Server) needToken(c *gin.Context) {
	c.Header("Cache-Control", "no-store")
	if !s.authorised(c.Request) {
		c.Header("WWW-Authenticate", `Bearer realm="agonometer"`)
		s.problem(c, http.StatusUnauthorized, "This call needs the service's token", "It is in the file token in the data folder; a browser signs in by the link of: agonometer console")
		return
	}
	if body, ok := c.Request.Body.(*timedBody); ok {
		body.authorised = true
	}
	c.Next()
}

// problem answers with a problem document and ends the call.
func (s *Server) problem(c *gin.Context, status int, title, detail string, problems ...specfile.Problem) {
	body, err := json.Marshal(api.ProblemDocument{Type: "about:blank", Title: title, Status: status, Detail: detail, Problems: problems})
	if err != nil {
		body = []byte(`{"type":"about:blank","title":"unreadable problem","status":500}`)
	}
	c.Data(status, "application/problem+json", body)
	c.Abort()
}

// fail answers with the problem document that fits an error.
func (s *Server) fail(c *gin.Context, err error) {
	var state *schedule.StateError
	var noPrices *noPriceListError
	switch {
	case errors.Is(err, store.ErrNotFound):
		s.problem(c, http.StatusNotFound, "There is no such record", c.Request.URL.Path)
	case errors.As(err, &state):
		s.problem(c, http.StatusConflict, "That cannot be done now", state.Why)
	case errors.As(err, &noPrices):
		s.problem(c, http.StatusNotFound, "There is no such price list", noPrices.Error())
	case errors.Is(err, context.Canceled):
		c.Abort()
	default:
		s.opt.Log.Error("a call failed", "path", c.Request.URL.Path, "error", err)
		s.problem(c, http.StatusInternalServerError, "The service could not do that", err.Error())
	}
}

// consoleFile serves the console: its files, and its page for every path that
// is none of the API's.
func (s *Server) consoleFile(c *gin.Context) {
	name := strings.TrimPrefix(c.Request.URL.Path, "/")
	if strings.HasPrefix(c.Request.URL.Path, Prefix) || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		s.problem(c, http.StatusNotFound, "There is nothing here", c.Request.URL.Path)
		return
	}
	files := console.Files()
	if st, err := fs.Stat(files, name); err == nil && !st.IsDir() && name != "index.html" && fs.ValidPath(name) {
		c.Header("Cache-Control", "public, max-age=31536000, immutable")
		c.FileFromFS("/"+name, http.FS(files))
		return
	}
	if strings.HasPrefix(name, "assets/") {
		s.problem(c, http.StatusNotFound, "There is nothing here", c.Request.URL.Path)
		return
	}
	page, err := fs.ReadFile(files, "index.html")
	if err != nil {
		s.problem(c, http.StatusNotFound, "This binary carries no console", "Build it with: make build")
		return
	}
	nonce := random()[:22]
	c.Header("Cache-Control", "no-store")
	c.Header("Content-Security-Policy", "default-src 'none'; script-src 'self' 'nonce-"+nonce+"'; style-src 'self' 'nonce-"+nonce+
		"'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'")
	c.Data(http.StatusOK, "text/html; charset=utf-8", []byte(strings.ReplaceAll(string(page), "__NONCE__", nonce)))
}

// RouteCount is the number of operations that the router has, for the test that
// holds the OpenAPI document against it.
func (s *Server) RouteCount() int { return s.operations }
