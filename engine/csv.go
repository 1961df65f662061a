package engine

import "strings"

// calculated are the characters by which a spreadsheet takes a cell for a
// formula; values of a directory are anybody's words.
const calculated = "=+-@\t\r"

// cells makes a row of values that no spreadsheet calculates: an apostrophe
// before them is shown by none. Column names are ours and stay.
func cells(row ...string) []string {
	for i, text := range row {
		if rest := strings.TrimLeft(text, "'"); rest != "" && strings.ContainsRune(calculated, rune(rest[0])) {
			row[i] = "'" + text
		}
	}
	return row
}

// uncell is the value of a cell that cells has made.
func uncell(text string) string {
	if rest := strings.TrimLeft(text, "'"); rest != text && rest != "" && strings.ContainsRune(calculated, rune(rest[0])) {
		return text[1:]
	}
	return text
}
