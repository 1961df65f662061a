package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
)

func newRulesCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "rules", Short: "Say what each attribute in the cloud becomes",
		Long: `Rules say how each attribute of a resource gets its value. Attributes without a
rule are never touched. Edits go to the draft; 'kambrel impact' shows what they
would do, 'kambrel settings activate' puts them to work.`,
	}
	command.AddCommand(newRulesListCommand(d), newRulesTargetsCommand(d), newRulesSetCommand(d), newRulesRemoveCommand(d), newRulesResetCommand(d), newRulesPersonCommand(d))
	return command
}

// kindFlag is the kind that a command is about.
func kindFlag(command *cobra.Command, kind *string) {
	command.Flags().StringVar(kind, "kind", "users", "users, groups or contacts")
}

// way tells how a rule makes its value, in one line.
func way(r settings.Rule) string {
	var text string
	switch {
	case r.From != "":
		text = "from " + r.From
	case r.Formula != "":
		text = "formula " + r.Formula
	case r.Reference != "":
		text = "reference " + r.Reference
	case len(r.Granted) > 0:
		parts := make([]string, len(r.Granted))
		for i, g := range r.Granted {
			parts[i] = fmt.Sprintf("%s to members of %s", g.Value, g.Group)
		}
		text = "granted " + strings.Join(parts, ", ")
	default:
		text = fmt.Sprintf("always %v", r.Always)
	}
	for _, part := range []struct{ name, value string }{{"when", r.When}, {"fallback", r.Fallback}} {
		if part.value != "" {
			text += "; " + part.name + " " + part.value
		}
	}
	if r.CreateOnly {
		text += "; on creation only"
	}
	if r.Required {
		text += "; required"
	}
	if len(r.Prefer) > 0 {
		text += "; of " + strings.Join(r.Prefer, " before ") + " before others"
	}
	return text
}

func newRulesListCommand(d *deps) *cobra.Command {
	var name string
	command := &cobra.Command{
		Use: "list", Short: "List the rules of a kind, in the draft if there is one", Args: terminal.NoArguments, Example: "  kambrel rules list\n  kambrel rules list --kind group -o yaml",
		RunE: func(cmd *cobra.Command, _ []string) error {
			kind, err := kindArgument(name)
			if err != nil {
				return err
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (settings.Taking, error) {
				draft, err := c.Draft(ctx)
				if err != nil {
					return settings.Taking{}, err
				}
				return *draft.Document.Of(kind), nil
			}, func(w io.Writer, t settings.Taking) error {
				table := newTable("TARGET", "RULE")
				for _, r := range t.Rules {
					table.add(r.Target, way(r))
				}
				return table.print(w)
			})
		},
	}
	kindFlag(command, &name)
	return command
}

func newRulesTargetsCommand(d *deps) *cobra.Command {
	var name string
	command := &cobra.Command{
		Use: "targets", Short: "List the attributes that the cloud offers, and which have a rule", Args: terminal.NoArguments, Example: "  kambrel rules targets --kind contact",
		RunE: func(cmd *cobra.Command, _ []string) error {
			kind, err := kindArgument(name)
			if err != nil {
				return err
			}
			type target struct {
				wire.Target
				Rule string `json:"rule,omitempty"`
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]target, error) {
				view, err := c.Cloud(ctx)
				if err != nil {
					return nil, err
				}
				draft, err := c.Draft(ctx)
				if err != nil {
					return nil, err
				}
				targets := []target{}
				for _, t := range view.Targets {
					if t.Kind != string(kind) {
						continue
					}
					one := target{Target: t}
					for _, r := range draft.Document.Of(kind).Rules {
						if strings.EqualFold(r.Target, t.Path) {
							one.Rule = way(r)
						}
					}
					targets = append(targets, one)
				}
				return targets, nil
			}, func(w io.Writer, targets []target) error {
				table := newTable("TARGET", "TYPE", "RULE")
				for _, t := range targets {
					kind := t.Type
					for _, part := range []struct {
						is   bool
						word string
					}{{t.MultiValued, "many"}, {t.Required, "required"}, {t.Unique, "unique"}, {t.ReadOnly, "read-only"}} {
						if part.is {
							kind += ", " + part.word
						}
					}
					table.add(t.Path, kind, cmp.Or(t.Rule, "-"))
				}
				return table.print(w)
			})
		},
	}
	kindFlag(command, &name)
	return command
}

func newRulesSetCommand(d *deps) *cobra.Command {
	var name, always string
	var grants []string
	rule := settings.Rule{}
	command := &cobra.Command{
		Use: "set TARGET", Short: "Set the rule of an attribute in the draft", Args: terminal.OneArgument("the attribute of the resource"),
		Long: "Sets how an attribute of the resource gets its value, in place of the rule that it\nhas. Give exactly one of --from, --always, --formula, --reference and --grant.",
		Example: `  kambrel rules set nickName --from givenName
  kambrel rules set preferredLanguage --always nn-NO --create-only
  kambrel rules set title --formula 'capitalized(entry.title)' --when 'has(entry.title)' --fallback '"Crew"'
  kambrel rules set entitlements --grant 'bridge-app=CN=Deck Staff,OU=Teams,DC=corp,DC=halvard,DC=example'
  kambrel rules set displayName --kind group --from cn --required`,
		RunE: func(cmd *cobra.Command, args []string) error {
			rule.Target = args[0]
			if cmd.Flags().Changed("always") {
				rule.Always = literal(always)
			}
			for _, grant := range grants {
				value, group, ok := strings.Cut(grant, "=")
				if !ok || !strings.Contains(group, "=") {
					return fmt.Errorf("--grant %q: write it as VALUE=GROUP, with the group's distinguished name", grant)
				}
				rule.Granted = append(rule.Granted, settings.Grant{Group: group, Value: value})
			}
			return d.editRules(cmd, name, func(rules []settings.Rule) ([]settings.Rule, error) {
				at := slices.IndexFunc(rules, func(r settings.Rule) bool { return strings.EqualFold(r.Target, rule.Target) })
				if at >= 0 {
					rules[at] = rule
				} else {
					rules = append(rules, rule)
				}
				return rules, nil
			})
		},
	}
	kindFlag(command, &name)
	f := command.Flags()
	f.StringVar(&rule.From, "from", "", "the directory attribute whose value is taken")
	f.StringVar(&always, "always", "", "a fixed value")
	f.StringVar(&rule.Formula, "formula", "", "a formula (see 'kambrel formula functions')")
	f.StringVar(&rule.Reference, "reference", "", "a directory attribute that names other entries; the value is the id of their resource")
	f.StringArrayVar(&grants, "grant", nil, "VALUE=GROUP: members of the group have the value; may be given several times")
	f.StringVar(&rule.When, "when", "", "a formula that must be true")
	f.StringVar(&rule.Fallback, "fallback", "", "a formula for the value where the rule gives none")
	f.BoolVar(&rule.CreateOnly, "create-only", false, "leave the value alone once the resource exists")
	f.BoolVar(&rule.Required, "required", false, "without a value the entry has a problem")
	f.StringSliceVar(&rule.Prefer, "prefer", nil, "directories whose value counts first where one person has entries in several")
	return command
}

// literal reads true, false and whole numbers as such, and the rest as text.
func literal(text string) any {
	switch text {
	case "true":
		return true
	case "false":
		return false
	}
	var n int64
	if _, err := fmt.Sscanf(text, "%d", &n); err == nil && fmt.Sprint(n) == text {
		return n
	}
	return text
}

func newRulesRemoveCommand(d *deps) *cobra.Command {
	var name string
	command := &cobra.Command{
		Use: "remove TARGET", Short: "Take the rule of an attribute out of the draft", Args: terminal.OneArgument("the attribute of the resource"),
		Long: "Without a rule an attribute is left alone: the values that are in the cloud stay.", Example: "  kambrel rules remove nickName",
		RunE: func(cmd *cobra.Command, args []string) error {
			return d.editRules(cmd, name, func(rules []settings.Rule) ([]settings.Rule, error) {
				at := slices.IndexFunc(rules, func(r settings.Rule) bool { return strings.EqualFold(r.Target, args[0]) })
				if at < 0 {
					return nil, fmt.Errorf("no rule sets %s: see 'kambrel rules list'", args[0])
				}
				return slices.Delete(rules, at, at+1), nil
			})
		},
	}
	kindFlag(command, &name)
	return command
}

func newRulesResetCommand(d *deps) *cobra.Command {
	var name string
	command := &cobra.Command{
		Use: "reset [TARGET]", Short: "Put the default rule of an attribute, or all of them, into the draft", Args: cobra.MaximumNArgs(1),
		Example: "  kambrel rules reset displayName\n  kambrel rules reset --kind group",
		RunE: func(cmd *cobra.Command, args []string) error {
			kind, err := kindArgument(name)
			if err != nil {
				return err
			}
			return d.editDraft(cmd, func(document *settings.Document) error {
				defaults := document.DefaultRules(kind)
				if len(args) == 0 {
					document.Of(kind).Rules = defaults
					return nil
				}
				at := slices.IndexFunc(defaults, func(r settings.Rule) bool { return strings.EqualFold(r.Target, args[0]) })
				if at < 0 {
					return fmt.Errorf("there is no default rule for %s", args[0])
				}
				rules := &document.Of(kind).Rules
				if have := slices.IndexFunc(*rules, func(r settings.Rule) bool { return strings.EqualFold(r.Target, args[0]) }); have >= 0 {
					(*rules)[have] = defaults[at]
				} else {
					*rules = append(*rules, defaults[at])
				}
				return nil
			})
		},
	}
	kindFlag(command, &name)
	return command
}

func newRulesPersonCommand(d *deps) *cobra.Command {
	var remove bool
	var carried string
	rule := settings.PersonRule{}
	command := &cobra.Command{
		Use: "person [NAME]", Short: "Say in the draft which entries of several directories are one person", Args: cobra.MaximumNArgs(1),
		Long: `Entries of different directories are one person, with one resource, when a person
rule gives the same text for them. Each rule of an attribute asks the directories
in the order of the settings, or as its --prefer says. When the entry that bears
the link goes, another one of the person takes it over. Without arguments the
person rules are listed.

With --carried-id an attribute may hold the id that the person's entry had in
another directory: whoever comes with it takes that entry's resource over.`,
		Example: `  kambrel rules person
  kambrel rules person 'same employee number' --formula 'first([entry.employeeID, entry.employeeNumber])'
  kambrel rules person 'same address' --from mail
  kambrel rules person 'same address' --remove
  kambrel rules person --carried-id extensionAttribute1`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 && !cmd.Flags().Changed("carried-id") {
				return d.listPersonRules(cmd)
			}
			return d.editDraft(cmd, func(document *settings.Document) error {
				if cmd.Flags().Changed("carried-id") {
					document.Users.CarriedID = carried
				}
				if len(args) == 0 {
					return nil
				}
				rule.Name = args[0]
				rules := &document.Users.Person
				at := slices.IndexFunc(*rules, func(r settings.PersonRule) bool { return r.Name == rule.Name })
				switch {
				case remove && at < 0:
					return fmt.Errorf("no person rule is called %q: see 'kambrel rules person'", rule.Name)
				case remove:
					*rules = slices.Delete(*rules, at, at+1)
				case at >= 0:
					(*rules)[at] = rule
				default:
					*rules = append(*rules, rule)
				}
				return nil
			})
		},
	}
	f := command.Flags()
	f.StringVar(&rule.From, "from", "", "the directory attribute that is compared")
	f.StringVar(&rule.Formula, "formula", "", "a formula whose text is compared")
	f.BoolVar(&remove, "remove", false, "take the person rule away")
	f.StringVar(&carried, "carried-id", "", "the attribute with the id that the entry had elsewhere; empty for none")
	return command
}

// personRules is how entries become one person.
type personRules struct {
	Person    []settings.PersonRule `json:"person"`
	CarriedID string                `json:"carriedId"`
}

func (d *deps) listPersonRules(cmd *cobra.Command) error {
	return ask(d, cmd, func(ctx context.Context, c *client.Client) (personRules, error) {
		draft, err := c.Draft(ctx)
		return personRules{append([]settings.PersonRule{}, draft.Document.Users.Person...), draft.Document.Users.CarriedID}, err
	}, func(w io.Writer, p personRules) error {
		if len(p.Person) == 0 && p.CarriedID == "" {
			fmt.Fprintln(w, "No entries are ever one person: there are no person rules.")
			return nil
		}
		table := newTable("PERSON RULE", "COMPARES")
		for _, rule := range p.Person {
			table.add(rule.Name, cmp.Or(rule.From, "formula "+rule.Formula))
		}
		if p.CarriedID != "" {
			table.add("carried id", p.CarriedID)
		}
		return table.print(w)
	})
}

// editRules changes the rules of a kind in the draft.
func (d *deps) editRules(cmd *cobra.Command, name string, edit func([]settings.Rule) ([]settings.Rule, error)) error {
	kind, err := kindArgument(name)
	if err != nil {
		return err
	}
	return d.editDraft(cmd, func(document *settings.Document) error {
		rules, err := edit(document.Of(kind).Rules)
		if err == nil {
			document.Of(kind).Rules = rules
		}
		return err
	})
}
