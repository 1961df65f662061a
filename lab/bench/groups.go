package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/protocol/wire"
)

// The groups of the bench: for every 50 people one, and one that half of all are in.
const teams = "ou=Teams," + base

func crew(i int) string { return fmt.Sprintf("cn=Crew %06d,%s", i, people) }

func (s *stage) makeGroups() (memberships int, err error) {
	add := func(dn string, members []string) error {
		memberships += len(members)
		request := ldap.NewAddRequest(dn, nil)
		request.Attribute("objectClass", []string{"groupOfNames"})
		request.Attribute("member", members)
		return s.ldap.Add(request)
	}
	container := ldap.NewAddRequest(teams, nil)
	container.Attribute("objectClass", []string{"organizationalUnit"})
	if err := s.ldap.Add(container); err != nil {
		return 0, err
	}
	for g := range s.n / 50 {
		members := make([]string, 20)
		for i := range members {
			members[i] = crew((g*50 + i*7) % s.n)
		}
		if err := add(fmt.Sprintf("cn=Team %05d,%s", g, teams), members); err != nil {
			return 0, err
		}
	}
	members := make([]string, s.n/2)
	for i := range members {
		members[i] = crew(2 * i)
	}
	// A directory bounds the length of one message.
	everybody := "cn=Everybody," + teams
	if err := add(everybody, members[:min(len(members), atOnce)]); err != nil {
		return 0, err
	}
	for part := range slices.Chunk(members[min(len(members), atOnce):], atOnce) {
		request := ldap.NewModifyRequest(everybody, nil)
		request.Add("member", part)
		if err := s.ldap.Modify(request); err != nil {
			return 0, err
		}
		memberships += len(part)
	}
	return memberships, nil
}

// atOnce is how many members one message names.
const atOnce = 20_000

// firstGroups is the run that writes all groups with their members.
func (s *stage) firstGroups(ctx context.Context) (float64, error) {
	memberships, err := s.makeGroups()
	if err != nil {
		return 0, fmt.Errorf("add the groups: %w", err)
	}
	active, err := s.client.Settings(ctx)
	if err != nil {
		return 0, err
	}
	active.Document.Groups = s.groups
	active.Document.Directories[0].Containers.Include = append(active.Document.Directories[0].Containers.Include, teams)
	text, err := active.Document.YAML()
	if err != nil {
		return 0, err
	}
	if _, err := s.client.Activate(ctx, wire.ActivateSettings{YAML: string(text)}); err != nil {
		return 0, err
	}
	started, err := s.client.StartRun(ctx, wire.NewRun{Purpose: purpose.Sync})
	if err != nil {
		return 0, err
	}
	run, err := s.client.Wait(ctx, started.ID, nil)
	if err != nil {
		return 0, err
	}
	if run.State != progress.InStep || run.Counts.Create != s.n/50+1 {
		return 0, fmt.Errorf("run %d is %s and creates %d groups of %d: %+v", run.ID, run.State, run.Counts.Create, s.n/50+1, run.Failure)
	}
	have, err := s.membersInCloud(ctx)
	if err == nil && have != memberships {
		err = fmt.Errorf("the cloud has %d memberships, not %d", have, memberships)
	}
	return seconds(run), err
}

func (s *stage) membersInCloud(ctx context.Context) (int, error) {
	total := 0
	for start := 1; ; {
		var page struct {
			TotalResults int
			Resources    []struct{ Members []json.RawMessage }
		}
		if err := send(ctx, s.cloud, http.MethodGet, "/Groups?count=500&startIndex="+strconv.Itoa(start), nil, &page); err != nil {
			return 0, err
		}
		for _, group := range page.Resources {
			total += len(group.Members)
		}
		start += len(page.Resources)
		if len(page.Resources) == 0 || start > page.TotalResults {
			return total, nil
		}
	}
}

// oneMember puts somebody else into the largest group, again and again.
func (s *stage) oneMember(ctx context.Context) (float64, error) {
	if _, err := s.sync(ctx, wire.NewRun{Purpose: purpose.Sync}, 0); err != nil { // reads back what was written
		return 0, err
	}
	// The first changes of members on a cloud are read back, and so is one in each
	// run whose group is small; what is measured is what comes after.
	for try := range 3 {
		request := ldap.NewModifyRequest("cn=Team 00000,"+teams, nil)
		request.Add("member", []string{crew(s.n - 1 - try)})
		if err := s.ldap.Modify(request); err != nil {
			return 0, err
		}
		if _, err := s.sync(ctx, wire.NewRun{Purpose: purpose.Sync}, 1); err != nil {
			return 0, err
		}
	}
	var times []float64
	for try := range tries {
		request := ldap.NewModifyRequest("cn=Everybody,"+teams, nil)
		request.Add("member", []string{crew(2*try + 1)})
		if err := s.ldap.Modify(request); err != nil {
			return 0, err
		}
		run, err := s.sync(ctx, wire.NewRun{Purpose: purpose.Sync}, 1)
		if err != nil {
			return 0, err
		}
		times = append(times, seconds(run))
	}
	return median(times), nil
}

// rawMember reads the largest group from the directory, and adds one member to
// its resource by PATCH.
func (s *stage) rawMember(ctx context.Context) (float64, error) {
	var page struct{ Resources []struct{ ID string } }
	if err := send(ctx, s.cloud, http.MethodGet, "/Users?count=1", nil, &page); err != nil {
		return 0, err
	}
	var groups struct{ Resources []struct{ ID string } }
	if err := send(ctx, s.cloud, http.MethodGet, "/Groups?excludedAttributes=members&filter="+url.QueryEscape(`displayName eq "Everybody"`), nil, &groups); err != nil {
		return 0, err
	}
	if len(page.Resources) != 1 || len(groups.Resources) != 1 {
		return 0, errors.New("the cloud does not have the largest group")
	}
	return timed(func() error {
		if _, err := s.ldap.Search(&ldap.SearchRequest{BaseDN: "cn=Everybody," + teams, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)"}); err != nil {
			return err
		}
		body := map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"}, "Operations": []any{map[string]any{"op": "add", "path": "members", "value": []any{map[string]any{"value": page.Resources[0].ID}}}}}
		return send(ctx, s.cloud, http.MethodPatch, "/Groups/"+url.PathEscape(groups.Resources[0].ID)+"?excludedAttributes=members", body, nil)
	})
}
