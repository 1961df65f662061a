package client

import (
	"context"
	"net/http"
	"net/url"

	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/protocol/wire"
)

// groupPath is that of a group in a directory, "" for the only one that keeps groups.
func groupPath(directory, group string) string {
	if directory == "" {
		directory = "-"
	}
	return "/cloud-groups/" + url.PathEscape(directory) + "/" + url.PathEscape(group)
}

// CloudGroupDirectories tells in which directories groups of the cloud are kept.
func (c *Client) CloudGroupDirectories(ctx context.Context) (out []wire.CloudGroupDirectory, err error) {
	return out, c.do(ctx, http.MethodGet, "/cloud-groups/directories", nil, nil, &out)
}

// CloudGroups lists groups of the cloud as they stand in directories.
func (c *Client) CloudGroups(ctx context.Context, query url.Values) (out wire.Page[wire.CloudGroup], err error) {
	return out, c.do(ctx, http.MethodGet, "/cloud-groups", query, nil, &out)
}

// CloudGroup shows one.
func (c *Client) CloudGroup(ctx context.Context, directory, group string) (out wire.CloudGroupDetail, err error) {
	return out, c.do(ctx, http.MethodGet, groupPath(directory, group), nil, nil, &out)
}

// CloudGroupMembers lists the members of one in its directory, or with leftOut those that
// are none there.
func (c *Client) CloudGroupMembers(ctx context.Context, directory, group string, leftOut bool, query url.Values) (out wire.Page[wire.CloudGroupMember], err error) {
	what := "/members"
	if leftOut {
		what = "/left-out"
	}
	return out, c.do(ctx, http.MethodGet, groupPath(directory, group)+what, query, nil, &out)
}

// Drift lists what somebody has changed of groups in directories, and runs have put back.
func (c *Client) Drift(ctx context.Context, query url.Values) (out wire.Page[wire.Drift], err error) {
	return out, c.do(ctx, http.MethodGet, "/cloud-groups/drift", query, nil, &out)
}

// WhyCloudGroup tells why a group is kept or not, or why somebody is its member or not.
func (c *Client) WhyCloudGroup(ctx context.Context, directory, group, member string) (out []reason.Node, err error) {
	return out, c.do(ctx, http.MethodGet, groupPath(directory, group)+"/why", url.Values{"member": {member}}, nil, &out)
}

// TryCloudGroup rehearses or writes one group with a few members.
func (c *Client) TryCloudGroup(ctx context.Context, directory, group string, in wire.TryCloudGroup) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodPost, groupPath(directory, group)+"/trial", nil, in, &out)
}

// DecideCloudGroupAgain ends what was decided by hand about a group.
func (c *Client) DecideCloudGroupAgain(ctx context.Context, directory, group string) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodPost, groupPath(directory, group)+"/decide-again", nil, nil, &out)
}

// HandOver lets the other side own a group.
func (c *Client) HandOver(ctx context.Context, directory, group string, in wire.HandOver) (out wire.HandedOver, err error) {
	return out, c.do(ctx, http.MethodPost, groupPath(directory, group)+"/hand-over", nil, in, &out)
}
