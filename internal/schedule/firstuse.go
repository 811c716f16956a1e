package schedule

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"

	"agonometer/internal/bout"
	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/verdict"
	"agonometer/internal/store"
)

// firstUse is what a contender's first use of a task's repository left, made now
// where it has not been made in this contest yet; nil where the contender has none.
// What came to nothing once is not tried again.
func (s *Scheduler) firstUse(ctx context.Context, cur *running, job bout.Job, p *workspace.Prepared, say func(string)) (*bout.FirstUse, error) {
	if job.Contender.FirstUse == nil {
		return nil, nil
	}
	repository := job.Task.RepositoryAddress()
	sum := sha256.Sum256([]byte(cur.id + "\x00" + string(job.Contender.Contender) + "\x00" + repository + "\x00" + job.Commit + "\x00" + job.Task.Prepare))
	dir := filepath.Join(s.engine.FirstUses(), hex.EncodeToString(sum[:16]))
	gate := s.gate(cur, "first use\x00"+dir)
	gate.Lock()
	defer gate.Unlock()
	rows, err := s.store.FirstUses(ctx, cur.id)
	if err != nil {
		return nil, err
	}
	failed := func(why string) error {
		return &bout.VoidError{Reason: verdict.HandshakeFailed, Detail: "its first use of the repository came to nothing: " + why}
	}
	for i := range rows {
		r := &rows[i]
		if r.Contender != string(job.Contender.Contender) || r.Repository != repository || r.StartCommit != job.Commit {
			continue
		}
		if r.Trouble != "" {
			return nil, failed(r.Trouble)
		}
		if _, err := os.Stat(dir); err == nil {
			return &bout.FirstUse{Dir: dir}, nil
		}
	}
	say("first use of " + filepath.Base(repository) + " (once)")
	row := &store.FirstUse{ID: s.store.NewID(), ContestID: cur.id, Contender: string(job.Contender.Contender), Repository: repository, StartCommit: job.Commit}
	job.ID, job.VoidRefused, job.VoidOtherModel = row.ID, false, false
	if err := beneath.RemoveTree(dir); err != nil {
		return nil, err
	}
	use, err := s.engine.UseFirst(ctx, job, p, dir)
	if err != nil {
		return nil, err
	}
	row.Version, row.ElapsedMS, row.Exchanges, row.Trouble = use.Version, use.Elapsed.Milliseconds(), use.Exchanges, use.Trouble
	if row.Log, err = s.store.Put(use.Log); err != nil {
		return nil, err
	}
	if err := s.store.AddFirstUse(ctx, row); err != nil {
		return nil, err
	}
	if use.Trouble != "" {
		return nil, failed(use.Trouble)
	}
	return use, nil
}
