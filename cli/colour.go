package cli

import (
	"io"
	"os"
	"regexp"
	"strings"

	"golang.org/x/term"
)

// tone is what a colour says; the words say the same without it. On its
// way to a terminal a tone is a character of the private use area, which clean lets pass.
type tone rune

const (
	noTone  tone = 0
	good    tone = '\uE100'
	warning tone = '\uE101'
	bad     tone = '\uE102'
	heading tone = '\uE103'
	ends    tone = '\uE10F'
)

// The codes of ECMA-48, "select graphic rendition".
var codes = map[tone]string{good: "\x1b[32m", warning: "\x1b[33m", bad: "\x1b[31m", heading: "\x1b[1m", ends: "\x1b[0m"}

// tones are those of the words by which tables say how things stand.
var tones = map[string]tone{
	"in step": good, "in-step": good, "done": good, "online": good, "open": good, "active": good, "well": good,
	"finished with problems": warning, "problems": warning, "problem": warning, "held": warning, "suspended": warning, "leaving": warning, "changing": warning, "waits": warning, "to do": warning, "near-miss": warning,
	"failed": bad, "blocked": bad, "offline": bad, "closed": bad, "refused": bad, "not taken": bad, "lost": bad,
}

// ended are states in brackets, as changes have them, and warnings.
var ended = regexp.MustCompile(`(?m)\[(done|failed|blocked|held)\]|^ *! .*$`)

func (t tone) paint(text string) string {
	if t == noTone || text == "" {
		return text
	}
	return string(t) + text + string(ends)
}

// painted puts codes in the place of tones.
func painted(text string) string {
	text = ended.ReplaceAllStringFunc(text, func(found string) string {
		if as := tones[strings.Trim(found, "[]")]; as != noTone {
			return as.paint(found)
		}
		return warning.paint(found)
	})
	for t, code := range codes {
		text = strings.ReplaceAll(text, string(t), code)
	}
	return text
}

// coloured tells whether colours are wanted: a terminal reads, it is no dumb one, and
// NO_COLOR (no-color.org) is not set.
func coloured(to io.Writer) bool {
	file, is := to.(*os.File)
	return is && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" && term.IsTerminal(int(file.Fd()))
}

// widthOf is how many cells a line of the terminal has, 0 where it is none.
func widthOf(to io.Writer) int {
	file, is := to.(*os.File)
	if !is {
		return 0
	}
	width, _, err := term.GetSize(int(file.Fd()))
	if err != nil {
		return 0
	}
	return width
}
