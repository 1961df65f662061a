package directory

import (
	"bytes"
	"encoding/binary"
	"errors"
	"slices"
)

// errDescriptor is returned for a security descriptor that cannot be read.
var errDescriptor = errors.New("the security descriptor is malformed")

// Types and bits of access control entries ([MS-DTYP] sections 2.4.3 and 2.4.4).
const (
	allowed, denied             = 0x00, 0x01
	allowedObject, deniedObject = 0x05, 0x06
	inheritOnly                 = 0x08
	controlAccessRight          = 0x00000100
	genericAll                  = 0x10000000
	objectTypePresent           = 0x1
	inheritedTypePresent        = 0x2
)

// controlAccess tells whether a self-relative security descriptor ([MS-DTYP]
// section 2.4.6) gives one of the identities a control access right. The first
// access control entry that speaks about it decides (section 2.5.3.2).
func controlAccess(descriptor []byte, identities [][]byte, right []byte) (bool, error) {
	if len(descriptor) < 20 {
		return false, errDescriptor
	}
	at := binary.LittleEndian.Uint32(descriptor[16:])
	if at == 0 || uint64(at)+8 > uint64(len(descriptor)) {
		return false, errDescriptor
	}
	acl := descriptor[at:]
	count, rest := binary.LittleEndian.Uint16(acl[4:]), acl[8:]
	for range count {
		if len(rest) < 8 {
			return false, errDescriptor
		}
		size := int(binary.LittleEndian.Uint16(rest[2:]))
		if size < 8 || size > len(rest) {
			return false, errDescriptor
		}
		kind, speaks := aceSpeaks(rest[:size], identities, right)
		rest = rest[size:]
		if speaks {
			return kind == allowed || kind == allowedObject, nil
		}
	}
	return false, nil
}

// aceSpeaks tells whether an access control entry is about the right and one of
// the identities.
func aceSpeaks(ace []byte, identities [][]byte, right []byte) (kind byte, speaks bool) {
	kind, flags, mask, sid := ace[0], ace[1], binary.LittleEndian.Uint32(ace[4:]), ace[8:]
	if flags&inheritOnly != 0 || mask&(controlAccessRight|genericAll) == 0 {
		return kind, false
	}
	switch kind {
	case allowed, denied:
	case allowedObject, deniedObject:
		if len(sid) < 4 {
			return kind, false
		}
		present := binary.LittleEndian.Uint32(sid)
		sid = sid[4:]
		if present&objectTypePresent != 0 {
			if len(sid) < 16 || !bytes.Equal(sid[:16], right) {
				return kind, false
			}
			sid = sid[16:]
		}
		if present&inheritedTypePresent != 0 {
			if len(sid) < 16 {
				return kind, false
			}
			sid = sid[16:]
		}
	default:
		return kind, false
	}
	return kind, slices.ContainsFunc(identities, func(identity []byte) bool { return bytes.HasPrefix(sid, identity) })
}
