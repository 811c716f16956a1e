package service

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"agonometer/internal/api"
	"agonometer/internal/bout/confine"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/standings"
	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
	"agonometer/internal/core/verdict"
	"agonometer/internal/schedule"
	"agonometer/internal/store"
)

// Records become wire types here, and nowhere else.

func contestOf(c *store.Contest, bouts []store.Bout) api.Contest {
	out := api.Contest{ID: c.ID, Name: c.Name, Title: c.Title, State: string(c.State), Kind: string(c.Kind), Seed: c.Seed, SeedDrawn: c.SeedDrawn, Repeats: c.Repeats,
		AtOnce: c.AtOnce, CreatedAt: api.Time{Time: c.CreatedAt}, StartedAt: api.At(c.StartedAt), EndedAt: api.At(c.EndedAt)}
	for i := range bouts {
		b := &bouts[i]
		if b.ReplacedBy != "" {
			continue
		}
		out.Counts.Bouts++
		switch b.State {
		case store.Waiting:
			out.Counts.Waiting++
		case store.Done:
			out.Counts.Done++
		default:
			out.Counts.Running++
		}
		if v := b.Verdict(); v != nil {
			switch v.Outcome {
			case verdict.Passed:
				out.Counts.Passed++
			case verdict.Failed:
				out.Counts.Failed++
			case verdict.Void:
				out.Counts.Void++
			}
		}
	}
	return out
}

// draftedWords name tasks whose briefs nobody has confirmed.
func draftedWords(tasks []string) string {
	return "the briefs of these tasks are messages of commits, which nobody has confirmed: " + strings.Join(tasks, ", ")
}

func taskOf(t *store.ContestTask) api.Task {
	out := api.Task{Task: t.Slug, Title: t.Title, Repository: t.Repository, StartCommit: t.StartCommit, Digest: t.Digest, Size: t.Size, Labels: []string{},
		Prepare: t.Prepare, Reads: append([]string{}, t.Reads...), Checks: []api.Check{}, TimeMS: t.Limits.Time.Std().Milliseconds(), CheckMS: t.Limits.Check.Std().Milliseconds(),
		Brief: t.Brief, Drafted: t.Drafted, Wordings: append([]task.Wording{}, t.Wordings...), Attachments: append([]string{}, t.Attachments...), ContestID: t.ContestID, Contests: 1, Kind: string(t.Kind), Proved: string(t.Proved), ProvingID: t.ProvingID, ReferenceFails: t.ReferenceFails}
	for _, l := range t.Labels {
		out.Labels = append(out.Labels, string(l))
	}
	for _, c := range t.Checks {
		out.Checks = append(out.Checks, api.Check{Name: string(c.Name), Run: c.Run, Reads: string(c.Reads), Sealed: c.Sealed})
	}
	return out
}

func contenderOf(c *store.ContestContender) api.Contender {
	out := api.Contender{Contender: c.Slug, Title: c.Title, Digest: c.Digest, File: c.Path, Source: c.Source, ContestID: c.ContestID, Contests: 1}
	parsed, _ := contender.Parse(c.Path, c.Path, []byte(c.Source))
	out.Driver, out.Driven = string(parsed.Drive), parsed.Drive.Words()
	out.Model, out.Effort, out.Setup = parsed.Model, parsed.Effort, parsed.SetupNotes
	if schedule.IsElsewhere([]byte(c.Source)) {
		out.Driver, out.Driven = string(contender.Elsewhere), contender.Elsewhere.Words()
	}
	return out
}

func boutOf(b *store.Bout, a *account) api.Bout {
	out := api.Bout{ID: b.ID, ContestID: b.ContestID, Position: b.Position, Task: b.Task, Contender: b.Contender, Repeat: b.Repeat, Rerun: b.Rerun,
		ReplacedBy: b.ReplacedBy, Seed: b.Seed, State: string(b.State), Doing: b.Doing, Verdict: b.Verdict(), First: b.First(), Rounds: b.RoundsUsed,
		Imported: b.Imported != nil, Driver: string(b.Driver), Wording: b.Wording, ToolVersion: b.Version, Effort: b.Effort, Hand: handFactsOf(b.Hand), ElapsedMS: b.ElapsedMS, ExitCode: b.ExitCode,
		Signal: b.Signal, TimedOut: b.TimedOut, Footprint: b.Footprint, Confinement: b.Confinement, Unconfined: unconfined(b), Beside: b.Beside,
		CreatedAt: api.Time{Time: b.CreatedAt}, PreparingAt: api.At(b.PreparingAt), WorkingAt: api.At(b.WorkingAt), CapturedAt: api.At(b.CapturedAt), DoneAt: api.At(b.DoneAt)}
	a.fill(b, &out)
	return out
}

func unconfined(b *store.Bout) bool {
	return b.Confinement != "" && b.Driver != contender.DriveHand && b.Confinement != string(confine.Namespaces)
}

func boutsOf(bouts []store.Bout, a *account) []api.Bout {
	out := make([]api.Bout, 0, len(bouts))
	for i := range bouts {
		out = append(out, boutOf(&bouts[i], a))
	}
	return out
}

func standingsOf(c *store.Contest, contenders []store.ContestContender, tasks []store.ContestTask, bouts []store.Bout, a *account) api.Standings {
	names := make([]string, 0, len(contenders))
	for _, con := range contenders {
		names = append(names, con.Slug)
	}
	out := api.Standings{ContestID: c.ID, Final: c.State == store.ContestDone, Notes: []string{}, Figures: patch.Figures()}
	byHand, outOfOrder, otherWords, discarded, guided := 0, 0, 0, 0, 0
	ways := map[string]bool{}
	var facts []standings.Bout
	version, older := 0, 0
	for i := range bouts {
		if r := judgedRound(&bouts[i], 0); r != nil {
			version = max(version, r.MeasuresVersion)
		}
	}
	reruns, loose, beside, imported, again, open, loaded := 0, 0, 0, 0, 0, 0, 0
	planned := map[string]int{}
	for i := range bouts {
		b := &bouts[i]
		v := b.Verdict()
		if b.ReplacedBy == "" {
			planned[b.Contender]++
		}
		if b.ReplacedBy != "" {
			reruns++
			one := standings.Bout{Contender: b.Contender, Outcome: verdict.Void, Replaced: true, Driven: string(b.Driver)}
			a.facts(b, &one)
			if one.Discarded {
				discarded++
			}
			facts = append(facts, one)
			continue
		}
		if b.State != store.Done || v == nil {
			continue
		}
		one := standings.Bout{Contender: b.Contender, Outcome: v.Outcome, Rounds: b.RoundsUsed, ElapsedMS: b.ElapsedMS, Footprint: b.Footprint,
			Unconfined: unconfined(b), Beside: b.Beside > 0, Driven: string(b.Driver), Task: b.Task, Wording: b.Wording, Effort: b.Effort}
		if r := judgedRound(b, 0); r != nil && r.MeasuresVersion == version {
			one.Edits = r.Edits
		} else if r != nil {
			older++
		}
		ways[string(b.Driver)] = true
		if h := b.Hand; h != nil {
			byHand++
			if h.Wanted > 1 {
				outOfOrder++
			}
			if h.Differs {
				otherWords++
			}
		}
		if b.GuidanceChanged != "" {
			guided++
		}
		if first := b.First(); first != nil {
			one.First = first.Outcome
		}
		a.facts(b, &one)
		facts = append(facts, one)
		if b.Network == string(contender.NetworkOpen) {
			open++
		}
		if b.Machine.Overloaded() {
			loaded++
		}
		if b.Imported != nil {
			imported++
		}
		if len(b.Judgements) > 1 {
			again++
		}
		if unconfined(b) {
			loose++
		}
		if b.Beside > 0 {
			beside++
		}
	}
	out.Rows = standings.Table(names, planned, facts, a.rate)
	out.ByWording, out.Spreads = standings.ByWording(facts)
	if older > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("the edit measures of %s are of an older version and left out; agonometer contest remeasure %s brings them up to date", count(older, "bout"), c.ID))
	}
	if len(ways) > 1 {
		out.Notes = append(out.Notes, "bouts were driven in different ways ("+strings.Join(slices.Sorted(maps.Keys(ways)), ", ")+"); times that a person kept are not as exact as the others")
	}
	if byHand > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s by hand; what it asked of the person is counted beside", count(byHand, "bout")+wasWere(byHand)+" worked"))
	}
	if outOfOrder > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s by hand out of the contest's order", count(outOfOrder, "bout")+wasWere(outOfOrder)+" worked"))
	}
	if otherWords > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("in %s other words were sent than those of the brief", count(otherWords, "bout")))
	}
	if discarded > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s thrown away by a person and worked again; the reasons are kept", count(discarded, "bout")+wasWere(discarded)))
	}
	if guided > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("in %s the tool changed its own guidance", count(guided, "bout")))
	}
	out.Notes = append(out.Notes, sourceNotes(out.Rows)...)
	out.Notes = append(out.Notes, availabilityNotes(out.Rows)...)
	var unproved, changed, drafted []string
	for _, t := range tasks {
		switch t.Proved {
		case store.ProvedNo:
			unproved = append(unproved, t.Slug)
		case store.ProvedChanged:
			changed = append(changed, t.Slug)
		}
		if t.Drafted {
			drafted = append(drafted, t.Slug)
		}
		if t.ReferenceFails != "" {
			out.Notes = append(out.Notes, "the task "+t.Slug+" cannot be judged here: "+t.ReferenceFails)
		}
	}
	if len(drafted) > 0 {
		out.Notes = append(out.Notes, draftedWords(drafted))
	}
	if len(unproved) > 0 {
		out.Notes = append(out.Notes, "nothing has shown yet that these tasks are fair: "+strings.Join(unproved, ", ")+" (agonometer task prove FILE)")
	}
	if len(changed) > 0 {
		out.Notes = append(out.Notes, "these tasks have changed since they were proved: "+strings.Join(changed, ", "))
	}
	if again > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s judged more than once; the newest judgement is used", count(again, "bout")+wasWere(again)))
	}
	if imported > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s made elsewhere; what is not known stays open", count(imported, "bout")+wasWere(imported)))
	}
	if c.State == store.ContestStopped {
		out.Notes = append(out.Notes, "the contest was stopped before its end")
	}
	if loose > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s ran unconfined: nothing kept the tools from each other or from the answers", count(loose, "bout")))
	}
	if beside > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s ran beside others, so times may have suffered", count(beside, "bout")))
	}
	if loaded > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s ran while the machine was overloaded", count(loaded, "bout")))
	}
	if open > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s ran with the network open: what the tools looked up is not known", count(open, "bout")))
	}
	if reruns > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s void and run again; each counts once", count(reruns, "bout")+wasWere(reruns)))
	}
	return out
}

// sourceNotes mark token counts that are of different sources, since they must
// not be ranked against each other unawares.
func sourceNotes(rows []standings.Row) []string {
	by := map[string][]string{}
	var kinds []string
	for _, r := range rows {
		if r.Passed+r.Failed == 0 {
			continue
		}
		source := string(r.Source)
		if by[source] == nil {
			kinds = append(kinds, source)
		}
		by[source] = append(by[source], r.Contender)
	}
	if len(kinds) < 2 {
		return nil
	}
	slices.Sort(kinds)
	var parts []string
	for _, k := range kinds {
		parts = append(parts, k+" ("+strings.Join(by[k], ", ")+")")
	}
	return []string{"token counts are of different sources and cannot be ranked against each other: " + strings.Join(parts, "; ")}
}

// availabilityNotes say of each contender whose tries came to nothing for what
// was not its skill how often, and how much waiting that added.
func availabilityNotes(rows []standings.Row) []string {
	var out []string
	for _, r := range rows {
		a := r.Availability
		var parts []string
		for _, p := range []struct {
			n    int
			what string
		}{{a.Refused, "refused"}, {a.Void, "void"}, {a.Late, "late"}} {
			if p.n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", p.n, p.what))
			}
		}
		if len(parts) == 0 {
			continue
		}
		note := fmt.Sprintf("%s: of %s %s", r.Contender, tries(a.Tries), strings.Join(parts, ", "))
		if a.WaitedMS != nil && *a.WaitedMS >= 50 {
			note += fmt.Sprintf("; %.1f s of waiting added", float64(*a.WaitedMS)/1000)
		}
		out = append(out, note)
	}
	return out
}

func tries(n int) string {
	if n == 1 {
		return "1 try"
	}
	return fmt.Sprintf("%d tries", n)
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func wasWere(n int) string {
	if n == 1 {
		return " was"
	}
	return " were"
}

func (s *Server) listContests(c *gin.Context) {
	ctx := c.Request.Context()
	rows, err := s.store.Contests(ctx)
	if err != nil {
		s.fail(c, err)
		return
	}
	bouts, err := s.store.Bouts(ctx, store.BoutFilter{})
	if err != nil {
		s.fail(c, err)
		return
	}
	by := map[string][]store.Bout{}
	for _, b := range bouts {
		by[b.ContestID] = append(by[b.ContestID], b)
	}
	out := make([]api.Contest, 0, len(rows))
	for i := range rows {
		if rows[i].Kind != store.KindContest && c.Query("kind") != "all" {
			continue
		}
		out = append(out, contestOf(&rows[i], by[rows[i].ID]))
	}
	c.JSON(http.StatusOK, out)
}

// gathered are all the records of a contest.
type gathered struct {
	row        *store.Contest
	tasks      []store.ContestTask
	contenders []store.ContestContender
	bouts      []store.Bout
	account    *account
}

func (s *Server) gather(ctx context.Context, id, prices string) (*gathered, error) {
	var g gathered
	var err error
	if g.row, err = s.store.Contest(ctx, id); err != nil {
		return nil, err
	}
	if g.tasks, err = s.store.Tasks(ctx, id); err != nil {
		return nil, err
	}
	if g.contenders, err = s.store.Contenders(ctx, id); err != nil {
		return nil, err
	}
	if g.bouts, err = s.store.Bouts(ctx, store.BoutFilter{ContestID: id}); err != nil {
		return nil, err
	}
	g.account, err = s.account(ctx, g.row, g.contenders, prices)
	return &g, err
}

func (s *Server) detail(ctx context.Context, id, prices string) (*api.ContestDetail, error) {
	// The event id comes first: what happens while the rest is read is told again, not missed.
	last, err := s.store.LastEvent(ctx, id)
	if err != nil {
		return nil, err
	}
	g, err := s.gather(ctx, id, prices)
	if err != nil {
		return nil, err
	}
	row, tasks, contenders, bouts, a := g.row, g.tasks, g.contenders, g.bouts, g.account
	for i := range tasks { // what was proved since, in this very version, is fair too
		if tasks[i].Proved == store.ProvedYes {
			continue
		}
		known, proving, err := s.store.Known(ctx, tasks[i].Slug, tasks[i].Digest)
		if err != nil {
			return nil, err
		}
		if known == store.ProvedYes {
			tasks[i].Proved, tasks[i].ProvingID = known, proving.ID
		}
	}
	out := &api.ContestDetail{Contest: contestOf(row, bouts), File: row.Path, Tasks: []api.Task{}, Contenders: []api.Contender{}, Bouts: boutsOf(bouts, a),
		Standings: standingsOf(row, contenders, tasks, bouts, a), HourlyRate: row.HourlyRate, FirstUses: []api.FirstUse{}, LastEventID: last}
	if err := s.settings(ctx, out, contenders, a); err != nil {
		return nil, err
	}
	var all []ledger.Exchange
	for i := range bouts {
		all = append(all, a.entries(&bouts[i])...)
	}
	whole := ledger.Of(all, a.prices)
	out.Used = a.used(&whole)
	for i := range tasks {
		out.Tasks = append(out.Tasks, taskOf(&tasks[i]))
	}
	ready, err := s.readinesses(ctx)
	if err != nil {
		return nil, err
	}
	for i := range contenders {
		one := contenderOf(&contenders[i])
		one.Readiness = ready[one.Contender+"\x00"+one.Digest]
		out.Contenders = append(out.Contenders, one)
	}
	return out, nil
}

// settings puts the contenders' settings next to each other, and their first uses.
func (s *Server) settings(ctx context.Context, out *api.ContestDetail, contenders []store.ContestContender, a *account) error {
	var guided []contest.GuidedContender
	for i := range contenders {
		c := &contenders[i]
		if schedule.IsElsewhere([]byte(c.Source)) {
			continue
		}
		parsed, _ := contender.Parse(c.Path, c.Path, []byte(c.Source))
		guided = append(guided, contest.GuidedContender{Contender: parsed, Text: c.Guidance})
	}
	out.Differences = contest.Differences(guided)
	uses, err := s.store.FirstUses(ctx, out.ID)
	if err != nil {
		return err
	}
	for i := range uses {
		u := &uses[i]
		sheet := ledger.Of(u.Exchanges, a.prices)
		log, err := s.store.Get(u.Log)
		if err != nil {
			return err
		}
		out.FirstUses = append(out.FirstUses, api.FirstUse{Contender: u.Contender, Repository: u.Repository, StartCommit: u.StartCommit, Version: u.Version, ElapsedMS: u.ElapsedMS,
			Used: a.used(&sheet), Trouble: u.Trouble, Log: strings.ToValidUTF8(string(log), "\ufffd"), At: api.Time{Time: u.At}})
	}
	return nil
}

// readinesses are the newest checks of contenders, by slug and digest.
func (s *Server) readinesses(ctx context.Context) (map[string]*api.Readiness, error) {
	rows, err := s.store.Readinesses(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]*api.Readiness{}
	for _, r := range rows {
		one := &api.Readiness{At: api.Time{Time: r.At}, OK: r.OK, Version: r.Version, TrialMS: r.TrialMS, Findings: []api.Finding{}}
		for _, f := range r.Findings {
			one.Findings = append(one.Findings, api.Finding(f))
		}
		out[r.Contender+"\x00"+r.Digest] = one
	}
	return out, nil
}

func (s *Server) getContest(c *gin.Context) {
	out, err := s.detail(c.Request.Context(), c.Param("id"), c.Query("prices"))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) getStandings(c *gin.Context) {
	out, err := s.detail(c.Request.Context(), c.Param("id"), c.Query("prices"))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out.Standings)
}

func (s *Server) listBouts(c *gin.Context) {
	bouts, err := s.store.Bouts(c.Request.Context(), store.BoutFilter{ContestID: c.Query("contest"), Task: c.Query("task"), Contender: c.Query("contender")})
	if err != nil {
		s.fail(c, err)
		return
	}
	accounts := map[string]*account{}
	out := make([]api.Bout, 0, len(bouts))
	for i := range bouts {
		id := bouts[i].ContestID
		if accounts[id] == nil {
			if accounts[id], err = s.accountOf(c, id); err != nil {
				s.fail(c, err)
				return
			}
		}
		out = append(out, boutOf(&bouts[i], accounts[id]))
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) getBout(c *gin.Context) {
	ctx := c.Request.Context()
	b, a, ok := s.boutAccount(c)
	if !ok {
		return
	}
	out := api.BoutDetail{Bout: boutOf(b, a), Ledger: a.ledger(b), Departures: a.departures(b), Timing: b.Timing, Machine: b.Machine, Overloaded: b.Machine.Overloaded(), Cold: cold(a.exchanges[b.ID]), ConfinementWhy: b.ConfinementWhy, StartTree: b.StartTree, ResultTree: b.ResultTree, LogCut: b.LogCut, Kept: b.Kept,
		Costs:  api.HarnessCosts{WorkspaceMS: b.WorkspaceMS, HomeMS: b.HomeMS, HomeBytes: b.HomeBytes, HomeLayered: b.HomeLayered, CaptureMS: b.CaptureMS},
		Checks: []api.CheckResult{}, RoundList: []api.Round{}, Judgements: []api.Judgement{}, Tries: []api.Bout{}}
	if r := judgedRound(b, 0); r != nil {
		out.Edits = r.Edits
	}
	var err error
	if out.Marks, err = s.marksOf(ctx, b.ID); err != nil {
		s.fail(c, err)
		return
	}
	if l := b.LeftOut; l != nil {
		out.LeftOut = &api.LeftOut{Ignored: l.Ignored, TooLarge: append([]string{}, l.TooLarge...), Special: l.Special, Unreadable: l.Unreadable,
			NestedGit: l.NestedGit, InSubmodules: l.InSubmodules, Struck: l.Struck}
	}
	detail, err := s.detail(ctx, b.ContestID, c.Query("prices"))
	if err != nil {
		s.fail(c, err)
		return
	}
	out.ContestName = detail.Name
	for _, t := range detail.Tasks {
		if t.Task == b.Task {
			out.TaskTitle = t.Title
		}
	}
	for _, con := range detail.Contenders {
		if con.Contender == b.Contender {
			out.ContenderTitle = con.Title
		}
	}
	for _, other := range detail.Bouts {
		if other.Task == b.Task && other.Contender == b.Contender && other.Wording == b.Wording && other.Repeat == b.Repeat && other.ID != b.ID {
			out.Tries = append(out.Tries, other)
		}
	}
	if err := s.roundsOf(b, &out, c.Query("tests") == "all"); err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) checkOf(r *store.CheckResult, all bool) (api.CheckResult, error) {
	out := api.CheckResult{Round: r.Round, Way: r.Way, Name: r.Name, Run: r.Run, Reads: r.Reads, Outcome: string(r.Outcome), ExitCode: r.ExitCode, Signal: r.Signal, ElapsedMS: r.ElapsedMS,
		Detail: r.Detail, Summary: r.Summary, Tests: []testlog.Test{}, LogCut: r.LogCut, HasLog: r.Log != ""}
	if r.Tests == "" {
		return out, nil
	}
	text, err := s.store.Get(r.Tests)
	if err != nil {
		return out, err
	}
	var tests []testlog.Test
	if err := json.Unmarshal(text, &tests); err != nil {
		return out, err
	}
	for _, t := range tests {
		if all || t.Outcome != testlog.Passed && t.Outcome != testlog.Skipped {
			out.Tests = append(out.Tests, t)
		}
	}
	return out, nil
}

// round finds the round of a bout that a call names; the last one where it names none.
func (s *Server) round(c *gin.Context, b *store.Bout) (*store.Round, bool) {
	want := c.Query("round")
	for i := range slices.Backward(b.Rounds) {
		if want == "" || want == strconv.Itoa(b.Rounds[i].Number) {
			return &b.Rounds[i], true
		}
	}
	if want == "" { // nothing was captured: there is an empty change
		return &store.Round{}, true
	}
	s.problem(c, http.StatusNotFound, "There is no such round", fmt.Sprintf("The bout has %s.", count(len(b.Rounds), "round")))
	return nil, false
}

// bout finds the bout that a call names; where there is none it has answered so.
func (s *Server) bout(c *gin.Context) (*store.Bout, bool) {
	b, err := s.store.Bout(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.fail(c, err)
	}
	return b, err == nil
}

func (s *Server) getDiff(c *gin.Context) {
	b, ok := s.bout(c)
	if !ok {
		return
	}
	r, ok := s.round(c, b)
	if !ok {
		return
	}
	text, err := s.store.Get(r.Shown)
	if err != nil {
		s.fail(c, err)
		return
	}
	files, err := patch.Parse(text, patch.MaxLines)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := api.Diff{BoutID: b.ID, Files: files}
	if files == nil {
		out.Files = []patch.File{}
	}
	if r.Footprint != nil {
		out.Footprint = *r.Footprint
	}
	c.JSON(http.StatusOK, out)
}

// text sends stored bytes as they are. They are a contender's: never HTML.
func (s *Server) text(c *gin.Context, d store.Digest, mediaType string) {
	data, err := s.store.Get(d)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Security-Policy", "default-src 'none'; sandbox")
	c.Data(http.StatusOK, mediaType+"; charset=utf-8", data)
}

func (s *Server) getPatch(c *gin.Context) {
	b, ok := s.bout(c)
	if !ok {
		return
	}
	if r, ok := s.round(c, b); ok {
		s.text(c, r.Diff, "text/x-diff")
	}
}

func (s *Server) getLog(c *gin.Context) {
	b, ok := s.bout(c)
	if !ok {
		return
	}
	if c.Query("round") == "" {
		s.text(c, b.Log, "text/plain")
	} else if r, ok := s.round(c, b); ok {
		s.text(c, r.Log, "text/plain")
	}
}

func (s *Server) getCheckLog(c *gin.Context) {
	b, ok := s.bout(c)
	if !ok {
		return
	}
	way, round := c.DefaultQuery("way", store.WayDeciding), c.Query("round")
	if n := len(b.Judgements); n > 0 {
		for _, r := range slices.Backward(b.Judgements[n-1].Checks) {
			if r.Name == c.Param("check") && r.Way == way && (round == "" || round == strconv.Itoa(r.Round)) {
				s.text(c, r.Log, "text/plain")
				return
			}
		}
	}
	s.fail(c, store.ErrNotFound)
}

// newest keeps the first of each slug of a list that begins with the newest,
// and counts in how many contests it stands.
func newest[R any](rows []R, slug func(*R) string, use func(*R, int)) {
	counts, order := map[string]int{}, map[string]*R{}
	var slugs []string
	for i := range rows {
		name := slug(&rows[i])
		if counts[name] == 0 {
			slugs = append(slugs, name)
			order[name] = &rows[i]
		}
		counts[name]++
	}
	for _, name := range slugs {
		use(order[name], counts[name])
	}
}

func (s *Server) allTasks(ctx context.Context) ([]api.Task, error) {
	rows, err := s.store.Tasks(ctx, "")
	out := []api.Task{}
	newest(rows, func(t *store.ContestTask) string { return t.Slug }, func(t *store.ContestTask, n int) {
		one := taskOf(t)
		one.Contests = n
		out = append(out, one)
	})
	// What is known of it now, not when the contest was started.
	for i := range out {
		if err == nil {
			var known store.Proved
			var proving *store.Proving
			if known, proving, err = s.store.Known(ctx, out[i].Task, out[i].Digest); err == nil {
				out[i].Proved, out[i].ProvingID = string(known), ""
				if proving != nil {
					out[i].ProvingID = proving.ID
				}
			}
		}
	}
	return out, err
}

func (s *Server) allContenders(ctx context.Context) ([]api.Contender, error) {
	rows, err := s.store.Contenders(ctx, "")
	if err != nil {
		return nil, err
	}
	ready, err := s.readinesses(ctx)
	out := []api.Contender{}
	newest(rows, func(c *store.ContestContender) string { return c.Slug }, func(c *store.ContestContender, n int) {
		one := contenderOf(c)
		one.Contests, one.Readiness = n, ready[one.Contender+"\x00"+one.Digest]
		out = append(out, one)
	})
	return out, err
}

func (s *Server) listTasks(c *gin.Context) {
	out, err := s.allTasks(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) getTask(c *gin.Context) {
	all, err := s.allTasks(c.Request.Context())
	for i := range all {
		if all[i].Task == c.Param("slug") {
			c.JSON(http.StatusOK, all[i])
			return
		}
	}
	if err == nil {
		err = store.ErrNotFound
	}
	s.fail(c, err)
}

func (s *Server) listContenders(c *gin.Context) {
	out, err := s.allContenders(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) getContender(c *gin.Context) {
	one, err := s.contenderBySlug(c.Request.Context(), c.Param("slug"))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, one)
}

func (s *Server) contenderBySlug(ctx context.Context, slug string) (*api.Contender, error) {
	all, err := s.allContenders(ctx)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Contender == slug {
			return &all[i], nil
		}
	}
	return nil, store.ErrNotFound
}

// feed begins an answer of server-sent events.
func (s *Server) feed(c *gin.Context) {
	c.Header("Content-Type", "text/event-stream")
	c.Header("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	fmt.Fprint(c.Writer, "retry: 1000\n\n")
	c.Writer.Flush()
}

// events sends a contest's events as they come: server-sent events whose ids
// are those of the records, so that a client that comes back misses nothing.
func (s *Server) events(c *gin.Context) {
	id := c.Param("id")
	ctx, cancel := context.WithCancel(c.Request.Context())
	defer cancel()
	stop := context.AfterFunc(s.feeds, cancel)
	defer stop()
	if _, err := s.store.Contest(ctx, id); err != nil {
		s.fail(c, err)
		return
	}
	after := int64(0)
	for _, given := range []string{c.Query("after"), c.GetHeader("Last-Event-ID")} {
		if given == "" {
			continue
		}
		n, err := strconv.ParseInt(given, 10, 64)
		if err != nil || n < 0 {
			s.problem(c, http.StatusBadRequest, "The event id is not a number", given)
			return
		}
		after = n
	}
	s.feed(c)
	quiet := time.NewTicker(15 * time.Second)
	defer quiet.Stop()
	for {
		changed := s.store.Changed(id)
		rows, err := s.store.Events(ctx, id, after, 500)
		if err != nil {
			return
		}
		for _, e := range rows {
			out := api.FeedEvent{}
			if err := json.Unmarshal([]byte(e.Data), &out); err != nil {
				return
			}
			out.ID, out.ContestID, out.BoutID, out.At, out.Kind = e.ID, e.ContestID, e.BoutID, api.Time{Time: e.At}, string(e.Kind)
			text, err := json.Marshal(out)
			if err != nil {
				return
			}
			if _, err := fmt.Fprintf(c.Writer, "id: %d\nevent: %s\ndata: %s\n\n", e.ID, e.Kind, text); err != nil {
				return
			}
			after = e.ID
		}
		c.Writer.Flush()
		if len(rows) == 500 {
			continue
		}
		select {
		case <-changed:
		case <-quiet.C:
			fmt.Fprint(c.Writer, ": still here\n\n")
			c.Writer.Flush()
		case <-ctx.Done():
			return
		}
	}
}
