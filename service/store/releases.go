package store

import (
	"context"
	"io"
	"time"

	"gorm.io/gorm"
)

// Releases are versions of the agent that are passed on to agents.
type Releases struct{ *session }

// Release is a version of the agent.
type Release struct {
	Version   string `gorm:"primaryKey"`
	Statement string // what was signed
	Key       string // the thumbprint by which it says that it is
	Made      time.Time
	Added     time.Time
	AddedBy   string
	Files     []ReleaseFile `gorm:"foreignKey:Version;references:Version"`
}

// ReleaseFile is the program of a platform.
type ReleaseFile struct {
	Version  string `gorm:"primaryKey"`
	Platform string `gorm:"primaryKey"`
	Name     string
	Size     int64
	SHA256   string `gorm:"column:sha256"`
	Here     bool   // its parts are all there
}

// partSize is how much of a program a row holds, in bytes.
const partSize = 1 << 20

// List lists all by when they were added, the newest first.
func (s Releases) List(ctx context.Context) ([]Release, error) {
	var releases []Release
	return releases, s.withFiles(ctx).Find(&releases).Error
}

// Get returns one.
func (s Releases) Get(ctx context.Context, version string) (Release, error) {
	var release Release
	return release, s.withFiles(ctx).Where("version = ?", version).Take(&release).Error
}

func (s Releases) withFiles(ctx context.Context) *gorm.DB {
	return s.with(ctx).Preload("Files", func(db *gorm.DB) *gorm.DB { return db.Order("platform") }).Order("added DESC")
}

// Add keeps a release; its programs come later.
func (s Releases) Add(ctx context.Context, release *Release) error {
	if err := s.with(ctx).Create(release).Error; err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "agent"})
}

// PutFile keeps the program of a platform.
func (s Releases) PutFile(ctx context.Context, version, platform string, program []byte) error {
	if _, err := s.exec(ctx, `DELETE FROM release_parts WHERE version = ? AND platform = ?`, version, platform); err != nil {
		return err
	}
	for part := 0; len(program) > 0; part++ {
		size := min(partSize, len(program))
		if _, err := s.exec(ctx, `INSERT INTO release_parts (version, platform, part, content) VALUES (?, ?, ?, ?)`, version, platform, part, octets(program[:size])); err != nil {
			return err
		}
		program = program[size:]
	}
	if _, err := s.exec(ctx, `UPDATE release_files SET here = true WHERE version = ? AND platform = ?`, version, platform); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "agent"})
}

// WriteFile writes the program of a platform part by part.
func (s Releases) WriteFile(ctx context.Context, version, platform string, to io.Writer) error {
	for part := 0; ; part++ {
		var contents [][]byte
		if err := s.raw(ctx, `SELECT content FROM release_parts WHERE version = ? AND platform = ? AND part = ?`, version, platform, part).Scan(&contents).Error; err != nil || len(contents) == 0 {
			return err
		}
		if _, err := to.Write(contents[0]); err != nil {
			return err
		}
	}
}

// Remove forgets a release; false when there is none.
func (s Releases) Remove(ctx context.Context, version string) (bool, error) {
	n, err := s.exec(ctx, `DELETE FROM releases WHERE version = ?`, version)
	if err != nil {
		return false, err
	}
	return n == 1, s.Notify(ctx, Event{Kind: "agent"})
}
