package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"

	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/protocol/wire"
)

// Committee and Board are groups that somebody made in the cloud: the second holds the
// first. Of their members some are in Halvard's directory, one in both, one in Brisling's,
// and some in the cloud alone.
const (
	Committee = "Regatta Committee"
	Board     = "Safety Board"
)

var committeeLogins = []string{"ada.brekke@halvard.example", "otto.reksten@halvard.example", "jon.sletta@halvard.example", "regatta.desk@halvard-cargo.example", "harbourmaster@halvard.example"}

// makeCloudGroups makes the groups in the cloud, as its administrator would, once people
// have their accounts there, and lets a run bring them into the directories.
func (d *running) makeCloudGroups(ctx context.Context) error {
	if !d.activated {
		return nil
	}
	d.say("making two groups in the cloud")
	var members []any
	for _, login := range committeeLogins {
		id, err := d.resourceOf(ctx, login)
		if err != nil {
			return err
		}
		members = append(members, map[string]any{"value": id})
	}
	committee, err := d.makeGroup(ctx, Committee, members)
	if err != nil {
		return err
	}
	pia, err := d.resourceOf(ctx, "pia.holmen@halvard.example")
	if err != nil {
		return err
	}
	if _, err := d.makeGroup(ctx, Board, []any{map[string]any{"value": committee}, map[string]any{"value": pia}}); err != nil {
		return err
	}
	run, err := d.client.StartRun(ctx, wire.NewRun{Purpose: purpose.Sync})
	if err != nil {
		return err
	}
	_, err = d.client.Wait(ctx, run.ID, nil)
	return err
}

// ask sends a request to the cloud and reads its answer.
func (d *running) ask(ctx context.Context, method, path string, body, answer any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, method, d.cloud.URL+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+d.cloud.Token)
	request.Header.Set("Content-Type", "application/scim+json")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode >= http.StatusMultipleChoices {
		return fmt.Errorf("%s %s: the cloud answers %s", method, path, response.Status)
	}
	return json.NewDecoder(response.Body).Decode(answer)
}

func (d *running) resourceOf(ctx context.Context, login string) (string, error) {
	var page struct{ Resources []struct{ ID string } }
	if err := d.ask(ctx, http.MethodGet, "/Users?filter="+url.QueryEscape(fmt.Sprintf("userName eq %q", login)), nil, &page); err != nil {
		return "", err
	}
	if len(page.Resources) != 1 {
		return "", fmt.Errorf("the cloud has %d accounts with the login %s", len(page.Resources), login)
	}
	return page.Resources[0].ID, nil
}

func (d *running) makeGroup(ctx context.Context, name string, members []any) (string, error) {
	var made struct{ ID string }
	err := d.ask(ctx, http.MethodPost, "/Groups", map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:Group"}, "displayName": name, "members": members}, &made)
	return made.ID, err
}
