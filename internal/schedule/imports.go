package schedule

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/store"
)

// Import is a change that was made elsewhere.
type Import struct {
	// Task, and Commit, the full id of its start.
	Task   *task.Task
	Commit string
	// Contender is a slug; Source its file, where there is one.
	Contender *contender.Contender
	// Contest is the id of the contest that the bout belongs to; "" for one that stands alone.
	Contest string
	// Bundle holds the task with what it names; needed for a bout that stands alone.
	Bundle *specfile.Bundle
	// One of the three: a patch, a branch of a repository, a folder of this machine.
	Patch        []byte
	Branch, From string
	Folder       string
	Anyway       bool
	Facts        store.Imported
	// Typed is what a person knows of what it used; nil for nothing.
	Typed *ledger.Told
	// Wording is that of the brief which was used.
	Wording   string
	ElapsedMS *int64
	Answer    []byte
}

// OffBaseError says that a branch is not based on the start commit, and the way out.
type OffBaseError struct{ Branch, Start, Base string }

func (e *OffBaseError) Error() string {
	if e.Base == "" {
		return fmt.Sprintf("%s shares no commit with the start commit %s; is it the right repository? Its tree can be taken all the same (anyway), which is flagged", e.Branch, short(e.Start))
	}
	return fmt.Sprintf("%s is not based on the start commit %s: they part at %s. Rebase it: git rebase --onto %s %s %s. Or take what it changed since then all the same (anyway), which is flagged",
		e.Branch, short(e.Start), short(e.Base), short(e.Start), short(e.Base), e.Branch)
}

func short(commit string) string {
	if len(commit) > 12 {
		return commit[:12]
	}
	return commit
}

// Import records a bout that was made elsewhere; it is judged when its turn comes.
func (s *Scheduler) Import(ctx context.Context, in Import) (*store.Bout, error) {
	limits := in.Task.Limits.Over(task.Defaults())
	prepared, err := s.engine.Prepare(ctx, in.Task, in.Commit, limits, func(string) {})
	if err != nil {
		return nil, err
	}
	now := time.Now().UTC()
	b := &store.Bout{ID: s.store.NewID(), Task: string(in.Task.Task), Contender: string(in.Contender.Contender), Repeat: 1, State: store.Captured, CreatedAt: now, CapturedAt: &now,
		ElapsedMS: in.ElapsedMS, RoundsUsed: 1, StartTree: prepared.Tree, Imported: &in.Facts, Typed: in.Typed, Driver: contender.Elsewhere, Wording: in.Wording}
	captured, err := s.taken(ctx, &in, b, prepared, limits)
	if err != nil {
		return nil, err
	}
	round := &store.Round{Number: 1, Kind: store.RoundOpening, ElapsedMS: in.ElapsedMS, ResultTree: captured.Tree, Footprint: s.footprint(b.ID, captured.Shown)}
	for into, data := range map[*store.Digest][]byte{&round.Diff: captured.Diff, &round.Shown: captured.Shown, &round.Answer: in.Answer} {
		d, err := s.store.Put(data)
		if err != nil {
			return nil, err
		}
		*into = d
	}
	round.Step = round.Footprint
	b.Diff, b.Shown, b.ResultTree, b.Footprint = round.Diff, round.Shown, round.ResultTree, round.Footprint
	b.LeftOut = &store.LeftOut{Ignored: captured.Ignored, TooLarge: firstNames(captured.TooLarge), Special: captured.Special, Unreadable: captured.Unreadable, NestedGit: captured.NestedGit}
	var con *store.ContestContender
	if in.Contest == "" {
		row, err := s.alone(ctx, store.KindImport, in.Task, in.Commit, in.Contender, in.Bundle)
		if err != nil {
			return nil, err
		}
		b.ContestID = row.ID
	} else if con, err = s.beside(ctx, &in, b); err != nil {
		return nil, err
	}
	if err := s.store.AddBout(ctx, b, round, con); err != nil {
		return nil, err
	}
	s.poke()
	return b, nil
}

// taken takes the change from where it was made.
func (s *Scheduler) taken(ctx context.Context, in *Import, b *store.Bout, p *workspace.Prepared, limits task.Limits) (*workspace.Captured, error) {
	switch {
	case in.Folder != "":
		return s.engine.CaptureFolder(ctx, b.ID, in.Folder, p, limits)
	case in.Branch != "":
		br, err := s.engine.Repositories.Branch(ctx, in.From, in.Branch, in.Commit)
		if err != nil {
			return nil, err
		}
		if br.Base != in.Commit {
			off := &OffBaseError{in.Branch, in.Commit, br.Base}
			if !in.Anyway {
				return nil, off
			}
			in.Facts.OffBase = fmt.Sprintf("the branch %s was not based on the start commit", in.Branch)
			if br.Base != "" {
				in.Facts.OffBase += ": it parted at " + short(br.Base)
			}
		}
		if br.BetweenAll > 0 {
			said := "the branch " + in.Branch + " was made from a later commit: between the start and its own work lie "
			if in.Facts.OffBase != "" {
				said = in.Facts.OffBase + "; between there and its own work lie "
			}
			in.Facts.OffBase = said + plural(br.BetweenAll, "commit") + " that other branches have too, and which are judged with it (" + strings.Join(firstNames(br.Between), "; ") + ")"
		}
		in.Patch = br.Diff
	}
	captured, err := s.engine.Git.Between(ctx, p, s.engine.Scratch(), in.Patch)
	if err == nil && in.Branch == "" && len(in.Answer) == 0 && !captured.Changed() {
		return nil, errors.New("the patch changes nothing; it should be as git diff prints it")
	}
	return captured, err
}

// beside finds a bout's place in a contest that there is already.
func (s *Scheduler) beside(ctx context.Context, in *Import, b *store.Bout) (*store.ContestContender, error) {
	b.ContestID = in.Contest
	bouts, err := s.store.Bouts(ctx, store.BoutFilter{ContestID: in.Contest})
	if err != nil {
		return nil, err
	}
	for i := range bouts {
		b.Position = max(b.Position, bouts[i].Position+1)
		if bouts[i].Task == b.Task && bouts[i].Contender == b.Contender {
			b.Repeat = max(b.Repeat, bouts[i].Repeat+1)
		}
	}
	all, err := s.store.Contenders(ctx, in.Contest)
	if err != nil {
		return nil, err
	}
	for _, c := range all {
		if c.Slug == b.Contender {
			return nil, nil
		}
	}
	return &store.ContestContender{ContestID: in.Contest, Position: len(all), Slug: b.Contender, Title: in.Contender.Title, Digest: in.Contender.Digest(),
		Source: string(in.Contender.Source), Path: in.Contender.Path}, nil
}

// alonePath begins the paths of the files that hold a bout that stands alone.
const alonePath = "/alone/"

// alone makes what holds a bout that stands alone: a contest of one bout, whose
// files are the task's and two that say so.
func (s *Scheduler) alone(ctx context.Context, kind store.ContestKind, t *task.Task, commit string, con *contender.Contender, bundle *specfile.Bundle) (*store.Contest, error) {
	if len(con.Source) == 0 {
		con = Elsewhere(con.Contender)
	}
	main, conFile := alonePath+"contest.yaml", alonePath+"contender.yaml"
	if kind == store.KindHand && con.Guidance != nil && con.Guidance.Text == "" {
		return nil, &StateError{"the contender names a file for guidance and has no text of its own; outside a contest there is no other"}
	}
	name, how, state := string(t.Task), "made elsewhere", store.ContestDone
	if kind == store.KindHand {
		how, state = "by hand", store.ContestByHand
	}
	text := fmt.Sprintf("contest: %s\ntitle: %q\ntasks: [%q]\ncontenders: [%q]\n", name, t.Title+" ("+how+")", t.File, conFile)
	files := map[string][]byte{main: []byte(text), conFile: con.Source}
	for k, v := range bundle.Files {
		files[k] = v
	}
	raw, err := json.Marshal(specfile.Bundle{Main: main, Files: files})
	if err != nil {
		return nil, err
	}
	row := &store.Contest{ID: s.store.NewID(), Kind: kind, Name: name, Title: t.Title, State: state, Repeats: 1, AtOnce: 1, CreatedAt: time.Now().UTC()}
	if row.Bundle, err = s.store.Put(raw); err != nil {
		return nil, err
	}
	one, err := s.taskRow(ctx, t, commit, t.Limits.Over(task.Defaults()))
	if err != nil {
		return nil, err
	}
	one.ContestID = row.ID
	guidance := ""
	if con.Guidance != nil {
		guidance = con.Guidance.Text
	}
	return row, s.store.CreateContest(ctx, row, []store.ContestTask{*one}, []store.ContestContender{{ContestID: row.ID, Slug: string(con.Contender), Title: con.Title,
		Digest: con.Digest(), Source: string(con.Source), Path: conFile, Guidance: guidance}}, nil)
}

// Elsewhere is the contender of which only a name is known: it was worked
// elsewhere and cannot be started here.
func Elsewhere(slug specfile.Slug) *contender.Contender {
	c := &contender.Contender{Path: alonePath + "contender.yaml"}
	c.Contender, c.Title = slug, string(slug)
	c.Source = []byte(fmt.Sprintf("contender: %s\ntitle: %q\nrun: [worked-elsewhere]\n", slug, slug))
	return c
}

// IsElsewhere tells the file that Elsewhere wrote.
func IsElsewhere(source []byte) bool {
	return bytes.Contains(source, []byte("\nrun: [worked-elsewhere]\n"))
}

// TaskOf reads a task of a contest as the contest recorded it.
func (s *Scheduler) TaskOf(ctx context.Context, row *store.Contest, slug string) (*task.Task, string, *contest.Contest, error) {
	c, err := s.load(row)
	if err != nil {
		return nil, "", nil, err
	}
	for _, t := range c.Tasks {
		if string(t.Task) == slug {
			return t, c.Commits[t.Task], c, nil
		}
	}
	return nil, "", nil, &StateError{fmt.Sprintf("the contest %s has no task %s", row.Name, slug)}
}
