package directory

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/entry"
)

func TestSchemaOfDescriptions(t *testing.T) {
	t.Parallel()
	schema := schemaOf([]string{
		`( 2.5.4.41 NAME 'name' DESC 'RFC4519: common supertype' EQUALITY caseIgnoreMatch SUBSTR caseIgnoreSubstringsMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15{32768} )`,
		`( 2.5.4.12 NAME 'title' SUP name )`,
		`( 2.5.18.2 NAME ( 'modifyTimestamp' 'changed' ) EQUALITY generalizedTimeMatch ORDERING generalizedTimeOrderingMatch SINGLE-VALUE )`,
		`( 1.2 NAME 'berth' EQUALITY caseExactMatch SYNTAX 1.3 )`,
		`( 1.3 NAME 'loop' SUP loop )`, `nonsense`,
	}, []string{"Title", "changed", "berth", "loop", "unknown", "title;lang-nb"})
	assert.Equal(t, entry.Schema{
		"title": {Equality: "caseIgnoreMatch"}, "changed": {Equality: "generalizedTimeMatch", Ordering: "generalizedTimeOrderingMatch"}, "berth": {Equality: "caseExactMatch"}, "loop": {},
	}, schema)
}
