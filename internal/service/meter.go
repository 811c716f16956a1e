package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"agonometer/internal/api"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/standings"
	"agonometer/internal/core/timeline"
	"agonometer/internal/core/verdict"
	"agonometer/internal/store"
)

// account is what is needed to say what the bouts of a contest used: money is
// worked out here, from stored tokens, whenever it is asked for.
type account struct {
	prices    ledger.Prices
	exchanges map[string][]store.Exchange
	expects   map[string]*ledger.Expects
	// rate is what an hour of the person is worth; nil where nobody said.
	rate *ledger.Money
}

// account gathers a contest's exchanges and its price lists, or the one of a digest.
func (s *Server) account(ctx context.Context, row *store.Contest, contenders []store.ContestContender, prices string) (*account, error) {
	a := &account{expects: map[string]*ledger.Expects{}}
	var err error
	if a.prices, err = s.prices(row, prices); err != nil {
		return nil, err
	}
	if a.exchanges, err = s.store.ContestExchanges(ctx, row.ID); err != nil {
		return nil, err
	}
	if rate := new(ledger.Money); row.HourlyRate != "" && rate.ParseScalar(row.HourlyRate) == nil {
		a.rate = rate
	}
	for i := range contenders {
		c, _ := contender.Parse(contenders[i].Path, contenders[i].Path, []byte(contenders[i].Source))
		a.expects[contenders[i].Slug] = c.Expects
	}
	return a, nil
}

// noPriceListError says that a digest is none of a price list.
type noPriceListError struct{ digest string }

func (e *noPriceListError) Error() string {
	return "there is no price list " + strconv.Quote(e.digest) + "; send it to /price-lists first, and name the digest that comes back"
}

func (s *Server) prices(row *store.Contest, digest string) (ledger.Prices, error) {
	var sources [][]byte
	if digest != "" {
		data, err := s.store.Get(store.Digest(digest))
		if err != nil {
			return ledger.Prices{}, &noPriceListError{digest}
		}
		sources = [][]byte{data}
	} else if row.Prices != "" {
		data, err := s.store.Get(row.Prices)
		if err != nil {
			return ledger.Prices{}, err
		}
		if err := json.Unmarshal(data, &sources); err != nil {
			return ledger.Prices{}, err
		}
	}
	var out ledger.Prices
	for _, data := range sources {
		list, doc := ledger.ParsePrices("price list", data)
		if len(doc.Problems) > 0 {
			return out, &noPriceListError{digest}
		}
		out.Lists = append(out.Lists, list)
	}
	return out, nil
}

// when is by which moment a bout's told tokens are priced.
func when(b *store.Bout) time.Time {
	if b.WorkingAt != nil {
		return *b.WorkingAt
	}
	return b.CreatedAt
}

func (a *account) entries(b *store.Bout) []ledger.Exchange {
	rows := a.exchanges[b.ID]
	out := make([]ledger.Exchange, len(rows))
	for i := range rows {
		out[i] = rows[i].Ledger()
	}
	return out
}

func (a *account) ledger(b *store.Bout) ledger.Ledger {
	return ledger.Best(a.entries(b), ledger.Others{Protocol: b.Protocol, Reported: b.Reported, Typed: b.Typed}, when(b), a.prices)
}

func (a *account) departures(b *store.Bout) []ledger.Departure {
	return a.expects[b.Contender].Departures(a.entries(b))
}

func (a *account) used(sheet *ledger.Sheet) api.Used {
	return api.Used{Source: string(sheet.Source), Tokens: sheet.Total, AtLeast: sheet.AtLeast, Money: sheet.Money, MoneyAtLeast: sheet.MoneyAtLeast, MoneyRange: sheet.MoneyRange}
}

// fill puts what is known of a bout's model service and clock into its record.
func (a *account) fill(b *store.Bout, out *api.Bout) ledger.Ledger {
	l := a.ledger(b)
	out.Used = a.used(&l.Sheet)
	out.Limit, out.Network, out.NotBefore, out.Flags = string(b.Limit), b.Network, api.At(b.NotBefore), []string{}
	if t := b.Timing; t != nil {
		out.FirstEditMS, out.LastEditMS = msOf(t.FirstEdit), msOf(t.LastEdit)
	}
	for _, d := range a.departures(b) {
		out.Flags = append(out.Flags, d.Words)
	}
	if l.Refused > 0 && l.Source == ledger.Metered {
		out.Flags = append(out.Flags, "refused "+times(l.Refused))
	}
	if l.NotCounted > 0 {
		out.Flags = append(out.Flags, count(l.NotCounted, "exchange")+" not counted")
	}
	if l.Partial > 0 {
		out.Flags = append(out.Flags, count(l.Partial, "reply")+" cut off")
	}
	if len(l.Unpriced) > 0 {
		out.Flags = append(out.Flags, "no price for "+strings.Join(l.Unpriced, ", "))
	}
	if b.GuidanceChanged != "" {
		out.Flags = append(out.Flags, b.GuidanceChanged)
	}
	out.Flags = append(out.Flags, handFlags(b)...)
	if b.Machine.Overloaded() {
		out.Flags = append(out.Flags, "the machine was overloaded")
	}
	return l
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

func msOf(us *int64) *int64 {
	if us == nil {
		return nil
	}
	ms := *us / 1000
	return &ms
}

// facts are what the standings need of a bout beside its verdict.
func (a *account) facts(b *store.Bout, into *standings.Bout) {
	l := a.ledger(b)
	into.Used = l.Sheet
	into.Refused = l.Source == ledger.Metered && l.Refused > 0
	if v := b.Verdict(); v != nil {
		into.Discarded = v.Reason == verdict.Discarded
	}
	into.Effort = b.Effort
	into.Late = b.Limit == verdict.TimeLimit || b.Limit == verdict.QuietLimit
	if t := b.Timing; t != nil {
		into.FirstEditMS = msOf(t.FirstEdit)
		into.WaitedMS = msOf(&t.Parts.Refused)
	}
}

// cold tells whether the first counted exchange found nothing in a cache.
func cold(rows []store.Exchange) *bool {
	for i := range rows {
		if n := rows[i].Cached; n != nil {
			is := *n == 0
			return &is
		}
	}
	return nil
}

// boutAccount finds what a call about one bout's ledger needs.
func (s *Server) boutAccount(c *gin.Context) (*store.Bout, *account, bool) {
	b, ok := s.bout(c)
	if !ok {
		return nil, nil, false
	}
	a, err := s.accountOf(c, b.ContestID)
	if err != nil {
		s.fail(c, err)
	}
	return b, a, err == nil
}

// accountOf is the account of a contest, by the price list that a call names.
func (s *Server) accountOf(c *gin.Context, contestID string) (*account, error) {
	ctx := c.Request.Context()
	row, err := s.store.Contest(ctx, contestID)
	if err != nil {
		return nil, err
	}
	contenders, err := s.store.Contenders(ctx, contestID)
	if err != nil {
		return nil, err
	}
	return s.account(ctx, row, contenders, c.Query("prices"))
}

func (s *Server) getBoutLedger(c *gin.Context) {
	b, a, ok := s.boutAccount(c)
	if !ok {
		return
	}
	rows, err := s.store.Exchanges(c.Request.Context(), b.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := api.BoutLedger{BoutID: b.ID, Ledger: a.ledger(b), Departures: a.departures(b), Exchanges: []api.Exchange{}}
	for i := range rows {
		out.Exchanges = append(out.Exchanges, exchangeOf(&rows[i], a.prices))
	}
	c.JSON(http.StatusOK, out)
}

func exchangeOf(x *store.Exchange, prices ledger.Prices) api.Exchange {
	out := api.Exchange{Number: x.Number, Round: x.Round, Began: api.Time{Time: x.BeganAt}, AtUS: x.AtUS, PacedUS: x.PacedUS, FirstUS: x.FirstUS, UntilUS: x.UntilUS, Method: x.Method, Path: x.Path,
		Status: x.Status, BytesIn: x.BytesIn, BytesOut: x.BytesOut, ModelAsked: x.ModelAsked, EffortAsked: x.EffortAsked, Model: x.Model, Effort: x.Effort, Shape: x.Shape, Tokens: x.Tokens(),
		NotCounted: x.Wanting, Partial: x.Partial, Strange: x.Strange, Refused: x.Refused, Cause: x.Cause, CauseWords: x.CauseWords, RetryAfter: x.RetryAfter, Trouble: x.Trouble,
		HasBodies: x.RequestBody != "" || x.ReplyBody != ""}
	if x.Refused {
		return out
	}
	out.Money = ledger.Of([]ledger.Exchange{x.Ledger()}, prices).Money
	return out
}

func (s *Server) getTimeline(c *gin.Context) {
	b, ok := s.bout(c)
	if !ok {
		return
	}
	after, err := strconv.ParseInt(c.DefaultQuery("after", "0"), 10, 64)
	if err != nil || after < 0 {
		s.problem(c, http.StatusBadRequest, "The event's number is not a number", c.Query("after"))
		return
	}
	out := api.Timeline{BoutID: b.ID, Summary: b.Timing}
	marks, err := s.store.Marks(c.Request.Context(), b.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	if out.Events, out.Last, err = s.store.Timeline(c.Request.Context(), b.ID, after); err != nil {
		s.fail(c, err)
		return
	}
	if after == 0 {
		out.Events = append(out.Events, timeline.Backoffs(out.Events)...)
		now := int64(0)
		for _, e := range out.Events {
			now = max(now, e.Until)
		}
		for _, m := range store.Current(marks) {
			out.Events = append(out.Events, m.Mark.Event(now))
		}
	}
	if out.Summary == nil && after == 0 && len(out.Events) > 0 {
		sum := timeline.Summarise(out.Events) // a bout that is running
		out.Summary = &sum
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) getBody(c *gin.Context) {
	b, ok := s.bout(c)
	if !ok {
		return
	}
	rows, err := s.store.Exchanges(c.Request.Context(), b.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	for i := range rows {
		if strconv.Itoa(rows[i].Number) != c.Param("number") {
			continue
		}
		d := rows[i].RequestBody
		if c.Param("side") == "reply" {
			d = rows[i].ReplyBody
		} else if c.Param("side") != "request" {
			break
		}
		if d == "" {
			s.problem(c, http.StatusNotFound, "The body was not kept", "Bodies are kept where the contender's file says so: meter: keep_bodies: 1MiB.")
			return
		}
		s.text(c, d, "text/plain")
		return
	}
	s.fail(c, store.ErrNotFound)
}

func (s *Server) getContestLedger(c *gin.Context) {
	g, err := s.gather(c.Request.Context(), c.Param("id"), c.Query("prices"))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, g.account.contest(g.row, g.contenders, g.bouts, standingsOf(g.row, g.contenders, g.tasks, g.bouts, g.account)))
}

// contest adds up what the bouts of a contest used, by contender.
func (a *account) contest(row *store.Contest, contenders []store.ContestContender, bouts []store.Bout, table api.Standings) api.ContestLedger {
	out := api.ContestLedger{ContestID: row.ID, PriceLists: []string{}, Rows: []api.ContenderSheet{}}
	for _, l := range a.prices.Lists {
		out.PriceLists = append(out.PriceLists, string(l.PriceList))
	}
	var all []ledger.Exchange
	for i := range contenders {
		one := api.ContenderSheet{Contender: contenders[i].Slug}
		var entries []ledger.Exchange
		var told ledger.Told
		for j := range bouts {
			b := &bouts[j]
			if b.Contender != one.Contender {
				continue
			}
			one.Bouts++
			x := a.entries(b)
			entries = append(entries, x...)
			if r := b.Reported; !r.Empty() {
				told.Tokens = told.Tokens.Plus(r.Tokens)
				told.AtLeast = told.AtLeast || r.AtLeast
				told.Model = r.Model
			} else if len(x) > 0 {
				told.AtLeast = true
			}
		}
		one.Sheet = ledger.Of(entries, a.prices)
		if !told.Empty() {
			sheet := told.Sheet(ledger.Reported, row.CreatedAt, a.prices)
			if one.Sheet.Source == ledger.NotKnown {
				one.Sheet = sheet
			} else {
				one.Reported = &sheet
			}
		}
		for _, r := range table.Rows {
			if r.Contender == one.Contender {
				one.Passed, one.PerPassed, one.TokensPerLine = r.Passed, r.PerPassed, r.TokensPerLine
			}
		}
		all = append(all, entries...)
		out.Rows = append(out.Rows, one)
	}
	out.Total = ledger.Of(all, a.prices)
	return out
}

func (s *Server) addPriceList(c *gin.Context) {
	var in api.PriceListFile
	if !s.read(c, &in) {
		return
	}
	list, doc := ledger.ParsePrices(in.Name, in.Data)
	if len(doc.Problems) > 0 {
		s.problem(c, http.StatusUnprocessableEntity, "The price list has mistakes", "Nothing was taken.", doc.Problems...)
		return
	}
	d, err := s.store.Put(in.Data)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, api.StoredPriceList{Digest: string(d), PriceList: string(list.PriceList), Currency: string(list.Currency), Models: len(list.Models)})
}
