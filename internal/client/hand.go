package client

import (
	"context"
	"net/http"

	"agonometer/internal/api"
	"agonometer/internal/core/person"
)

// Hands lists the bouts that persons are working on.
func (c *Client) Hands(ctx context.Context) ([]api.Hand, error) {
	return call[[]api.Hand](ctx, c, http.MethodGet, "/hand", nil)
}

// StartHand makes the workspace of a bout that a person works; it is made in the
// background.
func (c *Client) StartHand(ctx context.Context, in api.StartHand) (api.Hand, error) {
	return call[api.Hand](ctx, c, http.MethodPost, "/hand", in)
}

// Hand is a bout that a person works, as they see it.
func (c *Client) Hand(ctx context.Context, id string) (api.Hand, error) {
	return call[api.Hand](ctx, c, http.MethodGet, "/hand/"+seg(id), nil)
}

func (c *Client) hand(ctx context.Context, id, what string, body any) (api.Hand, error) {
	return call[api.Hand](ctx, c, http.MethodPost, "/hand/"+seg(id)+"/"+what, body)
}

// BeginHand starts the clock of a round; "" for the words that were offered.
func (c *Client) BeginHand(ctx context.Context, id, words string) (api.Hand, error) {
	return c.hand(ctx, id, "begin", api.BeginHand{Words: words})
}

// PauseHand stops the clock for a while, ResumeHand lets it run on.
func (c *Client) PauseHand(ctx context.Context, id string) (api.Hand, error) {
	return c.hand(ctx, id, "pause", nil)
}

func (c *Client) ResumeHand(ctx context.Context, id string) (api.Hand, error) {
	return c.hand(ctx, id, "resume", nil)
}

// FinishHand ends a round, which is judged in the background.
func (c *Client) FinishHand(ctx context.Context, id, answer string) (api.Hand, error) {
	return c.hand(ctx, id, "finish", api.FinishHand{Answer: answer})
}

// EndHand ends a bout whose round failed, without another one.
func (c *Client) EndHand(ctx context.Context, id string) (api.Hand, error) {
	return c.hand(ctx, id, "end", nil)
}

// DiscardHand throws a bout away, with a reason.
func (c *Client) DiscardHand(ctx context.Context, id, reason string) (api.Hand, error) {
	return c.hand(ctx, id, "discard", api.DiscardHand{Reason: reason})
}

// AddMark notes something, EndSpan ends the open mark of a kind, CorrectMark puts
// another mark in the place of one.
func (c *Client) AddMark(ctx context.Context, id string, in api.AddMark) (api.Hand, error) {
	return c.hand(ctx, id, "marks", in)
}

func (c *Client) EndSpan(ctx context.Context, id string, kind person.Kind) (api.Hand, error) {
	return c.hand(ctx, id, "end-span", api.EndSpan{Kind: kind})
}

func (c *Client) CorrectMark(ctx context.Context, id, mark string, in api.CorrectMark) (api.Hand, error) {
	return c.hand(ctx, id, "marks/"+seg(mark), in)
}

// UsedHand tells what a person knows of what a bout used.
func (c *Client) UsedHand(ctx context.Context, id string, in api.UsedHand) (api.Hand, error) {
	return c.hand(ctx, id, "used", in)
}

// Recording is what a terminal showed in a round of a bout, as an asciicast; 0 for
// the last round.
func (c *Client) Recording(ctx context.Context, id string, round int) ([]byte, error) {
	return c.text(ctx, "/bouts/"+seg(id)+"/recording"+ofRound(round))
}
