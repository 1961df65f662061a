package store

import (
	"context"
	"encoding/json"
	"fmt"

	"kambrel.example/kambrel/core/survey"
)

// Surveys are the findings of surveys.
type Surveys struct{ *session }

// Finding is one thing that a survey found.
type Finding struct {
	Number    int `gorm:"primaryKey"`
	Code      string
	Kind      string
	Directory string
	EntryID   string
	DN        string `gorm:"column:dn"`
	Name      string
	Attribute string
	Value     string
	Detail    string
	Action    string
	Proposal  string
}

type findingRow struct {
	RunID int64 `gorm:"primaryKey"`
	Finding
}

// FindingGroup is how many findings of a kind there are.
type FindingGroup struct {
	Code       survey.Code
	Count      int
	Repairable int // those with a proposal
}

func (findingRow) TableName() string { return "findings" }

// SaveFindings keeps what a survey has found and the login suffixes in use,
// instead of what an interrupted attempt has kept.
func (s Surveys) SaveFindings(ctx context.Context, run int64, findings []survey.Finding, domains []survey.Domain) error {
	rows := make([]findingRow, len(findings))
	for i, f := range findings {
		rows[i] = findingRow{run, Finding{i + 1, string(f.Code), string(f.Kind), f.Directory, f.EntryID.String(), f.DN, f.Name, f.Attribute, f.Value, f.Detail, string(f.Action), f.Proposal}}
	}
	text, err := json.Marshal(domains)
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(tx *Store) error {
		if _, err := tx.exec(ctx, `DELETE FROM findings WHERE run_id = ?`, run); err != nil {
			return err
		}
		if len(rows) > 0 {
			if err := tx.with(ctx).CreateInBatches(rows, 1000).Error; err != nil {
				return fmt.Errorf("keep the findings: %w", err)
			}
		}
		_, err := tx.exec(ctx, `UPDATE runs SET result = ?::jsonb WHERE id = ?`, string(text), run)
		return err
	})
}

// Of returns the findings of a survey by kind, and the login suffixes.
func (s Surveys) Of(ctx context.Context, run int64) ([]FindingGroup, []survey.Domain, error) {
	groups := []FindingGroup{}
	if err := s.raw(ctx, `SELECT code, count(*) AS count, count(*) FILTER (WHERE action <> 'none') AS repairable FROM findings WHERE run_id = ? GROUP BY code ORDER BY min(number)`, run).Scan(&groups).Error; err != nil {
		return nil, nil, err
	}
	var row struct{ Result []byte }
	if err := s.raw(ctx, `SELECT result FROM runs WHERE id = ?`, run).Scan(&row).Error; err != nil {
		return nil, nil, err
	}
	domains := []survey.Domain{}
	if len(row.Result) > 0 {
		if err := json.Unmarshal(row.Result, &domains); err != nil {
			return nil, nil, err
		}
	}
	return groups, domains, nil
}

// FindingQuery chooses findings of a survey.
type FindingQuery struct {
	Run       int64
	Code      string
	Directory string
	Text      string
	Numbers   []int
	Offset    int
	Limit     int // 0 for all
}

// Findings lists findings in the order in which they were found.
func (s Surveys) Findings(ctx context.Context, q FindingQuery) ([]Finding, int, error) {
	query := s.with(ctx).Model(&findingRow{}).Where("run_id = ?", q.Run)
	if q.Code != "" {
		query = query.Where("code = ?", q.Code)
	}
	if q.Directory != "" {
		query = query.Where("directory = ?", q.Directory)
	}
	if q.Text != "" {
		query = query.Where("(name ILIKE ? OR dn ILIKE ? OR value ILIKE ? OR proposal ILIKE ?)", like(q.Text), like(q.Text), like(q.Text), like(q.Text))
	}
	if len(q.Numbers) > 0 {
		query = query.Where("number IN ?", q.Numbers)
	}
	var total int64
	if err := query.Session(newSession).Count(&total).Error; err != nil {
		return nil, 0, err
	}
	if q.Limit > 0 {
		query = query.Offset(q.Offset).Limit(q.Limit)
	}
	findings := []Finding{}
	err := query.Order("number").Find(&findings).Error
	return findings, int(total), err
}
