package formula

import (
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"

	"kambrel.example/kambrel/core/entry"
)

// Function is one line of the library beside CEL's own, with an example that a
// test works out.
type Function struct {
	Name    string // as it is written
	Does    string
	Example string
	Gives   string // what the example gives, as the formula's value is shown
}

// Library lists what formulas can use beside CEL's standard definitions and its
// strings extension (lowerAscii, replace, split, substring, trim, join, ...).
func Library() []Function {
	return slices.Clone(library)
}

var library = []Function{
	{"entry.NAME", "the first value of an attribute, \"\" where there is none", `entry.noSuchAttribute`, `""`},
	{"all.NAME", "every value of an attribute as a list", `size(all.noSuchAttribute) == 0`, "true"},
	{"has(entry.NAME)", "whether the entry has a value", `has(entry.noSuchAttribute)`, "false"},
	{"dn", "the distinguished name", `dn.endsWith("DC=example")`, "true"},
	{"containers", "names of the containers above the entry, the outermost first", `containers.join("/")`, `"Fleet/Deck"`},
	{"groups", "distinguished names of the groups that hold the entry, also through others", `size(groups) == 0`, "true"},
	{"inGroup(dn)", "whether the group holds the entry, also through others", `inGroup("CN=Crew,DC=example")`, "false"},
	{"first(list)", "the first text of a list that is not empty", `first([entry.noSuchAttribute, "Deck"])`, `"Deck"`},
	{"local(address)", "what stands before the @", `local("ada@halvard.example")`, `"ada"`},
	{"domain(address)", "what stands after the @", `domain("ada@halvard.example")`, `"halvard.example"`},
	{"ascii(text)", "letters without their marks: å as a, ø as o, ß as ss", `ascii("Bjørn Ås")`, `"Bjorn As"`},
	{"digits(text)", "the digits, and a plus in front", `digits("+47 (55) 12-34")`, `"+47551234"`},
	{"capitalized(text)", "each word with a capital and the rest small", `capitalized("ADA brekke-lind")`, `"Ada Brekke-Lind"`},
	{"flag(text, bit)", "whether a bit of a whole number in text is set", `flag("514", 2)`, "true"},
	{"fileTime(text)", "a count of 100 ns since 1601 as a date and time (RFC 3339); \"\" for never", `fileTime("133500000000000000")`, `"2024-01-17T21:20:00Z"`},
	{"accountName(text)", "the text as a directory of the dialect ad takes it for an account name", `accountName("Crew: North/South")`, `"Crew- North-South"`},
	{"leafName(dn)", "the first value of a distinguished name", `leafName("CN=Ada Lind,OU=Deck,DC=example")`, `"Ada Lind"`},
}

func functions() []cel.EnvOption {
	text := func(name string, work func(string) ref.Val) cel.EnvOption {
		return cel.Function(name, cel.Overload(name+"_string", []*cel.Type{cel.StringType}, cel.StringType,
			cel.UnaryBinding(func(in ref.Val) ref.Val { return work(string(in.(types.String))) })))
	}
	plain := func(work func(string) string) func(string) ref.Val {
		return func(in string) ref.Val { return types.String(work(in)) }
	}
	return []cel.EnvOption{
		cel.Variable("containers", cel.ListType(cel.StringType)),
		cel.Variable("groups", cel.ListType(cel.StringType)),
		cel.Function("flag", cel.Overload("flag_string_int", []*cel.Type{cel.StringType, cel.IntType}, cel.BoolType, cel.BinaryBinding(flag))),
		cel.Function("first", cel.Overload("first_list_string", []*cel.Type{cel.ListType(cel.StringType)}, cel.StringType, cel.UnaryBinding(first))),
		cel.Function("inList", cel.Overload("in_list_string", []*cel.Type{cel.StringType, cel.ListType(cel.StringType)}, cel.BoolType, cel.BinaryBinding(inGroup))),
		text("local", plain(func(address string) string { name, _, _ := strings.Cut(address, "@"); return name })),
		text("domain", plain(func(address string) string { _, after, _ := strings.Cut(address, "@"); return after })),
		text("ascii", plain(ascii)),
		text("digits", plain(digits)),
		text("capitalized", plain(capitalized)),
		text("leafName", plain(leafName)),
		text("accountName", plain(accountName)),
		text("fileTime", fileTime),
	}
}

// accountNames replaces the characters that an account name must not have ([MS-SAMR]
// section 3.1.1.6).
var accountNames = strings.NewReplacer("/", "-", "\\", "-", "[", "(", "]", ")", ":", "-", ";", "-", "|", "-", "=", "-", ",", " ", "+", "-", "*", "-", "?", "", "<", "(", ">", ")", "@", "-", `"`, "'")

func accountName(text string) string {
	return strings.TrimRight(strings.TrimSpace(accountNames.Replace(text)), ".")
}

// flag(text, bit) is false for "", as for an attribute the entry does not have.
func flag(text, bit ref.Val) ref.Val {
	value := string(text.(types.String))
	if value == "" {
		return types.False
	}
	number, err := strconv.ParseInt(value, 10, 64)
	if err != nil {
		return types.NewErr("flag: %q is no whole number", value)
	}
	return types.Bool(number&int64(bit.(types.Int)) != 0)
}

func first(list ref.Val) ref.Val {
	texts, err := list.ConvertToNative(stringsType)
	if err != nil {
		return types.WrapErr(err)
	}
	for _, text := range texts.([]string) {
		if strings.TrimSpace(text) != "" {
			return types.String(text)
		}
	}
	return types.String("")
}

// inGroup compares names as directories do, so that spelling does not matter.
func inGroup(name, groups ref.Val) ref.Val {
	wanted, err := entry.ParseDN(string(name.(types.String)))
	if err != nil {
		return types.NewErr("inGroup: %s", err)
	}
	names, err := groups.ConvertToNative(stringsType)
	if err != nil {
		return types.WrapErr(err)
	}
	return types.Bool(slices.ContainsFunc(names.([]string), func(group string) bool {
		dn, err := entry.ParseDN(group)
		return err == nil && dn.Equal(wanted)
	}))
}

// Letters that are no letter with a mark.
var plainLetters = strings.NewReplacer("ø", "o", "Ø", "O", "æ", "ae", "Æ", "AE", "œ", "oe", "Œ", "OE", "ß", "ss", "ł", "l", "Ł", "L", "đ", "d", "Đ", "D", "ð", "d", "Ð", "D", "þ", "th", "Þ", "Th", "ı", "i")

func ascii(text string) string {
	stripped, _, err := transform.String(transform.Chain(norm.NFD, runes.Remove(runes.In(unicode.Mn)), norm.NFC), plainLetters.Replace(text))
	if err != nil {
		return text
	}
	return stripped
}

func digits(text string) string {
	var b strings.Builder
	for _, r := range text {
		if r >= '0' && r <= '9' || r == '+' && b.Len() == 0 {
			b.WriteRune(r)
		}
	}
	return b.String()
}

func capitalized(text string) string {
	start := true
	return strings.Map(func(r rune) rune {
		was := start
		start = !unicode.IsLetter(r) && r != '\''
		if was {
			return unicode.ToUpper(r)
		}
		return unicode.ToLower(r)
	}, text)
}

func leafName(text string) string {
	dn, err := entry.ParseDN(text)
	if err != nil {
		return ""
	}
	return dn.Name()
}

// fileTime reads what AD-compatible directories write for times; 0 and the
// greatest number stand for never.
func fileTime(text string) ref.Val {
	if text == "" || text == "0" || text == "9223372036854775807" {
		return types.String("")
	}
	ticks, err := strconv.ParseInt(text, 10, 64)
	if err != nil || ticks < 0 {
		return types.NewErr("fileTime: %q is no count of 100 ns", text)
	}
	const to1970 = 11644473600 // seconds from 1601 to 1970
	return types.String(time.Unix(ticks/1e7-to1970, ticks%1e7*100).UTC().Format(time.RFC3339))
}
