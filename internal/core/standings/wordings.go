package standings

import (
	"sort"

	"agonometer/internal/core/verdict"
)

// WordingRow is how a contender did with one wording of a task.
type WordingRow struct {
	Task      string `json:"task"`
	Wording   string `json:"wording"`
	Contender string `json:"contender"`
	Passed    int    `json:"passed"`
	Failed    int    `json:"failed"`
	// FirstPassed passed without a repair round.
	FirstPassed     int      `json:"first_passed"`
	MedianElapsedMS *float64 `json:"median_elapsed_ms"`
	MedianTokens    *float64 `json:"median_tokens"`
}

// Spread is how far a contender's results with the wordings of a task lie apart. It says
// nothing of chance: with few bouts much of it may be that.
type Spread struct {
	Task      string `json:"task"`
	Contender string `json:"contender"`
	// Best and Worst are wordings, by share of passed bouts; the same where none differs.
	Best  string `json:"best"`
	Worst string `json:"worst"`
	// BestPassed of BestOf bouts passed with the best, WorstPassed of WorstOf with the worst.
	BestPassed  int `json:"best_passed"`
	BestOf      int `json:"best_of"`
	WorstPassed int `json:"worst_passed"`
	WorstOf     int `json:"worst_of"`
	// Share is the best share less the worst, from 0 to 1.
	Share float64 `json:"share"`
}

// ByWording tells the results of tasks with several wordings apart: in the order of
// tasks, wordings and contenders as they come in bouts. Void bouts count nowhere.
func ByWording(bouts []Bout) ([]WordingRow, []Spread) {
	type place struct{ task, wording, contender string }
	wordings := map[string]map[string]bool{}
	for i := range bouts {
		b := &bouts[i]
		if wordings[b.Task] == nil {
			wordings[b.Task] = map[string]bool{}
		}
		wordings[b.Task][b.Wording] = true
	}
	rows, spreads := []WordingRow{}, []Spread{}
	at := map[place]int{}
	elapsed, tokens := map[place][]float64{}, map[place][]float64{}
	for i := range bouts {
		b := &bouts[i]
		if len(wordings[b.Task]) < 2 || b.Replaced || b.Outcome == verdict.Void {
			continue
		}
		p := place{b.Task, b.Wording, b.Contender}
		if _, there := at[p]; !there {
			at[p] = len(rows)
			rows = append(rows, WordingRow{Task: b.Task, Wording: b.Wording, Contender: b.Contender})
		}
		r := &rows[at[p]]
		if b.Outcome == verdict.Passed {
			r.Passed++
		} else {
			r.Failed++
		}
		if b.First == verdict.Passed || b.First == "" && b.Outcome == verdict.Passed {
			r.FirstPassed++
		}
		if b.ElapsedMS != nil {
			elapsed[p] = append(elapsed[p], float64(*b.ElapsedMS))
		}
		if b.Used.Total != nil {
			tokens[p] = append(tokens[p], float64(*b.Used.Total))
		}
	}
	for p, i := range at {
		rows[i].MedianElapsedMS, rows[i].MedianTokens = Median(elapsed[p]), Median(tokens[p])
	}
	sort.SliceStable(rows, func(i, j int) bool {
		a, b := &rows[i], &rows[j]
		if a.Task != b.Task {
			return a.Task < b.Task
		}
		if a.Contender != b.Contender {
			return a.Contender < b.Contender
		}
		return a.Wording < b.Wording
	})
	for i := 0; i < len(rows); {
		j := i
		best, worst := i, i
		for ; j < len(rows) && rows[j].Task == rows[i].Task && rows[j].Contender == rows[i].Contender; j++ {
			if share(&rows[j]) > share(&rows[best]) {
				best = j
			}
			if share(&rows[j]) < share(&rows[worst]) {
				worst = j
			}
		}
		if j-i > 1 {
			b, w := &rows[best], &rows[worst]
			spreads = append(spreads, Spread{Task: b.Task, Contender: b.Contender, Best: b.Wording, Worst: w.Wording,
				BestPassed: b.Passed, BestOf: b.Passed + b.Failed, WorstPassed: w.Passed, WorstOf: w.Passed + w.Failed, Share: share(b) - share(w)})
		}
		i = j
	}
	return rows, spreads
}

func share(r *WordingRow) float64 { return float64(r.Passed) / float64(r.Passed+r.Failed) }
