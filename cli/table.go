package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"

	"kambrel.example/kambrel/cli/terminal"
)

// table prints rows in columns; widths are those of a terminal's cells.
type table struct{ rows [][]string }

func newTable(titles ...string) *table { return &table{rows: [][]string{titles}} }

func (t *table) add(cells ...any) {
	row := make([]string, len(cells))
	for i, cell := range cells {
		row[i] = terminal.Clean(strings.NewReplacer("\n", " ", "\t", " ").Replace(fmt.Sprint(cell)))
	}
	t.rows = append(t.rows, row)
}

func (t *table) print(to io.Writer) error {
	terminal, _ := to.(cleanWriter)
	widths := make([]int, len(t.rows[0]))
	for _, row := range t.rows {
		for i, cell := range row {
			widths[i] = max(widths[i], runewidth.StringWidth(cell))
		}
	}
	fit(widths, terminal.width)
	for n, row := range t.rows {
		parts, lines := make([][]string, len(row)), 1
		for i, cell := range row {
			parts[i] = wrap(cell, widths[i])
			lines = max(lines, len(parts[i]))
		}
		for at := range lines {
			var line strings.Builder
			for i, cell := range row {
				part := ""
				if at < len(parts[i]) {
					part = parts[i][at]
				}
				as := noTone
				if terminal.coloured {
					if as = tones[cell]; n == 0 {
						as = heading
					}
				}
				line.WriteString(as.paint(part))
				if i < len(row)-1 {
					line.WriteString(strings.Repeat(" ", widths[i]-runewidth.StringWidth(part)+2))
				}
			}
			if _, err := fmt.Fprintln(to, strings.TrimRight(line.String(), " ")); err != nil {
				return err
			}
		}
	}
	return nil
}

// narrowest is how narrow a column becomes at most.
const narrowest = 14

// fit narrows the widest columns until a line has no more than so many cells, two of which
// stand between columns; 0 is any number, as for what is read by a program.
func fit(widths []int, cells int) {
	if cells == 0 {
		return
	}
	over := 2*(len(widths)-1) - cells
	for _, width := range widths {
		over += width
	}
	for over > 0 {
		widest := 0
		for i := range widths {
			if widths[i] > widths[widest] {
				widest = i
			}
		}
		if widths[widest] <= narrowest {
			return // the terminal breaks lines itself
		}
		widths[widest]--
		over--
	}
}

// wrap breaks a text between words, and a longer word anywhere.
func wrap(text string, cells int) []string {
	if runewidth.StringWidth(text) <= cells {
		return []string{text}
	}
	var lines []string
	line := ""
	for _, word := range strings.Split(text, " ") {
		if line != "" && runewidth.StringWidth(line)+1+runewidth.StringWidth(word) > cells {
			lines, line = append(lines, line), ""
		}
		if line != "" {
			line += " "
		}
		for line += word; runewidth.StringWidth(line) > cells; {
			head := runewidth.Truncate(line, cells, "")
			if head == "" { // one letter is wider
				break
			}
			lines, line = append(lines, head), line[len(head):]
		}
	}
	return append(lines, line)
}

// cleanWriter cleans all that is written, and paints it for terminals.
type cleanWriter struct {
	io.Writer
	coloured bool
	width    int // in cells, 0 where nobody looks at a terminal
}

func clean(to io.Writer) cleanWriter { return cleanWriter{to, coloured(to), widthOf(to)} }

func (w cleanWriter) Write(text []byte) (int, error) {
	out := terminal.Clean(string(text))
	if w.coloured {
		out = painted(out)
	}
	_, err := io.WriteString(w.Writer, out)
	return len(text), err
}

// when writes a time for people: the time today, else the day too.
func when(t *time.Time) string {
	if t == nil || t.IsZero() {
		return "-"
	}
	local := t.Local()
	if now := time.Now(); local.YearDay() == now.YearDay() && local.Year() == now.Year() {
		return local.Format("15:04:05")
	}
	return local.Format("2006-01-02 15:04")
}

func took(from, to *time.Time) string {
	if from == nil || to == nil {
		return "-"
	}
	d := to.Sub(*from)
	if d < 10*time.Second {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

func or(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}
