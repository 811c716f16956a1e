package meter

import (
	"context"
	"net/http"
	"strings"
	"sync"
	"time"

	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/wire"
)

// Pacer makes exchanges wait so that a contender stays below a number of requests
// and of tokens in any minute. All its bouts share one.
type Pacer struct {
	// Requests and Tokens are per minute; 0 for no bound.
	Requests int
	Tokens   int64

	mu     sync.Mutex
	starts []time.Time
	spent  []spending
}

type spending struct {
	at time.Time
	n  int64
}

// delay is how long one that comes now would wait; it takes its place when that is 0.
func (p *Pacer) delay(now time.Time) time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	old := now.Add(-time.Minute)
	for len(p.starts) > 0 && !p.starts[0].After(old) {
		p.starts = p.starts[1:]
	}
	var sum int64
	for len(p.spent) > 0 && !p.spent[0].at.After(old) {
		p.spent = p.spent[1:]
	}
	for _, s := range p.spent {
		sum += s.n
	}
	var wait time.Duration
	if p.Requests > 0 && len(p.starts) >= p.Requests {
		wait = p.starts[len(p.starts)-p.Requests].Sub(old)
	}
	if p.Tokens > 0 {
		for _, s := range p.spent { // until enough of them are a minute old
			if sum < p.Tokens {
				break
			}
			wait = max(wait, s.at.Sub(old))
			sum -= s.n
		}
	}
	if wait <= 0 {
		p.starts = append(p.starts, now)
		return 0
	}
	return wait
}

func (p *Pacer) used(n int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.spent = append(p.spent, spending{time.Now(), n})
}

// wait waits until an exchange may begin, or the context ends.
func (p *Pacer) wait(ctx context.Context, pacing func(bool)) error {
	for told := false; ; {
		d := p.delay(time.Now())
		if d <= 0 {
			return nil
		}
		if pacing != nil && !told {
			told = true
			pacing(true)
			defer pacing(false)
		}
		t := time.NewTimer(d)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return ctx.Err()
		}
	}
}

// leastKey is how long a value must be to be taken for a key, in bytes.
const leastKey = 8

// keys are the values of a request that look like keys by the names they go by.
func keys(r *http.Request) []string {
	var out []string
	add := func(name, value string) {
		name = strings.ToLower(name)
		for _, w := range []string{"key", "token", "auth", "secret", "cookie", "password"} {
			if !strings.Contains(name, w) {
				continue
			}
			if scheme, rest, ok := strings.Cut(value, " "); ok && len(scheme) < 16 {
				value = strings.TrimSpace(rest)
			}
			if len(value) >= leastKey {
				out = append(out, value)
			}
			return
		}
	}
	for name, values := range r.Header {
		for _, v := range values {
			add(name, v)
		}
	}
	for name, values := range r.URL.Query() {
		for _, v := range values {
			add(name, v)
		}
	}
	return out
}

func strike(s string, secrets []string) string {
	if s == "" {
		return s
	}
	if struck := workspace.Strike([]byte(s), secrets); struck != nil {
		return string(struck)
	}
	return s
}

// clean makes one short line of what somebody else wrote.
func clean(s string) string { return wire.OneLine(s, 300) }
