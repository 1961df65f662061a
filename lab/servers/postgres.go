package servers

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"sync"
	"syscall"

	_ "github.com/jackc/pgx/v5/stdlib" // the database/sql driver "pgx"
)

// Postgres is a running PostgreSQL server.
type Postgres struct {
	*Process
	Port int
}

// DSN is the connection string of a database.
func (p *Postgres) DSN(database string) string {
	return fmt.Sprintf("postgres://postgres@127.0.0.1:%d/%s?sslmode=disable", p.Port, database)
}

// StartPostgres starts PostgreSQL with its data in the lab. It refuses to run
// as root, so then it runs as the user postgres. Local connections are trusted;
// it listens on loopback only. Throwaway servers skip syncing to disk.
func (l *Lab) StartPostgres(ctx context.Context, port int, throwaway bool) (*Postgres, error) {
	binaries, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	if len(binaries) == 0 {
		return nil, fmt.Errorf("PostgreSQL is not installed: run lab/servers/install.sh, or make demo")
	}
	sort.Strings(binaries)
	bin := binaries[len(binaries)-1]
	uid, gid, err := postgresUser()
	if err != nil {
		return nil, err
	}
	data, err := postgresData(l.Dir)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err != nil {
		l.log("preparing PostgreSQL")
		if err := os.RemoveAll(data); err != nil {
			return nil, err
		}
		prepare := initialize
		if l.Many && throwaway {
			prepare = copied
		}
		if err := prepare(ctx, bin, data, uid, gid, throwaway); err != nil {
			return nil, err
		}
	}
	if port, err = FreePort(port); err != nil {
		return nil, err
	}
	p := &Postgres{Port: port}
	command := Command{
		Name: "postgresql", Path: filepath.Join(bin, "postgres"), StopWith: syscall.SIGINT, // fast shutdown
		Args: []string{"-D", data, "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
			"-c", "shared_buffers=256MB", "-c", "max_wal_size=2GB", "-c", "jit=off"},
		Ready: func(ctx context.Context) error { return ping(ctx, p.DSN("postgres")) },
	}
	if throwaway {
		command.Args = append(command.Args, "-c", "fsync=off", "-c", "full_page_writes=off")
	}
	for _, option := range l.PostgresOptions {
		command.Args = append(command.Args, "-c", option)
	}
	if os.Geteuid() == 0 {
		command.UID, command.GID = uid, gid
	}
	p.Process, err = l.Start(ctx, command)
	return p, err
}

// initialize makes the files of a new server.
func initialize(ctx context.Context, bin, data string, uid, gid uint32, throwaway bool) error {
	if err := os.MkdirAll(data, 0o700); err != nil {
		return err
	}
	if err := os.Chown(data, int(uid), int(gid)); err != nil {
		return err
	}
	args := []string{"-D", data, "-U", "postgres", "--auth=trust", "-E", "UTF8", "--locale=C.UTF-8"}
	if throwaway {
		args = append(args, "--no-sync")
	}
	initdb := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), args...)
	initdb.Dir = "/"
	if os.Geteuid() == 0 {
		initdb.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: gid}}
	}
	if out, err := initdb.CombinedOutput(); err != nil {
		return fmt.Errorf("initdb: %w\n%s", err, out)
	}
	return nil
}

// pattern is the files of a new server, made once for all that this process
// throws away: copying them costs a fifth of making them.
var pattern struct {
	sync.Mutex
	data string
}

// copied is initialize from the pattern, which is made for the first server.
func copied(ctx context.Context, bin, data string, uid, gid uint32, throwaway bool) error {
	pattern.Lock()
	defer pattern.Unlock()
	if pattern.data == "" {
		folder, err := os.MkdirTemp("", "kambrel-postgres-")
		if err != nil {
			return err
		}
		if err := os.Chmod(folder, 0o755); err != nil {
			return err
		}
		made := filepath.Join(folder, "data")
		if err := initialize(ctx, bin, made, uid, gid, throwaway); err != nil {
			return errors.Join(err, os.RemoveAll(folder))
		}
		pattern.data = made
	}
	if out, err := exec.CommandContext(ctx, "cp", "-a", "--reflink=auto", pattern.data, data).CombinedOutput(); err != nil {
		return fmt.Errorf("copy PostgreSQL's files: %w\n%s", err, out)
	}
	return nil
}

// RemovePattern deletes what servers that were thrown away were copied from.
func RemovePattern() error {
	pattern.Lock()
	defer pattern.Unlock()
	if pattern.data == "" {
		return nil
	}
	folder := filepath.Dir(pattern.data)
	pattern.data = ""
	return os.RemoveAll(folder)
}

// postgresData is where a lab's PostgreSQL keeps its files: in the lab's folder,
// or, where the user postgres cannot get there, in a new one below /var/tmp, whose
// name a file in the lab's folder tells.
func postgresData(dir string) (string, error) {
	inside := filepath.Join(dir, "postgres")
	if os.Geteuid() != 0 {
		return inside, nil
	}
	for above := dir; above != "/"; above = filepath.Dir(above) {
		info, err := os.Stat(above)
		if err != nil || info.Mode().Perm()&0o001 != 0 {
			continue
		}
		told := filepath.Join(dir, "postgres.folder")
		if text, err := os.ReadFile(told); err == nil {
			return filepath.Join(string(text), "postgres"), nil
		}
		folder, err := os.MkdirTemp("/var/tmp", "kambrel-lab-")
		if err != nil {
			return "", err
		}
		if err := os.Chmod(folder, 0o755); err != nil {
			return "", err
		}
		return filepath.Join(folder, "postgres"), os.WriteFile(told, []byte(folder), 0o600)
	}
	return inside, nil
}

// Create makes a database if it does not exist.
func (p *Postgres) Create(ctx context.Context, database string) (dsn string, err error) {
	db, err := sql.Open("pgx", p.DSN("postgres"))
	if err != nil {
		return "", err
	}
	defer db.Close()
	var exists bool
	if err := db.QueryRowContext(ctx, `SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)`, database).Scan(&exists); err != nil {
		return "", err
	}
	if !exists {
		if _, err := db.ExecContext(ctx, `CREATE DATABASE "`+database+`"`); err != nil {
			return "", err
		}
	}
	return p.DSN(database), nil
}

// CreateFrom makes a database that is a copy of another, to which nobody may be
// connected.
func (p *Postgres) CreateFrom(ctx context.Context, database, template string) (dsn string, err error) {
	return p.DSN(database), p.execute(ctx, `CREATE DATABASE "`+database+`" TEMPLATE "`+template+`"`)
}

// Drop deletes a database and ends whoever is connected to it.
func (p *Postgres) Drop(ctx context.Context, database string) error {
	return p.execute(ctx, `DROP DATABASE "`+database+`" WITH (FORCE)`)
}

func (p *Postgres) execute(ctx context.Context, statement string) error {
	db, err := sql.Open("pgx", p.DSN("postgres"))
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, statement); err != nil {
		return fmt.Errorf("%s: %w", statement, err)
	}
	return nil
}

func ping(ctx context.Context, dsn string) error {
	db, err := sql.Open("pgx", dsn)
	if err != nil {
		return err
	}
	defer db.Close()
	return db.PingContext(ctx)
}

func postgresUser() (uid, gid uint32, err error) {
	if os.Geteuid() != 0 {
		return uint32(os.Geteuid()), uint32(os.Getegid()), nil
	}
	account, err := user.Lookup("postgres")
	if err != nil {
		return 0, 0, fmt.Errorf("PostgreSQL does not run as root, and there is no user postgres: %w", err)
	}
	u, err := strconv.ParseUint(account.Uid, 10, 32)
	if err != nil {
		return 0, 0, err
	}
	g, err := strconv.ParseUint(account.Gid, 10, 32)
	return uint32(u), uint32(g), err
}
