package problem

import (
	"fmt"
	"strings"
	"time"

	"kambrel.example/kambrel/core/entry"
)

// Facts are what one occurrence of a problem is about, as fields: texts and remedies
// are made of them, and nothing is ever read back from a text. Which ones are set
// follows from the code.
type Facts struct {
	Rule      string     `json:"rule,omitempty" doc:"The match rule or person rule"`
	Attribute string     `json:"attribute,omitempty"`
	Value     string     `json:"value,omitempty"`
	Lacks     []string   `json:"lacks,omitempty" doc:"Attributes that the entry does not have"`
	Domains   []string   `json:"domains,omitempty" doc:"Domains that the cloud has verified"`
	Entries   []Entry    `json:"entries,omitempty" doc:"Other entries that it is about"`
	Resources []Resource `json:"resources,omitempty" doc:"Resources of the cloud that it is about"`
	Altered   []Altered  `json:"altered,omitempty" doc:"Values of which the cloud made something else"`
	Refused   []Refused  `json:"refused,omitempty" doc:"Values that the cloud does not take"`
	By        string     `json:"by,omitempty" doc:"The operator who decided"`
	Run       int64      `json:"run,omitempty" doc:"The run that holds what it is about"`
	Made      string     `json:"made,omitempty" doc:"The kind of a resource that the cloud said it made"`
	Count     int        `json:"count,omitempty"`
	Hanging   int        `json:"hanging,omitempty" doc:"Memberships and references that hang on what is held"`
	Losses    []Loss     `json:"losses,omitempty" doc:"What the changes that are held would take away"`
	Earlier   int        `json:"earlier,omitempty" doc:"What of the same went before, since then, and counts with it"`
	Since     *time.Time `json:"since,omitempty"`
	Names     []string   `json:"names,omitempty" doc:"Names of directories or containers"`
	Granted   []string   `json:"granted,omitempty" doc:"Directories for which an agent may speak already"`
	Answer    string     `json:"answer,omitempty" doc:"What the other side said"`
}

// Entry is an entry that a problem is about, beside the one that has it.
type Entry struct {
	Directory string `json:"directory"`
	ID        string `json:"id"`
	Name      string `json:"name" doc:"The distinguished name"`
	Gone      bool   `json:"gone,omitempty" doc:"It was deleted from its directory"`
}

// EntryOf names an entry.
func EntryOf(ref entry.Ref, name string) Entry {
	return Entry{Directory: ref.Directory, ID: ref.ID.String(), Name: name}
}

// ResourceOf names a resource, with its link key and administrative roles.
func ResourceOf(r entry.Resource) Resource {
	return Resource{ID: r.ID(), Name: r.Name(), LinkKey: r.ExternalID(), Roles: r.AdministrativeRoles()}
}

// Resource is a resource of the cloud that a problem is about.
type Resource struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	LinkKey string   `json:"linkKey,omitempty"`
	Roles   []string `json:"roles,omitempty" doc:"Its administrative roles"`
	Alike   string   `json:"alike,omitempty" doc:"Why it looks like the same person"`
	Value   string   `json:"value,omitempty" doc:"The value that is alike"`
	Owner   *Entry   `json:"owner,omitempty" doc:"The entry that it belongs to"`
}

// Altered is a value of which the cloud made something else.
type Altered struct {
	Target string `json:"target"`
	Sent   string `json:"sent"`
	Kept   string `json:"kept"`
}

// Refused is a value that the cloud does not take, with its answer.
type Refused struct {
	Target string `json:"target"`
	Value  string `json:"value"`
	Answer string `json:"answer"`
}

// Loss is what changes would take away, alike ones together.
type Loss struct {
	Of     string `json:"of" enum:"removals,members,values,access,logins,identities" doc:"In which way"`
	Kind   string `json:"kind" enum:"user,group,contact" doc:"Of whom"`
	Target string `json:"target,omitempty" doc:"The attribute"`
	Count  int    `json:"count" doc:"How many lose it; of members how many members"`
	Groups int    `json:"groups,omitempty" doc:"Of members, from how many groups"`
	Text   string `json:"text" doc:"The same in words"`
}

// Say puts a loss into words.
func (l Loss) Say() Loss {
	whom := Whom(l.Kind, l.Count)
	switch l.Of {
	case "removals":
		if l.Target == "leave" {
			l.Text = fmt.Sprintf("delete %d %s when their grace time is over", l.Count, whom)
			return l
		}
		l.Text = fmt.Sprintf("suspend or delete %d %s", l.Count, whom)
	case "identities":
		l.Text = fmt.Sprintf("make %d %s again that were deleted in the directory, with another identity", l.Count, whom)
	case "members":
		l.Text = fmt.Sprintf("take %d members out of %d groups", l.Count, l.Groups)
	case "logins":
		l.Text = fmt.Sprintf("change the login of %d %s", l.Count, whom)
	case "access":
		l.Text = fmt.Sprintf("withdraw %s of %d %s", l.Target, l.Count, whom)
	default:
		l.Text = fmt.Sprintf("empty %s of %d %s", l.Target, l.Count, whom)
		if l.Target == "active" {
			l.Text = fmt.Sprintf("switch %d %s off", l.Count, whom)
		}
	}
	return l
}

// Whom is what people call so many of a kind.
func Whom(kind string, n int) string {
	if n == 1 {
		return map[string]string{"user": "person", "group": "group", "contact": "contact"}[kind]
	}
	return map[string]string{"user": "people", "group": "groups", "contact": "contacts"}[kind]
}

// Alike is the part of a text that others of the same cause share: what was refused and
// why, without the value; "" where there is none.
func (f Facts) Alike() string {
	texts := make([]string, len(f.Refused))
	for i, r := range f.Refused {
		texts[i] = r.Target + ": " + r.Answer
	}
	if len(texts) == 0 {
		return f.Answer
	}
	return strings.Join(texts, "; ")
}

// Label is what people call the resource, with its id.
func (r Resource) Label() string {
	if r.Name == "" || r.Name == r.ID {
		return r.ID
	}
	return r.Name + " (" + r.ID + ")"
}

// mostNamed is how many resources that look alike a text names.
const mostNamed = 5

// text is the sentence about one occurrence.
func (f Facts) text(code Code) string {
	if f.Answer != "" && code != FormulaFailed && code != CloudGroupName && code != GroupScopeRefuses { // all that is known
		return f.Answer
	}
	if len(f.Refused) > 0 {
		texts := make([]string, len(f.Refused))
		for i, r := range f.Refused {
			texts[i] = fmt.Sprintf("%s = %s: %s", r.Target, r.Value, r.Answer)
		}
		return strings.Join(texts, "; ")
	}
	key := fmt.Sprintf("by %s (%s = %s)", f.Rule, f.Attribute, f.Value)
	switch code {
	case DuplicateLogin, DuplicateAddress, DuplicateName:
		return fmt.Sprintf("%s = %s is also that of %s", f.Attribute, f.Value, f.holder())
	case LinkConflict:
		switch r := f.resource(); {
		case f.By != "":
			return fmt.Sprintf("%s decided for the resource %s, but it belongs to %s", f.By, r.Label(), f.owner())
		case f.Rule == "":
			return fmt.Sprintf("the resource %s is also that of %s", r.Label(), f.holder())
		case r.Owner != nil:
			return fmt.Sprintf("%s the resource %s fits, but it belongs to %s", key, r.Label(), f.owner())
		default:
			return fmt.Sprintf("%s the resource %s fits, but it bears the link key %s", key, r.Label(), r.LinkKey)
		}
	case AmbiguousMatch:
		names := make([]string, len(f.Resources))
		for i, r := range f.Resources {
			names[i] = r.Label()
		}
		return fmt.Sprintf("%s these resources fit: %s", key, strings.Join(names, ", "))
	case ProtectedResource:
		return fmt.Sprintf("%s the resource %s fits, and it has the role %s", key, f.resource().Label(), strings.Join(f.resource().Roles, ", "))
	case NearMiss:
		var texts []string
		for _, r := range f.Resources[:min(len(f.Resources), mostNamed)] {
			texts = append(texts, fmt.Sprintf("%s: %s, %s", r.Label(), r.Alike, r.Value))
		}
		return strings.Join(texts, "; ")
	case HeldByHand:
		return f.By + " has unlinked it"
	case PersonTwoResources:
		return fmt.Sprintf("by %s it is one person with %s, which is linked to the resource %s; this entry is linked to %s", f.Rule, f.holder(), f.Resources[0].ID, f.Resources[1].ID)
	case PersonAmbiguous:
		names := make([]string, len(f.Entries))
		for i, e := range f.Entries {
			names[i] = e.Name
		}
		return fmt.Sprintf("%s of directory %s share what the person rules compare, and an entry of another directory has it too", strings.Join(names, " and "), f.Entries[0].Directory)
	case LoginSuffix:
		_, domain, _ := strings.Cut(f.Value, "@")
		text := fmt.Sprintf("%s ends in %s", f.Value, domain)
		if len(f.Domains) > 0 {
			text += "; " + f.DomainsText()
		}
		return text
	case RequiredMissing:
		return f.Attribute + " would be empty: " + Lacks(f.Lacks)
	case FormulaFailed:
		return fmt.Sprintf("the formula for %s: %s", f.Attribute, f.Answer)
	case ValueAltered:
		texts := make([]string, len(f.Altered))
		for i, a := range f.Altered {
			texts[i] = fmt.Sprintf("%s: %s was sent, %s is kept", a.Target, a.Sent, a.Kept)
		}
		return strings.Join(texts, "; ")
	case CreationUnconfirmed:
		if f.Made != "" {
			return "the cloud said that it made it, without its id, and the cloud's lists do not have it; until it is found, no other " + f.Made + " is made"
		}
		return "its creation was sent and not answered, and the cloud's lists do not have it"
	case RemovalsHeld:
		text := fmt.Sprintf("run %s holds %d", f.Value, f.Count)
		if len(f.Losses) > 0 {
			texts := make([]string, len(f.Losses))
			for i, loss := range f.Losses {
				texts[i] = loss.Text
			}
			text = fmt.Sprintf("run %s would %s", f.Value, strings.Join(texts, ", "))
		}
		if earlier := EarlierText(f.Earlier, f.Since); earlier != "" {
			text += " (" + earlier + ")"
		}
		if f.Hanging > 0 {
			text += fmt.Sprintf(", and with them %d memberships and references to them", f.Hanging)
		}
		return text
	case ChangesMissed:
		return fmt.Sprintf("%s had not told %d changes", f.Value, f.Count)
	case AgentOffline:
		return "no agent online serves " + strings.Join(f.Names, ", ")
	case DirectoryNotGranted:
		return fmt.Sprintf("agent %s asks for %s", f.Value, strings.Join(f.Names, ", "))
	case PlainLDAP:
		return fmt.Sprintf("agent %s reaches %s so", f.Value, strings.Join(f.Names, ", "))
	case NothingVisible:
		return fmt.Sprintf("%s had %d entries, and shows none of them", f.Value, f.Count)
	case Paused, CertificateEnds, SignInGuessed, EmergencyUsed, AgentNotUpdated, SignOnNotSent, SignOnDrifted, ProviderRefused, ProviderEnds, NoWayBack, ExpectationBroken:
		return f.Answer
	case AttributeHidden:
		return fmt.Sprintf("entries of %s had %s, and at the last read nobody had", f.Value, strings.Join(f.Names, ", "))
	case CloudGroupName:
		return fmt.Sprintf("%s = %q: %s", f.Attribute, f.Value, f.Answer)
	case CloudGroupNameTaken:
		return fmt.Sprintf("%s is also that of %s", f.Value, f.holder())
	case CloudGroupClass:
		return fmt.Sprintf("it is a %s, and the settings ask for %s", strings.Join(f.Names, ", "), f.Value)
	case CloudGroupLost:
		return "it was " + f.Value
	case GroupScopeRefuses:
		texts := make([]string, len(f.Entries))
		for i, e := range f.Entries {
			texts[i] = e.Name
		}
		return f.Answer + ": " + strings.Join(texts, "; ")
	case ContainerMissing, CloudGroupContainer:
		return strings.Join(f.Names, "; ")
	case NoSettings:
		return "nothing is synced yet"
	default:
		return ""
	}
}

// DomainsText names the domains that the cloud has verified, "" where they play no
// part.
func (f Facts) DomainsText() string {
	if len(f.Domains) == 0 {
		return ""
	}
	return "verified are " + strings.Join(f.Domains, ", ")
}

// Lacks says why a rule gives an entry nothing: the attributes that it reads and the
// entry does not have.
func Lacks(names []string) string {
	if len(names) == 0 {
		return "the rule gives nothing for this entry"
	}
	return "the entry has no " + strings.Join(names, ", ")
}

// resource is the one that the problem is about.
func (f Facts) resource() Resource {
	if len(f.Resources) == 0 {
		return Resource{}
	}
	return f.Resources[0]
}

// Targets are the attributes of the resource that the problem is about: those whose value
// is missing, refused or taken. A value of the entry, or a rule, would have to be another.
func (f Facts) Targets(code Code) []string {
	switch code {
	case DuplicateLogin, DuplicateAddress, DuplicateName, RequiredMissing, FormulaFailed:
		return []string{f.Attribute}
	case LoginSuffix:
		return []string{"userName"}
	case LinkConflict, AmbiguousMatch, ProtectedResource, NearMiss:
		if f.Attribute != "" {
			return []string{f.Attribute}
		}
	case ValueRefused, CloudRefused, ValueAltered:
		var targets []string
		for _, r := range f.Refused {
			targets = append(targets, r.Target)
		}
		for _, a := range f.Altered {
			targets = append(targets, a.Target)
		}
		return targets
	}
	return nil
}

// holder names who has what somebody else wants.
func (f Facts) holder() string {
	if len(f.Entries) > 0 {
		return f.Entries[0].Name
	}
	text := "the resource " + f.resource().Label() + " in the cloud"
	if owner := f.resource().Owner; owner != nil {
		text += ", which belongs to " + owner.Name
	}
	return text
}

func (f Facts) owner() string {
	owner := f.resource().Owner
	switch {
	case owner == nil:
		return "another entry"
	case owner.Gone:
		return owner.Name + ", which was deleted from its directory"
	}
	return owner.Name
}

// EarlierText says that what went before counts with what would be taken away, "" where
// nothing does.
func EarlierText(count int, since *time.Time) string {
	if count == 0 || since == nil {
		return ""
	}
	return fmt.Sprintf("%d went before, since %s, and count with it", count, since.UTC().Format("2006-01-02 15:04 UTC"))
}
