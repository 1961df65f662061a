package store

import (
	"database/sql/driver"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgtype"

	"kambrel.example/kambrel/core/entry"
)

// textArray is a PostgreSQL text[] in GORM's models; statements wrap it.
type textArray []string

// Value writes the array in PostgreSQL's text form.
func (a textArray) Value() (driver.Value, error) { return a.literal(), nil }

// literal is the array as PostgreSQL reads it in a text.
func (a textArray) literal() string {
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
	return b.String()
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

// byteaArray is a PostgreSQL bytea[] in statements.
type byteaArray [][]byte

// texts and binaries carry arrays to the driver as they are: GORM would spread
// a plain slice, and a driver.Valuer would be written as text and parsed again.
type (
	texts    struct{ pgtype.FlatArray[string] }
	binaries struct{ pgtype.FlatArray[[]byte] }
)

// arguments wraps the arrays among a statement's arguments.
func arguments(args []any) []any {
	for i, arg := range args {
		switch v := arg.(type) {
		case textArray:
			args[i] = v.plain()
		case byteaArray:
			args[i] = binaries{pgtype.FlatArray[[]byte](v)}
		case map[string]any:
			for name, value := range v {
				if list, ok := value.(textArray); ok {
					v[name] = list.plain()
				}
			}
		}
	}
	return args
}

// plain is the array as an argument; one without values is empty and not null.
func (a textArray) plain() texts {
	if a == nil {
		a = textArray{}
	}
	return texts{pgtype.FlatArray[string](a)}
}

// octets is one bytea in a statement; GORM would spread a plain slice.
type octets []byte

// Value is the slice itself.
func (o octets) Value() (driver.Value, error) { return []byte(o), nil }

// numbers is an array of ids, as text.
func numbers(ids []int64) textArray {
	out := make(textArray, len(ids))
	for i, id := range ids {
		out[i] = strconv.FormatInt(id, 10)
	}
	return out
}
