package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"agonometer/internal/api"
	"agonometer/internal/client"
	"agonometer/internal/core/draft"
)

// surveyFile is where a survey keeps what it found, so that it can be taken up again.
const surveyFile = "survey.json"

// surveyed is what a survey found so far.
type surveyed struct {
	Repository string `json:"repository"`
	// Tried are the commits that were drafted from, by id.
	Tried map[string]triedCommit `json:"tried"`
	// LeftOut counts the commits that were not tried, by reason.
	LeftOut map[string]int `json:"left_out"`
	Scanned int            `json:"scanned"`
}

// triedCommit is what became of a commit.
type triedCommit struct {
	Subject string   `json:"subject"`
	Task    string   `json:"task,omitempty"`
	Labels  []string `json:"labels,omitempty"`
	Goals   int      `json:"goals,omitempty"`
	Guards  int      `json:"guards,omitempty"`
	// Why says why it made no task.
	Why string `json:"why,omitempty"`
}

func (s *surveyed) tasks() (n int) {
	for _, t := range s.Tried {
		if t.Task != "" {
			n++
		}
	}
	return n
}

type surveyOptions struct {
	repository, revision, since, out string
	limit, scan, repeats             int
}

func (a *app) taskSurvey() *cobra.Command {
	o := surveyOptions{}
	cmd := a.withFormat(&cobra.Command{Use: "survey --repository R --out DIR", Short: "Go through a history, and draft and prove tasks from its commits", Args: cobra.NoArgs,
		Long: `Go through a repository's history, find the commits that would make good tasks (they change code and tests, within
bounds; no merges, reverts, formatting or releases), draft and prove them one after the other, and write those that are
proved to DIR, until there are enough. Kinds of work, sizes and folders take turns.

What became of each commit is kept in DIR/survey.json: the same command goes on where it was stopped. Briefs are the
commits' messages, marked as drafted until you confirm them.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if o.limit < 1 || o.repeats < 1 {
				return usageError{errors.New("--limit and --repeats are numbers from 1")}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.survey(cmd.Context(), c, o)
		}})
	cmd.Flags().StringVar(&o.repository, "repository", "", "a repository on the service's machine: a path, or a git URL")
	cmd.Flags().StringVar(&o.out, "out", "", "the folder to write to")
	cmd.Flags().StringVar(&o.revision, "revision", "", "where the history ends; default: HEAD")
	cmd.Flags().StringVar(&o.since, "since", "", "only commits since a date, as git reads it: 2031-01-01, '6 months ago'")
	cmd.Flags().IntVar(&o.limit, "limit", 20, "how many tasks are wanted")
	cmd.Flags().IntVar(&o.scan, "scan", 1000, "how many commits are looked at")
	cmd.Flags().IntVar(&o.repeats, "repeats", 3, "how often each side is run to prove a task; fewer than 3 prove nothing")
	for _, flag := range []string{"repository", "out"} {
		_ = cmd.MarkFlagRequired(flag)
	}
	return cmd
}

func (a *app) survey(ctx context.Context, c *client.Client, o surveyOptions) error {
	repository, err := repositoryName(o.repository)
	if err != nil {
		return err
	}
	dir, err := filepath.Abs(o.out)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	state := surveyed{Repository: repository, Tried: map[string]triedCommit{}}
	file := filepath.Join(dir, surveyFile)
	switch text, err := os.ReadFile(file); {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	case json.Unmarshal(text, &state) != nil || state.Tried == nil:
		return fmt.Errorf("%s cannot be read: it is no survey's, or it is damaged. Move it away to begin anew", file)
	case state.Repository != repository:
		return fmt.Errorf("%s is a survey of %s; choose another --out", file, state.Repository)
	}
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	found, err := c.Survey(ctx, repository, o.revision, o.since, o.scan)
	if err != nil {
		return err
	}
	state.LeftOut, state.Scanned = map[string]int{}, len(found.Commits)+len(found.LeftOut)
	for _, one := range found.LeftOut {
		why, _, _ := strings.Cut(one.LeftOut, ":")
		state.LeftOut[why]++
	}
	fmt.Fprintf(a.err, "%s looked at, %d may make tasks.\n", plural(state.Scanned, "commit"), len(found.Commits))
	for _, one := range found.Commits {
		if state.tasks() >= o.limit || ctx.Err() != nil {
			break
		}
		if _, done := state.Tried[one.Commit]; done {
			continue
		}
		fmt.Fprintf(a.err, "%d of %s so far; trying %.12s %s\n", state.tasks(), plural(o.limit, "task"), one.Commit, visible(one.Subject))
		became, err := a.surveyOne(ctx, c, repository, dir, one, o.repeats)
		if ctx.Err() != nil {
			break // it was not tried to its end
		}
		if err != nil {
			return err
		}
		state.Tried[one.Commit] = became
		if err := state.save(file); err != nil {
			return err
		}
	}
	if err := a.showSurvey(&state, o); err != nil {
		return err
	}
	if ctx.Err() != nil {
		fmt.Fprintln(a.err, "Stopped. The same command goes on from here.")
		return silentError{}
	}
	return nil
}

func (s *surveyed) save(file string) error {
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	part := file + ".part"
	if err := os.WriteFile(part, append(text, '\n'), 0o644); err != nil {
		return err
	}
	return os.Rename(part, file)
}

// surveyOne drafts and proves one commit, and writes it where it is proved. An error is one
// of the service or of the disk, not of the commit.
func (a *app) surveyOne(ctx context.Context, c *client.Client, repository, dir string, one draft.Candidate, repeats int) (triedCommit, error) {
	out := triedCommit{Subject: one.Subject}
	in := api.DraftTask{Repository: repository, Commit: one.Commit}
	label := func(main []byte) []byte { return draft.Label(main, one) } // what is proved is what is written
	d, err := a.draftOne(ctx, c, in, dir, repeats, label)
	if err != nil && d == nil && strings.Contains(err.Error(), "is there already") { // two commits of one subject
		in.Name = "commit-" + one.Commit[:12]
		d, err = a.draftOne(ctx, c, in, dir, repeats, label)
	}
	var problem *client.Error
	switch {
	case errors.As(err, &problem):
		out.Why = problem.Error()
		return out, nil
	case err != nil:
		return out, err
	}
	r := d.proving.Result
	if r == nil || len(r.Reasons) > 0 {
		out.Why = "its proving was stopped"
		if r != nil {
			out.Why = r.Reasons[0]
			for _, s := range r.Steps {
				if help := draft.Advice(s.Output); s.Output != "" && help != "" {
					out.Why += "; perhaps " + help
					break
				}
			}
		}
		return out, nil
	}
	if err := d.write(); err != nil {
		return out, err
	}
	out.Task, out.Goals, out.Guards, out.Labels = d.Main, len(d.goals), d.guards, []string{one.Kind, one.Size}
	return out, nil
}

func (a *app) showSurvey(s *surveyed, o surveyOptions) error {
	var lines [][]cell
	ids := slices.Sorted(maps.Keys(s.Tried))
	slices.SortStableFunc(ids, func(x, y string) int { // tasks first
		return strings.Compare(s.Tried[y].Task, s.Tried[x].Task)
	})
	for _, id := range ids {
		t := s.Tried[id]
		words := t.Why
		if t.Task != "" {
			words = plural(t.Goals, "goal") + ", " + plural(t.Guards, "guard") + " (" + strings.Join(t.Labels, ", ") + ")"
		}
		lines = append(lines, []cell{plain(id[:min(12, len(id))]), plain(t.Subject), plain(t.Task), plain(words)})
	}
	if err := a.rows(a.format, s, []column{{head: "Commit"}, {head: "Subject"}, {head: "Task"}, {head: "Found"}}, lines, "No commit was tried."); err != nil || a.format != formatTable {
		return err
	}
	var left []string
	for _, why := range slices.Sorted(maps.Keys(s.LeftOut)) {
		left = append(left, fmt.Sprintf("%d %s", s.LeftOut[why], why))
	}
	if len(left) > 0 {
		fmt.Fprintf(a.out, "Not tried, of %s: %s.\n", plural(s.Scanned, "commit"), visible(strings.Join(left, "; ")))
	}
	fmt.Fprintf(a.out, "%s in %s. Their briefs are the commits' messages: rewrite each to say what is wanted, and take out brief: drafted.\n", plural(s.tasks(), "task"), o.out)
	return nil
}
