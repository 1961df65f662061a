package entry

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// DN is a parsed distinguished name (RFC 4514). The zero DN is the root.
type DN struct {
	text string
	rdns []string // normalized, leaf first
	// names are the values of the relative names without escapes, leaf first.
	names []string
}

// ParseDN reads the string form of a distinguished name.
func ParseDN(text string) (DN, error) {
	if strings.TrimSpace(text) == "" {
		return DN{}, fmt.Errorf("a distinguished name is empty: write it like OU=Fleet,DC=corp,DC=halvard,DC=example")
	}
	parsed, err := parseRDNs(text)
	if err != nil {
		return DN{}, fmt.Errorf("%q is no distinguished name (RFC 4514): %w", text, err)
	}
	dn := DN{text: text, rdns: make([]string, len(parsed)), names: make([]string, len(parsed))}
	for i, rdn := range parsed {
		parts := make([]string, len(rdn))
		for j, one := range rdn {
			parts[j] = shortKind(strings.ToLower(one.kind)) + "=" + pathEscape.Replace(strings.ToLower(escapeInvalid(oneSpace(one.value))))
		}
		slices.Sort(parts) // their order says nothing (RFC 4514 section 2.2)
		dn.rdns[i] = strings.Join(parts, "+")
		dn.names[i] = strings.ReplaceAll(strings.ToValidUTF8(rdn[0].value, "\uFFFD"), "\x00", "\uFFFD")
	}
	return dn, nil
}

// shortKinds are the short names of attribute types that names are made of, by their
// other names and numbers (RFC 4514 section 3, RFC 4519 section 2).
var shortKinds = map[string]string{
	"2.5.4.3": "cn", "commonname": "cn", "2.5.4.4": "sn", "surname": "sn", "2.5.4.5": "serialnumber", "2.5.4.6": "c", "countryname": "c",
	"2.5.4.7": "l", "localityname": "l", "2.5.4.8": "st", "stateorprovincename": "st", "2.5.4.9": "street", "streetaddress": "street",
	"2.5.4.10": "o", "organizationname": "o", "2.5.4.11": "ou", "organizationalunitname": "ou",
	"0.9.2342.19200300.100.1.25": "dc", "domaincomponent": "dc", "0.9.2342.19200300.100.1.1": "uid", "userid": "uid",
	"0.9.2342.19200300.100.1.3": "mail", "rfc822mailbox": "mail",
}

func shortKind(kind string) string {
	if short, known := shortKinds[strings.TrimPrefix(kind, "oid.")]; known {
		return short
	}
	return kind
}

// oneSpace makes runs of spaces one, which compare as one (RFC 4518 section 2.6.1).
func oneSpace(value string) string {
	for strings.Contains(value, "  ") {
		value = strings.ReplaceAll(value, "  ", " ")
	}
	return value
}

// PathOf is the path of a name, as ParseDN and Path make it; names without
// escapes, which nearly all are, take no parsing. A large group has many.
func PathOf(text string) (string, error) {
	if path, plain := plainPath(text); plain {
		return path, nil
	}
	dn, err := ParseDN(text)
	return dn.Path(), err
}

// plainPath turns a name around that is made of letters, digits and a few signs
// that mean nothing in a name.
func plainPath(text string) (string, bool) {
	path := make([]byte, 0, len(text))
	for end := len(text); end > 0; {
		start := strings.LastIndexByte(text[:end], ',') + 1
		kind, value, found := strings.Cut(text[start:end], "=")
		if kind, value = strings.Trim(kind, " "), strings.Trim(value, " "); !found || kind == "" || value == "" {
			return "", false
		}
		if len(path) > 0 {
			path = append(path, '/')
		}
		for i := range len(kind) {
			if c := plainBytes[kind[i]]; i > 0 && isDigit(c) || c >= 'a' && c <= 'z' {
				path = append(path, c)
			} else {
				return "", false
			}
		}
		if kind := path[len(path)-len(kind):]; len(kind) > 4 {
			if _, long := shortKinds[string(kind)]; long {
				return "", false
			}
		}
		if strings.Contains(value, "  ") {
			return "", false
		}
		path = append(path, '=')
		for i := range len(value) {
			c := plainBytes[value[i]]
			if c == 0 {
				return "", false
			}
			path = append(path, c)
		}
		if start == 0 {
			return string(path), true
		}
		end = start - 1
	}
	return "", false
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// plainBytes maps the bytes that mean nothing in a name to those of a path, and
// all others to 0.
var plainBytes = func() (plain [256]byte) {
	for c := byte('a'); c <= 'z'; c++ {
		plain[c], plain[c-'a'+'A'] = c, c
	}
	for _, c := range []byte("0123456789 -._@") {
		plain[c] = c
	}
	return plain
}()

// pathEscape keeps separators out of values, so that a path can be compared
// with plain string prefixes.
// NUL is escaped since PostgreSQL keeps none, and the byte 1 since lists of paths
// are divided by it.
var pathEscape = strings.NewReplacer(`\`, `\5c`, `/`, `\2f`, `,`, `\2c`, `+`, `\2b`, `=`, `\3d`, "\x00", `\00`, "\x01", `\01`)

// escapeInvalid writes bytes that are no UTF-8, which a name may hold escaped
// (RFC 4514 section 2.4), as text.
func escapeInvalid(value string) string {
	if utf8.ValidString(value) {
		return value
	}
	var b strings.Builder
	for len(value) > 0 {
		r, size := utf8.DecodeRuneInString(value)
		if r == utf8.RuneError && size == 1 {
			fmt.Fprintf(&b, `\%02x`, value[0])
		} else {
			b.WriteString(value[:size])
		}
		value = value[size:]
	}
	return b.String()
}

// String returns the name as it was given.
func (d DN) String() string { return d.text }

// Path is the name from the root down, normalized: "dc=example/dc=corp/ou=fleet".
// One name lies under another exactly when its path starts with the other's
// path and a slash.
func (d DN) Path() string {
	var b strings.Builder
	for i := len(d.rdns) - 1; i >= 0; i-- {
		b.WriteString(d.rdns[i])
		if i > 0 {
			b.WriteByte('/')
		}
	}
	return b.String()
}

// NameOfPath is a distinguished name with this path; its escapes are those of
// RFC 4514 section 2.4.
func NameOfPath(path string) string {
	steps := strings.Split(path, "/")
	slices.Reverse(steps)
	return strings.Join(steps, ",")
}

// Name is the value of the first relative name, without escapes.
func (d DN) Name() string {
	if len(d.names) == 0 {
		return ""
	}
	return d.names[0]
}

// Containers lists the names of the containers above, the outermost first; the
// parts of the domain's own name (RFC 2247) are left out.
func (d DN) Containers() []string {
	names := []string{}
	for i := len(d.rdns) - 1; i > 0; i-- {
		if !strings.HasPrefix(d.rdns[i], "dc=") {
			names = append(names, d.names[i])
		}
	}
	return names
}

// Depth is the number of relative names.
func (d DN) Depth() int { return len(d.rdns) }

// Equal compares two names, ignoring case and spelling.
func (d DN) Equal(other DN) bool { return d.Path() == other.Path() }

// SameDN tells whether two texts are one distinguished name, ignoring case and
// spelling; what is none equals nothing.
func SameDN(a, b string) bool {
	x, err := PathOf(a)
	y, err2 := PathOf(b)
	return err == nil && err2 == nil && x == y
}

// PathUnder tells whether path is base or lies below it.
func PathUnder(path, base string) bool {
	return path == base || strings.HasPrefix(path, base) && len(path) > len(base) && path[len(base)] == '/'
}

// DomainOf is the part of a name that consists of domain components, from the first of them
// on; the name itself where it has none.
func DomainOf(name string) string {
	at := strings.Index(strings.ToLower(name), "dc=")
	return name[max(0, at):]
}

// EscapeValue writes a value as it stands in a distinguished name (RFC 4514 section 2.4).
func EscapeValue(value string) string {
	var b strings.Builder
	for i := range len(value) {
		c := value[i]
		switch {
		case c == 0:
			b.WriteString(`\00`)
			continue
		case strings.IndexByte(`,+"\<>;=`, c) >= 0, c == '#' && i == 0, c == ' ' && (i == 0 || i == len(value)-1):
			b.WriteByte('\\')
		}
		b.WriteByte(c)
	}
	return b.String()
}
