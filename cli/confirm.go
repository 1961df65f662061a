package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// confirm asks on a terminal for a word to be typed before something is done
// that was told already. Elsewhere the flag must have said so.
func confirm(cmd *cobra.Command, question, word, flag string) error {
	file, ok := cmd.InOrStdin().(*os.File)
	if !ok || !term.IsTerminal(int(file.Fd())) {
		return fmt.Errorf("nothing was done: there is no terminal to ask on; give %s", flag)
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s Type %s to go on: ", question, word)
	line, err := bufio.NewReader(file).ReadString('\n')
	if err != nil {
		return err
	}
	if strings.TrimSpace(line) != word {
		return errors.New("nothing was done")
	}
	return nil
}
