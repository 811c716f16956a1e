package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"agonometer/internal/api"
	"agonometer/internal/bout"
	"agonometer/internal/core/answer"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/draft"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
	"agonometer/internal/schedule"
	"agonometer/internal/store"
)

// roundsOf fills in a bout's rounds, judgements and the checks of its last round.
func (s *Server) roundsOf(b *store.Bout, out *api.BoutDetail, all bool) error {
	for i := range b.Judgements {
		j := &b.Judgements[i]
		out.Judgements = append(out.Judgements, api.Judgement{ID: j.ID, At: api.Time{Time: j.At}, Verdict: j.Verdict, First: j.First, Used: i == len(b.Judgements)-1,
			TaskDigest: j.TaskDigest, RejudgingID: j.RejudgingID})
	}
	if im := b.Imported; im != nil {
		out.Import = &api.Import{From: im.From, Source: im.Source, Started: api.At(im.Started), Finished: api.At(im.Finished), Notes: im.Notes, OffBase: im.OffBase}
	}
	var used *store.Judgement
	if n := len(b.Judgements); n > 0 {
		used = &b.Judgements[n-1]
		out.Costs.JudgeCopyMS = used.CopyMS
	}
	for i := range b.Rounds {
		r := &b.Rounds[i]
		one := api.Round{Number: r.Number, Stage: r.Stage, Kind: string(r.Kind), ElapsedMS: r.ElapsedMS, ExitCode: r.ExitCode, Signal: r.Signal, TimedOut: r.TimedOut,
			Footprint: r.Footprint, Step: r.Step, HasRecording: r.Recording != "", Checks: []api.CheckResult{}, Tests: []api.TestRow{}, Figures: []outcome.Figure{}, Facts: []answer.Examined{}, PutBack: []string{}, LeftOut: []string{}}
		words, err := s.store.Get(r.Words)
		if err != nil {
			return err
		}
		one.Words = string(words)
		if used != nil {
			if err := s.judgedRound(used, &one, r, all); err != nil {
				return err
			}
		}
		out.RoundList = append(out.RoundList, one)
	}
	for _, c := range lastChecks(out.RoundList) {
		if c.Way == store.WayDeciding {
			out.Checks = append(out.Checks, c)
		}
	}
	return nil
}

func lastChecks(rounds []api.Round) []api.CheckResult {
	for _, r := range slices.Backward(rounds) {
		if len(r.Checks) > 0 {
			return r.Checks
		}
	}
	return nil
}

func (s *Server) judgedRound(used *store.Judgement, one *api.Round, r *store.Round, all bool) error {
	for i := range used.Checks {
		if used.Checks[i].Round != r.Number {
			continue
		}
		c, err := s.checkOf(&used.Checks[i], all)
		if err != nil {
			return err
		}
		one.Checks = append(one.Checks, c)
	}
	at := slices.IndexFunc(used.Rounds, func(j store.RoundJudgement) bool { return j.Round == r.Number })
	if at < 0 {
		return nil
	}
	j := &used.Rounds[at]
	one.Verdict, one.Guards, one.StageName, one.OverheadMS = &j.Verdict, j.Guards, j.Verdict.Stage, &j.OverheadMS
	one.Canaries, one.CanaryMS = j.Canaries, j.CanaryMS
	one.Figures, one.Facts = append(one.Figures, j.Figures...), append(one.Facts, j.Facts...)
	one.PutBack, one.LeftOut = append(one.PutBack, j.PutBack...), append(one.LeftOut, j.LeftOut...)
	if len(j.Facts) > 0 {
		text, err := s.store.Get(r.Answer)
		if err != nil {
			return err
		}
		one.Answer = strings.ToValidUTF8(string(text), "\ufffd")
	}
	rows, err := s.testRows(j.Tests, all)
	one.Tests = append(one.Tests, rows...)
	return err
}

// maxNotable is how many tests are listed unless all are asked for. The table has
// the goals first, then the guards: a contender that adds thousands of tests
// does not push those out.
const maxNotable = 2000

// testRows reads a table of tests: all of it, or the goals and what is notable.
func (s *Server) testRows(d store.Digest, all bool) ([]api.TestRow, error) {
	out := []api.TestRow{}
	if d == "" {
		return out, nil
	}
	text, err := s.store.Get(d)
	if err != nil {
		return nil, err
	}
	var rows []outcome.Row
	if err := json.Unmarshal(text, &rows); err != nil {
		return nil, err
	}
	for _, r := range rows {
		notable := r.Role == outcome.Goal || r.Role == outcome.Own || r.Broken() || r.Unsteady || r.Repeated || r.Unexpected ||
			r.Role == outcome.Guard && (r.Own == testlog.Missing || r.Own == testlog.Skipped)
		if all || notable && len(out) < maxNotable {
			out = append(out, api.TestRow(r))
		}
	}
	return out, nil
}

func (s *Server) provingOf(p *store.Proving, tests bool) (api.Proving, error) {
	out := api.Proving{ID: p.ID, Task: p.Task, Title: p.Title, Digest: p.Digest, StartCommit: p.StartCommit, Repeats: p.Repeats, State: string(p.State), Doing: p.Doing,
		StepsDone: p.StepsDone, Steps: p.Steps, CreatedAt: api.Time{Time: p.CreatedAt}, EndedAt: api.At(p.EndedAt), Tests: []api.TestRow{}}
	if r := p.Result; r != nil {
		out.Result = &api.ProvingResult{Proved: r.Proved, Reasons: append([]string{}, r.Reasons...), Warnings: append([]string{}, r.Warnings...), Steps: []api.ProvingStep{},
			Goals: r.Goals, Guards: r.Guards, Figures: append([]outcome.Figure{}, r.Figures...)}
		for _, step := range r.Steps {
			out.Result.Steps = append(out.Result.Steps, api.ProvingStep{What: step.What, OK: step.OK, Words: step.Words, Output: step.Output})
		}
	}
	var err error
	if tests {
		out.Tests, err = s.testRows(p.Tests, true)
	}
	return out, err
}

// maxRepeats bounds a proving.
const maxRepeats = 100

func (s *Server) proveTask(c *gin.Context) {
	var in api.ProveTask
	if !s.read(c, &in) {
		return
	}
	if in.Repeats == 0 {
		in.Repeats = store.FullRepeats
	}
	if in.Repeats < 1 || in.Repeats > maxRepeats {
		s.problem(c, http.StatusUnprocessableEntity, "The number of repeats is out of range", fmt.Sprintf("1 to %d", maxRepeats))
		return
	}
	t, commit, ok := s.taskOfBundle(c, &in.Bundle)
	if !ok {
		return
	}
	p, err := s.sched.Prove(c.Request.Context(), t, commit, &in.Bundle, in.Repeats)
	if err != nil {
		s.fail(c, err)
		return
	}
	out, err := s.provingOf(p, false)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Location", Prefix+"/provings/"+p.ID)
	c.JSON(http.StatusCreated, out)
}

// taskOfBundle reads the task that is a bundle's main file; where it has
// mistakes it has answered so.
func (s *Server) taskOfBundle(c *gin.Context, b *specfile.Bundle) (*task.Task, string, bool) {
	if problems := contest.LoadOne(b, contest.KindTask, s.engine.Repositories); len(problems) > 0 {
		s.problem(c, http.StatusUnprocessableEntity, "The file has mistakes", fmt.Sprintf("%s; nothing was done.", count(len(problems), "problem")), problems...)
		return nil, "", false
	}
	t, _ := task.Parse(b.Main, b.Main, b.Files[b.Main], b.Files)
	commit, err := s.engine.Repositories.Resolve(c.Request.Context(), t.RepositoryAddress(), t.StartCommit)
	if err != nil {
		s.fail(c, err)
		return nil, "", false
	}
	return t, commit, true
}

func (s *Server) listProvings(c *gin.Context) {
	rows, err := s.store.Provings(c.Request.Context(), c.Query("task"))
	if err != nil {
		s.fail(c, err)
		return
	}
	out := make([]api.Proving, 0, len(rows))
	for i := range rows {
		one, err := s.provingOf(&rows[i], false)
		if err != nil {
			s.fail(c, err)
			return
		}
		out = append(out, one)
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) getProving(c *gin.Context) {
	p, err := s.store.Proving(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.fail(c, err)
		return
	}
	out, err := s.provingOf(p, true)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

// getProvingLog is what the command of a step printed that failed: of the one that is
// named, or of the first.
func (s *Server) getProvingLog(c *gin.Context) {
	p, err := s.store.Proving(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.fail(c, err)
		return
	}
	if p.Result != nil {
		for _, step := range p.Result.Steps {
			if step.Log != "" && (c.Query("step") == "" || c.Query("step") == step.What) {
				s.text(c, step.Log, "text/plain")
				return
			}
		}
	}
	s.text(c, "", "text/plain")
}

func (s *Server) stopProving(c *gin.Context) {
	if err := s.sched.StopProving(c.Request.Context(), c.Param("id")); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// followProving sends a proving each time it has got further, until it has ended.
func (s *Server) followProving(c *gin.Context) {
	id := c.Param("id")
	ctx, cancel := context.WithCancel(c.Request.Context())
	defer cancel()
	stop := context.AfterFunc(s.feeds, cancel)
	defer stop()
	if _, err := s.store.Proving(ctx, id); err != nil {
		s.fail(c, err)
		return
	}
	s.feed(c)
	quiet := time.NewTicker(15 * time.Second)
	defer quiet.Stop()
	for n := 1; ; n++ {
		changed := s.store.ProvingChanged(id)
		p, err := s.store.Proving(ctx, id)
		if err != nil {
			return
		}
		out, err := s.provingOf(p, false)
		if err != nil {
			return
		}
		text, err := json.Marshal(out)
		if err != nil {
			return
		}
		if _, err := fmt.Fprintf(c.Writer, "id: %d\nevent: proving\ndata: %s\n\n", n, text); err != nil {
			return
		}
		c.Writer.Flush()
		if p.State == store.ProvingDone || p.State == store.ProvingStopped {
			return
		}
		select {
		case <-changed:
		case <-quiet.C:
		case <-ctx.Done():
			return
		}
	}
}

func rejudgingOf(r *store.Rejudging) api.Rejudging {
	return api.Rejudging{ID: r.ID, ContestID: r.ContestID, Tasks: append([]string{}, r.Tasks...), State: string(r.State), Done: r.Done, Total: r.Total, Problem: r.Problem,
		CreatedAt: api.Time{Time: r.CreatedAt}, EndedAt: api.At(r.EndedAt)}
}

func (s *Server) rejudgeContest(c *gin.Context) {
	var in api.RejudgeContest
	if !s.read(c, &in) {
		return
	}
	ctx := c.Request.Context()
	row, err := s.store.Contest(ctx, c.Param("id"))
	if err != nil {
		s.fail(c, err)
		return
	}
	tasks, problems := schedule.TasksIn(&in.Bundle)
	if len(problems) > 0 {
		s.problem(c, http.StatusUnprocessableEntity, "The files have mistakes", fmt.Sprintf("%s; nothing was judged again.", count(len(problems), "problem")), problems...)
		return
	}
	recorded, err := s.store.Tasks(ctx, row.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	for _, t := range recorded {
		one := tasks[t.Slug]
		if one == nil || len(in.Tasks) > 0 && !slices.Contains(in.Tasks, t.Slug) {
			continue
		}
		// The stored diffs are against the start of then.
		commit, err := s.engine.Repositories.Resolve(ctx, one.RepositoryAddress(), one.StartCommit)
		if err != nil || commit != t.StartCommit || one.RepositoryAddress() != t.Repository {
			s.problem(c, http.StatusConflict, "The task starts elsewhere now",
				fmt.Sprintf("The stored changes on %s were made from %s of %s; they can be judged again only by a task that starts there.", t.Slug, t.StartCommit, t.Repository))
			return
		}
	}
	r, err := s.sched.Rejudge(ctx, row, tasks, &in.Bundle, in.Tasks)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, rejudgingOf(r))
}

func (s *Server) listRejudgings(c *gin.Context) {
	rows, err := s.store.Rejudgings(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.fail(c, err)
		return
	}
	out := make([]api.Rejudging, 0, len(rows))
	for i := range rows {
		out = append(out, rejudgingOf(&rows[i]))
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) importBout(c *gin.Context) {
	var in api.ImportBout
	if !s.read(c, &in) {
		return
	}
	ctx := c.Request.Context()
	refuse := func(title, detail string) { s.problem(c, http.StatusUnprocessableEntity, title, detail) }
	given := 0
	from, source := "", ""
	for _, way := range []struct{ name, value string }{{"patch", string(in.Patch)}, {"branch", in.Branch}, {"folder", in.Folder}} {
		if way.value != "" {
			given++
			from, source = way.name, way.value
		}
	}
	if given == 0 && in.Answer != "" { // the reply to a question changes nothing
		given, from, source = 1, "reply", "typed in"
	}
	if given != 1 {
		refuse("What was made is not given once", "Exactly one of patch, branch and folder is needed; for a question the answer alone will do.")
		return
	}
	switch from {
	case "patch":
		source = in.PatchName
	case "branch":
		if in.From == "" {
			refuse("The repository of the branch is not given", "A branch needs from: the repository that has it, on the service's machine.")
			return
		}
		source = in.Branch + " of " + in.From
	}
	imp := schedule.Import{Contest: in.Contest, Bundle: in.Bundle, Patch: in.Patch, Branch: in.Branch, From: in.From, Folder: in.Folder, Anyway: in.Anyway,
		ElapsedMS: in.TookMS, Answer: []byte(in.Answer), Facts: store.Imported{From: from, Source: source, Started: in.Started, Finished: in.Finished, Notes: in.Notes}}
	if in.Started != nil && in.Finished != nil {
		took := in.Finished.Sub(*in.Started).Milliseconds()
		if took < 0 {
			refuse("The times cannot be", "It was finished before it was started.")
			return
		}
		if imp.ElapsedMS == nil {
			imp.ElapsedMS = &took
		}
	}
	if imp.ElapsedMS != nil && *imp.ElapsedMS < 0 {
		refuse("The time taken cannot be", "It is below zero.")
		return
	}
	var slug specfile.Slug
	if slug.ParseScalar(in.Contender) != nil {
		refuse("The contender's name cannot be used", slug.Expected())
		return
	}
	if in.Tokens != nil || in.Money != nil {
		imp.Typed = &ledger.Told{Model: in.Model, Money: in.Money}
		if in.Tokens != nil {
			for _, k := range ledger.Kinds() {
				if n := in.Tokens.Of(k); n != nil && (*n < 0 || *n > ledger.MaxTokens) {
					refuse("The tokens cannot be", fmt.Sprintf("%d %s tokens", *n, k))
					return
				}
			}
			imp.Typed.Tokens = *in.Tokens
		}
	}
	imp.Contender = schedule.Elsewhere(slug)
	if len(in.ContenderFile) > 0 {
		con, doc := contender.Parse("/alone/contender.yaml", in.Contender+".yaml", in.ContenderFile)
		if len(doc.Problems) > 0 {
			s.problem(c, http.StatusUnprocessableEntity, "The contender's file has mistakes", "Nothing was imported.", doc.Problems...)
			return
		}
		imp.Contender = con
	}
	if !s.importTask(c, &in, &imp) {
		return
	}
	if _, ok := imp.Task.Words(in.Wording); !ok {
		refuse("There is no such wording", "The task "+string(imp.Task.Task)+" has no wording "+in.Wording+".")
		return
	}
	if imp.Wording = in.Wording; imp.Wording == "" {
		imp.Wording = string(imp.Task.Wordings[0].Name)
	}
	b, err := s.sched.Import(ctx, imp)
	var off *schedule.OffBaseError
	var void *bout.VoidError
	var state *schedule.StateError
	switch {
	case errors.As(err, &off):
		s.problem(c, http.StatusConflict, "The branch is not based on the start commit", off.Error())
		return
	case errors.As(err, &void), err != nil && !errors.As(err, &state):
		refuse("That cannot be imported", err.Error())
		return
	case err != nil:
		s.fail(c, err)
		return
	}
	c.Header("Location", Prefix+"/bouts/"+b.ID)
	a, err := s.accountOf(c, b.ContestID)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, boutOf(b, a))
}

// importTask finds the task of an imported bout; where there is none it has
// answered so.
func (s *Server) importTask(c *gin.Context, in *api.ImportBout, imp *schedule.Import) bool {
	ctx := c.Request.Context()
	if in.Contest != "" {
		row, err := s.store.Contest(ctx, in.Contest)
		if err == nil {
			if in.Task == "" && in.Bundle != nil {
				t, _ := task.Parse(in.Bundle.Main, in.Bundle.Main, in.Bundle.Files[in.Bundle.Main], in.Bundle.Files)
				in.Task = string(t.Task)
			}
			imp.Task, imp.Commit, _, err = s.sched.TaskOf(ctx, row, in.Task)
		}
		if err != nil {
			s.fail(c, err)
		}
		return err == nil
	}
	if in.Bundle == nil {
		s.problem(c, http.StatusUnprocessableEntity, "The task is not given", "A bout that stands alone needs the task's file; one that belongs to a contest needs its id and the task's name.")
		return false
	}
	var ok bool
	imp.Task, imp.Commit, ok = s.taskOfBundle(c, in.Bundle)
	return ok
}

// maxScan is how many commits a survey looks at.
const maxScan = 20_000

func (s *Server) surveyHistory(c *gin.Context) {
	repository, revision, since := c.Query("repository"), c.DefaultQuery("revision", "HEAD"), c.Query("since")
	scan, err := strconv.Atoi(c.DefaultQuery("scan", "1000"))
	switch {
	case repository == "":
		s.problem(c, http.StatusUnprocessableEntity, "The repository is not given", "A survey goes through the history of a repository.")
		return
	case err != nil || scan < 1 || scan > maxScan:
		s.problem(c, http.StatusUnprocessableEntity, "That many commits cannot be looked at", fmt.Sprintf("scan is a whole number from 1 to %d.", maxScan))
		return
	}
	log, err := s.engine.Repositories.Log(c.Request.Context(), repository, revision, since, scan)
	if err != nil {
		s.problem(c, http.StatusUnprocessableEntity, "The history cannot be read", err.Error())
		return
	}
	out := api.Survey{LeftOut: []draft.Candidate{}}
	var all []draft.Candidate
	for _, one := range log {
		logged := draft.Logged{Commit: one.Commit, Parents: one.Parents, Subject: one.Subject}
		for _, f := range one.Files {
			logged.Files = append(logged.Files, draft.LoggedFile(f))
		}
		candidate := draft.Consider(logged, draft.DefaultBounds)
		all = append(all, candidate)
		if candidate.LeftOut != "" {
			out.LeftOut = append(out.LeftOut, candidate)
		}
	}
	out.Commits = append([]draft.Candidate{}, draft.Spread(all)...)
	c.JSON(http.StatusOK, out)
}

func (s *Server) draftTask(c *gin.Context) {
	var in api.DraftTask
	if !s.read(c, &in) {
		return
	}
	if in.Repository == "" || in.Commit == "" || strings.HasPrefix(in.Commit, "-") {
		s.problem(c, http.StatusUnprocessableEntity, "The commit is not given", "A draft needs a repository and a commit.")
		return
	}
	ctx := c.Request.Context()
	repositories := s.engine.Repositories
	facts, err := repositories.Commit(ctx, in.Repository, in.Commit)
	if err != nil {
		s.problem(c, http.StatusUnprocessableEntity, "The commit cannot be drafted from", err.Error())
		return
	}
	d := draft.From{Repository: in.Repository, Start: facts.Parent, Commit: facts.Commit, Message: facts.Message, Changed: facts.Changed, Files: facts.Files, Name: in.Name,
		Read: func(name string) []byte { return repositories.Content(ctx, in.Repository, facts.Commit, name) },
		Find: func(program string) bool { _, err := exec.LookPath(program); return err == nil }}
	if d.Reference, err = repositories.Patch(ctx, in.Repository, facts.Parent, facts.Commit, d.Source()); err != nil {
		s.fail(c, err)
		return
	}
	out := draft.Write(d)
	c.JSON(http.StatusOK, api.Draft(out))
}
