package cli

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/console"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service"
	"kambrel.example/kambrel/service/api"
	"kambrel.example/kambrel/service/audit"
	"kambrel.example/kambrel/service/notices"
	"kambrel.example/kambrel/service/operators"
	"kambrel.example/kambrel/service/runs"
	"kambrel.example/kambrel/service/store"
)

// serveOptions are the flags of serve.
type serveOptions struct {
	listen, url, database          string
	cloudURL, cloudTokenFile       string
	certificate, key, passwordFile string
	agentPatience, lease           time.Duration
	creationPatience, checkEvery   time.Duration
	trusted                        []string
	auditFile, auditSyslog         string
	mailServer, mailFrom, mailUser string
	mailPasswordFile, mailCA       string
	webhookKeyFile                 string
	shadow                         bool
}

func newServeCommand() *cobra.Command {
	o := serveOptions{}
	command := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: noArguments,
		Long: `Runs the service: console and HTTP interface, schedule and runs. Its records are
in PostgreSQL; several services on one database stand by for each other.

On an empty database it makes the operator 'administrator' and prints its
password once, unless --administrator-password-file gives one. Without a
certificate it listens on loopback only.`,
		Example: "  kambrel serve --database postgres://kambrel@127.0.0.1/kambrel --cloud-url https://cloud.halvard.example/scim/v2 --cloud-token-file token",
		RunE:    func(cmd *cobra.Command, _ []string) error { return o.run(cmd.Context(), cmd.OutOrStdout()) },
	}
	flags := command.Flags()
	flags.StringVar(&o.listen, "listen", "127.0.0.1:7600", "address and port to listen on")
	flags.StringVar(&o.url, "url", "", "URL under which agents and browsers reach the service; by default from --listen")
	flags.StringVar(&o.database, "database", os.Getenv("KAMBREL_DATABASE"), "PostgreSQL connection, or KAMBREL_DATABASE")
	flags.StringVar(&o.cloudURL, "cloud-url", "", "base URL of the cloud's SCIM service")
	flags.StringVar(&o.cloudTokenFile, "cloud-token-file", "", "file that holds the token for the cloud; read again when it changes")
	flags.StringVar(&o.certificate, "tls-cert", "", "certificate chain in PEM form")
	flags.StringVar(&o.key, "tls-key", "", "private key in PEM form")
	flags.StringVar(&o.passwordFile, "administrator-password-file", "", "file with the first administrator's password")
	flags.DurationVar(&o.agentPatience, "agent-patience", 30*time.Second, "how long a run waits for an agent to take an order")
	flags.DurationVar(&o.checkEvery, "cross-check-every", time.Hour, "how often it is compared whether a directory tells all its changes")
	flags.DurationVar(&o.lease, "order-lease", 30*time.Second, "how long an order stays an agent's without a word from it")
	flags.StringSliceVar(&o.trusted, "trusted-proxy", nil, "addresses or networks of proxies whose X-Forwarded-For is believed")
	flags.StringVar(&o.auditFile, "audit-file", "", "file to which each act is appended as a line of JSON")
	flags.StringVar(&o.auditSyslog, "audit-syslog", "", "collector to which each act is sent by syslog (RFC 5424): udp://host:port, tcp://host:port or unix:///path")
	flags.StringVar(&o.mailServer, "mail-server", "", "server by which notices go out: smtp://host:port, which must offer STARTTLS unless it is on loopback, or smtps://host:port")
	flags.StringVar(&o.mailFrom, "mail-from", "", "address that notices come from")
	flags.StringVar(&o.mailUser, "mail-user", "", "name by which to sign in to the mail server")
	flags.StringVar(&o.mailPasswordFile, "mail-password-file", "", "file that holds the password for the mail server; read each time")
	flags.StringVar(&o.mailCA, "mail-ca", "", "certificates in PEM form by which the mail server is known, instead of the system's")
	flags.StringVar(&o.webhookKeyFile, "webhook-key-file", "", "file that holds the key by which notices to the webhook are signed; read each time")
	flags.DurationVar(&o.creationPatience, "creation-patience", 2*time.Minute, "how long a creation that the cloud did not answer is looked for before it is sent again, where the cloud would not refuse a second one")
	flags.BoolVar(&o.shadow, "shadow", false, "read and plan only, on a copy of another service's records, and write nothing anywhere; see 'kambrel compare'")
	for _, name := range []string{"cloud-url", "cloud-token-file"} {
		_ = command.MarkFlagRequired(name)
	}
	return command
}

func (o serveOptions) run(ctx context.Context, out io.Writer) error {
	if o.database == "" {
		return errors.New("give --database, or set KAMBREL_DATABASE")
	}
	certificate, err := o.loadCertificate()
	if err != nil {
		return err
	}
	proxies, err := o.proxies()
	if err != nil {
		return err
	}
	sender, err := notices.NewSender(o.mailServer, o.mailFrom, o.mailUser, o.mailPasswordFile, o.mailCA, o.webhookKeyFile)
	if err != nil {
		return err
	}
	streams, err := o.streams()
	if err != nil {
		return err
	}
	scim, err := cloud.New(o.cloudURL, cloud.TokenFile(o.cloudTokenFile))
	if err != nil {
		return err
	}
	records, err := store.Open(ctx, o.database)
	if err != nil {
		return err
	}
	defer records.Close()
	if err := o.firstAdministrator(ctx, records, out); err != nil {
		return err
	}
	listener, err := net.Listen("tcp", o.listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w", o.listen, err)
	}
	address := o.url
	if address == "" {
		scheme := map[bool]string{true: "https", false: "http"}[certificate != nil]
		address = scheme + "://" + listener.Addr().String()
	}
	e := service.New(records, scim, service.Options{AgentPatience: o.agentPatience, Lease: o.lease, Streams: streams, Sender: sender, URL: address, Shadow: o.shadow, Runs: runs.Options{CreationPatience: o.creationPatience, CheckEvery: o.checkEvery}})
	server := api.New(e, api.Options{URL: strings.TrimSuffix(address, "/"), Console: console.Files(), TrustedProxies: proxies})
	if err := e.Start(ctx); err != nil {
		return errors.Join(err, listener.Close())
	}
	defer spareMemory(48)()
	slog.Info("serving", logkey.URL, address)
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener, certificate) }()
	select {
	case err = <-ended:
	case <-ctx.Done():
		err = server.Close()
	}
	e.Stop()
	return err
}

// streams are where acts go.
func (o serveOptions) streams() ([]audit.Stream, error) {
	var streams []audit.Stream
	for _, of := range []struct {
		value string
		make  func(string) (audit.Stream, error)
	}{{o.auditFile, audit.File}, {o.auditSyslog, audit.Syslog}} {
		if of.value == "" {
			continue
		}
		stream, err := of.make(of.value)
		if err != nil {
			return nil, err
		}
		streams = append(streams, stream)
	}
	return streams, nil
}

// proxies reads what is trusted: addresses, or networks such as 192.0.2.0/24.
func (o serveOptions) proxies() ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, text := range o.trusted {
		prefix, err := netip.ParsePrefix(text)
		if err != nil {
			address, err := netip.ParseAddr(text)
			if err != nil {
				return nil, fmt.Errorf("--trusted-proxy %q: write an address, or a network such as 192.0.2.0/24", text)
			}
			prefix = netip.PrefixFrom(address, address.BitLen())
		}
		out = append(out, prefix)
	}
	return out, nil
}

func (o serveOptions) loadCertificate() (*tls.Certificate, error) {
	if o.certificate == "" && o.key == "" {
		return nil, nil
	}
	certificate, err := tls.LoadX509KeyPair(o.certificate, o.key)
	if err != nil {
		return nil, fmt.Errorf("read --tls-cert and --tls-key: %w", err)
	}
	return &certificate, nil
}

// firstAdministrator makes the first operator of an empty database.
func (o serveOptions) firstAdministrator(ctx context.Context, records *store.Store, out io.Writer) error {
	existing, err := records.Operators.List(ctx)
	if err != nil || len(existing) > 0 {
		return err
	}
	password := rand.Text()
	if o.passwordFile != "" {
		text, err := os.ReadFile(o.passwordFile)
		if err != nil {
			return fmt.Errorf("read the first administrator's password: %w", err)
		}
		password = strings.TrimSpace(string(text))
	} else {
		fmt.Fprintf(out, "First sign-in: name administrator, password %s (shown once)\n", password)
	}
	return operators.Add(ctx, records, wire.NewOperator{Name: "administrator", Password: password, Role: wire.Administrator})
}

func newOpenAPICommand() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Print the OpenAPI document of the service", Args: noArguments, Hidden: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			text, err := api.New(service.New(nil, nil, service.Options{}), api.Options{Console: console.Files()}).OpenAPIJSON()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(cmd.OutOrStdout(), string(text))
			return err
		},
	}
}
