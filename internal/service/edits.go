package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"agonometer/internal/api"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/task"
	"agonometer/internal/schedule"
	"agonometer/internal/store"
)

// judgedRound is what a round comes to in the judgement that is used; round 0 is the
// last with measures. Nil where there is none.
func judgedRound(b *store.Bout, round int) *store.RoundJudgement {
	if len(b.Judgements) == 0 {
		return nil
	}
	rounds := b.Judgements[len(b.Judgements)-1].Rounds
	for i := range slices.Backward(rounds) {
		if rounds[i].Round == round || round == 0 && rounds[i].Measures != "" {
			return &rounds[i]
		}
	}
	return nil
}

// bounds are what a bout's task allows; nil for nothing, or where the task is not there any more.
func (s *Server) bounds(ctx context.Context, b *store.Bout) map[string]float64 {
	t := s.taskOfBout(ctx, b)
	if t == nil || t.Measures == nil {
		return nil
	}
	return t.Measures.AtMost
}

func (s *Server) taskOfBout(ctx context.Context, b *store.Bout) *task.Task {
	row, err := s.store.Contest(ctx, b.ContestID)
	if err != nil {
		return nil
	}
	t, _, _, err := s.sched.TaskOf(ctx, row, b.Task)
	if err != nil {
		return nil
	}
	return t
}

// editsOf puts a round's measures together with what people say of them; nil where there are none.
func (s *Server) editsOf(ctx context.Context, b *store.Bout, r *store.RoundJudgement) (*api.EditMeasures, error) {
	if r == nil {
		return nil, nil
	}
	m, err := s.store.Measures(r)
	if err != nil || m == nil {
		return nil, err
	}
	marks, err := s.store.EditMarks(ctx, b.ID)
	if err != nil {
		return nil, err
	}
	out := &api.EditMeasures{BoutID: b.ID, Round: r.Round, Version: m.Version, Current: patch.MeasuresVersion, Measures: patch.MeasureInfos(), Figures: []api.EditFigure{}, Findings: findingsOf(m, marks),
		Notes: append([]string{}, m.Notes...), Off: append([]string{}, m.Off...)}
	values := m.Values(store.SetAside(marks))
	bounds := s.bounds(ctx, b)
	for _, info := range patch.Figures() {
		i := slices.IndexFunc(m.Figures, func(f patch.Figure) bool { return f.Name == info.Name })
		if i < 0 {
			continue
		}
		f := api.EditFigure{FigureInfo: info, Why: m.Figures[i].Why, Where: []patch.Place{}}
		if where, more := m.Where(info.Name); where != nil {
			f.Where, f.More = where, more
		}
		if v, there := values[info.Name]; there {
			f.Value = &v
		}
		if most, there := bounds[info.Name]; there {
			f.AtMost = &most
		}
		out.Figures = append(out.Figures, f)
	}
	return out, nil
}

func findingsOf(m *patch.Measures, marks map[string]store.EditMark) []api.EditFinding {
	out := []api.EditFinding{}
	for _, f := range m.Findings {
		one := api.EditFinding{Finding: f}
		if mark, there := marks[f.ID]; there {
			one.Mark, one.Reason, one.By, one.At = string(mark.Mark), mark.Reason, mark.By, api.At(&mark.At)
		}
		out = append(out, one)
	}
	return out
}

func (s *Server) getEdits(c *gin.Context) {
	b, ok := s.bout(c)
	if !ok {
		return
	}
	round := 0
	if c.Query("round") != "" {
		r, ok := s.round(c, b)
		if !ok {
			return
		}
		round = r.Number
	}
	s.answerEdits(c, b, round)
}

func (s *Server) answerEdits(c *gin.Context, b *store.Bout, round int) {
	out, err := s.editsOf(c.Request.Context(), b, judgedRound(b, round))
	switch {
	case err != nil:
		s.fail(c, err)
	case out == nil:
		s.problem(c, http.StatusNotFound, "There are no edit measures", "Nothing was captured, the bout has not been judged yet, or it was judged by an older Agonometer: work them out with agonometer bout measures "+b.ID+" --again.")
	default:
		c.JSON(http.StatusOK, out)
	}
}

func (s *Server) measureAgain(c *gin.Context) {
	b, err := s.sched.MeasureAgain(c.Request.Context(), c.Param("id"))
	var state *schedule.StateError
	if errors.As(err, &state) {
		s.problem(c, http.StatusConflict, "This bout cannot be measured", state.Error())
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	s.answerEdits(c, b, 0)
}

func (s *Server) markEdit(c *gin.Context) {
	var in api.MarkEdit
	if !s.read(c, &in) {
		return
	}
	b, ok := s.bout(c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	r := judgedRound(b, 0)
	var found *patch.Finding
	if r != nil {
		m, err := s.store.Measures(r)
		if err != nil {
			s.fail(c, err)
			return
		}
		if m != nil {
			if i := slices.IndexFunc(m.Findings, func(f patch.Finding) bool { return f.ID == c.Param("finding") }); i >= 0 {
				found = &m.Findings[i]
			}
		}
	}
	if found == nil {
		s.problem(c, http.StatusNotFound, "There is no such finding", "The findings with their ids: agonometer bout measures "+b.ID+" --format json")
		return
	}
	in.Reason = strings.TrimSpace(in.Reason)
	kind := store.EditMarkKind(in.Mark)
	stray := kind == store.Needed || kind == store.Welcome || kind == store.Unwanted
	switch {
	case in.Mark != "" && kind != store.Aside && !stray:
		s.problem(c, http.StatusBadRequest, "There is no such word", "Say aside (a false alarm), or of a stray needed, welcome or unwanted; nothing takes back what was said.")
		return
	case stray && found.Measure != "strays":
		s.problem(c, http.StatusBadRequest, "This is not a stray file", "Needed, welcome and unwanted are said of strays; a false alarm is set aside.")
		return
	case kind == store.Aside && in.Reason == "":
		s.problem(c, http.StatusBadRequest, "A reason is wanted", "Others will read why this finding does not count.")
		return
	case len(in.Reason) > maxReason || len(in.By) > maxWho:
		s.problem(c, http.StatusBadRequest, "That is too long", fmt.Sprintf("A reason has at most %d bytes.", maxReason))
		return
	}
	var err error
	if in.Mark == "" {
		err = s.store.DropEditMark(ctx, b.ID, found.ID)
	} else {
		err = s.store.SetEditMark(ctx, &store.EditMark{BoutID: b.ID, Finding: found.ID, Mark: kind, Reason: in.Reason, By: cmp.Or(strings.TrimSpace(in.By), os.Getenv("USER")), At: time.Now()})
	}
	if err == nil {
		err = s.recount(ctx, b)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	s.answerEdits(c, b, 0)
}

// recount brings the figures of a bout's rounds up to what people have set aside.
func (s *Server) recount(ctx context.Context, b *store.Bout) error {
	marks, err := s.store.EditMarks(ctx, b.ID)
	if err != nil {
		return err
	}
	j := &b.Judgements[len(b.Judgements)-1]
	for i := range j.Rounds {
		m, err := s.store.Measures(&j.Rounds[i])
		if err != nil {
			return err
		}
		if m != nil {
			j.Rounds[i].Edits = m.Values(store.SetAside(marks))
		}
	}
	return s.store.SetRounds(ctx, j)
}

// compare puts two to four bouts of one task next to each other.
func (s *Server) compare(c *gin.Context) {
	ctx := c.Request.Context()
	ids := slices.DeleteFunc(strings.Split(c.Query("bouts"), ","), func(id string) bool { return strings.TrimSpace(id) == "" })
	if len(ids) < 2 || len(ids) > 4 {
		s.problem(c, http.StatusBadRequest, "Two to four bouts can be compared", fmt.Sprintf("bouts names %s, separated by commas.", count(len(ids), "bout")))
		return
	}
	out := api.Comparison{Results: []api.ComparedResult{}, Files: []api.ComparedFile{}, Figures: []api.ComparedFigure{}, Notes: []string{}}
	var values []map[string]float64
	var bouts []*store.Bout
	for _, id := range ids {
		b, err := s.store.Bout(ctx, strings.TrimSpace(id))
		if err != nil {
			s.fail(c, err)
			return
		}
		if len(bouts) > 0 && b.Task != bouts[0].Task {
			s.problem(c, http.StatusBadRequest, "These bouts are of different tasks", fmt.Sprintf("%s is on %s, %s on %s.", bouts[0].ID, bouts[0].Task, b.ID, b.Task))
			return
		}
		if slices.ContainsFunc(bouts, func(o *store.Bout) bool { return o.ID == b.ID }) {
			s.problem(c, http.StatusBadRequest, "A bout cannot be compared with itself", b.ID+" is named twice.")
			return
		}
		bouts = append(bouts, b)
		a, err := s.accountOf(c, b.ContestID)
		if err != nil {
			s.fail(c, err)
			return
		}
		one := boutOf(b, a)
		res := api.ComparedResult{Bout: &one, Name: b.Contender, Findings: []api.EditFinding{}, Diff: []patch.File{}}
		if b.Shown != "" {
			text, err := s.store.Get(b.Shown)
			if err != nil {
				s.fail(c, err)
				return
			}
			files, err := patch.Parse(text, comparedLines)
			if err != nil {
				out.Notes = append(out.Notes, fmt.Sprintf("the change of %s cannot be read: %v", b.ID, err))
			} else if files != nil {
				res.Diff = files
			}
		}
		figures := map[string]float64{}
		if r := judgedRound(b, 0); r != nil {
			edits, err := s.editsOf(ctx, b, r)
			if err != nil {
				s.fail(c, err)
				return
			}
			if edits != nil {
				res.Version, res.Findings = edits.Version, edits.Findings
				for _, f := range edits.Figures {
					if f.Value != nil {
						figures[f.Name] = *f.Value
					}
				}
			}
		}
		values = append(values, figures)
		out.Results = append(out.Results, res)
	}
	t := s.taskOfBout(ctx, bouts[0])
	out.Task = bouts[0].Task
	if t != nil {
		out.TaskTitle = t.Title
	}
	s.nameResults(out.Results)
	version := 0
	for _, r := range out.Results {
		switch {
		case r.Version == 0:
			out.Notes = append(out.Notes, "there are no edit measures of "+r.Name+" ("+r.Bout.ID+")")
		case version != 0 && r.Version != version:
			values = nil
		default:
			version = r.Version
		}
	}
	if values == nil {
		out.Notes = append(out.Notes, "the measures were worked out by different versions and are not compared; bring them up to date with agonometer bout measures BOUT --again")
	}
	if c.Query("reference") != "" {
		last := t
		if last == nil || len(last.Stages) == 0 || last.Stages[len(last.Stages)-1].Reference == nil {
			out.Notes = append(out.Notes, "the task has no reference patch")
		} else if files, err := patch.Parse(patch.Prefixed(last.Stages[len(last.Stages)-1].Reference), comparedLines); err == nil {
			out.Results = append(out.Results, api.ComparedResult{Name: "the reference", Findings: []api.EditFinding{}, Diff: files})
			if values != nil {
				values = append(values, patch.Extent(files))
			}
		}
	}
	out.Files = lineUp(out.Results)
	for _, info := range patch.Figures() {
		f := api.ComparedFigure{FigureInfo: info}
		known := false
		for _, v := range values {
			if x, there := v[info.Name]; there {
				f.Values, known = append(f.Values, &x), true
				continue
			}
			f.Values = append(f.Values, nil)
		}
		if !known {
			continue
		}
		for _, v := range f.Values[:len(bouts)] {
			f.Differs = f.Differs || (v == nil) != (f.Values[0] == nil) || v != nil && *v != *f.Values[0]
		}
		out.Figures = append(out.Figures, f)
	}
	c.JSON(http.StatusOK, out)
}

// nameResults gives results names that tell them apart.
func (s *Server) nameResults(all []api.ComparedResult) {
	seen := map[string]int{}
	for _, r := range all {
		seen[r.Name]++
	}
	for i := range all {
		if b := all[i].Bout; seen[all[i].Name] > 1 && b != nil {
			all[i].Name += fmt.Sprintf(" #%d", b.Repeat)
			if b.Wording != "" {
				all[i].Name += " (" + b.Wording + ")"
			}
			seen[b.Contender] = max(2, seen[b.Contender])
		}
	}
	again := map[string]int{}
	for i := range all {
		again[all[i].Name]++
		if n := again[all[i].Name]; n > 1 {
			all[i].Name += fmt.Sprintf(", %d", n)
		}
	}
}

// comparedLines is how many lines of a file a comparison has: its page draws those in view alone.
const comparedLines = 20_000

// lineUp lists the files that any result touches: what all touch first.
func lineUp(results []api.ComparedResult) []api.ComparedFile {
	rows := map[string]*api.ComparedFile{}
	for i, r := range results {
		for _, f := range r.Diff {
			row := rows[f.Path]
			if row == nil {
				row = &api.ComparedFile{Path: f.Path, Touched: make([]string, len(results)), Added: make([]int, len(results)), Removed: make([]int, len(results))}
				rows[f.Path] = row
			}
			row.Touched[i], row.Added[i], row.Removed[i] = string(f.Status), f.Added, f.Removed
		}
	}
	bouts := 0
	for _, r := range results {
		if r.Bout != nil {
			bouts++
		}
	}
	out := []api.ComparedFile{}
	rank := map[string]int{"all": 0, "some": 1, "one": 2, "none": 3}
	for _, row := range rows {
		n := 0
		for i, t := range row.Touched {
			if t != "" && results[i].Bout != nil {
				n++
			}
		}
		switch {
		case n == bouts:
			row.By = "all"
		case n == 1:
			row.By = "one"
		case n == 0:
			row.By = "none"
		default:
			row.By = "some"
		}
		out = append(out, *row)
	}
	slices.SortFunc(out, func(a, b api.ComparedFile) int {
		return cmp.Or(cmp.Compare(rank[a.By], rank[b.By]), cmp.Compare(a.Path, b.Path))
	})
	return out
}
