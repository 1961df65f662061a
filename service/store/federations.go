package store

import (
	"context"
	"time"

	"kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/federation"
)

// Federations are how the people of each login domain sign in, and what was tried of that.
type Federations struct{ *session }

// Federation is one of a domain.
type Federation struct {
	Domain   string `gorm:"primaryKey"`
	Provider string // the metadata that is believed, "" while there is none
	Own      bool   // it is Kambrel's own
	Cloud    string // the cloud's metadata, as it was seen last
	// ProviderURL is where it is fetched from, "" where somebody gave it as a file; Fingerprint
	// and Unsigned are why it is believed.
	ProviderURL  string
	Fingerprint  string
	Unsigned     bool
	Fetched      *time.Time
	FetchFailure string
	FetchFailing *time.Time
	Offer        string         // what was fetched and is not believed, "" for nothing
	Claims       *signin.Claims `gorm:"serializer:json"`
	SignOn       federation.SignOn
	People       []string `gorm:"serializer:json"`
	Groups       []string `gorm:"serializer:json"`
	ChangedBy    string
	ChangedAt    time.Time
	Version      int64
	Switched     bool // since it was sent last
	Sent         int64
	SentAt       *time.Time
	Failure      string
	Failing      *time.Time
	Drift        string // what the cloud has otherwise, "" for nothing
}

// ClaimsFor are those that somebody has said, or those that follow from the cloud.
func (f Federation) ClaimsFor(cloud signin.Cloud) signin.Claims {
	if f.Claims != nil {
		return *f.Claims
	}
	return signin.DefaultClaims(cloud)
}

// SignInTest is a sign-in that was tried.
type SignInTest struct {
	ID            int64 `gorm:"primaryKey;default:null"`
	Domain        string
	Person        string // the id of the resource
	Name, Login   string
	By            string
	Began         time.Time
	Basis         string // of what provider and claims it is, as a digest
	CloudID       string
	URL           string `gorm:"column:url"`
	Expires       *time.Time
	Answered      *time.Time
	Accepted      bool
	CloudAccepted *bool
	CloudReason   string
	Assertion     string                  // its id
	Fields        []signin.AssertionField `gorm:"serializer:json"`
}

// EventFederation tells that something of how people sign in has changed.
const EventFederation = "federation"

// List lists all.
func (s Federations) List(ctx context.Context) ([]Federation, error) {
	var all []Federation
	return all, s.with(ctx).Order("domain").Find(&all).Error
}

// Of is that of a domain; of one that nothing was said of, by password.
func (s Federations) Of(ctx context.Context, domain string) (Federation, error) {
	one := Federation{Domain: domain, SignOn: federation.ByPassword}
	err := s.with(ctx).Where("domain = ?", domain).Take(&one).Error
	if NotFound(err) {
		return one, nil
	}
	return one, err
}

// ForUpdate is Of for who changes it in this transaction.
func (s Federations) ForUpdate(ctx context.Context, domain string) (Federation, error) {
	if _, err := s.exec(ctx, `INSERT INTO federations (domain, version) VALUES (?, 0) ON CONFLICT DO NOTHING`, domain); err != nil {
		return Federation{}, err
	}
	var one Federation
	return one, s.raw(ctx, `SELECT * FROM federations WHERE domain = ? FOR UPDATE`, domain).Scan(&one).Error
}

// Save keeps what somebody has said, or with "" nobody; it is to be sent to the cloud. Where it is
// no switch, what somebody has switched in the cloud itself stays.
func (s Federations) Save(ctx context.Context, one Federation, by string, switched bool) error {
	if by != "" {
		one.ChangedBy, one.ChangedAt = by, time.Now()
	}
	one.Switched = switched || one.Switched && one.Sent < one.Version
	if switched {
		one.Drift = ""
	}
	one.Version++
	return s.keep(ctx, one)
}

// NoteSent keeps what came of bringing it to the cloud. What somebody has said meanwhile stays.
func (s Federations) NoteSent(ctx context.Context, one Federation) error {
	return s.note(ctx, one, "Sent", "SentAt", "Failure", "Failing", "Drift", "Cloud")
}

// NoteFetched keeps what came of fetching metadata.
func (s Federations) NoteFetched(ctx context.Context, one Federation) error {
	return s.note(ctx, one, "Fetched", "FetchFailure", "FetchFailing", "Offer")
}

func (s Federations) note(ctx context.Context, one Federation, fields ...string) error {
	if err := s.with(ctx).Model(&Federation{}).Where("domain = ?", one.Domain).Select(fields).Updates(&one).Error; err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: EventFederation})
}

func (s Federations) keep(ctx context.Context, one Federation) error {
	if one.People == nil {
		one.People = []string{}
	}
	if one.Groups == nil {
		one.Groups = []string{}
	}
	if err := s.with(ctx).Save(&one).Error; err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: EventFederation})
}

// keptTests is how many tests of a domain are kept.
const keptTests = 30

// AddTest keeps a test that begins.
func (s Federations) AddTest(ctx context.Context, test *SignInTest) error {
	test.Began = time.Now()
	if test.Fields == nil {
		test.Fields = []signin.AssertionField{}
	}
	if err := s.with(ctx).Create(test).Error; err != nil {
		return err
	}
	if _, err := s.exec(ctx, `DELETE FROM sign_in_tests WHERE domain = ? AND id <= (SELECT id FROM sign_in_tests WHERE domain = ? ORDER BY id DESC OFFSET ? LIMIT 1)`, test.Domain, test.Domain, keptTests); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: EventFederation})
}

// SaveTest keeps what came of one.
func (s Federations) SaveTest(ctx context.Context, test SignInTest) error {
	if err := s.with(ctx).Save(&test).Error; err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: EventFederation})
}

// Tests lists those of a domain, the newest first.
func (s Federations) Tests(ctx context.Context, domain string) ([]SignInTest, error) {
	var tests []SignInTest
	return tests, s.with(ctx).Where("domain = ?", domain).Order("id DESC").Limit(keptTests).Find(&tests).Error
}

// Test is one.
func (s Federations) Test(ctx context.Context, id int64) (SignInTest, error) {
	var test SignInTest
	return test, s.with(ctx).Where("id = ?", id).Take(&test).Error
}

// Open lists those to which no answer has come and that have not ended.
func (s Federations) Open(ctx context.Context) ([]SignInTest, error) {
	var tests []SignInTest
	return tests, s.with(ctx).Where("answered IS NULL AND cloud_id <> '' AND expires > ?", time.Now()).Order("id").Find(&tests).Error
}

// Seen tells whether another test has brought an assertion of this id.
func (s Federations) Seen(ctx context.Context, assertion string, but int64) (bool, error) {
	var n int64
	return n > 0, s.with(ctx).Model(&SignInTest{}).Where("assertion = ? AND id <> ?", assertion, but).Count(&n).Error
}

// Emergency lists active accounts with an administrative role whose login is in none of some
// domains, by their ids.
func (s Resources) Emergency(ctx context.Context, domains []string, most int) ([]string, error) {
	var ids []string
	return ids, s.raw(ctx, `SELECT id FROM resources WHERE kind = 'user' AND active AND attributes @> '{"roles":[{"type":"administrative"}]}'
		AND coalesce(lower(substring(login FROM '@([^@]*)$')), '') <> ALL (?) ORDER BY id LIMIT ?`, textArray(domains), most).Scan(&ids).Error
}

// Answer keeps what came of a test; false where it was kept already.
func (s Federations) Answer(ctx context.Context, test SignInTest) (bool, error) {
	result := s.with(ctx).Model(&SignInTest{}).Where("id = ? AND answered IS NULL", test.ID).
		Select("Answered", "Accepted", "CloudAccepted", "CloudReason", "Assertion", "Fields").Updates(&test)
	if result.Error != nil || result.RowsAffected == 0 {
		return false, result.Error
	}
	return true, s.Notify(ctx, Event{Kind: EventFederation})
}
