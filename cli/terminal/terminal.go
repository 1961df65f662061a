// Package terminal is how commands take arguments and ask people.
package terminal

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// ReadPassword reads a password from a file, - for standard input, or asks for it.
func ReadPassword(cmd *cobra.Command, file string) (string, error) {
	return AskPassword(cmd, file, "Password: ")
}

// AskPassword is the same with words of its own.
func AskPassword(cmd *cobra.Command, file, prompt string) (string, error) {
	var text []byte
	var err error
	switch {
	case file == "-":
		text, err = io.ReadAll(cmd.InOrStdin())
	case file != "":
		text, err = os.ReadFile(file)
	default:
		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return "", errors.New("there is no terminal to ask for the password on: give --password-file")
		}
		fmt.Fprint(cmd.ErrOrStderr(), prompt)
		text, err = term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(cmd.ErrOrStderr())
	}
	return strings.TrimRight(string(text), "\r\n"), err
}

// Interactive tells whether somebody can be asked.
func Interactive(cmd *cobra.Command) bool {
	file, ok := cmd.InOrStdin().(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
}

// Ask asks for a line on the terminal, or reads one where there is none.
func Ask(cmd *cobra.Command, prompt string) (string, error) {
	fmt.Fprint(cmd.ErrOrStderr(), prompt)
	line, err := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	if errors.Is(err, io.EOF) && line != "" {
		err = nil
	}
	return strings.TrimSpace(line), err
}

// ReadFile reads a file, - for standard input.
func ReadFile(cmd *cobra.Command, name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(cmd.InOrStdin())
	}
	return os.ReadFile(name)
}

// OneArgument checks that a command got the one thing it works on.
func OneArgument(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == 1 {
			return nil
		}
		return fmt.Errorf("%s takes one argument, %s; %d are given. See '%s --help'", cmd.CommandPath(), what, len(args), cmd.CommandPath())
	}
}

// NoArguments checks that a command got none.
func NoArguments(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	return fmt.Errorf("%s takes no arguments, but %q is given. See '%s --help'", cmd.CommandPath(), args[0], cmd.CommandPath())
}

// Confirm asks on a terminal for a word to be typed before something is done
// that was told already. Elsewhere the flag must have said so.
func Confirm(cmd *cobra.Command, question, word, flag string) error {
	if !Interactive(cmd) {
		return fmt.Errorf("nothing was done: there is no terminal to ask on; give %s", flag)
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s Type %s to go on: ", question, word)
	line, err := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	if err != nil {
		return err
	}
	if strings.TrimSpace(line) != word {
		return errors.New("nothing was done")
	}
	return nil
}

// Clean shows characters that a terminal would obey, or that turn text around,
// as what they are: names in a directory may hold them.
func Clean(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return r
		case unicode.IsControl(r), unicode.Is(unicode.Bidi_Control, r):
			return '\uFFFD'
		}
		return r
	}, text)
}
