// Package client is the typed Go client of the service's HTTP API.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/tmaxmax/go-sse"

	"agonometer/internal/api"
	"agonometer/internal/core/specfile"
)

// Client talks to one service.
type Client struct {
	base  string
	token string
	http  *http.Client
	// prices is the digest of the price list that money is worked out by; "" for the contest's own.
	prices string
}

// UsePrices lets money be worked out by a price list from now on.
func (c *Client) UsePrices(ctx context.Context, name string, data []byte) error {
	stored, err := call[api.StoredPriceList](ctx, c, http.MethodPost, "/price-lists", api.PriceListFile{Name: name, Data: data})
	c.prices = stored.Digest
	return err
}

// priced names the price list that was given, if one was.
func (c *Client) priced(path string) string {
	if c.prices == "" {
		return path
	}
	sep := "?"
	if strings.Contains(path, "?") {
		sep = "&"
	}
	return path + sep + "prices=" + url.QueryEscape(c.prices)
}

// BoutLedger is what a bout used, exchange by exchange.
func (c *Client) BoutLedger(ctx context.Context, id string) (api.BoutLedger, error) {
	return call[api.BoutLedger](ctx, c, http.MethodGet, c.priced("/bouts/"+seg(id)+"/ledger"), nil)
}

// ContestLedger is what a contest used, by contender.
func (c *Client) ContestLedger(ctx context.Context, id string) (api.ContestLedger, error) {
	return call[api.ContestLedger](ctx, c, http.MethodGet, c.priced("/contests/"+seg(id)+"/ledger"), nil)
}

// Timeline is what happened in a bout, on its clock.
func (c *Client) Timeline(ctx context.Context, id string) (api.Timeline, error) {
	return call[api.Timeline](ctx, c, http.MethodGet, "/bouts/"+seg(id)+"/timeline", nil)
}

// Body is what was sent (side request) or came back (reply) in an exchange of a bout.
func (c *Client) Body(ctx context.Context, id string, number int, side string) ([]byte, error) {
	return c.text(ctx, fmt.Sprintf("/bouts/%s/exchanges/%d/%s", seg(id), number, side))
}

// New makes a client for a service's address, such as http://127.0.0.1:7117.
func New(address, token string) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is not a service's address; expected one such as http://127.0.0.1:7117", address)
	}
	return &Client{base: strings.TrimSuffix(address, "/") + "/api/v1", token: token, http: &http.Client{}}, nil
}

// Error is what the service answered when it did not do what was asked.
type Error struct{ api.ProblemDocument }

func (e *Error) Error() string {
	lines := []string{e.Title}
	if e.Detail != "" {
		lines[0] += ": " + e.Detail
	}
	for _, p := range e.Problems {
		lines = append(lines, p.String())
	}
	return strings.Join(lines, "\n")
}

// UnreachableError says that no service answered.
type UnreachableError struct {
	Address string
	Err     error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("no service answers at %s (%v); start one with: agonometer serve", e.Address, e.Err)
}

func (e *UnreachableError) Unwrap() error { return e.Err }

const maxAnswer = 1 << 30

func (c *Client) send(ctx context.Context, method, path string, body any, header http.Header) (*http.Response, error) {
	var r io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		r = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, r)
	if err != nil {
		return nil, err
	}
	req.Header = header.Clone()
	if req.Header == nil {
		req.Header = http.Header{}
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return nil, &UnreachableError{strings.TrimSuffix(c.base, "/api/v1"), err}
	}
	if res.StatusCode < 300 {
		return res, nil
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 16<<20))
	if err != nil {
		return nil, err
	}
	var problem Error
	if json.Unmarshal(text, &problem.ProblemDocument) != nil || problem.Title == "" {
		problem.Title = "the service answered " + res.Status
	}
	problem.Status = res.StatusCode
	return nil, &problem
}

func call[T any](ctx context.Context, c *Client, method, path string, body any) (T, error) {
	var out T
	res, err := c.send(ctx, method, path, body, nil)
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, maxAnswer)).Decode(&out); err != nil {
		return out, fmt.Errorf("the service's answer to %s cannot be read: %w", path, err)
	}
	return out, nil
}

func (c *Client) text(ctx context.Context, path string) ([]byte, error) {
	res, err := c.send(ctx, http.MethodGet, path, nil, nil)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	return io.ReadAll(io.LimitReader(res.Body, maxAnswer))
}

func ofRound(round int) string {
	if round == 0 {
		return ""
	}
	return "?round=" + strconv.Itoa(round)
}

func seg(s string) string { return url.PathEscape(s) }

// Version says what is running there.
func (c *Client) Version(ctx context.Context) (api.Version, error) {
	return call[api.Version](ctx, c, http.MethodGet, "/version", nil)
}

// Doctor asks whether the service's machine has what bouts need.
func (c *Client) Doctor(ctx context.Context) (api.Report, error) {
	return call[api.Report](ctx, c, http.MethodGet, "/doctor", nil)
}

// Prune frees what no record needs.
func (c *Client) Prune(ctx context.Context) (api.Pruned, error) {
	return call[api.Pruned](ctx, c, http.MethodPost, "/prune", nil)
}

// SignInLink makes a one-time link to the console.
func (c *Client) SignInLink(ctx context.Context) (api.SignInLink, error) {
	return call[api.SignInLink](ctx, c, http.MethodPost, "/session/link", nil)
}

// PlanContest says what a contest would run.
func (c *Client) PlanContest(ctx context.Context, b *specfile.Bundle, seed *int64) (api.Plan, error) {
	return call[api.Plan](ctx, c, http.MethodPost, "/contests", api.StartContest{Bundle: *b, DryRun: true, Seed: seed})
}

// StartContest starts a contest.
func (c *Client) StartContest(ctx context.Context, b *specfile.Bundle, seed *int64) (api.ContestDetail, error) {
	return call[api.ContestDetail](ctx, c, http.MethodPost, "/contests", api.StartContest{Bundle: *b, Seed: seed})
}

// Contests lists all contests, the newest first.
func (c *Client) Contests(ctx context.Context) ([]api.Contest, error) {
	return call[[]api.Contest](ctx, c, http.MethodGet, "/contests", nil)
}

// Contest is one contest with its bouts and standings.
func (c *Client) Contest(ctx context.Context, id string) (api.ContestDetail, error) {
	return call[api.ContestDetail](ctx, c, http.MethodGet, c.priced("/contests/"+seg(id)), nil)
}

// StopContest stops a contest.
func (c *Client) StopContest(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c, http.MethodPost, "/contests/"+seg(id)+"/stop", nil)
	return err
}

// Standings is a contest's table.
func (c *Client) Standings(ctx context.Context, id string) (api.Standings, error) {
	return call[api.Standings](ctx, c, http.MethodGet, c.priced("/contests/"+seg(id)+"/standings"), nil)
}

// BoutFilter narrows a list of bouts.
type BoutFilter struct{ Contest, Task, Contender string }

// Bouts lists bouts.
func (c *Client) Bouts(ctx context.Context, f BoutFilter) ([]api.Bout, error) {
	q := url.Values{}
	for k, v := range map[string]string{"contest": f.Contest, "task": f.Task, "contender": f.Contender} {
		if v != "" {
			q.Set(k, v)
		}
	}
	return call[[]api.Bout](ctx, c, http.MethodGet, c.priced("/bouts?"+q.Encode()), nil)
}

// ProveTask asks for a proving of the task that is the bundle's main file.
func (c *Client) ProveTask(ctx context.Context, b *specfile.Bundle, repeats int) (api.Proving, error) {
	return call[api.Proving](ctx, c, http.MethodPost, "/provings", api.ProveTask{Bundle: *b, Repeats: repeats})
}

// Proving is one proving with its tests.
func (c *Client) Proving(ctx context.Context, id string) (api.Proving, error) {
	return call[api.Proving](ctx, c, http.MethodGet, "/provings/"+seg(id), nil)
}

// Survey lists the commits of a repository's history that may make tasks.
func (c *Client) Survey(ctx context.Context, repository, revision, since string, scan int) (api.Survey, error) {
	query := url.Values{"repository": {repository}, "scan": {strconv.Itoa(scan)}}
	if revision != "" {
		query.Set("revision", revision)
	}
	if since != "" {
		query.Set("since", since)
	}
	return call[api.Survey](ctx, c, http.MethodGet, "/survey?"+query.Encode(), nil)
}

// ProvingLog is what the command printed that failed in a step of a proving; step "" is
// the first that has an output.
func (c *Client) ProvingLog(ctx context.Context, id, step string) ([]byte, error) {
	return c.text(ctx, "/provings/"+seg(id)+"/log?step="+url.QueryEscape(step))
}

// Provings lists the provings of a task, the newest first; of all for "".
func (c *Client) Provings(ctx context.Context, task string) ([]api.Proving, error) {
	return call[[]api.Proving](ctx, c, http.MethodGet, "/provings?task="+url.QueryEscape(task), nil)
}

// StopProving stops a proving.
func (c *Client) StopProving(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c, http.MethodPost, "/provings/"+seg(id)+"/stop", nil)
	return err
}

// FollowProving delivers a proving each time it has got further, until it has
// ended or each returns false.
func (c *Client) FollowProving(ctx context.Context, id string, each func(api.Proving) bool) error {
	ended := false
	return c.follow(ctx, "/provings/"+seg(id)+"/events", func() http.Header { return nil }, func(data []byte) (bool, error) {
		var p api.Proving
		if err := json.Unmarshal(data, &p); err != nil {
			return false, fmt.Errorf("the live feed cannot be read: %w", err)
		}
		ended = p.State == "done" || p.State == "stopped"
		return each(p) && !ended, nil
	})
}

// Rejudge asks for a contest's stored changes to be judged again.
func (c *Client) Rejudge(ctx context.Context, id string, in api.RejudgeContest) (api.Rejudging, error) {
	return call[api.Rejudging](ctx, c, http.MethodPost, "/contests/"+seg(id)+"/rejudge", in)
}

// Rejudgings lists the judgings again of a contest, the newest first.
func (c *Client) Rejudgings(ctx context.Context, id string) ([]api.Rejudging, error) {
	return call[[]api.Rejudging](ctx, c, http.MethodGet, "/contests/"+seg(id)+"/rejudgings", nil)
}

// ImportBout hands a change in that was made elsewhere.
func (c *Client) ImportBout(ctx context.Context, in api.ImportBout) (api.Bout, error) {
	return call[api.Bout](ctx, c, http.MethodPost, "/bouts/import", in)
}

// DraftTask drafts a task from a commit.
func (c *Client) DraftTask(ctx context.Context, in api.DraftTask) (api.Draft, error) {
	return call[api.Draft](ctx, c, http.MethodPost, "/drafts", in)
}

// Bout is one bout with its checks; allTests lists the passed tests too.
func (c *Client) Bout(ctx context.Context, id string, allTests bool) (api.BoutDetail, error) {
	path := "/bouts/" + seg(id)
	if allTests {
		path += "?tests=all"
	}
	return call[api.BoutDetail](ctx, c, http.MethodGet, c.priced(path), nil)
}

// StopBout stops a bout.
func (c *Client) StopBout(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c, http.MethodPost, "/bouts/"+seg(id)+"/stop", nil)
	return err
}

// Diff is a bout's change, file by file.
//
// round is the number of a round, 0 for the last; here and in Patch and Log.
func (c *Client) Diff(ctx context.Context, id string, round int) (api.Diff, error) {
	return call[api.Diff](ctx, c, http.MethodGet, "/bouts/"+seg(id)+"/diff"+ofRound(round), nil)
}

// Measures are the edit measures of a bout's round (0: the last).
func (c *Client) Measures(ctx context.Context, id string, round int) (api.EditMeasures, error) {
	return call[api.EditMeasures](ctx, c, http.MethodGet, "/bouts/"+seg(id)+"/measures"+ofRound(round), nil)
}

// MeasureAgain works the edit measures of a bout out anew.
func (c *Client) MeasureAgain(ctx context.Context, id string) (api.EditMeasures, error) {
	return call[api.EditMeasures](ctx, c, http.MethodPost, "/bouts/"+seg(id)+"/measures", nil)
}

// MarkEdit says something of a finding of a bout's edit measures.
func (c *Client) MarkEdit(ctx context.Context, id, finding string, in api.MarkEdit) (api.EditMeasures, error) {
	return call[api.EditMeasures](ctx, c, http.MethodPost, "/bouts/"+seg(id)+"/measures/"+seg(finding), in)
}

// Compare puts two to four bouts of one task next to each other.
func (c *Client) Compare(ctx context.Context, ids []string, reference bool) (api.Comparison, error) {
	query := url.Values{"bouts": {strings.Join(ids, ",")}}
	if reference {
		query.Set("reference", "yes")
	}
	return call[api.Comparison](ctx, c, http.MethodGet, "/comparison?"+query.Encode(), nil)
}

// Patch is a bout's change as git applies it.
func (c *Client) Patch(ctx context.Context, id string, round int) ([]byte, error) {
	return c.text(ctx, "/bouts/"+seg(id)+"/patch"+ofRound(round))
}

// Log is what the tool printed; or, with a check's name, what that check did.
func (c *Client) Log(ctx context.Context, id, check string, round int) ([]byte, error) {
	if check != "" {
		return c.text(ctx, "/bouts/"+seg(id)+"/checks/"+seg(check)+"/log"+ofRound(round))
	}
	return c.text(ctx, "/bouts/"+seg(id)+"/log"+ofRound(round))
}

// Tasks lists the tasks that contests have recorded.
func (c *Client) Tasks(ctx context.Context) ([]api.Task, error) {
	return call[[]api.Task](ctx, c, http.MethodGet, "/tasks", nil)
}

// Task is one of them.
func (c *Client) Task(ctx context.Context, slug string) (api.Task, error) {
	return call[api.Task](ctx, c, http.MethodGet, "/tasks/"+seg(slug), nil)
}

// Contenders lists the contenders that contests have recorded.
func (c *Client) Contenders(ctx context.Context) ([]api.Contender, error) {
	return call[[]api.Contender](ctx, c, http.MethodGet, "/contenders", nil)
}

// Contender is one of them.
func (c *Client) Contender(ctx context.Context, slug string) (api.Contender, error) {
	return call[api.Contender](ctx, c, http.MethodGet, "/contenders/"+seg(slug), nil)
}

// CheckContender asks whether a contender can start on the service's machine:
// the one in the bundle, or the recorded one of the slug.
// trial runs a trial bout too.
func (c *Client) CheckContender(ctx context.Context, slug string, b *specfile.Bundle, trial bool) (api.Report, error) {
	return call[api.Report](ctx, c, http.MethodPost, "/contenders/"+seg(slug)+"/check", api.CheckContender{Bundle: b, Trial: trial})
}

// Follow delivers a contest's events after an id until `each` returns false,
// ctx ends, or the contest has ended and all its events were delivered. A
// connection that breaks is taken up again where it ended.
func (c *Client) Follow(ctx context.Context, contestID string, after int64, each func(api.FeedEvent) bool) error {
	return c.follow(ctx, "/contests/"+seg(contestID)+"/events", func() http.Header { return http.Header{"Last-Event-ID": {strconv.FormatInt(after, 10)}} }, func(data []byte) (bool, error) {
		var ev api.FeedEvent
		if err := json.Unmarshal(data, &ev); err != nil {
			return false, fmt.Errorf("the live feed cannot be read: %w", err)
		}
		after = ev.ID
		return each(ev), nil
	})
}

// follow reads a live feed until take returns false or ctx ends.
func (c *Client) follow(ctx context.Context, path string, header func() http.Header, take func(data []byte) (bool, error)) error {
	tries := 0
	for {
		res, err := c.send(ctx, http.MethodGet, path, nil, header())
		if err == nil {
			for e, readErr := range sse.Read(res.Body, &sse.ReadConfig{MaxEventSize: 1 << 20}) {
				if readErr != nil || e.Data == "" {
					break
				}
				tries = 0
				if more, err := take([]byte(e.Data)); !more || err != nil {
					res.Body.Close()
					return err
				}
			}
			res.Body.Close()
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var problem *Error
		if errors.As(err, &problem) {
			return err
		}
		if tries++; tries > 20 {
			if err == nil {
				err = errors.New("the live feed ends again and again")
			}
			return err
		}
		select {
		case <-time.After(time.Duration(tries) * 100 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
