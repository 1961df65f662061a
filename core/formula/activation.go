package formula

import (
	"reflect"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/interpreter"

	"kambrel.example/kambrel/core/entry"
)

var stringsType = reflect.TypeFor[[]string]()

// activation gives a formula the variables of one entry, without copying it.
type activation struct{ entry entry.Entry }

func (a *activation) ResolveName(name string) (any, bool) {
	switch name {
	case overEntry, overResource:
		return newAttributeMap(a.entry.Attributes, false), true
	case "all":
		return newAttributeMap(a.entry.Attributes, true), true
	case "dn":
		return a.entry.DN, true
	case "directory":
		return a.entry.Directory, true
	case "id":
		return a.entry.ID.String(), true
	case "containers":
		dn, _ := entry.ParseDN(a.entry.DN) // no name has no containers
		return append([]string{}, dn.Containers()...), true
	case "groups":
		return append([]string{}, a.entry.AllGroups...), true
	}
	return nil, false
}

func (a *activation) Parent() interpreter.Activation { return nil }

// attributeMap is a CEL map that finds attributes without regard to case and
// has a value for every name, so that an absent attribute is "" and no error.
type attributeMap struct {
	traits.Mapper
	attributes entry.Attributes
	all        bool
}

func newAttributeMap(attributes entry.Attributes, all bool) *attributeMap {
	return &attributeMap{
		Mapper:     types.NewDynamicMap(types.DefaultTypeAdapter, map[string]string{}),
		attributes: attributes, all: all,
	}
}

// Find gives "" or an empty list where the entry has no such attribute.
func (m *attributeMap) Find(key ref.Val) (ref.Val, bool) {
	name, ok := key.(types.String)
	if !ok {
		return types.MaybeNoSuchOverloadErr(key), false
	}
	if m.all {
		return types.NewStringList(types.DefaultTypeAdapter, m.attributes.All(string(name))), true
	}
	return types.String(m.attributes.First(string(name))), true
}

// Get is Find for a name that must exist; every name does.
func (m *attributeMap) Get(key ref.Val) ref.Val {
	value, _ := m.Find(key)
	return value
}
