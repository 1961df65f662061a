package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/expect"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/wire"
)

// testFile is a file that says what must hold of settings.
type testFile struct {
	Entries []testEntries          `yaml:"entries"`
	Cloud   []entry.Resource       `yaml:"cloud"`
	Domains []string               `yaml:"domains"`
	Now     time.Time              `yaml:"now"`
	Expect  []settings.Expectation `yaml:"expect"`
}

// testEntries are those of one directory: in a file, or here.
type testEntries struct {
	Directory string `yaml:"directory"`
	File      string `yaml:"file"`
	LDIF      string `yaml:"ldif"`
}

// tested is what comes of a file.
type tested struct {
	Holding int             `json:"holding"`
	Failing int             `json:"failing"`
	Micros  int64           `json:"micros"`
	Results []expect.Result `json:"results"`
}

func newSettingsTestCommand(d *deps) *cobra.Command {
	var all bool
	command := &cobra.Command{
		Use: "test SETTINGS TESTS", Short: "Check that settings do to entries what a file says, without a service", Args: cobra.ExactArgs(2),
		Long: `Decides by settings about entries that are written down, as a run would, and holds that
against what a file expects: who takes part and why, what each attribute becomes, which
resource somebody adopts, which problem stands in the way. It asks no service, directory
or cloud, so that it can stand beside the settings in version control.

  entries:                       # LDIF (RFC 2849), in a file or here
    - {directory: halvard, file: people.ldif}
  cloud:                         # resources that the cloud has already, as SCIM has them
    - {userName: jon.sletta@halvard.example, displayName: Jon Sletta}
  domains: [halvard.example]     # verified; by default those of the settings
  expect:
    - {entry: ada.brekke, in: true, values: {title: Mate, userName: ada.brekke@halvard.example}}
    - {entry: svc-backup, in: false, because: Service Accounts, note: accounts of programs stay here}
    - {entry: jon.sletta, becomes: adopt, resource: jon.sletta@halvard.example}
    - {entry: mira.tangen, problem: near-miss}

An entry is named by its distinguished name, id, login, address or name. Exit status: 0 all
holds, 1 a file cannot be read, 2 something does not hold.`,
		Example: "  kambrel settings test settings.yaml tests.yaml\n  kambrel settings test settings.yaml tests.yaml --all",
		RunE: func(cmd *cobra.Command, args []string) error {
			began := time.Now()
			document, err := readSettings(args[0])
			if err != nil {
				return err
			}
			file, world, err := readTests(args[1], document)
			if err != nil {
				return err
			}
			results, err := expect.Check(cmd.Context(), document, world, file.Expect)
			if err != nil {
				return err
			}
			out := tested{Results: results}
			for _, r := range results {
				if r.Holds {
					out.Holding++
				} else {
					out.Failing++
				}
			}
			out.Micros = time.Since(began).Microseconds()
			if err := d.print(cmd.OutOrStdout(), out, func(w io.Writer) error { return printTested(w, out, all) }); err != nil {
				return err
			}
			if out.Failing > 0 {
				return statusError(statusProblems)
			}
			return nil
		},
	}
	command.Flags().BoolVar(&all, "all", false, "also name what holds")
	return command
}

func printTested(w io.Writer, out tested, all bool) error {
	for i, r := range out.Results {
		if r.Holds {
			if all {
				fmt.Fprintf(w, "ok     %s: %s\n", r.Expectation.Entry, r.Why)
			}
			continue
		}
		fmt.Fprintf(w, "WRONG  %s (expectation %d)\n", r.Expectation.Entry, i+1)
		if r.Expectation.Note != "" {
			fmt.Fprintf(w, "       it must hold since: %s\n", r.Expectation.Note)
		}
		for _, u := range r.Unmet {
			printUnmet(w, "       ", wire.Unmet(u))
		}
	}
	_, err := fmt.Fprintf(w, "%s: %d hold, %d do not. %.1f ms.\n", plural(len(out.Results), "expectation"), out.Holding, out.Failing, float64(out.Micros)/1000)
	return err
}

func readSettings(name string) (settings.Document, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return settings.Document{}, err
	}
	document, err := settings.Parse(text)
	if err != nil {
		return document, fmt.Errorf("%s: %w", name, err)
	}
	return document, nil
}

func readTests(name string, document settings.Document) (testFile, expect.World, error) {
	var file testFile
	text, err := os.ReadFile(name)
	if err != nil {
		return file, expect.World{}, err
	}
	if err := yaml.UnmarshalWithOptions(text, &file, yaml.Strict()); err != nil {
		return file, expect.World{}, fmt.Errorf("%s: %w", name, err)
	}
	if len(file.Expect) == 0 {
		return file, expect.World{}, fmt.Errorf("%s expects nothing: say what must hold under expect", name)
	}
	if file.Now.IsZero() {
		file.Now = time.Now()
	}
	world := expect.World{Resources: file.Cloud, Domains: file.Domains, Now: file.Now}
	for i, source := range file.Entries {
		entries, err := readEntries(filepath.Dir(name), source, document)
		if err != nil {
			return file, world, fmt.Errorf("%s: entries[%d]: %w", name, i, err)
		}
		world.Entries = append(world.Entries, entries...)
	}
	return file, world, nil
}

func readEntries(folder string, source testEntries, document settings.Document) ([]entry.Entry, error) {
	if (source.File == "") == (source.LDIF == "") {
		return nil, fmt.Errorf("say either file or ldif")
	}
	if _, known := document.Directory(source.Directory); !known {
		names := make([]string, len(document.Directories))
		for i, d := range document.Directories {
			names[i] = d.Name
		}
		return nil, fmt.Errorf("the settings name no directory %q; there are %v", source.Directory, names)
	}
	text := source.LDIF
	if source.File != "" {
		if !filepath.IsAbs(source.File) {
			source.File = filepath.Join(folder, source.File)
		}
		read, err := os.ReadFile(source.File)
		if err != nil {
			return nil, err
		}
		text = string(read)
	}
	entries, err := directory.FromLDIF(text, source.Directory)
	if err != nil && source.File != "" {
		err = fmt.Errorf("%s: %w", source.File, err)
	}
	return entries, err
}

func newSettingsCompareCommand(d *deps) *cobra.Command {
	var files []string
	command := &cobra.Command{
		Use: "compare BEFORE AFTER", Short: "Tell for whom two settings files differ, and in what, without a service", Args: cobra.ExactArgs(2),
		Long: `Decides by both about entries that are written down (LDIF, RFC 2849), and tells of each for
whom something changes what it was and what it becomes. Exit status 2 says that something changes.`,
		Example: "  kambrel settings compare before.yaml after.yaml --entries people.ldif\n  kambrel settings compare before.yaml after.yaml --entries halvard=halvard.ldif --entries brisling=brisling.ldif",
		RunE: func(cmd *cobra.Command, args []string) error {
			before, err := readSettings(args[0])
			if err != nil {
				return err
			}
			after, err := readSettings(args[1])
			if err != nil {
				return err
			}
			world := expect.World{Now: time.Now()}
			for _, file := range files {
				entries, err := namedEntries(file, before)
				if err != nil {
					return err
				}
				world.Entries = append(world.Entries, entries...)
			}
			differences, err := expect.Compare(cmd.Context(), before, after, world)
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), differences, func(w io.Writer) error { return printSettingsDifferences(w, differences, len(world.Entries)) }); err != nil {
				return err
			}
			if len(differences) > 0 {
				return statusError(statusProblems)
			}
			return nil
		},
	}
	command.Flags().StringArrayVar(&files, "entries", nil, "file with entries, with the directory's name before it where there are several: halvard=people.ldif")
	_ = command.MarkFlagRequired("entries")
	return command
}

// namedEntries reads a file, of the directory that is named before it or of the only one.
func namedEntries(file string, document settings.Document) ([]entry.Entry, error) {
	i := slices.IndexFunc([]byte(file), func(b byte) bool { return b == '=' })
	switch {
	case i > 0:
		return readEntries("", testEntries{Directory: file[:i], File: file[i+1:]}, document)
	case len(document.Directories) == 1:
		return readEntries("", testEntries{Directory: document.Directories[0].Name, File: file}, document)
	}
	return nil, fmt.Errorf("--entries %s: say of which directory, as in %s=%s", file, document.Directories[0].Name, file)
}

func printSettingsDifferences(w io.Writer, differences []expect.Difference, looked int) error {
	for _, one := range differences {
		fmt.Fprintln(w, one.Entry)
		if one.Before != one.After {
			fmt.Fprintf(w, "  before  %s\n  after   %s\n", one.Before, one.After)
		}
		for _, v := range one.Values {
			fmt.Fprintf(w, "  %s: %s -> %s\n", v.What, v.Expected, v.Got)
		}
	}
	_, err := fmt.Fprintf(w, "Of %s looked at something changes for %d.\n", map[bool]string{true: "one entry", false: fmt.Sprint(looked, " entries")}[looked == 1], len(differences))
	return err
}
