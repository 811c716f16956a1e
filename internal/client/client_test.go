package client

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
)

// A feed whose connection breaks after every second event is followed without
// missing or repeating one.
func TestFollowComesBackWhereItWas(t *testing.T) {
	var connections atomic.Int32
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		connections.Add(1)
		after, err := strconv.Atoi(r.Header.Get("Last-Event-ID"))
		assert.NoError(t, err)
		w.Header().Set("Content-Type", "text/event-stream")
		fmt.Fprint(w, "retry: 1000\n\n: a comment\n\n")
		for id := after + 1; id <= min(after+2, 7); id++ {
			state := "running"
			if id == 7 {
				state = "done"
			}
			fmt.Fprintf(w, "id: %d\nevent: contest\ndata: {\"id\":%d,\"kind\":\"contest\",\"state\":%q}\n\n", id, id, state)
		}
	}))
	defer s.Close()
	c, err := New(s.URL, "token")
	require.NoError(t, err)
	var ids []int64
	require.NoError(t, c.Follow(t.Context(), "X", 0, func(e api.FeedEvent) bool {
		ids = append(ids, e.ID)
		return e.State != "done"
	}))
	assert.Equal(t, []int64{1, 2, 3, 4, 5, 6, 7}, ids)
	assert.Equal(t, int32(4), connections.Load())
}

func TestFollowEndsWithItsContext(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		w.(http.Flusher).Flush()
		<-r.Context().Done()
	}))
	defer s.Close()
	c, err := New(s.URL, "token")
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	assert.ErrorIs(t, c.Follow(ctx, "X", 0, func(api.FeedEvent) bool { return true }), context.DeadlineExceeded)
}

func TestProblemsAreErrorsWithTheirWords(t *testing.T) {
	answers := map[string]func(http.ResponseWriter){
		"problem": func(w http.ResponseWriter) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(422)
			fmt.Fprint(w, `{"type":"about:blank","title":"The files have mistakes","status":422,"detail":"2 problems","problems":[{"file":"a.md","line":3,"key":"x","found":"y","expected":"z"}]}`)
		},
		"other": func(w http.ResponseWriter) { http.Error(w, "<html>proxy</html>", 502) },
		"wrong": func(w http.ResponseWriter) { fmt.Fprint(w, "not JSON") },
	}
	kind := ""
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { answers[kind](w) }))
	defer s.Close()
	c, err := New(s.URL, "token")
	require.NoError(t, err)
	for k, want := range map[string]string{
		"problem": "The files have mistakes: 2 problems\na.md:3: x: found y, expected z",
		"other":   "the service answered 502 Bad Gateway",
		"wrong":   "cannot be read",
	} {
		kind = k
		_, err := c.Contests(t.Context())
		assert.ErrorContains(t, err, want)
	}
	s.Close()
	_, err = c.Contests(t.Context())
	var gone *UnreachableError
	require.ErrorAs(t, err, &gone)
	assert.Contains(t, err.Error(), "agonometer serve")
	_, err = New("127.0.0.1:7117", "token")
	assert.ErrorContains(t, err, "http://127.0.0.1:7117")
}
