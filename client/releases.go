package client

import (
	"context"
	"net/http"
	"net/url"

	"kambrel.example/kambrel/protocol/wire"
)

// Releases lists the versions of the agent that are passed on, the newest first.
func (c *Client) Releases(ctx context.Context) (out []wire.Release, err error) {
	return out, c.do(ctx, http.MethodGet, "/agent-releases", nil, nil, &out)
}

// AddRelease adds a version of the agent by what was signed of it.
func (c *Client) AddRelease(ctx context.Context, statement string) (out wire.Release, err error) {
	return out, c.do(ctx, http.MethodPost, "/agent-releases", nil, wire.NewRelease{Statement: statement}, &out)
}

// AddProgram adds the program of a platform to a version.
func (c *Client) AddProgram(ctx context.Context, version, platform string, program []byte) (out wire.Release, err error) {
	return out, c.within(ctx, longTimeout, http.MethodPut, "/agent-releases/"+url.PathEscape(version)+"/programs/"+url.PathEscape(platform), nil, octets(program), &out)
}

// RemoveRelease removes a version.
func (c *Client) RemoveRelease(ctx context.Context, version string) error {
	return c.do(ctx, http.MethodDelete, "/agent-releases/"+url.PathEscape(version), nil, nil, nil)
}

// UpdateAgents has agents go on by a version, without ids all that take it.
func (c *Client) UpdateAgents(ctx context.Context, version string, ids ...string) (out []wire.Agent, err error) {
	if ids == nil {
		ids = []string{}
	}
	return out, c.do(ctx, http.MethodPost, "/agent-releases/"+url.PathEscape(version)+"/updates", nil, wire.UpdateAgents{Agents: ids}, &out)
}

// KeepAgentVersion has an agent stay at the version that it runs.
func (c *Client) KeepAgentVersion(ctx context.Context, id string) (out wire.Agent, err error) {
	return out, c.do(ctx, http.MethodDelete, "/agents/"+id+"/update", nil, nil, &out)
}
