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
	widths := make([]int, len(t.rows[0]))
	for _, row := range t.rows {
		for i, cell := range row {
			widths[i] = max(widths[i], runewidth.StringWidth(cell))
		}
	}
	terminal, _ := to.(cleanWriter)
	for n, row := range t.rows {
		var line strings.Builder
		for i, cell := range row {
			as := noTone
			if terminal.coloured {
				if as = tones[cell]; n == 0 {
					as = heading
				}
			}
			line.WriteString(as.paint(cell))
			if i < len(row)-1 {
				line.WriteString(strings.Repeat(" ", widths[i]-runewidth.StringWidth(cell)+2))
			}
		}
		if _, err := fmt.Fprintln(to, strings.TrimRight(line.String(), " ")); err != nil {
			return err
		}
	}
	return nil
}

// cleanWriter cleans all that is written, and paints it for terminals.
type cleanWriter struct {
	io.Writer
	coloured bool
}

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
