package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
)

// keepingIn finds what a directory of a document keeps; "" for the only one that does.
func keepingIn(document *settings.Document, name string) (*settings.Directory, error) {
	var found []*settings.Directory
	for i := range document.Directories {
		d := &document.Directories[i]
		if d.Name == name || name == "" && d.KeepsCloudGroups() {
			found = append(found, d)
		}
	}
	switch {
	case len(found) == 0 && name != "":
		return nil, fmt.Errorf("the settings name no directory %q", name)
	case len(found) != 1:
		return nil, fmt.Errorf("%d directories keep groups of the cloud: name the one that is meant with --directory", len(found))
	}
	return found[0], nil
}

// editKeeping changes in the draft what a directory keeps.
func (d *deps) editKeeping(cmd *cobra.Command, directory string, edit func(*settings.Directory, *settings.CloudGroups) error) error {
	return d.editDraft(cmd, func(document *settings.Document) error {
		of, err := keepingIn(document, directory)
		if err != nil {
			return err
		}
		if of.CloudGroups == nil {
			of.CloudGroups = &settings.CloudGroups{}
		}
		return edit(of, of.CloudGroups)
	})
}

func newGroupsKeepCommand(d *deps) *cobra.Command {
	in := settings.CloudGroups{}
	var nested, none bool
	var kind, scope, empty, leavers string
	command := &cobra.Command{
		Use: "keep DIRECTORY", Short: "Say in the draft that groups are kept in a directory, where and how", Args: terminal.OneArgument("the directory's name"),
		Long: `Switches the feature cloud-groups on in the draft, and changes what is given. Which
groups are kept is said by a SCIM filter (RFC 7644) and by 'choose' and 'except'; what
they become by 'kambrel cloud-groups rules'.`,
		Example: `  kambrel cloud-groups keep halvard --container 'OU=Cloud Groups,DC=corp,DC=halvard,DC=example'
  kambrel cloud-groups keep halvard --filter 'displayName sw "R"' --scope domain-local
  kambrel cloud-groups keep brisling --container 'ou=Cloud Groups,dc=brisling,dc=example' --class groupOfUniqueNames
  kambrel cloud-groups keep halvard --none`,
		RunE: func(cmd *cobra.Command, args []string) error {
			given := cmd.Flags().Changed
			return d.editKeeping(cmd, args[0], func(of *settings.Directory, c *settings.CloudGroups) error {
				if !slices.Contains(of.Features, entry.FeatureCloudGroups) {
					of.Features = append(of.Features, entry.FeatureCloudGroups)
				}
				for name, set := range map[string]func(){
					"container": func() { c.Container = in.Container }, "filter": func() { c.Filter = in.Filter }, "mark": func() { c.Mark = in.Mark },
					"type": func() { c.Type = settings.GroupType(kind) }, "scope": func() { c.Scope = settings.GroupScope(scope) }, "class": func() { c.Class = in.Class },
					"empty": func() { c.Empty = settings.WhenEmpty(empty) }, "placeholder": func() { c.Placeholder = in.Placeholder }, "nested": func() { c.Flat = !nested },
					"trial-members": func() { c.TrialMembers = in.TrialMembers }, "leavers": func() { c.Leavers = settings.Policy(leavers) }, "grace": func() { c.Grace = in.Grace },
					"none": func() { c.None = none },
				} {
					if given(name) {
						set()
					}
				}
				return nil
			})
		},
	}
	flags := command.Flags()
	flags.StringVar(&in.Container, "container", "", "where they are kept")
	flags.StringVar(&in.Filter, "filter", "", "a SCIM filter of those that are kept; empty for all")
	flags.BoolVar(&none, "none", false, "keep none yet, so that one can be tried first")
	flags.StringVar(&in.Mark, "mark", "", "the attribute that bears the id of a group")
	flags.StringVar(&kind, "type", "", "dialect ad: security or distribution")
	flags.StringVar(&scope, "scope", "", "dialect ad: universal, global or domain-local")
	flags.StringVar(&in.Class, "class", "", "other dialects: groupOfNames, groupOfUniqueNames or groupOfMembers")
	flags.StringVar(&empty, "empty", "", "other dialects, of a group without members: placeholder or wait")
	flags.StringVar(&in.Placeholder, "placeholder", "", "other dialects: the only member of such a group")
	flags.BoolVar(&nested, "nested", true, "keep groups as members of groups")
	flags.IntVar(&in.TrialMembers, "trial-members", 0, "how many members a trial writes")
	flags.StringVar(&leavers, "leavers", "", "what becomes of a group that is no longer kept: delete or keep")
	flags.StringVar(&in.Grace, "grace", "", "how long it stays until then, such as 720h")
	return command
}

func newGroupsStopCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "stop DIRECTORY", Short: "Switch the feature off in the draft; the groups stay in the directory as they are", Args: terminal.OneArgument("the directory's name"), Example: "  kambrel cloud-groups stop brisling",
		RunE: func(cmd *cobra.Command, args []string) error {
			return d.editDraft(cmd, func(document *settings.Document) error {
				of, err := keepingIn(document, args[0])
				if err != nil {
					return err
				}
				of.Features = slices.DeleteFunc(of.Features, func(f entry.Feature) bool { return f == entry.FeatureCloudGroups })
				return nil
			})
		},
	}
}

// groupsChoiceCommand chooses groups or excepts them, by id or by name.
func (d *deps) groupsChoiceCommand(verb, short string) *cobra.Command {
	var directory string
	var undo bool
	command := &cobra.Command{
		Use: verb + " GROUP...", Short: short + ", in the draft", Args: cobra.MinimumNArgs(1),
		Example: "  kambrel cloud-groups " + verb + " 'Regatta Committee'\n  kambrel cloud-groups " + verb + " 'Regatta Committee' --undo",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			ids, err := groupIDs(cmd.Context(), c, args)
			if err != nil {
				return err
			}
			return d.editKeeping(cmd, directory, func(_ *settings.Directory, k *settings.CloudGroups) error {
				list, other := &k.Only, &k.Except
				if verb == "except" {
					list, other = other, list
				}
				chosen := func(id string) bool { return slices.Contains(ids, id) }
				*list, *other = slices.DeleteFunc(*list, chosen), slices.DeleteFunc(*other, chosen)
				if !undo {
					*list = append(*list, ids...)
				}
				if verb == "choose" && !undo {
					k.None = false
				}
				return nil
			})
		},
	}
	directoryFlag(command, &directory)
	command.Flags().BoolVar(&undo, "undo", false, "take that back")
	return command
}

func groupIDs(ctx context.Context, c *client.Client, names []string) ([]string, error) {
	var ids []string
	for _, name := range names {
		// Among all that the cloud has, since the draft may keep groups that the active
		// settings do not.
		page, err := c.Find(ctx, url.Values{"text": {name}, "kind": {"group"}, "limit": {"100"}})
		if err != nil {
			return nil, err
		}
		found := slices.DeleteFunc(page.Items, func(h wire.Hit) bool { return h.ResourceID == "" || h.ResourceID != name && h.Name != name })
		switch {
		case len(found) == 0:
			return nil, fmt.Errorf("the cloud has no group %q as far as Kambrel has read it", name)
		case len(found) > 1:
			return nil, fmt.Errorf("%d groups of the cloud are called %q: use the id of the one that is meant", len(found), name)
		}
		ids = append(ids, found[0].ResourceID)
	}
	return ids, nil
}

func newGroupsRulesCommand(d *deps) *cobra.Command {
	rule := settings.Rule{}
	var always, remove, set string
	var defaults bool
	command := &cobra.Command{
		Use: "rules [DIRECTORY]", Short: "List or change in the draft what a group becomes in the directory", Args: cobra.MaximumNArgs(1),
		Long: `Rules make the attributes of the entry from the group: 'from' takes an attribute of the
group, 'always' gives a fixed value, 'formula' is a CEL expression over resource, such as
resource.displayName. cn makes the name. Without an option the rules are listed.`,
		Example: `  kambrel cloud-groups rules halvard
  kambrel cloud-groups rules halvard --set cn --formula '"C " + resource.displayName' --required
  kambrel cloud-groups rules halvard --set description --always 'Kept as the cloud has it'
  kambrel cloud-groups rules halvard --remove description
  kambrel cloud-groups rules halvard --defaults`,
		RunE: func(cmd *cobra.Command, args []string) error {
			directory := strings.Join(args, "")
			if set == "" && remove == "" && !defaults {
				return d.listGroupRules(cmd, directory)
			}
			return d.editKeeping(cmd, directory, func(of *settings.Directory, k *settings.CloudGroups) error {
				if defaults {
					k.Rules = nil
					return nil
				}
				rules := slices.Clone(k.Whole(of.Dialect).Rules)
				target := set + remove
				at := slices.IndexFunc(rules, func(r settings.Rule) bool { return strings.EqualFold(r.Target, target) })
				if remove != "" {
					if at < 0 {
						return fmt.Errorf("no rule sets %s: see 'kambrel cloud-groups rules %s'", remove, of.Name)
					}
					k.Rules = slices.Delete(rules, at, at+1)
					return nil
				}
				if rule.Target = set; cmd.Flags().Changed("always") {
					rule.Always = literal(always)
				}
				if at >= 0 {
					rules[at] = rule
				} else {
					rules = append(rules, rule)
				}
				k.Rules = rules
				return nil
			})
		},
	}
	flags := command.Flags()
	flags.StringVar(&set, "set", "", "the attribute of the entry whose rule is set")
	flags.StringVar(&remove, "remove", "", "the attribute whose rule is taken away")
	flags.BoolVar(&defaults, "defaults", false, "put the default rules back")
	flags.StringVar(&rule.From, "from", "", "an attribute of the group")
	flags.StringVar(&always, "always", "", "a fixed value")
	flags.StringVar(&rule.Formula, "formula", "", "a CEL expression")
	flags.StringVar(&rule.When, "when", "", "a formula that must be true")
	flags.StringVar(&rule.Fallback, "fallback", "", "a formula for where the rule gives nothing")
	flags.BoolVar(&rule.Required, "required", false, "a group without this value is a problem")
	flags.BoolVar(&rule.CreateOnly, "create-only", false, "leave the value alone once the entry exists")
	return command
}

func (d *deps) listGroupRules(cmd *cobra.Command, directory string) error {
	return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]settings.Rule, error) {
		draft, err := c.Draft(ctx)
		if err != nil {
			return nil, err
		}
		of, err := keepingIn(&draft.Document, directory)
		if err != nil {
			return nil, err
		}
		k := settings.CloudGroups{}
		if of.CloudGroups != nil {
			k = *of.CloudGroups
		}
		return k.Whole(of.Dialect).Rules, nil
	}, func(w io.Writer, rules []settings.Rule) error {
		t := newTable("ATTRIBUTE", "RULE")
		for _, r := range rules {
			t.add(r.Target, way(r))
		}
		return t.print(w)
	})
}
