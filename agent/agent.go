package agent

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/core/address"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/release"
	"kambrel.example/kambrel/protocol/wire"
)

const (
	requestTimeout = 40 * time.Second // above the service's long poll
	firstPause     = 200 * time.Millisecond
	longestPause   = 3 * time.Second // live changes arrive again soon after the service is back
	toldEvery      = time.Minute     // that it is waited for
	signatureTime  = 30 * time.Second
	lookEvery      = 2 * time.Second  // at the configuration
	finishWithin   = 20 * time.Second // what is under way when a newer program is to go on
	// atOnce is how many orders are answered at once, so that a long read of
	// one directory does not keep a probe or another directory waiting.
	atOnce = 3
	// passwordsAtOnce is how many wait for passwords alone.
	passwordsAtOnce = 2
)

// Agent takes orders and answers them.
type Agent struct {
	config   Config // what it was started with
	services *address.Services
	file     string // where changed directories are read from, "" for nowhere
	version  string
	signer   jose.Signer
	http     *http.Client
	vault    *vault
	met      met
	reported func() // called when the service has heard of this agent first
}

// New makes an agent of an enrolled configuration. Directories that change in
// file, unless it is "", are taken up with the next order.
func New(c Config, file, version string) (*Agent, error) {
	if c.AgentID == "" || c.Key == "" {
		return nil, problem.New(problem.BadInput, "the agent is not enrolled: run 'kambrel agent enrol'")
	}
	s, err := signer(c.Key)
	if err != nil {
		return nil, err
	}
	client, err := httpClient(c)
	if err != nil {
		return nil, err
	}
	kept, err := openVault(StateFolder(file))
	if err != nil {
		return nil, err
	}
	return &Agent{config: c, services: address.ServicesOf(c.Service), file: file, version: version, signer: s, http: client, vault: kept, reported: func() {}}, nil
}

func httpClient(c Config) (*http.Client, error) {
	if err := CheckServices(c.Service); err != nil {
		return nil, err
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.ResponseHeaderTimeout = requestTimeout
	if c.ServiceCA != "" {
		text, err := os.ReadFile(c.ServiceCA)
		if err != nil {
			return nil, fmt.Errorf("read the service's CA bundle: %w", err)
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(text) {
			return nil, problem.New(problem.BadInput, "%s holds no certificate in PEM form", c.ServiceCA)
		}
		transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	// A signature is made for one service and goes nowhere else.
	return &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, nil
}

// CheckServices refuses a list of services of which one is refused.
func CheckServices(list string) error {
	services := address.List(list)
	if len(services) == 0 {
		return CheckService(list)
	}
	for _, service := range services {
		if err := CheckService(service); err != nil {
			return err
		}
	}
	return nil
}

// CheckService refuses addresses over which people's data would go unprotected.
func CheckService(service string) error {
	parsed, err := url.Parse(service)
	if err != nil || parsed.Host == "" {
		return problem.New(problem.BadInput, "service %q: write https://host[:port]", service)
	}
	if parsed.Scheme != "https" && !(parsed.Scheme == "http" && address.Loopback(parsed.Hostname())) {
		return problem.New(problem.BadInput, "service %q: it must be https; http is taken on loopback only", service)
	}
	return nil
}

// Enrol exchanges a one-time code for an identity and returns the completed
// configuration. The private key never leaves this host.
func Enrol(ctx context.Context, c Config, code string) (Config, error) {
	private, public, err := newKey()
	if err != nil {
		return c, err
	}
	client, err := httpClient(c)
	if err != nil {
		return c, err
	}
	host, _ := os.Hostname()
	body, err := json.Marshal(wire.EnrolRequest{Code: code, Name: c.Name, Host: host, PublicKey: public})
	if err != nil {
		return c, err
	}
	var response *http.Response
	if err := address.ServicesOf(c.Service).Ask(func(service string) (bool, error) { // whichever is there
		request, err := http.NewRequestWithContext(ctx, http.MethodPost, service+"/api/v1/agents", bytes.NewReader(body))
		if err != nil {
			return true, err
		}
		request.Header.Set("Content-Type", "application/json")
		response, err = client.Do(request)
		return err == nil, err
	}); err != nil {
		return c, fmt.Errorf("reach the service: %w", err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return c, refusal(response)
	}
	var enrolled wire.EnrolResponse
	if err := json.NewDecoder(response.Body).Decode(&enrolled); err != nil {
		return c, fmt.Errorf("read the service's answer: %w", err)
	}
	c.AgentID, c.Key = enrolled.AgentID, private
	return c, nil
}

// errRetired ends the agent: trying again does not help.
var errRetired = errors.New("the service does not know this agent any more")

// Run works until ctx ends. A service or a directory that is away is waited
// for; only an agent that was retired gives up. It ends with errNewer when a newer program is
// to go on, after what is under way has been done.
func (a *Agent) Run(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	group, ctx := errgroup.WithContext(ctx)
	taking, stop := context.WithCancel(ctx) // while new work is begun
	defer stop()
	newer := false
	group.Go(func() error {
		err := a.update(taking)
		if newer = errors.Is(err, errNewer); newer {
			stop()
			time.AfterFunc(finishWithin, cancel) // what takes longer is done again
			return nil
		}
		return err
	})
	group.Go(func() error { return a.greet(taking) })
	group.Go(func() error { return a.watch(taking) })
	// All services are asked for orders side by side, so that none has to be found out to be
	// away, or to have stopped in the middle of an answer.
	for _, service := range a.services.URLs() {
		for slot := range atOnce {
			lane := orders.LaneAny
			if slot == 0 {
				lane = orders.LaneQuick // one is never at a long reading
			}
			group.Go(func() error { return a.work(ctx, taking, service, lane) })
		}
		for range passwordsAtOnce {
			group.Go(func() error { return a.work(ctx, taking, service, orders.LanePasswords) })
		}
	}
	if err := group.Wait(); err != nil || !newer {
		return err
	}
	return errNewer
}

// greet tells the service what the agent serves: at the start, and when the
// configuration has changed.
func (a *Agent) greet(ctx context.Context) error {
	greeted := "" // what was told last
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for ctx.Err() == nil {
		config, print, err := a.look(time.Now())
		if err == nil && print != greeted {
			if err = a.hello(ctx, config); err == nil {
				if greeted == "" {
					a.reported()
				}
				greeted = print
			}
		}
		if errors.Is(err, errRetired) {
			return err
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("tell the service what this agent serves", logkey.Error, err)
		}
		select {
		case <-ctx.Done():
		case <-ticker.C:
		}
	}
	return nil
}

// work takes one order of a lane of a service after the other while taking goes on; the last
// one is carried out.
func (a *Agent) work(ctx, taking context.Context, service string, lane orders.Lane) error {
	pauses := pausesUpTo(longestPause)
	var told time.Time
	for taking.Err() == nil {
		err := a.next(ctx, taking, service, lane)
		switch {
		case err == nil:
			pauses.Reset()
			told = time.Time{}
			continue
		case errors.Is(err, errRetired):
			return err
		case taking.Err() != nil:
			return nil
		}
		if time.Since(told) > toldEvery {
			slog.Warn("waiting for the service", logkey.Error, err)
			told = time.Now()
		}
		_ = rest.For(taking, pauses.NextBackOff())
	}
	return nil
}

// pausesUpTo are the pauses between tries, each about twice as long as the one before.
func pausesUpTo(longest time.Duration) *backoff.ExponentialBackOff {
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval, pauses.Multiplier = firstPause, longest, 2
	return pauses
}

// now reads the configuration, which may change while the agent runs: a new password needs
// no new start and no new enrolment.
func (a *Agent) now() (Config, error) {
	if a.file == "" {
		return a.config, nil
	}
	return Load(a.file)
}

// look reads what the agent would tell about itself, with a print that changes when the
// service should hear of it: also a new password, with which a directory may be reached
// again.
func (a *Agent) look(now time.Time) (c Config, print string, err error) {
	if c, err = a.now(); err != nil {
		return c, "", err
	}
	if err := a.vault.rotateWhenDue(now); err != nil {
		return c, "", fmt.Errorf("make a new key for passwords: %w", err)
	}
	sum := sha256.New()
	for _, d := range c.Directories {
		fmt.Fprintln(sum, d.print())
	}
	if c.Cloud != nil {
		fmt.Fprintf(sum, "%q %t ", c.Cloud.Issuer, c.Cloud.SealKey != "")
	}
	if c.Updates != nil {
		fmt.Fprintf(sum, "%q ", c.Updates.Key)
	}
	fmt.Fprintf(sum, "%q", a.vault.current().Key.KeyID)
	return c, string(sum.Sum(nil)), nil
}

func (a *Agent) hello(ctx context.Context, c Config) error {
	host, _ := os.Hostname()
	updates, err := c.Updates.print()
	if err != nil {
		return err
	}
	hello := wire.Hello{Version: a.version, Platform: release.Platform(), Updates: updates, Host: host, Directories: []string{}, Plain: []string{}, Keys: map[string]string{}}
	if c.Cloud != nil {
		hello.Trusts = c.Cloud.Issuer
	}
	for _, d := range c.Directories {
		hello.Directories = append(hello.Directories, d.Name)
		if d.plain() {
			hello.Plain = append(hello.Plain, d.Name)
		}
		if c.Cloud != nil && c.Cloud.SealKey != "" {
			hello.Digests = append(hello.Digests, d.Name)
			if d.LocalSocket != "" {
				hello.Local = append(hello.Local, d.Name)
			}
		}
		statement, err := a.vault.state(a.config.Key, d.Name, a.config.Name)
		if err != nil {
			return err
		}
		hello.Keys[d.Name] = statement
	}
	body, err := json.Marshal(hello)
	if err != nil {
		return err
	}
	response, err := a.do(ctx, http.MethodPut, "/api/v1/agent/hello", body)
	if err != nil {
		return fmt.Errorf("say hello: %w", err)
	}
	return response.Body.Close()
}

// mostHeard is how long one of several services may take for an answer that is no order.
const mostHeard = 3 * time.Second

// do makes one signed request of the service that answers: the one that did so last first.
func (a *Agent) do(ctx context.Context, method, path string, body []byte) (*http.Response, error) {
	var response *http.Response
	err := a.services.Ask(func(service string) (bool, error) {
		var err error
		response, err = a.hear(ctx, service, method, path, body)
		return err == nil || errors.Is(err, errRetired) || problem.CodeOf(err) != "" || ctx.Err() != nil, err
	})
	return response, err
}

// hear gives up a service that is silent where there are others.
func (a *Agent) hear(ctx context.Context, service, method, path string, body []byte) (*http.Response, error) {
	if len(a.services.URLs()) == 1 {
		return a.to(ctx, service, method, path, bytes.NewReader(body))
	}
	ctx, cancel := context.WithCancel(ctx)
	timer := time.AfterFunc(mostHeard, cancel)
	response, err := a.to(ctx, service, method, path, bytes.NewReader(body))
	if !timer.Stop() && err != nil {
		err = fmt.Errorf("%s is silent: %w", service, err)
	}
	if err != nil {
		cancel()
		return nil, err
	}
	response.Body = ended{response.Body, cancel}
	return response, nil
}

// ended is a body with which a request ends.
type ended struct {
	io.ReadCloser
	end context.CancelFunc
}

func (b ended) Close() error {
	defer b.end()
	return b.ReadCloser.Close()
}

// to makes one signed request of a service. An answer that is no success is an error with
// the service's own words.
func (a *Agent) to(ctx context.Context, service, method, path string, body io.Reader) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, service+path, body)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	token, err := jwt.Signed(a.signer).Claims(jwt.Claims{
		Subject: a.config.AgentID, Audience: jwt.Audience{"kambrel"}, IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(signatureTime)), ID: uuid.NewString(),
	}).Claims(map[string]any{"htm": method, "htp": path}).Serialize()
	if err != nil {
		return nil, fmt.Errorf("sign the request: %w", err)
	}
	request.Header.Set("Authorization", "Bearer "+token)
	request.Header.Set("Content-Type", "application/x-ndjson")
	response, err := a.http.Do(request)
	if err != nil {
		return nil, err
	}
	if response.StatusCode >= 200 && response.StatusCode <= 299 {
		return response, nil
	}
	defer response.Body.Close()
	err = refusal(response)
	if problem.CodeOf(err) == problem.AgentRetired {
		return nil, fmt.Errorf("%w: %w", errRetired, err)
	}
	return nil, err
}

// refusal reads an RFC 9457 problem.
func refusal(response *http.Response) error {
	text, _ := io.ReadAll(io.LimitReader(response.Body, 1<<16))
	var body struct{ Type, Title, Detail string }
	if json.Unmarshal(text, &body) == nil && body.Title != "" {
		code, ok := strings.CutPrefix(body.Type, "urn:kambrel:problem:")
		if ok {
			return problem.New(problem.Code(code), "%s", body.Detail)
		}
		return fmt.Errorf("the service answers %d: %s: %s", response.StatusCode, body.Title, body.Detail)
	}
	return fmt.Errorf("the service answers %s", response.Status)
}
