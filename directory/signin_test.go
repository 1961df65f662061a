package directory

import (
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/secret"
)

// joined makes groups around Ada: one that holds her through another, one that does not.
func (k *keeper) joined() (through, other entry.ID) {
	k.t.Helper()
	group := func(name string, members ...string) (string, entry.ID) {
		dn := k.peer.group(k.crew, name, members)
		return dn, k.idAt(dn)
	}
	watch, _ := group("Watch", k.ada)
	bridge, through := group("Bridge", watch)
	k.change(watch, "member", k.ada, bridge) // a circle
	_, other = group("Engine", k.person(k.crew, "Bo"))
	return through, other
}

// TestWhoSignsIn tries passwords, standings and groups of all dialects.
func TestWhoSignsIn(t *testing.T) {
	for dialect, start := range keepers {
		t.Run(string(dialect), func(t *testing.T) {
			t.Parallel()
			k := start(t)
			k.change(k.ada, dialectOf(dialect).logins()[0], "ada.lind")
			through, other := k.joined()
			person, err := k.session.PersonOf(dialect, k.server.BaseDN, "ada.lind")
			require.NoError(t, err)
			require.Equal(t, password.StandsWell, person.Standing, person.Detail)
			assert.Equal(t, k.id, person.ID)
			assert.Equal(t, "ada.lind", person.Login)
			groups, err := k.session.Belongs(t.Context(), k.server.BaseDN, person, []entry.ID{through, other})
			require.NoError(t, err)
			assert.Equal(t, []entry.ID{through}, groups)
			try := func(text secret.Text) password.Standing {
				standing, detail, err := SignIn(t.Context(), connection(k.server), person, text)
				require.NoError(t, err)
				assert.NotContains(t, detail, text.Reveal()+".")
				return standing
			}
			assert.Equal(t, password.StandsWell, try(adaFirst))
			assert.Equal(t, password.StandsWrong, try(adaNext))
			assert.Equal(t, password.StandsWrong, try(""), "a bind without a password succeeds for anybody")

			for _, text := range []string{"*", "nobody", "ada.lind)(uid=*", "Ada"} {
				found, err := k.session.PersonOf(dialect, k.server.BaseDN, text)
				require.NoError(t, err)
				assert.Equal(t, password.StandsNobody, found.Standing, text)
			}
			if dialect == entry.AD {
				users := k.idAt("CN=Domain Users,CN=Users," + k.server.BaseDN)
				groups, err := k.session.Belongs(t.Context(), k.server.BaseDN, person, []entry.ID{users})
				require.NoError(t, err)
				assert.Equal(t, []entry.ID{users}, groups, "the primary group, of which she is no member by name")
				k.change(k.ada, "pwdLastSet", "0")
				assert.Equal(t, password.StandsExpired, try(adaFirst))
			} else if dialect == entry.Standard {
				k.change("cn=passwords,dc=brisling,dc=example", "pwdMustChange", "TRUE")
				k.change(k.ada, "pwdReset", "TRUE")
				assert.Equal(t, password.StandsExpired, try(adaFirst), "the first one is to be changed")
				k.change(k.ada, "pwdReset")
			} else {
				k.change(k.ada, "passwordExpirationTime", "19700101000000Z")
				assert.Equal(t, password.StandsExpired, try(adaFirst), "it is to be changed")
				k.change(k.ada, "passwordExpirationTime")
			}
			k.disable()
			if dialect != entry.AD {
				assert.Equal(t, password.StandsDisabled, try(adaFirst))
			}
			now, err := k.session.PersonNow(dialect, k.server.BaseDN, k.id)
			require.NoError(t, err)
			assert.Equal(t, password.StandsDisabled, now.Standing)
			require.NoError(t, k.admin.Del(ldap.NewDelRequest(k.ada, nil)))
			now, err = k.session.PersonNow(dialect, k.server.BaseDN, k.id)
			require.NoError(t, err)
			assert.Equal(t, password.StandsNobody, now.Standing)
		})
	}
}
