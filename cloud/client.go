package cloud

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/scim"
)

// Client talks to one SCIM service.
type Client struct {
	base  string
	token Token
	http  *http.Client

	mu           sync.Mutex
	capabilities *Capabilities
	catalogue    *Catalogue
	pausedUntil  time.Time // no request starts before, since the cloud asked so
}

// New makes a client for a SCIM base URL with a bearer token. Plain HTTP is
// taken only on loopback.
func New(base string, token Token) (*Client, error) {
	address, err := url.Parse(base)
	if err != nil || address.Host == "" {
		return nil, problem.New(problem.BadInput, "cloud URL %q: write https://host/path", base)
	}
	if address.Scheme != "https" && !(address.Scheme == "http" && (address.Hostname() == "localhost" || strings.HasPrefix(address.Hostname(), "127."))) {
		return nil, problem.New(problem.BadInput, "cloud URL %q: it must be https, since it carries people's data", base)
	}
	if _, err := token.read(); err != nil {
		return nil, err
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.MaxIdleConnsPerHost = 16
	return &Client{base: strings.TrimSuffix(base, "/"), token: token, http: &http.Client{Transport: transport, Timeout: requestTimeout}}, nil
}

// URL is the SCIM base.
func (c *Client) URL() string { return c.base }

const (
	requestTimeout = 60 * time.Second
	mostAttempts   = 8
	firstWait      = 100 * time.Millisecond
	longestWait    = 5 * time.Second
)

// Refusal is an answer of the cloud that is no success (RFC 7644 section 3.12).
type Refusal struct {
	Status   int
	ScimType string
	Detail   string
}

func (r *Refusal) Error() string {
	text := fmt.Sprintf("the cloud answers %d", r.Status)
	if r.ScimType != "" {
		text += " " + r.ScimType
	}
	if r.Detail != "" {
		text += ": " + r.Detail
	}
	return text
}

// ErrUnknownOutcome marks a write of which it is not known whether the cloud
// has done it: look before writing again.
var ErrUnknownOutcome = errors.New("the cloud did not answer, so it is not known whether it was done")

// get reads a resource or a list; reading is repeated until the cloud answers.
func (c *Client) get(ctx context.Context, path string, into any) error {
	return c.attempt(ctx, func() error { return c.once(ctx, http.MethodGet, path, "", nil, into) })
}

// attempt repeats what a failing or throttling cloud did not do.
func (c *Client) attempt(ctx context.Context, do func() error) error {
	var err error
	for attempt := range mostAttempts {
		if err = do(); err == nil || !passing(err) {
			return classify(err)
		}
		if err := c.wait(ctx, attempt); err != nil {
			return err
		}
	}
	return classify(err)
}

// passing tells failures that may be over soon.
func passing(err error) bool {
	var refusal *Refusal
	if errors.As(err, &refusal) {
		return refusal.Status == http.StatusTooManyRequests || refusal.Status >= 500
	}
	return err != nil && !errors.Is(err, context.Canceled) && problem.CodeOf(err) == ""
}

// classify gives failures that concern the whole cloud their problem code; what
// concerns one resource stays a *Refusal.
func classify(err error) error {
	var refusal *Refusal
	switch {
	case err == nil, errors.Is(err, context.Canceled), problem.CodeOf(err) != "":
		return err
	case !errors.As(err, &refusal):
		return problem.Wrap(problem.CloudUnreachable, err, "ask the cloud")
	case refusal.Status == http.StatusUnauthorized, refusal.Status == http.StatusForbidden:
		return problem.Wrap(problem.CloudUnauthorized, err, "ask the cloud")
	case refusal.Status == http.StatusTooManyRequests:
		return problem.Wrap(problem.CloudThrottled, err, "ask the cloud")
	case refusal.Status >= 500:
		return problem.Wrap(problem.CloudUnreachable, err, "ask the cloud")
	}
	return err
}

// wait holds back after a failed attempt: longer each time, with some chance in
// it so that workers do not come back all at once, and as long as asked.
func (c *Client) wait(ctx context.Context, attempt int) error {
	pause := min(firstWait<<attempt, longestWait)
	pause = pause/2 + rand.N(pause/2)
	c.mu.Lock()
	pause = max(pause, time.Until(c.pausedUntil))
	c.mu.Unlock()
	return sleep(ctx, pause)
}

func sleep(ctx context.Context, pause time.Duration) error {
	if pause <= 0 {
		return nil
	}
	timer := time.NewTimer(pause)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}

// once makes one request. A failure to get an answer is returned as it is, an
// answer that is no success as *Refusal.
func (c *Client) once(ctx context.Context, method, path, version string, body []byte, into any) error {
	c.mu.Lock()
	pause := time.Until(c.pausedUntil)
	c.mu.Unlock()
	if err := sleep(ctx, pause); err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, method, c.base+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	token, err := c.token.read()
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+token)
	request.Header.Set("Accept", scim.MediaType)
	if body != nil {
		request.Header.Set("Content-Type", scim.MediaType)
		request.GetBody = nil // the transport must not send a write twice by itself
	}
	if version != "" {
		request.Header.Set("If-Match", version)
	}
	response, err := c.http.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode < 200 || response.StatusCode > 299 {
		return c.refusal(response)
	}
	if into == nil || response.StatusCode == http.StatusNoContent {
		_, err = io.Copy(io.Discard, response.Body)
		return err
	}
	err = json.NewDecoder(response.Body).Decode(into)
	if strange(err) && method == http.MethodGet {
		return problem.Wrap(problem.CloudRefused, err, "%s%s: the answer (%s) is not SCIM; is this the base URL of a SCIM service, and does nothing answer in its place?", c.base, path, response.Header.Get("Content-Type"))
	}
	if err != nil {
		return fmt.Errorf("read the cloud's answer: %w", err)
	}
	return nil
}

// strange tells answers that came whole and say something else than was asked,
// which asking again does not change; one that breaks off is another matter.
func strange(err error) bool {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	return errors.As(err, &syntax) || errors.As(err, &kind)
}

func (c *Client) refusal(response *http.Response) error {
	text, _ := io.ReadAll(io.LimitReader(response.Body, 1<<16))
	if response.StatusCode == http.StatusTooManyRequests || response.StatusCode == http.StatusServiceUnavailable {
		if seconds, err := strconv.Atoi(response.Header.Get("Retry-After")); err == nil && seconds >= 0 {
			c.mu.Lock()
			c.pausedUntil = time.Now().Add(min(time.Duration(seconds)*time.Second, time.Minute))
			c.mu.Unlock()
		}
	}
	return refusalOf(response.StatusCode, text)
}

func refusalOf(status int, text []byte) *Refusal {
	var body scim.Error
	refusal := &Refusal{Status: status}
	if json.Unmarshal(text, &body) == nil {
		refusal.ScimType, refusal.Detail = body.ScimType, body.Detail
	}
	return refusal
}
