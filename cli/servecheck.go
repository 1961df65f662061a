package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/service/notices"
	"kambrel.example/kambrel/service/store"
)

// complete tells what is missing, and puts the database's password in.
func (o *serveOptions) complete() error {
	var faults []error
	for _, one := range []struct {
		needed           bool
		value, flag, key string
	}{
		{true, o.database, "database", "database.connection"},
		{o.cloudTokenFile != "", o.cloudURL, "cloud-url", "cloud.url"}, // without both, 'kambrel cloud connect' tells
		{o.cloudURL != "", o.cloudTokenFile, "cloud-token-file", "cloud.tokenFile"},
	} {
		if one.needed && one.value == "" {
			faults = append(faults, fmt.Errorf("give --%s, or set %s, or %s in the file of --config", one.flag, environmentOf(one.flag), one.key))
		}
	}
	return errors.Join(append(faults, o.databaseWithPassword())...)
}

// databaseWithPassword puts the database's password in, where a file holds it.
func (o *serveOptions) databaseWithPassword() error {
	if o.databasePasswordFile == "" || o.database == "" {
		return nil
	}
	password, err := os.ReadFile(o.databasePasswordFile)
	if err != nil {
		return fmt.Errorf("read the database's password: %w", err)
	}
	o.database, err = store.WithPassword(o.database, strings.TrimSpace(string(password)))
	return err
}

// cloudAnswersWithin is how long a check waits for the cloud.
const cloudAnswersWithin = 10 * time.Second

// checkAll tells how everything stands that the service needs. It changes nothing.
func (o serveOptions) checkAll(ctx context.Context, out io.Writer, configuration error) error {
	failed := false
	step := func(name, detail string, err error) {
		if err == nil {
			fmt.Fprintf(out, "good  %-14s %s\n", name, detail)
			return
		}
		failed = true
		for line := range strings.SplitSeq(err.Error(), "\n") {
			fmt.Fprintf(out, "BAD   %-14s %s\n", name, line)
		}
	}
	step("configuration", cmp.Or(o.config, "flags and environment"), configuration)
	address, err := net.ResolveTCPAddr("tcp", o.listen)
	step("listen", o.listen, err)
	if err == nil {
		step("certificate", o.knownBy(), o.checkCertificate(address))
	}
	if _, err := o.proxies(); len(o.trusted) > 0 || err != nil {
		step("proxies", strings.Join(o.trusted, ", "), err)
	}
	_, err = notices.NewSender(o.mailServer, o.mailFrom, o.mailUser, o.mailPasswordFile, o.mailCA, o.webhookKeyFile)
	step("notices", cmp.Or(o.mailServer, "no mail server: nobody is mailed"), err)
	if o.database != "" {
		detail, err := checkDatabase(ctx, o.database)
		step("database", detail, err)
	}
	switch {
	case o.cloudURL != "" && o.cloudTokenFile != "":
		step("cloud", o.cloudURL, o.checkCloud(ctx))
	case o.cloudURL+o.cloudTokenFile == "":
		step("cloud", "as an operator says ('kambrel cloud connect')", nil)
	}
	if failed {
		return statusError(statusFailed)
	}
	return nil
}

func checkDatabase(ctx context.Context, dsn string) (string, error) {
	holds, err := store.HoldingOf(ctx, dsn)
	if err != nil {
		return "", err
	}
	if holds.Schema == 0 {
		return "it answers, and is made ready at the first start", nil
	}
	return fmt.Sprintf("%d entries, %d links, tables of version %d", holds.Entries, holds.Links, holds.Schema), store.CheckSchema(holds.Schema)
}

func (o serveOptions) checkCloud(ctx context.Context) error {
	scim, err := cloud.New(o.cloudURL, cloud.TokenFile(o.cloudTokenFile))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, cloudAnswersWithin)
	defer cancel()
	_, err = scim.Discover(ctx)
	return err
}

// knownBy says by what the service is known.
func (o serveOptions) knownBy() string {
	switch {
	case o.plain:
		return "none, on loopback only"
	case o.certificate != "":
		return o.certificate
	}
	return "by the service's own authority, in " + o.tlsFolder
}

// checkCertificate reads the operator's certificate; one of the service's own is made when it
// starts.
func (o serveOptions) checkCertificate(listening *net.TCPAddr) error {
	if o.plain && !listening.IP.IsLoopback() {
		return fmt.Errorf("%s is no loopback address: take --plain out, since people's data goes over it", o.listen)
	}
	if o.certificate+o.key == "" {
		return nil
	}
	_, err := o.loadCertificate("", listening)
	return err
}
