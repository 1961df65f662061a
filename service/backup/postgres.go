package backup

import (
	"bytes"
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/problem"
)

// passing are tables whose rows are of the moment: jobs of the timer, which are made anew.
var passing = []string{"river_job", "river_leader", "river_queue", "river_client", "river_client_queue"}

// dump writes the records in PostgreSQL's custom format, and has them listed again.
func dump(ctx context.Context, dsn, file string) error {
	arguments := []string{"--format=custom", "--no-owner", "--no-privileges", "--file=" + file}
	for _, table := range passing {
		arguments = append(arguments, "--exclude-table-data="+table)
	}
	if _, err := run(ctx, dsn, "pg_dump", arguments...); err != nil {
		return err
	}
	listed, err := run(ctx, "", "pg_restore", "--list", file)
	if err != nil {
		return err
	}
	for _, table := range []string{"links", "settings_revisions", "operators"} {
		if !regexp.MustCompile(`TABLE DATA \S+ ` + table + ` `).MatchString(listed) {
			return fmt.Errorf("the dump does not hold the table %s", table)
		}
	}
	return nil
}

// load brings a dump into an empty database, all or nothing.
func load(ctx context.Context, dsn, file string) error {
	_, err := run(ctx, dsn, "pg_restore", "--no-owner", "--no-privileges", "--exit-on-error", "--single-transaction", file)
	return err
}

// run runs one of PostgreSQL's own programs, the newest that is there. The password goes by
// the environment, as others see arguments.
func run(ctx context.Context, dsn, program string, arguments ...string) (string, error) {
	path, err := find(program)
	if err != nil {
		return "", err
	}
	environment := os.Environ()
	if dsn != "" {
		bare, password := withoutPassword(dsn)
		arguments = append([]string{"--dbname=" + bare}, arguments...)
		if password != "" {
			environment = append(environment, "PGPASSWORD="+password)
		}
	}
	command := exec.CommandContext(ctx, path, arguments...)
	var out, said bytes.Buffer
	command.Stdout, command.Stderr, command.Env = &out, &said, environment
	if err := command.Run(); err != nil {
		return "", problem.Wrap(problem.DatabaseUnreachable, err, "%s: %s", program, strings.TrimSpace(said.String()))
	}
	return out.String(), nil
}

func find(program string) (string, error) {
	installed, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + program) // the pattern is well formed
	slices.SortFunc(installed, func(a, b string) int { return len(a) - len(b) + strings.Compare(a, b) })
	if len(installed) > 0 {
		return installed[len(installed)-1], nil
	}
	path, err := exec.LookPath(program)
	if err != nil {
		return "", problem.New(problem.BadInput, "%s is not installed on this host: install PostgreSQL's client programs (on Debian postgresql-client), of the server's version or newer.", program)
	}
	return path, nil
}

var passwordOf = regexp.MustCompile(`(?i)(^|\s)password\s*=\s*('(?:[^'\\]|\\.)*'|\S+)`)

// withoutPassword takes the password out of a connection, in either form (libpq section 34.1.1).
func withoutPassword(dsn string) (bare, password string) {
	if parsed, err := url.Parse(dsn); err == nil && parsed.Scheme != "" {
		password, _ = parsed.User.Password()
		if password != "" {
			parsed.User = url.User(parsed.User.Username())
		}
		return parsed.String(), password
	}
	found := passwordOf.FindStringSubmatch(dsn)
	if found == nil {
		return dsn, ""
	}
	value := found[2]
	if strings.HasPrefix(value, "'") {
		value = regexp.MustCompile(`\\(.)`).ReplaceAllString(value[1:len(value)-1], "$1")
	}
	return strings.TrimSpace(passwordOf.ReplaceAllString(dsn, " ")), value
}
