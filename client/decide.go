package client

import (
	"context"
	"net/http"
	"net/url"

	"kambrel.example/kambrel/protocol/wire"
)

// Decide previews or does what is decided about one entry.
func (c *Client) Decide(ctx context.Context, in wire.NewDecision) (out wire.Decided, err error) {
	return out, c.do(ctx, http.MethodPost, "/decisions", nil, in, &out)
}

// Try starts a trial of one entry.
func (c *Client) Try(ctx context.Context, in wire.NewTrial) (out wire.Trial, err error) {
	return out, c.do(ctx, http.MethodPost, "/trials", nil, in, &out)
}

// StartForecast starts a rehearsal of everybody.
func (c *Client) StartForecast(ctx context.Context, draft bool) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodPost, "/forecasts", nil, wire.NewSurvey{Draft: draft}, &out)
}

// Forecast shows a forecast in numbers; 0 is the newest.
func (c *Client) Forecast(ctx context.Context, id int64) (out wire.Forecast, err error) {
	return out, c.do(ctx, http.MethodGet, "/forecasts/"+number(id), nil, nil, &out)
}

// Unclaimed lists resources that no entry has or would have.
func (c *Client) Unclaimed(ctx context.Context, id int64, query url.Values) (out wire.Page[wire.CloudOnly], err error) {
	return out, c.do(ctx, http.MethodGet, "/forecasts/"+number(id)+"/unclaimed", query, nil, &out)
}

// TryFormula works a formula out.
func (c *Client) TryFormula(ctx context.Context, in wire.TryFormula) (out wire.TriedFormula, err error) {
	return out, c.do(ctx, http.MethodPost, "/formulas/try", nil, in, &out)
}

// Functions lists what formulas can use.
func (c *Client) Functions(ctx context.Context) (out []wire.FormulaFunction, err error) {
	return out, c.do(ctx, http.MethodGet, "/formulas/functions", nil, nil, &out)
}
