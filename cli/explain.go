package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/core/problem"
)

// explained is the catalogue's line for a code.
type explained struct {
	Code   problem.Code `json:"code"`
	Title  string       `json:"title"`
	Cause  string       `json:"cause"`
	Remedy string       `json:"remedy"`
	About  string       `json:"about,omitempty"` // the type of what has the problem
}

func explainedOf(kind problem.Kind) explained {
	return explained{kind.Code, kind.Title, kind.Cause, kind.Remedy, string(kind.Touches)}
}

func newExplainCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "explain [CODE]", Short: "Tell what the code of a problem or a refusal means, and what to do", Args: cobra.MaximumNArgs(1),
		Long: `Codes stand in lists of problems, in answers of the API (RFC 9457, type and code), in logs and in
notices. Without one, all of them are listed; a part of one lists those that have it. It asks no
service.`,
		Example:           "  kambrel explain near-miss\n  kambrel explain login",
		ValidArgsFunction: completeCodes,
		RunE: func(cmd *cobra.Command, args []string) error {
			wanted := ""
			if len(args) == 1 {
				wanted = strings.ToLower(strings.TrimSpace(args[0]))
			}
			if code := problem.Code(wanted); problem.Known(code) {
				kind := explainedOf(problem.Describe(code))
				return d.print(cmd.OutOrStdout(), kind, func(w io.Writer) error {
					_, err := fmt.Fprintf(w, "%s\n%s\n\n%s\n\nWhat to do: %s\n", kind.Code, kind.Title, kind.Cause, kind.Remedy)
					return err
				})
			}
			var kinds []explained
			for _, kind := range problem.Catalogue() {
				if strings.Contains(string(kind.Code), wanted) || strings.Contains(strings.ToLower(kind.Title), wanted) {
					kinds = append(kinds, explainedOf(kind))
				}
			}
			if len(kinds) == 0 {
				return problem.New(problem.BadInput, "no code is %q, or has it in it; 'kambrel explain' lists all.", wanted)
			}
			return d.print(cmd.OutOrStdout(), kinds, func(w io.Writer) error {
				t := newTable("CODE", "WHAT IT IS")
				for _, kind := range kinds {
					t.add(kind.Code, kind.Title)
				}
				return t.print(w)
			})
		},
	}
}

// completeCodes completes codes with their titles.
func completeCodes(_ *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	var codes []string
	for _, kind := range problem.Catalogue() {
		if len(args) == 0 && strings.HasPrefix(string(kind.Code), typed) {
			codes = append(codes, string(kind.Code)+"\t"+kind.Title)
		}
	}
	return codes, cobra.ShellCompDirectiveNoFileComp
}
