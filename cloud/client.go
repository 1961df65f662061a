package cloud

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"

	"kambrel.example/kambrel/core/address"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/scim"
)

// Client talks to one SCIM service.
type Client struct {
	at    atomic.Pointer[reach]
	http  *http.Client
	pace  Pace
	reads bool // and writes nothing
	// events has no time-out of its own, since a poll is held open.
	events *http.Client
	// certificate is until when the cloud's is valid, in Unix seconds, 0 where none was met.
	certificate atomic.Int64

	mu           sync.Mutex
	capabilities *Capabilities
	catalogue    *Catalogue
	denied       map[Feature]string
	habits       settings.CloudHabits
	listed       int       // how many members of a group are listed at most, 0 for all
	pausedUntil  time.Time // no request starts before, since the cloud asked so
}

// reach is where the service is, and with which token.
type reach struct {
	base  string
	token Token
}

func newReach(base string, token Token) (*reach, error) {
	parsed, err := url.Parse(base)
	if err != nil || parsed.Host == "" {
		return nil, problem.New(problem.BadInput, "cloud URL %q: write https://host/path", base)
	}
	if parsed.Scheme != "https" && !(parsed.Scheme == "http" && address.Loopback(parsed.Hostname())) {
		return nil, problem.New(problem.BadInput, "cloud URL %q: it must be https, since it carries people's data", base)
	}
	if _, err := token.read(); err != nil {
		return nil, err
	}
	return &reach{strings.TrimSuffix(base, "/"), token}, nil
}

// New makes a client for a SCIM base URL with a bearer token. Plain HTTP is
// taken only on loopback.
func New(base string, token Token) (*Client, error) {
	at, err := newReach(base, token)
	if err != nil {
		return nil, err
	}
	c := bare()
	c.at.Store(at)
	return c, nil
}

// bare is a client that reaches nothing yet.
func bare() *Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.MaxIdleConnsPerHost = 16
	// The token goes to the cloud that was named and nowhere else.
	stay := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &Client{
		http:   &http.Client{Transport: transport, Timeout: requestTimeout, CheckRedirect: stay},
		events: &http.Client{Transport: transport, CheckRedirect: stay},
	}
}

// Unconnected makes a client that reaches no cloud yet.
func Unconnected() *Client {
	c := bare()
	c.at.Store(&reach{})
	return c
}

// errUnconnected says that nobody has said where the cloud is.
func errUnconnected() error {
	return problem.New(problem.CloudUnreachable, "no cloud is connected yet: 'kambrel cloud connect' says where it is")
}

// Reach goes on at another URL or with another token, while requests are under way. What the
// service can do is asked anew.
func (c *Client) Reach(base string, token Token) error {
	at, err := newReach(base, token)
	if err != nil {
		return err
	}
	c.at.Store(at)
	c.mu.Lock()
	c.capabilities, c.catalogue, c.denied, c.pausedUntil = nil, nil, nil, time.Time{}
	c.mu.Unlock()
	return nil
}

// ListsAtMost tells the client how many members of a group the service lists at most, 0
// for all: a group that may have more is never put back as it was read.
func (c *Client) ListsAtMost(members int) {
	c.mu.Lock()
	c.listed = members
	c.mu.Unlock()
}

// Heed has the client keep to what is known of the service, whatever that says of itself.
func (c *Client) Heed(habits settings.CloudHabits) {
	c.mu.Lock()
	c.habits = habits
	c.mu.Unlock()
}

// CertificateExpires is until when the certificate is valid by which the cloud is known, as
// met last; false where none was met.
func (c *Client) CertificateExpires() (time.Time, bool) {
	seconds := c.certificate.Load()
	return time.Unix(seconds, 0), seconds != 0
}

// URL is the SCIM base.
func (c *Client) URL() string { return c.at.Load().base }

const (
	requestTimeout = 60 * time.Second
	mostAttempts   = 8
	firstWait      = 100 * time.Millisecond
	longestWait    = 5 * time.Second
	// mostThrottled is how long a cloud is waited for that asks for it, in all of one
	// request; after that the run ends and goes on with the next one.
	mostThrottled = 15 * time.Minute
)

// Refusal is an answer of the cloud that is no success (RFC 7644 section 3.12).
type Refusal struct {
	Status   int
	ScimType string
	Detail   string
	// Pause is how long the cloud asks to wait, 0 where it does not say.
	Pause time.Duration
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

// ErrMadeUnnamed marks a creation that the cloud says it has done, without
// saying what the resource is called: it must be found, and never made again.
var ErrMadeUnnamed = errors.New("the cloud says that it made the resource, but not under which id")

// ErrNotSent marks a creation that was held back, since the one before it was
// made unnamed.
var ErrNotSent = errors.New("held back")

// Pace keeps requests to what the cloud takes.
type Pace interface {
	// Wait returns when a request may be sent, or an error when ctx ends before.
	Wait(ctx context.Context) error
	// TooMuch is told when the cloud has said so, with the pause that it asks for, 0 for
	// none.
	TooMuch(ctx context.Context, pause time.Duration)
}

// Paced lets a pace be kept; it is called before the first request.
func (c *Client) Paced(pace Pace) { c.pace = pace }

type muchKey struct{}

// ReadOnly refuses all that would change something in the cloud; it is called before the
// first request.
func (c *Client) ReadOnly() { c.reads = true }

// WithMuch marks requests as part of work that is much: what is urgent goes before.
func WithMuch(ctx context.Context) context.Context { return context.WithValue(ctx, muchKey{}, true) }

// IsMuch tells whether they are marked so.
func IsMuch(ctx context.Context) bool { return ctx.Value(muchKey{}) != nil }

// Permit is asked before each write whether the writer may still write.
type Permit func() error

type permitKey struct{}

// WithPermit makes writes ask a permit just before they are sent.
func WithPermit(ctx context.Context, permit Permit) context.Context {
	return context.WithValue(ctx, permitKey{}, permit)
}

// get reads a resource or a list; reading is repeated until the cloud answers.
func (c *Client) get(ctx context.Context, path string, into any) error {
	return c.attempt(ctx, func() error {
		_, err := c.once(ctx, request{method: http.MethodGet, path: path}, into)
		return err
	})
}

// attempt repeats what a failing or throttling cloud did not do.
func (c *Client) attempt(ctx context.Context, do func() error) error {
	var err error
	pauses, began := newPauses(), time.Now()
	for try := 0; try < mostAttempts; try++ {
		if err = do(); err == nil || !passing(err) {
			return classify(err)
		}
		if throttled(err) && time.Since(began) < mostThrottled {
			try--
		}
		if err := c.wait(ctx, pauses); err != nil {
			return err
		}
	}
	return classify(err)
}

// broken tells statuses by which a service says that it has failed itself, so that it is
// not known what it did; that it does not do something at all is another matter.
func broken(status int) bool { return status >= 500 && status != http.StatusNotImplemented }

// throttled tells that the cloud asks to be asked later.
func throttled(err error) bool {
	var refusal *Refusal
	return errors.As(err, &refusal) && (refusal.Status == http.StatusTooManyRequests || refusal.Pause > 0)
}

// passing tells failures that may be over soon.
func passing(err error) bool {
	var refusal *Refusal
	if errors.As(err, &refusal) {
		return refusal.Status == http.StatusTooManyRequests || broken(refusal.Status)
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
	case refusal.Status == http.StatusUnauthorized:
		return problem.Wrap(problem.CloudUnauthorized, err, "ask the cloud")
	case refusal.Status == http.StatusTooManyRequests:
		return problem.Wrap(problem.CloudThrottled, err, "ask the cloud")
	case broken(refusal.Status):
		return problem.Wrap(problem.CloudFailing, err, "ask the cloud")
	}
	return err
}

// wasNotSent tells failures that come before anything was sent.
func wasNotSent(err error) bool {
	var refused notPermitted
	return errors.As(err, &refused) || problem.CodeOf(err) != ""
}

// notPermitted is why a write was not sent.
type notPermitted struct{ error }

func (n notPermitted) Unwrap() error { return n.error }

// newPauses are longer each time, with some chance in them so that workers do not
// come back all at once.
func newPauses() *backoff.ExponentialBackOff {
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval, pauses.Multiplier = firstWait, longestWait, 2
	return pauses
}

// wait holds back after a failed attempt, and as long as the cloud has asked.
func (c *Client) wait(ctx context.Context, pauses *backoff.ExponentialBackOff) error {
	pause := pauses.NextBackOff()
	c.mu.Lock()
	pause = max(pause, time.Until(c.pausedUntil))
	c.mu.Unlock()
	return c.pause(ctx, pause)
}

// Paused is told that the cloud is waited for, until when, and that it is not any more by
// the zero time.
type Paused func(until time.Time)

type pausedKey struct{}

// WithPaused lets somebody know of pauses that are long.
func WithPaused(ctx context.Context, paused Paused) context.Context {
	return context.WithValue(ctx, pausedKey{}, paused)
}

// longPause is from when on a pause is told.
const longPause = 3 * time.Second

// pause waits, and tells so where that takes long. What takes too long is left to the
// next run.
func (c *Client) pause(ctx context.Context, pause time.Duration) error {
	until := time.Now().Add(pause)
	if pause > mostThrottled {
		return problem.New(problem.CloudThrottled, "it asks for no request before %s, in %s", until.UTC().Format(time.RFC3339), pause.Round(time.Second))
	}
	if paused, ok := ctx.Value(pausedKey{}).(Paused); ok && pause >= longPause {
		paused(until)
		defer paused(time.Time{})
	}
	return rest.For(ctx, pause)
}

// request is one HTTP request to the cloud.
type request struct {
	method, path string
	version      string // for If-Match
	body         []byte
	minimal      bool // the answer need not hold the resource (RFC 7240 section 4.2)
}

// once makes one request and returns the Location of what was made. A failure
// to get an answer is returned as it is, an answer that is no success as
// *Refusal. A success without a body leaves into as it is.
func (c *Client) once(ctx context.Context, r request, into any) (location string, err error) {
	if c.reads && r.method != http.MethodGet {
		return "", problem.New(problem.Paused, "a shadow writes nothing to the cloud")
	}
	if c.pace != nil {
		if err := c.pace.Wait(ctx); err != nil {
			return "", err
		}
	}
	c.mu.Lock()
	pause := time.Until(c.pausedUntil)
	c.mu.Unlock()
	if err := c.pause(ctx, pause); err != nil {
		return "", err
	}
	at := c.at.Load()
	if at.base == "" {
		return "", errUnconnected()
	}
	outgoing, err := http.NewRequestWithContext(ctx, r.method, at.base+r.path, bytes.NewReader(r.body))
	if err != nil {
		return "", err
	}
	token, err := at.token.read()
	if err != nil {
		return "", err
	}
	outgoing.Header.Set("Authorization", "Bearer "+token.Reveal())
	outgoing.Header.Set("Accept", scim.MediaType)
	if r.body != nil {
		outgoing.Header.Set("Content-Type", scim.MediaType)
		outgoing.GetBody = nil // the transport must not send a write twice by itself
	}
	if r.version != "" {
		outgoing.Header.Set("If-Match", r.version)
	}
	if r.minimal {
		outgoing.Header.Set("Prefer", "return=minimal")
	}
	if permit, ok := ctx.Value(permitKey{}).(Permit); ok && r.method != http.MethodGet {
		if err := permit(); err != nil {
			return "", notPermitted{err}
		}
	}
	response, err := c.http.Do(outgoing)
	if err == nil && response.TLS != nil && len(response.TLS.PeerCertificates) > 0 {
		c.certificate.Store(response.TLS.PeerCertificates[0].NotAfter.Unix())
	}
	if err != nil {
		return "", err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 && response.StatusCode <= 399 {
		return "", problem.New(problem.CloudRefused, "%s%s: it answers with a redirect (%d) to %s; give the service the final URL, since its token goes nowhere else", at.base, r.path, response.StatusCode, response.Header.Get("Location"))
	}
	if response.StatusCode < 200 || response.StatusCode > 299 {
		refusal := c.refusal(response)
		if response.StatusCode == http.StatusTooManyRequests && c.pace != nil {
			c.pace.TooMuch(ctx, refusal.Pause)
		}
		return "", refusal
	}
	location = response.Header.Get("Location")
	if into == nil || response.StatusCode == http.StatusNoContent {
		_, err = io.Copy(io.Discard, response.Body)
		return location, err
	}
	err = json.NewDecoder(response.Body).Decode(into)
	switch {
	case errors.Is(err, io.EOF) && r.method != http.MethodGet:
		return location, nil // a success that says no more
	case strange(err) && r.method == http.MethodGet:
		return "", problem.Wrap(problem.CloudRefused, err, "%s%s: the answer (%s) is not SCIM; is this the base URL of a SCIM service, and does nothing answer in its place?", at.base, r.path, response.Header.Get("Content-Type"))
	case err != nil:
		return "", fmt.Errorf("read the cloud's answer: %w", err)
	}
	return location, nil
}

// strange tells answers that came whole and say something else than was asked,
// which asking again does not change; one that breaks off is another matter.
func strange(err error) bool {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	return errors.As(err, &syntax) || errors.As(err, &kind)
}

func (c *Client) refusal(response *http.Response) *Refusal {
	text, _ := io.ReadAll(io.LimitReader(response.Body, 1<<16))
	refusal := refusalOf(response.StatusCode, text)
	if response.StatusCode == http.StatusTooManyRequests || response.StatusCode == http.StatusServiceUnavailable {
		if refusal.Pause = retryAfter(response.Header, time.Now()); refusal.Pause > 0 {
			c.mu.Lock()
			c.pausedUntil = time.Now().Add(refusal.Pause)
			c.mu.Unlock()
		}
	}
	return refusal
}

// retryAfter is how long the service asks to wait (RFC 9110 section 10.2.3): seconds, or
// a date, which is compared with the service's own clock where it tells that.
func retryAfter(header http.Header, now time.Time) time.Duration {
	text := header.Get("Retry-After")
	if seconds, err := strconv.Atoi(text); err == nil {
		return max(0, time.Duration(seconds)*time.Second)
	}
	at, err := http.ParseTime(text)
	if err != nil {
		return 0
	}
	if theirs, err := http.ParseTime(header.Get("Date")); err == nil {
		now = theirs
	}
	return max(0, at.Sub(now))
}

func refusalOf(status int, text []byte) *Refusal {
	var body scim.Error
	refusal := &Refusal{Status: status}
	if json.Unmarshal(text, &body) == nil {
		refusal.ScimType, refusal.Detail = body.ScimType, body.Detail
	}
	return refusal
}
