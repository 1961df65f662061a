// Command draw brings the picture of the rooms in docs/architecture.md up to date.
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"kambrel.example/kambrel/lab/house"
)

func main() {
	if err := draw(filepath.Join("docs", "architecture.md")); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func draw(file string) error {
	found, err := house.Load(".")
	if err != nil {
		return err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	const begin, end = "```mermaid\n", "```\n"
	before, rest, ok := strings.Cut(string(text), begin)
	_, after, closed := strings.Cut(rest, end)
	if !ok || !closed {
		return fmt.Errorf("%s has no mermaid block to draw into", file)
	}
	return os.WriteFile(file, []byte(before+begin+house.Draw(found)+end+after), 0o644)
}
