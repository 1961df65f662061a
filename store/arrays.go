package store

import (
	"database/sql/driver"
	"strings"

	"github.com/jackc/pgx/v5/pgtype"

	"kambrel.example/kambrel/core/entry"
)

// textArray is a PostgreSQL text[] in GORM's models and statements.
type textArray []string

// Value writes the array in PostgreSQL's text form.
func (a textArray) Value() (driver.Value, error) {
	var b strings.Builder
	b.WriteByte('{')
	for i, text := range a {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteByte('"')
		for j := range len(text) {
			if c := text[j]; c == '"' || c == '\\' {
				b.WriteByte('\\')
			}
			b.WriteByte(text[j])
		}
		b.WriteByte('"')
	}
	b.WriteByte('}')
	return b.String(), nil
}

// Scan reads the array.
func (a *textArray) Scan(source any) error {
	var out []string
	if err := pgtype.NewMap().SQLScanner(&out).Scan(source); err != nil {
		return err
	}
	*a = out
	return nil
}

func idArray(ids []entry.ID) textArray {
	texts := make(textArray, len(ids))
	for i, id := range ids {
		texts[i] = id.String()
	}
	return texts
}

// byteaArray is a PostgreSQL bytea[].
type byteaArray [][]byte

// Value writes the array in PostgreSQL's text form, each element as hex.
func (a byteaArray) Value() (driver.Value, error) {
	const digits = "0123456789abcdef"
	var b strings.Builder
	b.WriteByte('{')
	for i, octets := range a {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(`"\\x`)
		for _, octet := range octets {
			b.WriteByte(digits[octet>>4])
			b.WriteByte(digits[octet&15])
		}
		b.WriteByte('"')
	}
	b.WriteByte('}')
	return b.String(), nil
}

// octets is one bytea in a statement; GORM would spread a plain slice.
type octets []byte

// Value is the slice itself.
func (o octets) Value() (driver.Value, error) { return []byte(o), nil }
