// Package client talks to a service's HTTP interface for programs and the
// command line. A Client serves many goroutines.
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"kambrel.example/kambrel/core/address"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
)

// Client is a connection to a service, or to the one that answers of those on a database.
type Client struct {
	services *address.Services
	token    string
	http     *http.Client
}

// New makes a client for a service's base URL, or several with commas between, and a token.
func New(base, token string) *Client {
	return &Client{services: address.ServicesOf(base), token: token, http: &http.Client{
		// The token is for one service and goes nowhere else.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

// Trusting lets services be known by these authorities (PEM) and no others.
func (c *Client) Trusting(authorities string) (*Client, error) {
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(authorities)) {
		return nil, errors.New("the authorities by which the service is to be known hold no certificate in PEM form")
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	c.http.Transport = transport
	return c, nil
}

const (
	requestTimeout = 60 * time.Second
	// longTimeout is for what takes as long as a run was large, or a line is slow.
	longTimeout = 10 * time.Minute
)

// Error is a refusal of the service (RFC 9457).
type Error struct {
	Status int    `json:"status"`
	Type   string `json:"type"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Location string `json:"location"`
		Message  string `json:"message"`
	} `json:"errors"`
}

func (e *Error) Error() string {
	text := e.Title
	if e.Detail != "" {
		text = strings.TrimPrefix(text+": "+e.Detail, ": ")
	}
	for _, single := range e.Errors {
		text += "\n  " + strings.TrimPrefix(single.Location+": "+single.Message, ": ")
	}
	return text
}

// Code is the problem's code in the catalogue, "" if it has none.
func (e *Error) Code() problem.Code {
	return problem.Code(strings.TrimPrefix(e.Type, "urn:kambrel:problem:"))
}

func (c *Client) do(ctx context.Context, method, path string, query url.Values, in, out any) error {
	return c.within(ctx, requestTimeout, method, path, query, in, out)
}

// within is do for an answer that may take another time.
func (c *Client) within(ctx context.Context, timeout time.Duration, method, path string, query url.Values, in, out any) error {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	response, err := c.send(ctx, method, path, query, in)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if out == nil || response.StatusCode == http.StatusNoContent {
		return nil
	}
	if err := json.NewDecoder(response.Body).Decode(out); err != nil {
		return fmt.Errorf("read the service's answer: %w", err)
	}
	return nil
}

// octets is a body that is sent as it is.
type octets []byte

func (c *Client) send(ctx context.Context, method, path string, query url.Values, in any) (*http.Response, error) {
	var body []byte
	form := "application/json"
	switch in := in.(type) {
	case nil:
	case octets:
		body, form = in, "application/octet-stream"
	default:
		var err error
		if body, err = json.Marshal(in); err != nil {
			return nil, err
		}
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	var response *http.Response
	err := c.services.Ask(func(base string) (bool, error) {
		var err error
		var refusal *Error
		response, err = c.sendTo(ctx, base, method, path, form, body)
		// What may have been sent is not sent to another; a question is.
		return err == nil || errors.As(err, &refusal) || ctx.Err() != nil || method != http.MethodGet && !notSent(err), err
	})
	return response, err
}

// notSent tells whether a request failed before any of it went out.
func notSent(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && op.Op == "dial"
}

func (c *Client) sendTo(ctx context.Context, base, method, path, form string, body []byte) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, base+"/api/v1"+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	}
	request.Header.Set("Content-Type", form)
	response, err := c.http.Do(request)
	if err != nil {
		var wrapped *url.Error
		if errors.As(err, &wrapped) {
			err = wrapped.Err
		}
		return nil, fmt.Errorf("the service at %s cannot be reached: %w", base, err)
	}
	if response.StatusCode >= 200 && response.StatusCode <= 299 {
		return response, nil
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	refusal := &Error{}
	if json.Unmarshal(text, refusal) != nil || refusal.Title == "" && refusal.Detail == "" {
		refusal.Title = "the service answers " + response.Status
	}
	refusal.Status = response.StatusCode
	return nil, refusal
}

// Login signs in and returns a client with the session.
func Login(ctx context.Context, base string, credentials wire.Credentials) (*Client, wire.Session, error) {
	c := New(base, "")
	session, err := c.SignIn(ctx, credentials)
	return c, session, err
}

// SignIn begins a session and goes on with it.
func (c *Client) SignIn(ctx context.Context, credentials wire.Credentials) (wire.Session, error) {
	var session wire.Session
	ctx, cancel := context.WithTimeout(ctx, requestTimeout)
	defer cancel()
	response, err := c.send(ctx, http.MethodPost, "/session", nil, credentials)
	if err != nil {
		return session, err
	}
	defer response.Body.Close()
	for _, cookie := range response.Cookies() {
		if strings.TrimPrefix(cookie.Name, "__Host-") == "kambrel_session" {
			c.token = cookie.Value
		}
	}
	return session, json.NewDecoder(response.Body).Decode(&session)
}

// Token is the secret that the client uses.
func (c *Client) Token() string { return c.token }

// Session tells who is signed in.
func (c *Client) Session(ctx context.Context) (out wire.Session, err error) {
	return out, c.do(ctx, http.MethodGet, "/session", nil, nil, &out)
}

// NewToken makes a token.
func (c *Client) NewToken(ctx context.Context, in wire.NewToken) (out wire.Token, err error) {
	return out, c.do(ctx, http.MethodPost, "/tokens", nil, in, &out)
}

// AddOperator adds an operator.
func (c *Client) AddOperator(ctx context.Context, in wire.NewOperator) error {
	return c.do(ctx, http.MethodPost, "/operators", nil, in, nil)
}

// Operators lists who can sign in.
func (c *Client) Operators(ctx context.Context) (out []wire.Operator, err error) {
	return out, c.do(ctx, http.MethodGet, "/operators", nil, nil, &out)
}

// SetRole gives an operator another role.
func (c *Client) SetRole(ctx context.Context, name string, role wire.Role) error {
	return c.do(ctx, http.MethodPut, "/operators/"+url.PathEscape(name)+"/role", nil, wire.NewRole{Role: role}, nil)
}

// RemoveFactor takes an operator's second factor away.
func (c *Client) RemoveFactor(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/operators/"+url.PathEscape(name)+"/factor", nil, nil, nil)
}

// SignInWays are how one can sign in; it needs no session.
func (c *Client) SignInWays(ctx context.Context) (out wire.SignInWays, err error) {
	return out, c.do(ctx, http.MethodGet, "/session/ways", nil, nil, &out)
}

// NewFactor makes a secret for an authenticator.
func (c *Client) NewFactor(ctx context.Context) (out wire.NewFactor, err error) {
	return out, c.do(ctx, http.MethodPost, "/session/factor", nil, nil, &out)
}

// SetFactor lets the caller be asked for codes of a secret.
func (c *Client) SetFactor(ctx context.Context, factor wire.OwnFactor) error {
	return c.do(ctx, http.MethodPut, "/session/factor", nil, factor, nil)
}

// OperatorGroups lists the groups of directories whose members sign in.
func (c *Client) OperatorGroups(ctx context.Context) (out []wire.OperatorGroup, err error) {
	return out, c.do(ctx, http.MethodGet, "/operator-groups", nil, nil, &out)
}

// AddOperatorGroup lets the members of a group sign in.
func (c *Client) AddOperatorGroup(ctx context.Context, group wire.NewOperatorGroup) (out wire.OperatorGroup, err error) {
	return out, c.do(ctx, http.MethodPost, "/operator-groups", nil, group, &out)
}

// RemoveOperatorGroup lets the members of a group sign in no more.
func (c *Client) RemoveOperatorGroup(ctx context.Context, group wire.OperatorGroup) error {
	return c.do(ctx, http.MethodDelete, "/operator-groups/"+url.PathEscape(group.Directory)+"/"+group.EntryID, nil, nil, nil)
}

// Sessions lists sessions that go on.
func (c *Client) Sessions(ctx context.Context) (out []wire.OpenSession, err error) {
	return out, c.do(ctx, http.MethodGet, "/sessions", nil, nil, &out)
}

// EndSession ends a session.
func (c *Client) EndSession(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, "/sessions/"+url.PathEscape(id), nil, nil, nil)
}

// Tokens lists tokens for programs.
func (c *Client) Tokens(ctx context.Context) (out []wire.Token, err error) {
	return out, c.do(ctx, http.MethodGet, "/tokens", nil, nil, &out)
}

// EndToken ends a token.
func (c *Client) EndToken(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, "/tokens/"+url.PathEscape(id), nil, nil, nil)
}

// RemoveOperator removes somebody who can sign in, and ends their sessions.
func (c *Client) RemoveOperator(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/operators/"+url.PathEscape(name), nil, nil, nil)
}

// SetPassword gives an operator a new password and ends their sessions.
func (c *Client) SetPassword(ctx context.Context, name, password string) error {
	return c.do(ctx, http.MethodPut, "/operators/"+url.PathEscape(name)+"/password", nil, wire.NewPassword{Password: password}, nil)
}

// ChangePassword changes the password of whoever is signed in.
func (c *Client) ChangePassword(ctx context.Context, in wire.OwnPassword) error {
	return c.do(ctx, http.MethodPut, "/session/password", nil, in, nil)
}

// SignOut ends the session, or with everywhere all of the operator's.
func (c *Client) SignOut(ctx context.Context, everywhere bool) error {
	path := "/session"
	if everywhere {
		path += "/everywhere"
	}
	return c.do(ctx, http.MethodDelete, path, nil, nil, nil)
}

// StartRun starts a run or a rehearsal.
func (c *Client) StartRun(ctx context.Context, in wire.NewRun) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodPost, "/runs", nil, in, &out)
}

// Release lets the held removals of a run through, in a new run.
func (c *Client) Release(ctx context.Context, id int64, changes ...int64) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodPost, "/runs/"+strconv.FormatInt(id, 10)+"/release", nil, wire.ReleaseHeld{Changes: changes}, &out)
}

// Discard keeps what a run holds, or some of it, until its cause changes.
func (c *Client) Discard(ctx context.Context, id int64, in wire.DiscardHeld) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodPost, "/runs/"+strconv.FormatInt(id, 10)+"/discard", nil, in, &out)
}

// UndoRun says what of a run can be put back, or puts it back.
func (c *Client) UndoRun(ctx context.Context, id int64, in wire.NewUndo) (out wire.Undo, err error) {
	return out, c.within(ctx, longTimeout, http.MethodPost, "/runs/"+number(id)+"/undo", nil, in, &out)
}

// Pins lists what was put back and stays so.
func (c *Client) Pins(ctx context.Context, query url.Values) (out wire.Page[wire.Pin], err error) {
	return out, c.do(ctx, http.MethodGet, "/pins", query, nil, &out)
}

// LiftPins lets what was put back be decided again.
func (c *Client) LiftPins(ctx context.Context, in wire.LiftPins) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodPost, "/pins/lift", nil, in, &out)
}

// Kept lists what would have been taken away, and was discarded.
func (c *Client) Kept(ctx context.Context, query url.Values) (out wire.Page[wire.Kept], err error) {
	return out, c.do(ctx, http.MethodGet, "/kept", query, nil, &out)
}

// Leavers lists whose resources are deleted when their grace time is over.
func (c *Client) Leavers(ctx context.Context, query url.Values) (out wire.Page[wire.Leaver], err error) {
	return out, c.do(ctx, http.MethodGet, "/leavers", query, nil, &out)
}

// PasswordsState tells how the way stands by which passwords come from the cloud.
func (c *Client) PasswordsState(ctx context.Context) (out wire.PasswordsState, err error) {
	return out, c.do(ctx, http.MethodGet, "/passwords", nil, nil, &out)
}

// PasswordEvents lists what was asked about passwords.
func (c *Client) PasswordEvents(ctx context.Context, query url.Values) (out wire.Page[wire.PasswordEvent], err error) {
	return out, c.do(ctx, http.MethodGet, "/passwords/events", query, nil, &out)
}

// PauseDigests lets no more digests of a directory be made; ResumeDigests lets them again.
func (c *Client) PauseDigests(ctx context.Context, directory string) (out wire.PasswordsState, err error) {
	return out, c.do(ctx, http.MethodPost, "/passwords/digests/"+url.PathEscape(directory)+"/pause", nil, nil, &out)
}

// ResumeDigests lets digests of a directory be made again.
func (c *Client) ResumeDigests(ctx context.Context, directory string) (out wire.PasswordsState, err error) {
	return out, c.do(ctx, http.MethodPost, "/passwords/digests/"+url.PathEscape(directory)+"/resume", nil, nil, &out)
}

// TryPassword goes the whole way for one person without setting anything.
func (c *Client) TryPassword(ctx context.Context, person string) (out wire.PasswordTrial, err error) {
	return out, c.do(ctx, http.MethodPost, "/passwords/try", nil, wire.TryPassword{Person: person}, &out)
}

// EndKept lets the next run decide again about what is kept of an entry.
func (c *Client) EndKept(ctx context.Context, directory, id string) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodDelete, "/kept/"+url.PathEscape(directory)+"/"+url.PathEscape(id), nil, nil, &out)
}

// Run returns one run.
func (c *Client) Run(ctx context.Context, id int64) (out wire.Run, err error) {
	return out, c.do(ctx, http.MethodGet, "/runs/"+strconv.FormatInt(id, 10), nil, nil, &out)
}

// Runs lists runs.
func (c *Client) Runs(ctx context.Context, query url.Values) (out wire.Page[wire.Run], err error) {
	return out, c.do(ctx, http.MethodGet, "/runs", query, nil, &out)
}

// Changes lists the changes of a run.
func (c *Client) Changes(ctx context.Context, id int64, query url.Values) (out wire.Page[wire.Change], err error) {
	return out, c.do(ctx, http.MethodGet, "/runs/"+strconv.FormatInt(id, 10)+"/changes", query, nil, &out)
}

// Find searches objects.
func (c *Client) Find(ctx context.Context, query url.Values) (out wire.Page[wire.Hit], err error) {
	return out, c.do(ctx, http.MethodGet, "/objects", query, nil, &out)
}

// Search finds everything that has a name or a number.
func (c *Client) Search(ctx context.Context, text string) (out wire.Everything, err error) {
	return out, c.do(ctx, http.MethodGet, "/search", url.Values{"text": {text}}, nil, &out)
}

// Object shows one object.
func (c *Client) Object(ctx context.Context, text string) (out wire.Object, err error) {
	return out, c.do(ctx, http.MethodGet, "/object", url.Values{"text": {text}}, nil, &out)
}

// ObjectHistory tells what happened to an object, before a time where one is given.
func (c *Client) ObjectHistory(ctx context.Context, query url.Values) (out wire.ObjectHistory, err error) {
	return out, c.do(ctx, http.MethodGet, "/object/history", query, nil, &out)
}

// ObjectAt shows an object as it was at a time.
func (c *Client) ObjectAt(ctx context.Context, text string, at time.Time) (out wire.ObjectAt, err error) {
	return out, c.do(ctx, http.MethodGet, "/object/at", url.Values{"text": {text}, "time": {at.Format(time.RFC3339Nano)}}, nil, &out)
}

// MailReport mails the report of a time to everybody who gets reports.
func (c *Client) MailReport(ctx context.Context, in wire.MailReport) (out wire.MailedReport, err error) {
	return out, c.do(ctx, http.MethodPost, "/report/mail", nil, in, &out)
}

// Notices lists who is told of what, and what people were told.
func (c *Client) Notices(ctx context.Context) (out wire.NoticesView, err error) {
	return out, c.do(ctx, http.MethodGet, "/notices", nil, nil, &out)
}

// TestNotices sends a notice for a trial.
func (c *Client) TestNotices(ctx context.Context) (out []wire.Notice, err error) {
	return out, c.do(ctx, http.MethodPost, "/notices/test", nil, nil, &out)
}

// TrySchedule tells when a schedule would start the next runs.
func (c *Client) TrySchedule(ctx context.Context, in settings.Schedule) (out wire.ScheduleTimes, err error) {
	return out, c.do(ctx, http.MethodPost, "/schedule/times", nil, in, &out)
}

// Pauses lists what operators have stopped.
func (c *Client) Pauses(ctx context.Context) (out []wire.Pause, err error) {
	return out, c.do(ctx, http.MethodGet, "/pauses", nil, nil, &out)
}

// Pause stops all of the work or a part of it, and returns what is stopped then.
func (c *Client) Pause(ctx context.Context, in wire.NewPause) (out []wire.Pause, err error) {
	return out, c.do(ctx, http.MethodPost, "/pauses", nil, in, &out)
}

// Resume lets it go on, and returns what is still stopped.
func (c *Client) Resume(ctx context.Context, of, directory string) (out []wire.Pause, err error) {
	query := url.Values{}
	if directory != "" {
		query.Set("directory", directory)
	}
	return out, c.do(ctx, http.MethodDelete, "/pauses/"+url.PathEscape(of), query, nil, &out)
}

// ObjectNow asks the cloud what it has of an object at this moment.
func (c *Client) ObjectNow(ctx context.Context, text string) (out wire.CloudNow, err error) {
	return out, c.do(ctx, http.MethodGet, "/object/now", url.Values{"text": {text}}, nil, &out)
}

// Why explains one object.
func (c *Client) Why(ctx context.Context, text string) (out wire.Why, err error) {
	return out, c.do(ctx, http.MethodGet, "/why", url.Values{"text": {text}}, nil, &out)
}

// Problems lists problems.
func (c *Client) Problems(ctx context.Context, query url.Values) (out wire.Page[wire.Problem], err error) {
	return out, c.do(ctx, http.MethodGet, "/problems", query, nil, &out)
}

// ProblemGroups gathers the open problems by what causes them.
func (c *Client) ProblemGroups(ctx context.Context) (out []wire.ProblemGroup, err error) {
	return out, c.do(ctx, http.MethodGet, "/problems/groups", nil, nil, &out)
}

// Problem shows one problem with what helps to solve it.
func (c *Client) Problem(ctx context.Context, id int64) (out wire.ProblemView, err error) {
	return out, c.do(ctx, http.MethodGet, "/problems/"+number(id), nil, nil, &out)
}

// OfferedRepairs lists values that would have to be others so that problems are solved.
func (c *Client) OfferedRepairs(ctx context.Context, query url.Values) (out []wire.RepairItem, err error) {
	return out, c.do(ctx, http.MethodGet, "/problems/repairs", query, nil, &out)
}

// MarkProblems says something of open problems.
func (c *Client) MarkProblems(ctx context.Context, in wire.MarkProblems) (out wire.MarkedProblems, err error) {
	return out, c.do(ctx, http.MethodPost, "/problems/marks", nil, in, &out)
}

// ProblemKinds is the catalogue of problems.
func (c *Client) ProblemKinds(ctx context.Context) (out []wire.ProblemKind, err error) {
	return out, c.do(ctx, http.MethodGet, "/problems/kinds", nil, nil, &out)
}

// Acts lists who did what.
func (c *Client) Acts(ctx context.Context, query url.Values) (out wire.Page[wire.Act], err error) {
	return out, c.do(ctx, http.MethodGet, "/acts", query, nil, &out)
}

// Health is the state of everything.
func (c *Client) Health(ctx context.Context) (out wire.Health, err error) {
	return out, c.do(ctx, http.MethodGet, "/health", nil, nil, &out)
}

// Checkup has the installation looked at; directories and the cloud are tried.
func (c *Client) Checkup(ctx context.Context) (out wire.Checkup, err error) {
	return out, c.do(ctx, http.MethodPost, "/checkup", nil, nil, &out)
}

// FirstDay is how far the installation is on its first day.
func (c *Client) FirstDay(ctx context.Context) (out wire.FirstDay, err error) {
	return out, c.do(ctx, http.MethodGet, "/first-day", nil, nil, &out)
}

// Trend tells how things went on each of the last days.
func (c *Client) Trend(ctx context.Context, days int) (out []wire.TrendDay, err error) {
	return out, c.do(ctx, http.MethodGet, "/health/trend", url.Values{"days": {strconv.Itoa(days)}}, nil, &out)
}

// Settings returns the active settings.
func (c *Client) Settings(ctx context.Context) (out wire.Settings, err error) {
	return out, c.do(ctx, http.MethodGet, "/settings", nil, nil, &out)
}

// Activate activates a settings file.
func (c *Client) Activate(ctx context.Context, in wire.ActivateSettings) (out wire.Settings, err error) {
	return out, c.do(ctx, http.MethodPost, "/settings", nil, in, &out)
}

// Agents lists agents.
func (c *Client) Agents(ctx context.Context) (out []wire.Agent, err error) {
	return out, c.do(ctx, http.MethodGet, "/agents", nil, nil, &out)
}

// IssueCode issues a code that enrols an agent of these directories.
func (c *Client) IssueCode(ctx context.Context, directories ...string) (out wire.EnrolmentCode, err error) {
	return out, c.do(ctx, http.MethodPost, "/agents/codes", nil, wire.AgentGrant{Directories: directories}, &out)
}

// GrantDirectories lets an agent speak for just these directories.
func (c *Client) GrantDirectories(ctx context.Context, id string, directories []string) (out wire.Agent, err error) {
	return out, c.do(ctx, http.MethodPut, "/agents/"+id+"/directories", nil, map[string]any{"directories": directories}, &out)
}

// RetireAgent ends an agent's identity.
func (c *Client) RetireAgent(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, "/agents/"+id, nil, nil, nil)
}

// Wait follows a run until it has ended; each is called whenever it has
// changed. A service that goes away is waited for until ctx ends.
func (c *Client) Wait(ctx context.Context, id int64, each func(wire.Run)) (run wire.Run, err error) {
	err = waiting(ctx, func() error {
		var err error
		run, err = c.follow(ctx, id, each)
		return err
	})
	return run, err
}

// waiting tries until it ends well, ctx ends, or the service refuses; one that is away, or
// fails, is waited for.
func waiting(ctx context.Context, try func() error) error {
	for {
		err := try()
		var refusal *Error
		if err == nil || ctx.Err() != nil || errors.As(err, &refusal) && refusal.Status < 500 {
			return err
		}
		if err := rest.For(ctx, 500*time.Millisecond); err != nil {
			return err
		}
	}
}

// gathered is how long events are gathered before it is looked again.
const gathered = 300 * time.Millisecond

// Watch calls look at once, and again whenever something has happened, until ctx ends or the
// service refuses; one that is away is waited for.
func (c *Client) Watch(ctx context.Context, look func(context.Context) error) error {
	return waiting(ctx, func() error {
		return c.events(ctx, func(wire.Event) bool { return true }, func(ctx context.Context) (bool, error) {
			if err := look(ctx); err != nil {
				return false, err
			}
			return false, rest.For(ctx, gathered)
		})
	})
}

// follow reads the run, then again at each event, until it has ended.
func (c *Client) follow(ctx context.Context, id int64, each func(wire.Run)) (wire.Run, error) {
	var run wire.Run
	err := c.events(ctx, func(event wire.Event) bool { return event.Kind == "run" && event.ID == id }, func(ctx context.Context) (bool, error) {
		var err error
		if run, err = c.Run(ctx, id); err != nil {
			return false, err
		}
		if each != nil {
			each(run)
		}
		return run.State.Ended(), nil
	})
	return run, err
}

// events calls look at once and then at each event that concerns it, until it
// is done.
func (c *Client) events(ctx context.Context, concerns func(wire.Event) bool, look func(context.Context) (bool, error)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	response, err := c.send(ctx, http.MethodGet, "/events", nil, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	for {
		if done, err := look(ctx); err != nil || done {
			return err
		}
		for {
			if !lines.Scan() {
				return fmt.Errorf("the service at %s has ended the stream of events", c.services.Asked())
			}
			data, ok := strings.CutPrefix(lines.Text(), "data: ")
			var event wire.Event
			if ok && json.Unmarshal([]byte(data), &event) == nil && (concerns(event) || event.Kind == "") {
				break
			}
			if strings.HasPrefix(lines.Text(), ": alive") {
				break
			}
		}
	}
}
