// Package sheet writes values into cells of a spreadsheet and reads them back.
package sheet

import "strings"

// calculated are the characters by which a spreadsheet takes a cell for a
// formula; values of a directory are anybody's words.
const calculated = "=+-@\t\r"

// Cells makes a row of values that no spreadsheet calculates: an apostrophe
// before them is shown by none. Column names are ours and stay.
func Cells(row ...string) []string {
	for i, text := range row {
		if rest := strings.TrimLeft(text, "'"); rest != "" && strings.ContainsRune(calculated, rune(rest[0])) {
			row[i] = "'" + text
		}
	}
	return row
}

// Value is that of a cell that Cells has made.
func Value(text string) string {
	if rest := strings.TrimLeft(text, "'"); rest != text && rest != "" && strings.ContainsRune(calculated, rune(rest[0])) {
		return text[1:]
	}
	return text
}
