// Package about names what problems and acts are about: one thing, by its type and
// its key.
package about

import "kambrel.example/kambrel/core/entry"

// Type is the type of a thing.
type Type string

// The types, with what their key is.
const (
	Entry    Type = "entry"    // directory/id
	Resource Type = "resource" // its id
	// CloudGroup is a group of the cloud in a directory: directory/id of the resource.
	CloudGroup Type = "cloud-group"
	Directory  Type = "directory" // its name in the settings
	Agent      Type = "agent"     // its id
	Cloud      Type = "cloud"     // none: there is one
	Domain     Type = "domain"    // its name
	Run        Type = "run"       // its number
	Repair     Type = "repair"    // its number
	Settings   Type = "settings"  // the number of a revision, none for the draft
	Operator   Type = "operator"  // the name
	Token      Type = "token"     // its id
	Service    Type = "service"   // none: the service itself and its database
)

// Thing is what something is about.
type Thing struct {
	Type Type   `json:"type" enum:"entry,resource,cloud-group,directory,agent,cloud,domain,run,repair,settings,operator,token,service"`
	Key  string `json:"key" doc:"directory/id of an entry or a cloud group, else a name, id or number; empty where there is one only"`
}

// CloudGroupOf names a group of the cloud in a directory.
func CloudGroupOf(directory, resource string) Thing {
	return Thing{CloudGroup, directory + "/" + resource}
}

// EntryOf names an entry.
func EntryOf(ref entry.Ref) Thing { return Thing{Entry, ref.String()} }
