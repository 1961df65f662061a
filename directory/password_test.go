package directory

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/lab/servers/serverstest"
)

// keeper is a directory whose agent's account may set passwords, with Ada in it.
type keeper struct {
	*peer
	crew, ada string
	id        entry.ID
}

func (k *keeper) account(protected ...string) Account {
	k.t.Helper()
	account, err := k.session.Account(k.dialect, k.server.BaseDN, k.id, protected...)
	require.NoError(k.t, err)
	return account
}

func (k *keeper) set(p NewPassword) (password.Reason, int) {
	k.t.Helper()
	_, err := k.session.SetPassword(k.t.Context(), k.account(), p)
	var refusal *password.Refusal
	if err == nil {
		return password.Done, 0
	}
	require.ErrorAs(k.t, err, &refusal)
	assert.NotContains(k.t, refusal.Error(), p.New.Reveal())
	return refusal.Reason, refusal.Least
}

func (k *keeper) holds(text secret.Text) (holds, known bool) {
	k.t.Helper()
	return Holds(k.t.Context(), connection(k.server), k.account(), text)
}

func (k *keeper) change(dn, attribute string, values ...string) {
	k.t.Helper()
	request := ldap.NewModifyRequest(dn, nil)
	request.Replace(attribute, values)
	require.NoError(k.t, k.admin.Modify(request))
}

func (k *keeper) find() {
	k.t.Helper()
	k.id = k.idAt(k.ada)
}

// idAt is the id of the entry of a name.
func (k *keeper) idAt(dn string) entry.ID {
	k.t.Helper()
	ids := dialectOf(k.dialect).ids()
	found, err := k.admin.Search(&ldap.SearchRequest{BaseDN: dn, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: ids})
	require.NoError(k.t, err)
	id, err := idOf(found.Entries[0], ids)
	require.NoError(k.t, err)
	return id
}

const adaFirst, adaNext, adaLast = secret.Text("Otter-Bay-55"), secret.Text("Gannet-Rock-66"), secret.Text("Puffin-Isle-77")

func keeperAD(t *testing.T) *keeper {
	server, err := serverstest.New(t).StartDomainController(t.Context())
	if errors.Is(err, servers.ErrNoDomainController) {
		t.Skip(err)
	}
	require.NoError(t, err)
	k := &keeper{peer: connectPeer(t, entry.AD, server)}
	k.crew = k.ou(server.BaseDN, "Crew")
	k.ada = k.person(k.crew, "Ada")
	k.change(k.ada, "unicodePwd", quoted(adaFirst))
	k.change(k.ada, "userAccountControl", "512")
	k.find()
	require.NoError(t, server.Grant(t.Context(), k.crew,
		"(OA;CIIO;CR;00299570-246d-11d0-a768-00aa006e0529;bf967aba-0de6-11d0-a285-00aa003049e2;SID-OF-THE-ACCOUNT)",
		"(OA;CIIO;WP;bf967a0a-0de6-11d0-a285-00aa003049e2;bf967aba-0de6-11d0-a285-00aa003049e2;SID-OF-THE-ACCOUNT)",
		"(OA;CIIO;WP;28630ebf-41d5-11d1-a9c1-0000f80367c1;bf967aba-0de6-11d0-a285-00aa003049e2;SID-OF-THE-ACCOUNT)"))
	return k
}

func keeperStandard(t *testing.T) *keeper {
	const base, policy = "dc=brisling,dc=example", "cn=passwords,dc=brisling,dc=example"
	const kambrel = `by dn.exact="uid=svc-kambrel,ou=Service Accounts,dc=brisling,dc=example" write`
	k := &keeper{peer: startStandardWith(t, servers.OpenLDAPOptions{Policy: policy, Access: `access to dn.subtree="ou=Crew,dc=brisling,dc=example" attrs=userPassword,pwdReset,pwdAccountLockedTime ` + kambrel + ` by anonymous auth by * break`})}
	add := ldap.NewAddRequest(policy, nil)
	for name, value := range map[string]string{"pwdAttribute": "userPassword", "pwdMinLength": "7", "pwdCheckQuality": "2", "pwdInHistory": "3", "pwdLockout": "TRUE", "pwdMaxFailure": "3"} {
		add.Attribute(name, []string{value})
	}
	add.Attribute("objectClass", []string{"organizationalRole", "pwdPolicy"})
	require.NoError(t, k.admin.Add(add))
	k.crew = k.ou(base, "Crew")
	k.ada = k.person(k.crew, "Ada")
	_, err := k.admin.Extended(passwordModify(k.ada, NewPassword{New: adaFirst}))
	require.NoError(t, err)
	k.find()
	return k
}

func keeperDS389(t *testing.T) *keeper {
	const base = "dc=brisling,dc=example"
	k := &keeper{peer: startDS389With(t, servers.DS389Options{})}
	for _, one := range [][2]string{{"passwordCheckSyntax", "on"}, {"passwordMinLength", "7"}, {"passwordMinCategories", "1"}, {"passwordHistory", "on"}, {"passwordInHistory", "3"}, {"passwordLockout", "on"}, {"passwordMaxFailure", "3"}, {"passwordStorageScheme", "SSHA512"}} {
		k.change("cn=config", one[0], one[1])
	}
	k.crew = k.ou(base, "Crew")
	for _, right := range []string{"userPassword || passwordExpirationTime", "accountUnlockTime || passwordRetryCount"} {
		k.modify(k.crew, func(m *ldap.ModifyRequest) {
			m.Add("aci", []string{`(targetattr="` + right + `")(version 3.0; acl "keeps ` + right + `"; allow (write) userdn="ldap:///uid=svc-kambrel,ou=Service Accounts,` + base + `";)`})
		})
	}
	k.ada = k.person(k.crew, "Ada")
	k.change(k.ada, "userPassword", string(adaFirst))
	k.change("cn=config", "passwordMustChange", "on") // not before: that one, too, would have to be changed
	k.find()
	return k
}

// keepers are the directories by their dialects, each with a password policy of its own making.
var keepers = map[entry.Dialect]func(*testing.T) *keeper{entry.AD: keeperAD, entry.Standard: keeperStandard, entry.DS389: keeperDS389}

// disable keeps Ada out, by what the dialect has for it.
func (k *keeper) disable() {
	k.t.Helper()
	how := map[entry.Dialect][2]string{entry.AD: {"userAccountControl", "514"}, entry.Standard: {"pwdAccountLockedTime", neverUnlocks}, entry.DS389: {"nsAccountLock", "true"}}[k.dialect]
	k.change(k.ada, how[0], how[1])
}

func TestPasswordsAreSetUnderTheDirectorysOwnPolicy(t *testing.T) {
	t.Parallel()
	for dialect, start := range keepers {
		t.Run(string(dialect), func(t *testing.T) {
			t.Parallel()
			k := start(t)
			reason, least := k.set(NewPassword{New: "Ab-1", Own: true})
			assert.Equal(t, password.TooShort, reason)
			assert.Equal(t, map[entry.Dialect]int{entry.AD: 7, entry.DS389: 7}[k.dialect], least, "told where the agent's account can read the policy, or the directory says it")
			reason, _ = k.set(NewPassword{New: adaNext, Own: true})
			require.Equal(t, password.Done, reason)
			for text, want := range map[secret.Text]bool{adaNext: true, adaFirst: false} {
				holds, known := k.holds(text)
				assert.True(t, known)
				assert.Equal(t, want, holds, string(text))
			}
			if k.dialect != entry.AD {
				reason, _ = k.set(NewPassword{New: adaFirst, Own: true})
				assert.Equal(t, password.UsedBefore, reason)
			} else {
				reason, _ = k.set(NewPassword{New: "alllowercase", Own: true})
				assert.Equal(t, password.NotComplex, reason)
				k.change(k.server.BaseDN, "minPwdAge", "0")
			}
			reason, _ = k.set(NewPassword{Old: "Wrong-One-11", New: adaLast})
			assert.Equal(t, password.WrongOld, reason)
			reason, _ = k.set(NewPassword{Old: adaNext, New: adaLast})
			require.Equal(t, password.Done, reason)
			if k.dialect == entry.AD {
				reason, _ = k.set(NewPassword{Old: adaLast, New: adaFirst})
				assert.Equal(t, password.UsedBefore, reason, "a change holds against the history")
			}
			holds, _ := k.holds(adaLast)
			assert.True(t, holds)
			if k.dialect == entry.AD {
				k.change(k.server.BaseDN, "minPwdAge", "-864000000000")
				reason, _ = k.set(NewPassword{Old: adaLast, New: "Razorbill-88-x"})
				assert.Equal(t, password.TooYoung, reason)
			}
			reason, _ = k.set(NewPassword{New: "Curlew-Sand-99", MustChange: true})
			require.Equal(t, password.Done, reason)
			holds, known := k.holds("Curlew-Sand-99")
			assert.True(t, holds && known, "one that must be changed is the right one all the same")
		})
	}
}

func TestWhoMayNotHaveAPasswordSet(t *testing.T) {
	t.Parallel()
	for dialect, start := range keepers {
		t.Run(string(dialect), func(t *testing.T) {
			t.Parallel()
			k := start(t)
			assert.False(t, k.account("(title=Master)", "").Protected)
			assert.True(t, k.account("(title=Master)", "(title=Mate)").Protected)
			assert.False(t, k.account().Disabled)

			// Locked by wrong passwords, and unlocked with the password left as it is.
			if k.dialect == entry.AD {
				k.change(k.server.BaseDN, "lockoutThreshold", "3")
			}
			for range 3 {
				_, _ = k.holds("Wrong-One-11")
			}
			holds, known := k.holds(adaFirst)
			assert.False(t, holds && known, "it is locked")
			require.NoError(t, k.session.Unlock(t.Context(), k.account()))
			holds, _ = k.holds(adaFirst)
			assert.True(t, holds)
			require.NoError(t, k.session.Unlock(t.Context(), k.account()), "who is not locked stays so")
			over, cancel := context.WithCancel(t.Context())
			cancel()
			_, err := k.session.SetPassword(over, k.account(), NewPassword{New: adaNext})
			assert.Equal(t, password.Expired, err.(*password.Refusal).Reason)
			past, cancel := context.WithTimeout(t.Context(), time.Nanosecond)
			defer cancel()
			<-past.Done()
			assert.Error(t, k.session.Unlock(past, k.account()))

			k.disable()
			assert.True(t, k.account().Disabled)

			// Its own account, and what is no person.
			own, err := k.admin.Search(search(k.server.BaseDN, "(|(sAMAccountName=svc-kambrel)(uid=svc-kambrel))", dialectOf(k.dialect).ids()))
			require.NoError(t, err)
			k.id, err = idOf(own.Entries[0], dialectOf(k.dialect).ids())
			require.NoError(t, err)
			assert.True(t, k.account().Protected)
			lacking, err := k.session.Lacks(k.account(), entry.FeatureResetPasswords)
			require.NoError(t, err)
			assert.NotEmpty(t, lacking)
			reason, _ := k.set(NewPassword{New: adaNext})
			assert.Equal(t, password.RightMissing, reason)
			k.ada = k.crew
			k.find()
			assert.True(t, k.account().Protected)
			_, err = k.session.Account(k.dialect, k.server.BaseDN, entry.ID{1})
			assert.ErrorContains(t, err, "no entry")
		})
	}
}
