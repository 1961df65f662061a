package entry

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"
)

// ID is an entry's unchanging id: objectGUID, entryUUID or nsUniqueId.
type ID uuid.UUID

// ErrNoID is returned for text that is an id in no form we know.
var ErrNoID = errors.New("is no entry id")

// NewID returns the id that a textual UUID stands for.
func NewID(text string) (ID, error) {
	id, err := uuid.Parse(text)
	return ID(id), err
}

// IDFromObjectGUID reads the 16 octets of objectGUID, whose first three fields
// are little-endian.
func IDFromObjectGUID(octets []byte) (ID, error) {
	if len(octets) != 16 {
		return ID{}, fmt.Errorf("objectGUID of %d octets: %w", len(octets), ErrNoID)
	}
	return swap(ID(octets)), nil
}

// ObjectGUID returns the octets a dialect-ad directory uses for the id.
func (id ID) ObjectGUID() []byte {
	swapped := swap(id)
	return swapped[:]
}

func swap(id ID) ID {
	return ID{id[3], id[2], id[1], id[0], id[5], id[4], id[7], id[6],
		id[8], id[9], id[10], id[11], id[12], id[13], id[14], id[15]}
}

// String returns the lower-case textual form, which is also the link key.
func (id ID) String() string { return uuid.UUID(id).String() }

// IsZero tells whether the id was never set.
func (id ID) IsZero() bool { return id == ID{} }

// MarshalText writes the textual form.
func (id ID) MarshalText() ([]byte, error) { return uuid.UUID(id).MarshalText() }

// UnmarshalText reads the textual form.
func (id *ID) UnmarshalText(text []byte) error { return (*uuid.UUID)(id).UnmarshalText(text) }

// ParseIDs reads an id in any form people paste: textual (with or without
// braces), as nsUniqueId in four groups of eight digits, 32 hex digits, or base64 of the
// 16 octets. Hex and base64 do not tell their byte order, so both readings are returned,
// textual order first.
func ParseIDs(text string) ([]ID, error) {
	trimmed := strings.TrimSpace(text)
	if strings.Contains(trimmed, "-") {
		if id, err := uuid.Parse(trimmed); err == nil {
			return []ID{ID(id)}, nil
		}
	}
	if len(trimmed) == 35 && trimmed[8] == '-' && trimmed[17] == '-' && trimmed[26] == '-' {
		if octets, err := hex.DecodeString(strings.ReplaceAll(trimmed, "-", "")); err == nil {
			return []ID{ID(octets)}, nil
		}
	}
	octets, err := hex.DecodeString(strings.ReplaceAll(strings.ReplaceAll(trimmed, `\`, ""), " ", ""))
	if err != nil || len(octets) != 16 {
		octets, err = base64.StdEncoding.DecodeString(trimmed)
	}
	if err != nil || len(octets) != 16 {
		return nil, fmt.Errorf("%q %w: give it as UUID, as nsUniqueId, as 32 hex digits or as base64", text, ErrNoID)
	}
	return []ID{ID(octets), swap(ID(octets))}, nil
}

// Form is an id as people meet it in other tools.
type Form struct {
	Name string `json:"name" doc:"What that is called there"`
	Text string `json:"text"`
}

// Forms lists the id in the forms that servers of a dialect and their tools print, by
// the names that they have there.
func (id ID) Forms(dialect Dialect) []Form {
	base64Of := base64.StdEncoding.EncodeToString
	if dialect == AD {
		return []Form{{"objectGUID", id.String()}, {"objectGUID, hex", hex.EncodeToString(id.ObjectGUID())}, {"objectGUID, base64", base64Of(id.ObjectGUID())}, {"link key", id.String()}}
	}
	forms := []Form{{"entryUUID", id.String()}, {"nsUniqueId", id.NSUniqueID()}, {"hex", hex.EncodeToString(id[:])}, {"base64", base64Of(id[:])}, {"link key", id.String()}}
	if dialect == DS389 {
		return forms[1:]
	}
	return forms
}

// NSUniqueID is the id in four groups of eight digits, as 389 Directory Server and its kin
// write it.
func (id ID) NSUniqueID() string {
	digits := hex.EncodeToString(id[:])
	return digits[:8] + "-" + digits[8:16] + "-" + digits[16:24] + "-" + digits[24:]
}
