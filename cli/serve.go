package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/onhost"
	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/console"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service"
	"kambrel.example/kambrel/service/api"
	"kambrel.example/kambrel/service/audit"
	"kambrel.example/kambrel/service/certificates"
	"kambrel.example/kambrel/service/notices"
	"kambrel.example/kambrel/service/operators"
	"kambrel.example/kambrel/service/runs"
	"kambrel.example/kambrel/service/seal"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/store"
)

// serveOptions are the flags of serve.
type serveOptions struct {
	listen, url, database          string
	cloudURL, cloudTokenFile       string
	keytab                         string
	cloudSealKeyFile               string
	certificate, key, passwordFile string
	tlsFolder                      string
	plain                          bool
	agentPatience, lease           time.Duration
	creationPatience, checkEvery   time.Duration
	trusted                        []string
	auditFile, auditSyslog         string
	mailServer, mailFrom, mailUser string
	mailPasswordFile, mailCA       string
	webhookKeyFile                 string
	shadow                         bool
	config, databasePasswordFile   string
	check                          bool
}

func newServeCommand() *cobra.Command {
	o := serveOptions{}
	return o.command()
}

// command is serve, which fills the options in.
func (o *serveOptions) command() *cobra.Command {
	command := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: terminal.NoArguments,
		Long: `Runs the service: console and HTTP interface, schedule and runs. Its records are
in PostgreSQL; several services on one database stand by for each other.

On an empty database it makes the operator 'administrator' and prints its
password once, unless --administrator-password-file gives one. Without a
certificate it makes an authority of its own and a certificate by that, whose
fingerprint it prints: agents and people compare it when they first meet the
service. Certificates are read again when their files change.

What the flags say may stand in a file too (--config, see docs/service.yaml); the
environment (KAMBREL_LISTEN for --listen) is stronger than the file, and a flag
stronger than both. In values $CREDENTIALS_DIRECTORY and $STATE_DIRECTORY stand for
the folders that a service manager gives. --check tells what is wrong with all of
it and starts nothing.`,
		Example: "  kambrel serve --database postgres://kambrel@127.0.0.1/kambrel --cloud-url https://cloud.halvard.example/scim/v2 --cloud-token-file token",
		RunE: func(cmd *cobra.Command, _ []string) error {
			err := errors.Join(configure(cmd.Flags(), o.config), o.complete())
			if o.check {
				return o.checkAll(cmd.Context(), cmd.OutOrStdout(), err)
			}
			if err != nil {
				return err
			}
			return o.run(cmd.Context(), cmd.OutOrStdout())
		},
	}
	flags := command.Flags()
	flags.StringVar(&o.config, "config", os.Getenv("KAMBREL_CONFIG"), "file that says what the flags say, or KAMBREL_CONFIG")
	flags.BoolVar(&o.check, "check", false, "tell what is wrong with configuration, files, database and cloud, and start nothing")
	flags.StringVar(&o.listen, "listen", "127.0.0.1:7600", "address and port to listen on")
	flags.StringVar(&o.url, "url", "", "URL under which agents and browsers reach the service; by default from --listen")
	flags.StringVar(&o.database, "database", "", "PostgreSQL connection, or KAMBREL_DATABASE")
	flags.StringVar(&o.databasePasswordFile, "database-password-file", "", "file that holds the password for the database, instead of one in --database")
	flags.StringVar(&o.keytab, "kerberos-keytab", "", "file with the key of HTTP/host by which tickets of people who sign in to the cloud here are read; none takes no tickets")
	flags.StringVar(&o.cloudURL, "cloud-url", "", "base URL of the cloud's SCIM service")
	flags.StringVar(&o.cloudTokenFile, "cloud-token-file", "", "file that holds the token for the cloud; read again when it changes")
	flags.StringVar(&o.cloudSealKeyFile, "cloud-seal-key-file", "", "file with the key by which a token that 'kambrel cloud connect' gives is sealed in the records; by default seal.key in --tls-folder, made when it is needed")
	flags.StringVar(&o.certificate, "tls-cert", "", "certificate chain in PEM form, instead of one by the service's own authority")
	flags.StringVar(&o.key, "tls-key", "", "private key in PEM form")
	flags.StringVar(&o.tlsFolder, "tls-folder", defaultTLSFolder(), "where the service's own authority and certificate are kept")
	flags.BoolVar(&o.plain, "plain", false, "no TLS, on loopback only: behind a proxy on this host that has it, or to try things out")
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
	return command
}

func (o serveOptions) run(ctx context.Context, out io.Writer) error {
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
	scim, start := cloud.Unconnected(), setup.Start{URL: o.cloudURL, Seal: seal.KeyIn(cmp.Or(o.cloudSealKeyFile, filepath.Join(o.tlsFolder, "seal.key")))}
	if o.cloudURL != "" {
		start.Token = cloud.TokenFile(o.cloudTokenFile)
		if scim, err = cloud.New(o.cloudURL, start.Token); err != nil {
			return err
		}
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
	address := strings.TrimSuffix(cmp.Or(o.url, o.reachedAt(listener.Addr())), "/")
	certificate, err := o.loadCertificate(address, listener.Addr())
	if err != nil {
		return errors.Join(err, listener.Close())
	}
	e := service.New(records, scim, service.Options{Cloud: start, AgentPatience: o.agentPatience, Lease: o.lease, Streams: streams, Sender: sender, URL: address, Certificate: certificate, Shadow: o.shadow, Keytab: o.keytab, Runs: runs.Options{CreationPatience: o.creationPatience, CheckEvery: o.checkEvery}})
	server := api.New(e, api.Options{URL: address, Certificate: certificate, Console: console.Files(), TrustedProxies: proxies})
	if err := e.Start(ctx); err != nil {
		return errors.Join(err, listener.Close())
	}
	defer onhost.SpareMemory(48)()
	slog.Info("serving", logkey.URL, address)
	if certificate != nil && certificate.Authority() != nil {
		fmt.Fprintf(out, "%s is known by an authority of its own (%s), whose SHA-256 fingerprint is\n  %s\n", address, certificate.Authority().File(), certificate.Authority().Fingerprint())
	}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
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

// packagedState is the folder that the service's package makes.
const packagedState = "/var/lib/kambrel"

// defaultTLSFolder is within the folder that a service manager gives, or the package's, or else
// the user's.
func defaultTLSFolder() string {
	if folder := os.Getenv("STATE_DIRECTORY"); folder != "" {
		return filepath.Join(folder, "tls")
	}
	if _, err := os.Stat(packagedState); err == nil {
		return filepath.Join(packagedState, "tls")
	}
	folder, err := os.UserConfigDir()
	if err != nil {
		return "kambrel-tls"
	}
	return filepath.Join(folder, "kambrel", "tls")
}

// loadCertificate finds by what the service is known at an address; nil for --plain.
func (o serveOptions) loadCertificate(reached string, listening net.Addr) (*certificates.Source, error) {
	switch {
	case o.plain && o.certificate+o.key != "":
		return nil, errors.New("--plain is without TLS: take it out, or --tls-cert and --tls-key")
	case o.plain:
		return nil, nil
	case o.certificate != "" && o.key != "":
		return certificates.FromFiles(o.certificate, o.key)
	case o.certificate+o.key != "":
		return nil, errors.New("--tls-cert and --tls-key belong together: give both, or none for a certificate by the service's own authority")
	}
	return certificates.Own(o.tlsFolder, names(reached, listening))
}

// reachedAt is where a service is found that was told no URL.
func (o serveOptions) reachedAt(listening net.Addr) string {
	at := listening.String()
	if tcp, ok := listening.(*net.TCPAddr); ok && tcp.IP.IsUnspecified() {
		if host, err := os.Hostname(); err == nil {
			at = net.JoinHostPort(host, strconv.Itoa(tcp.Port))
		}
	}
	return map[bool]string{true: "http", false: "https"}[o.plain] + "://" + at
}

// names are those by which the service's own certificate knows it, the one in its URL first.
func names(reached string, listening net.Addr) []string {
	var list []string
	if parsed, err := url.Parse(reached); err == nil {
		list = append(list, parsed.Hostname())
	}
	if host, err := os.Hostname(); err == nil {
		list = append(list, host)
	}
	list = append(list, "localhost", "127.0.0.1", "::1")
	if tcp, ok := listening.(*net.TCPAddr); ok && tcp.IP.IsUnspecified() {
		interfaces, _ := net.InterfaceAddrs() // without them it is known by its names
		for _, one := range interfaces {
			if network, ok := one.(*net.IPNet); ok && network.IP.IsGlobalUnicast() {
				list = append(list, network.IP.String())
			}
		}
	} else if ok {
		list = append(list, tcp.IP.String())
	}
	slices.Sort(list[1:])
	return slices.Compact(slices.DeleteFunc(list, func(name string) bool { return name == "" }))
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
		Use: "openapi", Short: "Print the OpenAPI document of the service", Args: terminal.NoArguments, Hidden: true,
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
