package service

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"sort"
	"strings"

	"github.com/gin-gonic/gin"

	"agonometer/internal/api"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/person"
	"agonometer/internal/core/task"
	"agonometer/internal/schedule"
	"agonometer/internal/store"
)

func handFactsOf(h *store.Hand) *api.HandFacts {
	if h == nil {
		return nil
	}
	return &api.HandFacts{Phase: string(h.Phase), Worker: h.Worker, Familiarity: h.Familiarity, Differs: h.Differs, Wanted: h.Wanted, Pauses: h.Pauses, Discarded: h.Discarded}
}

// handFlags are remarks about a bout that a person worked.
func handFlags(b *store.Bout) []string {
	var out []string
	if h := b.Hand; h != nil {
		if h.Differs {
			out = append(out, "other words were sent than those of the brief")
		}
		if h.Wanted > 1 {
			out = append(out, fmt.Sprintf("worked out of order: %s came before it", count(h.Wanted-1, "bout")))
		}
		if h.Pauses > 0 {
			out = append(out, "paused "+times(h.Pauses))
		}
	}
	return out
}

func (s *Server) marksOf(ctx context.Context, boutID string) ([]api.NotedMark, error) {
	all, err := s.store.Marks(ctx, boutID)
	if err != nil {
		return nil, err
	}
	counts := map[string]bool{}
	for _, m := range store.Current(all) {
		counts[m.ID] = true
	}
	out := make([]api.NotedMark, 0, len(all))
	for i := range all {
		m := &all[i]
		out = append(out, api.NotedMark{ID: m.ID, Mark: m.Mark, NotedAt: api.Time{Time: m.NotedAt}, Corrects: m.Corrects, Reason: m.Reason, TakenBack: m.TakenBack, Counts: counts[m.ID]})
	}
	return out, nil
}

// handOf shows a bout that a person works.
func (s *Server) handOf(ctx context.Context, id string) (*api.Hand, error) {
	b, err := s.store.Bout(ctx, id)
	if err != nil {
		return nil, err
	}
	if b.Driver != contender.DriveHand || b.Hand == nil {
		return nil, store.ErrNotFound
	}
	row, err := s.store.Contest(ctx, b.ContestID)
	if err != nil {
		return nil, err
	}
	contenders, err := s.store.Contenders(ctx, b.ContestID)
	if err != nil {
		return nil, err
	}
	tasks, err := s.store.Tasks(ctx, b.ContestID)
	if err != nil {
		return nil, err
	}
	a, err := s.account(ctx, row, contenders, "")
	if err != nil {
		return nil, err
	}
	v, open := s.sched.ViewHand(id)
	if !open {
		v.Hand = *b.Hand
	} else if b, err = s.store.Bout(ctx, id); err != nil { // what is open may have moved on meanwhile
		return nil, err
	}
	st := &v.Hand
	out := &api.Hand{Bout: boutOf(b, a), ContestName: row.Name, Alone: row.Kind != store.KindContest, Workspace: st.Workspace, Words: st.Brief, Attachments: append([]string{}, v.Attachments...),
		MeterURL: v.MeterURL, Round: st.Round, Kind: string(st.Kind), NowUS: v.NowUS, WorkedUS: v.WorkedUS, SignUS: v.SignUS, Files: []api.TouchedFile{}, Keys: st.Keys, Checks: []api.CheckResult{},
		Spent: api.Used{Source: string(ledger.NotKnown), Tokens: v.Spent.Tokens, AtLeast: v.Spent.AtLeast, Money: v.Spent.Money}}
	if v.Spent.Tokens != nil {
		out.Spent.Source = string(ledger.Metered)
	}
	out.Bout.Hand = handFactsOf(st)
	if st.Phase == store.HandRunning || st.Phase == store.HandPaused {
		out.Words = st.Words
	}
	if !open {
		out.WorkedUS = st.Worked
	}
	for name, at := range v.Touched {
		out.Files = append(out.Files, api.TouchedFile{Path: name, LastUS: at})
	}
	sort.Slice(out.Files, func(i, j int) bool {
		a, b := out.Files[i], out.Files[j]
		return a.LastUS > b.LastUS || a.LastUS == b.LastUS && a.Path < b.Path
	})
	for _, t := range tasks {
		if t.Slug == b.Task {
			out.TaskTitle, out.TaskKind, out.LimitMS = t.Title, string(t.Kind), t.Limits.Time.Std().Milliseconds()
		}
	}
	for _, c := range contenders {
		if c.Slug == b.Contender {
			out.ContenderTitle = c.Title
		}
	}
	if out.Marks, err = s.marksOf(ctx, id); err != nil {
		return nil, err
	}
	if b.State == store.Done {
		var detail api.BoutDetail
		if err := s.roundsOf(b, &detail, false); err != nil {
			return nil, err
		}
		out.Checks = append(out.Checks, detail.Checks...)
	}
	return out, nil
}

func (s *Server) showHand(c *gin.Context, id string, status int) {
	out, err := s.handOf(c.Request.Context(), id)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(status, out)
}

func (s *Server) getHand(c *gin.Context) { s.showHand(c, c.Param("id"), http.StatusOK) }

func (s *Server) listHands(c *gin.Context) {
	ctx := c.Request.Context()
	bouts, err := s.store.Bouts(ctx, store.BoutFilter{States: []store.BoutState{store.Preparing, store.Working, store.Captured, store.Judging}})
	if err != nil {
		s.fail(c, err)
		return
	}
	out := []*api.Hand{}
	for i := range bouts {
		if bouts[i].Hand == nil {
			continue
		}
		one, err := s.handOf(ctx, bouts[i].ID)
		if err != nil {
			s.fail(c, err)
			return
		}
		out = append(out, one)
	}
	c.JSON(http.StatusOK, out)
}

// maxWho bounds what is told of the person, maxTold the words of a round or a reply,
// and maxReason a reason, in bytes.
const (
	maxWho    = 200
	maxTold   = 4 << 20
	maxReason = 4 << 10
)

func tooLong(text string, most int) error {
	if len(text) > most {
		return &schedule.StateError{Why: fmt.Sprintf("the words have %d bytes; at most %d are kept", len(text), most)}
	}
	return nil
}

func (s *Server) startHand(c *gin.Context) {
	var in api.StartHand
	if !s.read(c, &in) {
		return
	}
	refuse := func(title, detail string) { s.problem(c, http.StatusUnprocessableEntity, title, detail) }
	if len(in.Worker) > maxWho || len(in.Familiarity) > maxWho {
		refuse("That is too long", fmt.Sprintf("A name, and how used somebody is to a tool, may have %d bytes each.", maxWho))
		return
	}
	start := schedule.HandStart{Contest: in.Contest, Task: in.Task, Contender: in.Contender, Worker: strings.TrimSpace(in.Worker), Familiarity: strings.TrimSpace(in.Familiarity), Bundle: in.Bundle}
	if in.Contest == "" {
		if in.Bundle == nil || len(in.ContenderFile) == 0 {
			refuse("The bout is not given", "A bout that stands alone needs the task's file and the contender's; one of a contest needs the contest's id.")
			return
		}
		var ok bool
		if start.Loaded, start.Commit, ok = s.taskOfBundle(c, in.Bundle); !ok {
			return
		}
		con, doc := contender.Parse("/alone/contender.yaml", "the contender's file", in.ContenderFile)
		if len(doc.Problems) > 0 {
			s.problem(c, http.StatusUnprocessableEntity, "The contender's file has mistakes", "Nothing was started.", doc.Problems...)
			return
		}
		if con.Drive != contender.DriveHand {
			refuse("The contender is not worked by hand", "Its file says drive: "+string(con.Drive)+"; a contest runs it: agonometer contest start.")
			return
		}
		start.By = con
	}
	b, err := s.sched.StartHand(c.Request.Context(), start)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Location", Prefix+"/hand/"+b.ID)
	s.showHand(c, b.ID, http.StatusCreated)
}

// handCall answers a call that moves a bout by hand on with how it stands then.
func (s *Server) handCall(c *gin.Context, in any, do func(ctx context.Context, id string) error) {
	if in != nil && !s.read(c, in) {
		return
	}
	id := c.Param("id")
	if err := do(c.Request.Context(), id); err != nil {
		s.fail(c, err)
		return
	}
	s.showHand(c, id, http.StatusOK)
}

func (s *Server) beginHand(c *gin.Context) {
	var in api.BeginHand
	s.handCall(c, &in, func(ctx context.Context, id string) error {
		if err := tooLong(in.Words, maxTold); err != nil {
			return err
		}
		return s.sched.BeginHand(ctx, id, in.Words)
	})
}

func (s *Server) pauseHand(c *gin.Context)  { s.handCall(c, nil, s.sched.PauseHand) }
func (s *Server) resumeHand(c *gin.Context) { s.handCall(c, nil, s.sched.ResumeHand) }
func (s *Server) endHand(c *gin.Context)    { s.handCall(c, nil, s.sched.EndHand) }

func (s *Server) finishHand(c *gin.Context) {
	var in api.FinishHand
	s.handCall(c, &in, func(ctx context.Context, id string) error {
		if err := tooLong(in.Answer, maxTold); err != nil {
			return err
		}
		return s.sched.FinishHand(ctx, id, in.Answer)
	})
}

func (s *Server) discardHand(c *gin.Context) {
	var in api.DiscardHand
	s.handCall(c, &in, func(ctx context.Context, id string) error {
		if err := tooLong(in.Reason, maxReason); err != nil {
			return err
		}
		return s.sched.Discard(ctx, id, in.Reason)
	})
}

func (s *Server) addMark(c *gin.Context) {
	var in api.AddMark
	s.handCall(c, &in, func(ctx context.Context, id string) error {
		m := person.Mark{Kind: in.Kind, Class: in.Class, Words: in.Words, AtUS: schedule.Now, UntilUS: in.UntilUS}
		if in.AtUS != nil {
			if *in.AtUS < 0 {
				return &schedule.StateError{Why: "the mark lies before the clock was started"}
			}
			m.AtUS = *in.AtUS
		}
		_, err := s.sched.AddMark(ctx, id, m)
		return err
	})
}

func (s *Server) endSpan(c *gin.Context) {
	var in api.EndSpan
	s.handCall(c, &in, func(ctx context.Context, id string) error { return s.sched.EndSpan(ctx, id, in.Kind) })
}

func (s *Server) correctMark(c *gin.Context) {
	var in api.CorrectMark
	s.handCall(c, &in, func(ctx context.Context, id string) error {
		m := person.Mark{Kind: in.Kind, Class: in.Class, Words: in.Words, AtUS: in.AtUS, UntilUS: in.UntilUS}
		if err := tooLong(in.Reason, maxReason); err != nil {
			return err
		}
		return s.sched.CorrectMark(ctx, id, c.Param("mark"), m, in.Reason, in.TakeBack)
	})
}

func (s *Server) usedHand(c *gin.Context) {
	var in api.UsedHand
	s.handCall(c, &in, func(ctx context.Context, id string) error {
		var told *ledger.Told
		if in.Tokens != nil || in.Money != nil || in.Allowance != nil {
			told = &ledger.Told{Model: in.Model, Money: in.Money, Allowance: in.Allowance}
			if in.Money != nil && in.Allowance != nil {
				return &schedule.StateError{Why: "money or readings of an allowance: one of the two"}
			}
			if in.Tokens != nil {
				for _, k := range ledger.Kinds() {
					if n := in.Tokens.Of(k); n != nil && (*n < 0 || *n > ledger.MaxTokens) {
						return &schedule.StateError{Why: fmt.Sprintf("%d %s tokens cannot be", *n, k)}
					}
				}
				told.Tokens = *in.Tokens
			}
		}
		if in.Keys != nil && *in.Keys < 0 {
			return &schedule.StateError{Why: "the number of keys is below zero"}
		}
		if told == nil && in.Keys == nil {
			return &schedule.StateError{Why: "nothing was told: tokens, money, readings of an allowance, or keys"}
		}
		return s.sched.UsedHand(ctx, id, told, in.Keys)
	})
}

// handsOf counts the contenders of a contest that a person works.
func handsOf(all []*contender.Contender) (n int) {
	for _, c := range all {
		if c.Drive == contender.DriveHand {
			n++
		}
	}
	return n
}

// wordingNames are the names of the wordings that are used of a task; none where it
// has but one without a name.
func wordingNames(t *task.Task, takes []string) []string {
	out := []string{}
	if len(t.Wordings) > 1 || len(takes) > 0 && takes[0] != "" {
		out = append(out, slices.DeleteFunc(slices.Clone(takes), func(s string) bool { return s == "" })...)
	}
	return out
}

func (s *Server) getRecording(c *gin.Context) {
	b, ok := s.bout(c)
	if !ok {
		return
	}
	r, ok := s.round(c, b)
	if !ok {
		return
	}
	if r.Recording == "" {
		s.problem(c, http.StatusNotFound, "There is no recording", "A terminal is recorded where the contender's file says pty: true.")
		return
	}
	s.text(c, r.Recording, "application/x-asciicast")
}
