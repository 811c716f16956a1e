// Package drive hands words to a contender and waits until it is done with them:
// by a command that runs to its end, in a terminal or not, or over the Agent Client
// Protocol. What a person works by hand is not driven.
package drive

import (
	"context"
	"fmt"
	"io"
	"time"

	"agonometer/internal/bout/confine"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/timeline"
)

// Driver works one contender in one workspace, round after round.
type Driver interface {
	// HandOver hands words over and returns when the tool is done with them, or has
	// been stopped.
	HandOver(context.Context, HandOver) (Ended, error)
	// Freeze stops what stays between two rounds, and Thaw lets it go on.
	Freeze()
	Thaw()
	// Close ends what the tool has left running. It may be called again.
	Close()
}

// For is the driver of a contender.
func For(c *contender.Contender) Driver {
	if c.Drive == contender.DriveACP {
		return &session{}
	}
	return command{}
}

// HandOver is everything that one hand-over needs.
type HandOver struct {
	Contender *contender.Contender
	// Again is set in later rounds: the contender may have another command for them.
	Again bool
	Brief string
	// Attachments are the files that go with the brief, as the tool sees them.
	Attachments []string
	Seed        specfile.Seed
	World       confine.World
	Limit       time.Duration
	// MeterURL stands for the model service; "" where the contender has no meter.
	MeterURL string
	// Started is called with the process once it runs, and with the moment from which
	// its time counts; Stop, where something is
	// received from it, ends the tool.
	Started func(p *confine.Process, at time.Time)
	Stop    <-chan struct{}
	// Output takes what the tool prints; Stdout, where it is not nil, its standard output in Output's place.
	Output, Stdout io.Writer
	// Seen is told of what happens that only the driver sees; nil tells nobody.
	Seen func(Seen)
	// Breached is called when a command that the tool asked for used too much of the
	// machine; it may be nil.
	Breached func(limit confine.LimitKind, detail string)
	// Keep is how much of a recording is kept, in bytes.
	Keep int64
}

// Seen is something that happened between the tool and its driver.
type Seen struct {
	Kind        timeline.Kind
	From, Until time.Time
	Text        string
	Count       int64
	OK          bool
}

// Ended is how a round ended.
type Ended struct {
	confine.Result
	// Stays is set where the tool goes on running and waits for more words.
	Stays bool
	// Process is the one that stays; nil where none does.
	Process *confine.Process
	// Answer is the closing message as the protocol told it; nil where it is read
	// elsewhere.
	Answer []byte
	// Recording is what a terminal showed, as an asciicast (version 2).
	Recording []byte
	// Protocol is what the tool says over the protocol that this round used.
	Protocol *ledger.Told
	// Version is the tool's, where the protocol tells it.
	Version string
	// LastLine is what a tool that may ask questions printed last.
	LastLine string
}

// Values are what stands for the placeholders.
func (h *HandOver) Values() map[contender.Placeholder]string {
	ws, _, _, brief := h.World.Paths()
	return map[contender.Placeholder]string{contender.Brief: h.Brief, contender.BriefFile: brief, contender.Workspace: ws,
		contender.Seed: fmt.Sprint(h.Seed), contender.MeterURL: h.MeterURL, contender.Model: h.Contender.Model, contender.Effort: h.Contender.Effort}
}

func (h *HandOver) started(p *confine.Process, at time.Time) {
	if h.Started != nil {
		h.Started(p, at)
	}
}

func (h *HandOver) seen(s Seen) {
	if h.Seen != nil {
		h.Seen(s)
	}
}

// Aside runs a program of the contender that is no round: what it does on its
// first use, or the one that tells its version.
func Aside(ctx context.Context, h HandOver, run []string) (confine.Result, error) {
	h.World.Brief = ""
	args, env, err := h.start(run)
	if err != nil {
		return confine.Result{}, err
	}
	p, err := confine.Start(ctx, h.World.Spec(args, env), confine.IO{Stdout: h.Output, Stderr: h.Output})
	if err != nil {
		return confine.Result{}, err
	}
	h.started(p, p.Began)
	return p.Wait(h.Limit, h.Stop)
}
