package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm/clause"

	"agonometer/internal/core/patch"
)

// EditMarks are what people said of a bout's findings, by finding.
func (s *Store) EditMarks(ctx context.Context, boutID string) (map[string]EditMark, error) {
	var rows []EditMark
	if err := s.db.WithContext(ctx).Where("bout_id = ?", boutID).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := map[string]EditMark{}
	for _, r := range rows {
		out[r.Finding] = r
	}
	return out, nil
}

// SetEditMark records what a person says of a finding; the last word counts.
func (s *Store) SetEditMark(ctx context.Context, m *EditMark) error {
	return s.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(m).Error
}

// DropEditMark takes a word back.
func (s *Store) DropEditMark(ctx context.Context, boutID, finding string) error {
	return s.db.WithContext(ctx).Delete(&EditMark{}, "bout_id = ? AND finding = ?", boutID, finding).Error
}

// SetRounds puts what the rounds of a judgement come to in the place of what stood
// there; only what hangs on edit measures is to differ.
func (s *Store) SetRounds(ctx context.Context, j *Judgement) error {
	text, err := json.Marshal(j.Rounds)
	if err != nil {
		return err
	}
	return s.db.WithContext(ctx).Model(&Judgement{}).Where("id = ?", j.ID).Update("rounds", string(text)).Error
}

// Measures reads the edit measures of a round; nil where there are none.
func (s *Store) Measures(r *RoundJudgement) (*patch.Measures, error) {
	if r.Measures == "" {
		return nil, nil
	}
	data, err := s.Get(r.Measures)
	if err != nil {
		return nil, err
	}
	m := &patch.Measures{}
	return m, json.Unmarshal(data, m)
}

// SetAside are the findings among marks that are not counted.
func SetAside(marks map[string]EditMark) map[string]bool {
	out := map[string]bool{}
	for id, m := range marks {
		if m.Mark == Aside {
			out[id] = true
		}
	}
	return out
}
