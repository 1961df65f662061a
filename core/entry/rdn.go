package entry

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
)

// pair is one attribute type with its value, without escapes.
type pair struct{ kind, value string }

// parseRDNs reads the string form of a distinguished name (RFC 4514 section 3), leaf
// first; names within a name that has several parts stand together. A semicolon
// divides like a comma, as in RFC 2253.
func parseRDNs(text string) ([][]pair, error) {
	var names [][]pair
	var name []pair
	for rest, more := text, true; more; {
		kind, after, found := strings.Cut(rest, "=")
		if kind = strings.TrimSpace(kind); !found || kind == "" || strings.ContainsAny(kind, `,;+\`) {
			return nil, errors.New("incomplete type, value pair")
		}
		if err := checkKind(kind); err != nil {
			return nil, err
		}
		end, escaped := 0, false
		for ; end < len(after) && (escaped || !strings.ContainsRune(",;+", rune(after[end]))); end++ {
			escaped = !escaped && after[end] == '\\'
		}
		value, err := unescape(after[:end])
		if err != nil {
			return nil, err
		}
		name = append(name, pair{kind, value})
		if more = end < len(after); more {
			rest = after[end+1:]
		}
		if !more || after[end] != '+' {
			names, name = append(names, name), nil
		}
	}
	return names, nil
}

// checkKind takes a descriptor or a dotted number (RFC 4512 section 1.4).
func checkKind(kind string) error {
	for i := range len(kind) {
		c := kind[i]
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		if !letter && !isDigit(c) && c != '-' && c != '.' && c != '_' {
			return fmt.Errorf("an attribute type holds %q", string(c))
		}
	}
	return nil
}

// unescape takes the escapes of a value away (RFC 4514 section 2.4).
func unescape(text string) (string, error) {
	text = strings.TrimLeft(text, " ")
	for bare := strings.TrimSuffix(text, " "); bare != text; bare = strings.TrimSuffix(text, " ") {
		if slashes := len(bare) - len(strings.TrimRight(bare, `\`)); slashes%2 == 1 {
			break // the space is escaped
		}
		text = bare
	}
	if strings.HasPrefix(text, "#") {
		return unescapeHex(text[1:])
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case strings.ContainsRune("\"<>\x00", rune(c)):
			return "", fmt.Errorf("got unescaped character: %q", string(c))
		case c != '\\':
			b.WriteByte(c)
		case i+1 < len(text) && strings.IndexByte(` "#+,;<=>\`, text[i+1]) >= 0:
			i++
			b.WriteByte(text[i])
		default:
			value, err := hex.DecodeString(text[min(i+1, len(text)):min(i+3, len(text))])
			if err != nil || len(value) != 1 {
				return "", errors.New("a backslash stands before neither a sign nor two hexadecimal digits")
			}
			b.WriteByte(value[0])
			i += 2
		}
	}
	return b.String(), nil
}

// unescapeHex reads a value that is written as the octets of its BER encoding: tag,
// length and contents.
func unescapeHex(text string) (string, error) {
	octets, err := hex.DecodeString(text)
	if err != nil {
		return "", fmt.Errorf("a value that begins with # is not hexadecimal: %w", err)
	}
	if len(octets) < 2 || octets[1] >= 0x80 || int(octets[1]) != len(octets)-2 {
		return "", errors.New("a value that begins with # is no BER encoding")
	}
	return string(octets[2:]), nil
}
