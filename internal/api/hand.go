package api

import (
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/person"
	"agonometer/internal/core/specfile"
)

// HandFacts is what is known of a bout that a person works.
type HandFacts struct {
	// Phase is preparing, ready, running, paused, judging, offered or over.
	Phase       string `json:"phase"`
	Worker      string `json:"worker"`
	Familiarity string `json:"familiarity"`
	// Differs is set where the words that were sent were not those of the brief.
	Differs bool `json:"differs"`
	// Wanted is the bout's place among those that were left when it was started, from 1;
	// anything but 1 is out of the contest's order. 0 where no order was wanted.
	Wanted int `json:"wanted"`
	Pauses int `json:"pauses"`
	// Discarded says why it was thrown away; "" where it was not.
	Discarded string `json:"discarded"`
}

// NotedMark is something that a person noted while a tool worked.
type NotedMark struct {
	ID string `json:"id"`
	person.Mark
	NotedAt Time `json:"noted_at"`
	// Corrects is the id of the mark that this one stands in the place of; "" for none.
	Corrects string `json:"corrects"`
	Reason   string `json:"reason"`
	// TakenBack takes the mark that it corrects back. Counts is set for marks that count.
	TakenBack bool `json:"taken_back"`
	Counts    bool `json:"counts"`
}

// Hand is a bout that a person works, as they see it.
type Hand struct {
	Bout           Bout   `json:"bout"`
	TaskTitle      string `json:"task_title"`
	ContenderTitle string `json:"contender_title"`
	ContestName    string `json:"contest_name"`
	// TaskKind is change, question or typing.
	TaskKind string `json:"task_kind"`
	// Alone is set for a bout outside any contest.
	Alone bool `json:"alone"`
	// Workspace is where the person works; Words are those to hand over next, or that
	// were handed over.
	Workspace   string   `json:"workspace"`
	Words       string   `json:"words"`
	Attachments []string `json:"attachments"`
	// MeterURL is what the tool may be told in its model service's place; "" for none.
	MeterURL string `json:"meter_url"`
	Round    int    `json:"round"`
	// Kind is that of the round: opening, repair or follow-up.
	Kind string `json:"kind"`
	// NowUS is the present moment on the bout's clock and WorkedUS how long it has run,
	// without pauses, in microseconds; 0 before the clock was started.
	NowUS    int64 `json:"now_us"`
	WorkedUS int64 `json:"worked_us"`
	// SignUS is the tool's last sign of life on the bout's clock; null where there was none.
	SignUS *int64        `json:"sign_us"`
	Files  []TouchedFile `json:"files"`
	Marks  []NotedMark   `json:"marks"`
	// LimitMS is how long the bout may be worked on, in milliseconds.
	LimitMS int64 `json:"limit_ms"`
	// Spent is what the meter has counted so far.
	Spent Used `json:"spent"`
	Keys  *int `json:"keys"`
	// Checks are those of the last round that was judged.
	Checks []CheckResult `json:"checks"`
}

// TouchedFile is a file that was edited, with the moment of its last edit on the
// bout's clock in microseconds.
type TouchedFile struct {
	Path   string `json:"path"`
	LastUS int64  `json:"last_us"`
}

// StartHand asks for a bout to be worked by hand: the next of a contest, or one that
// stands alone.
type StartHand struct {
	// Contest is an id; with it Task and Contender narrow down which bout is meant.
	Contest   string `json:"contest,omitempty"`
	Task      string `json:"task,omitempty"`
	Contender string `json:"contender,omitempty"`
	// Bundle holds the task's file with what it names, and ContenderFile the contender's,
	// for a bout that stands alone.
	Bundle        *specfile.Bundle `json:"bundle,omitempty"`
	ContenderFile []byte           `json:"contender_file,omitempty"`
	// Worker is who works the tool, Familiarity how used to it they are.
	Worker      string `json:"worker,omitempty"`
	Familiarity string `json:"familiarity,omitempty"`
}

// BeginHand starts the clock: Words were handed over; "" means those that were offered.
type BeginHand struct {
	Words string `json:"words,omitempty"`
}

// FinishHand ends a round. Answer is the tool's closing message, where there is one.
type FinishHand struct {
	Answer string `json:"answer,omitempty"`
}

// DiscardHand throws a bout away.
type DiscardHand struct {
	Reason string `json:"reason"`
}

// AddMark notes something. AtUS is a moment on the bout's clock in microseconds;
// null is now. A span without UntilUS stays open.
type AddMark struct {
	Kind    person.Kind `json:"kind"`
	Class   string      `json:"class,omitempty"`
	Words   string      `json:"words,omitempty"`
	AtUS    *int64      `json:"at_us,omitempty"`
	UntilUS *int64      `json:"until_us,omitempty"`
}

// EndSpan ends the open mark of a kind, now.
type EndSpan struct {
	Kind person.Kind `json:"kind"`
}

// CorrectMark puts another mark in the place of one, or takes it back.
type CorrectMark struct {
	Kind     person.Kind `json:"kind,omitempty"`
	Class    string      `json:"class,omitempty"`
	Words    string      `json:"words,omitempty"`
	AtUS     int64       `json:"at_us"`
	UntilUS  *int64      `json:"until_us,omitempty"`
	Reason   string      `json:"reason,omitempty"`
	TakeBack bool        `json:"take_back,omitempty"`
}

// UsedHand tells what a person knows of what a bout used.
type UsedHand struct {
	Tokens    *ledger.Tokens    `json:"tokens,omitempty"`
	Money     *ledger.Money     `json:"money,omitempty"`
	Allowance *ledger.Allowance `json:"allowance,omitempty"`
	Model     string            `json:"model,omitempty"`
	// Keys is how many keys were pressed, for tasks of typing.
	Keys *int `json:"keys,omitempty"`
}
