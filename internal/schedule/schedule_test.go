package schedule

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"agonometer/internal/core/contest"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/store"
)

// What was captured is judged first; then the bouts in their order; reruns last.
func TestPick(t *testing.T) {
	pending := []store.Bout{
		{ID: "rerun", Position: 0, Rerun: 1, State: store.Waiting},
		{ID: "third", Position: 2, State: store.Waiting},
		{ID: "second", Position: 1, State: store.Waiting},
		{ID: "captured", Position: 9, State: store.Captured},
	}
	taken := map[string]bool{}
	var order []string
	for {
		next := pick(pending, taken, time.Now())
		if next == nil {
			break
		}
		taken[next.ID] = true
		order = append(order, next.ID)
	}
	assert.Equal(t, []string{"captured", "second", "third", "rerun"}, order)
	assert.Nil(t, pick(nil, taken, time.Now()))
}

func TestLimitsOverlay(t *testing.T) {
	d := func(v time.Duration) specfile.Duration { return specfile.Duration(v) }
	c := &contest.Contest{}
	c.File.Limits = task.Limits{Time: d(time.Minute)}
	one := &task.Task{}
	one.Limits = task.Limits{Time: d(time.Hour), Check: d(time.Second)}
	got := Limits(c, one)
	assert.Equal(t, time.Minute, got.Time.Std(), "the contest's over the task's")
	assert.Equal(t, time.Second, got.Check.Std(), "the task's over the default")
	assert.Equal(t, task.DefaultPrepare, got.Prepare.Std(), "the default")
	assert.Equal(t, specfile.Size(task.DefaultOutput), got.Output)
}

func TestLongListsOfNamesAreCutAndSaySo(t *testing.T) {
	names := make([]string, maxNames+7)
	got := firstNames(names)
	assert.Len(t, got, maxNames+1)
	assert.Equal(t, "… and 7 more", got[maxNames])
	assert.Len(t, firstNames(names[:3]), 3)
}
