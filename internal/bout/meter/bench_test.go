package meter

import (
	"bufio"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// Each benchmark sends the same exchanges straight to a service, through the
// standard library's reverse proxy, and through the meter, in turns, so that
// the three meet the same machine. What it reports is in one run; throughput is
// that of the median turn.

const small = `{"model":"spring","choices":[{"message":{"role":"assistant","content":"high water at noon"}}],"usage":{"prompt_tokens":1200,"completion_tokens":20,"prompt_tokens_details":{"cached_tokens":1100}}}`

func ways(b *testing.B, h http.HandlerFunc) (names []string, urls []string) {
	service := httptest.NewServer(h)
	b.Cleanup(service.Close)
	up, _ := url.Parse(service.URL)
	proxy := httptest.NewServer(&httputil.ReverseProxy{FlushInterval: -1, Transport: &http.Transport{MaxIdleConnsPerHost: 256, DisableCompression: true},
		Rewrite: func(p *httputil.ProxyRequest) { p.SetURL(up) }})
	b.Cleanup(proxy.Close)
	l, _ := line(b, meter(b), service.URL, func(o *Options) { o.Ended = func(*Exchange) {} })
	return []string{"direct", "proxy", "meter"}, []string{service.URL, proxy.URL, l.URL()}
}

func percentile(d []time.Duration, share float64) float64 {
	slices.Sort(d)
	return float64(d[min(len(d)-1, int(share*float64(len(d))))].Nanoseconds()) / 1e3
}

// BenchmarkSmall is small replies, one after the other (latency) and eight at
// once (throughput). meter/proxy is the meter's throughput as a share of the proxy's.
func BenchmarkSmall(b *testing.B) {
	request := `{"model":"spring","messages":[{"role":"user","content":"` + strings.Repeat("mind the depth ", 40) + `"}]}`
	names, urls := ways(b, func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, small)
	})
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64, DisableCompression: true}}
	ask := func(u string) {
		resp, err := client.Post(u+"/v1", "application/json", strings.NewReader(request))
		if err != nil {
			b.Fatal(err)
		}
		_, _ = io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
	}
	took := make([][]time.Duration, len(urls))
	span := make([][]time.Duration, len(urls))
	const burst = 400
	for b.Loop() {
		for i, u := range urls {
			for range 100 {
				began := time.Now()
				ask(u)
				took[i] = append(took[i], time.Since(began))
			}
			began := time.Now()
			var wg sync.WaitGroup
			for range 8 {
				wg.Go(func() {
					for range burst / 8 {
						ask(u)
					}
				})
			}
			wg.Wait()
			span[i] = append(span[i], time.Since(began))
		}
	}
	for i, name := range names {
		b.ReportMetric(burst/(percentile(span[i], 0.5)/1e6), name+"_req/s")
		if i > 0 {
			b.ReportMetric(percentile(took[i], 0.5)-percentile(took[0], 0.5), name+"_added_p50_us")
			b.ReportMetric(percentile(took[i], 0.99)-percentile(took[0], 0.99), name+"_added_p99_us")
		}
	}
	b.ReportMetric(percentile(span[1], 0.5)/percentile(span[2], 0.5), "meter/proxy")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkStream is one stream of 2,000 events, each flushed by itself, as fast
// as they go (throughput). BenchmarkPacedStream is 300 events at a model's pace,
// one in two milliseconds: the delay of an event is from just before it is
// written to when the client has it.
func BenchmarkStream(b *testing.B) { stream(b, 2000, 0) }

func BenchmarkPacedStream(b *testing.B) { stream(b, 300, 2*time.Millisecond) }

func stream(b *testing.B, events int, pause time.Duration) {
	names, urls := ways(b, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		flush := w.(http.Flusher)
		for range events {
			time.Sleep(pause)
			fmt.Fprintf(w, "data: {\"at\":%d,\"model\":\"spring\",\"choices\":[{\"index\":0,\"delta\":{\"content\":\"the water falls\"}}]}\n\n", time.Now().UnixNano())
			flush.Flush()
		}
		fmt.Fprintf(w, "data: %s\n\ndata: [DONE]\n\n", small)
	})
	delays := make([][]time.Duration, len(urls))
	span := make([][]time.Duration, len(urls))
	for b.Loop() {
		for i, u := range urls {
			began := time.Now()
			resp, err := http.Post(u+"/v1", "application/json", strings.NewReader("{}"))
			if err != nil {
				b.Fatal(err)
			}
			lines := bufio.NewReaderSize(resp.Body, 64<<10)
			for {
				text, err := lines.ReadString('\n')
				if err != nil {
					break
				}
				var at int64
				if _, err := fmt.Sscanf(text, "data: {\"at\":%d", &at); err == nil {
					delays[i] = append(delays[i], time.Duration(time.Now().UnixNano()-at))
				}
			}
			resp.Body.Close()
			span[i] = append(span[i], time.Since(began))
		}
	}
	for i, name := range names {
		if pause == 0 {
			b.ReportMetric(float64(events)/(percentile(span[i], 0.5)/1e6), name+"_events/s")
			continue
		}
		b.ReportMetric(percentile(delays[i], 0.5), name+"_delay_p50_us")
		b.ReportMetric(percentile(delays[i], 0.99), name+"_delay_p99_us")
	}
	if pause == 0 {
		b.ReportMetric(percentile(span[1], 0.5)/percentile(span[2], 0.5), "meter/proxy")
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkManyStreams holds 200 streams open at once and reports what the heap
// and the stacks of the whole process (service, meter and clients) grow by.
func BenchmarkManyStreams(b *testing.B) {
	const streams = 200
	var ready sync.WaitGroup
	hold := make(chan struct{})
	_, urls := ways(b, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		for range 200 {
			fmt.Fprintf(w, "data: {\"choices\":[{\"delta\":{\"content\":%q}}]}\n\n", strings.Repeat("water ", 50))
			w.(http.Flusher).Flush()
		}
		ready.Done()
		<-hold
	})
	memory := func() float64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return float64(m.HeapAlloc+m.StackInuse) / (1 << 20)
	}
	before := memory()
	ready.Add(streams)
	var wg sync.WaitGroup
	for range streams {
		wg.Go(func() {
			resp, err := http.Post(urls[2]+"/v1", "application/json", strings.NewReader("{}"))
			if err != nil {
				b.Error(err)
				return
			}
			_, _ = io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
		})
	}
	ready.Wait()
	b.ReportMetric(memory()-before, "MiB")
	b.ReportMetric(0, "ns/op")
	close(hold)
	wg.Wait()
}
