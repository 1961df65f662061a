package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/core/version"
	"kambrel.example/kambrel/service/backup"
	"kambrel.example/kambrel/service/store"
)

// records are where a service's records and its own authority are, for commands on its host.
type records struct{ dsn, tlsFolder, config string }

var errNoDatabase = errors.New("give --config FILE or --database, or set KAMBREL_CONFIG or KAMBREL_DATABASE, as for 'kambrel serve'")

func (r *records) flags(command *cobra.Command) {
	command.Flags().StringVar(&r.config, "config", os.Getenv("KAMBREL_CONFIG"), "the service's file, or KAMBREL_CONFIG; flags are stronger")
	command.Flags().StringVar(&r.dsn, "database", "", "PostgreSQL connection, or KAMBREL_DATABASE")
}

// find fills in what no flag says, from the service's file and the environment.
func (r *records) find() error {
	o := serveOptions{}
	flags := o.command().Flags()
	if err := configure(flags, r.config); err != nil {
		return err
	}
	r.tlsFolder = cmp.Or(r.tlsFolder, o.tlsFolder)
	if r.dsn == "" {
		if err := o.databaseWithPassword(); err != nil {
			return err
		}
		r.dsn = o.database
	}
	if r.dsn == "" {
		return errNoDatabase
	}
	return nil
}

func newBackupCommand(d *deps) *cobra.Command {
	from, of := backup.Source{Version: version.Number}, records{}
	command := &cobra.Command{
		Use: "backup FILE", Short: "Write all that the service needs into one file", Args: terminal.OneArgument("the file, which must not be there yet"),
		Long: `Writes the records, as PostgreSQL's own dump of one moment, and the service's own
certificate authority into one file, and reads it again to see that it is well.
It runs on the service's host; the service goes on meanwhile.

The file holds people's data, hashes of passwords and the authority's key: keep it
as you keep the database, or encrypt it to a key of age (--encrypt-to age1...),
which then need not be on this host. What it does not hold: the token for the
cloud and other files that 'kambrel serve' is told of, and the agents' own files.`,
		Example: "  kambrel backup /var/backups/kambrel-monday.backup --config /etc/kambrel/service.yaml\n  kambrel backup monday.backup --encrypt-to age1...",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := of.find(); err != nil {
				return err
			}
			from.DSN, from.TLSFolder = of.dsn, of.tlsFolder
			about, err := backup.Write(cmd.Context(), from, args[0])
			if err != nil {
				return err
			}
			if err := store.NoteBackup(cmd.Context(), from.DSN, filepath.Base(args[0])); err != nil { // as where the records are read-only
				fmt.Fprintf(cmd.ErrOrStderr(), "The backup is well; the records could not be told of it: %v\n", err)
			}
			return d.print(cmd.OutOrStdout(), about, func(w io.Writer) error {
				sealed := ", for the key alone"
				if from.Recipient == "" {
					sealed = "; it is not encrypted"
				}
				_, err := fmt.Fprintf(w, "%s holds %d entries, %d links and %d runs of %s%s. It was read again and is well.\n", args[0], about.Holds.Entries, about.Holds.Links, about.Holds.Runs, when(&about.Made), sealed)
				return err
			})
		},
	}
	of.flags(command)
	command.Flags().StringVar(&of.tlsFolder, "tls-folder", "", "where the service's own authority is kept, as for 'kambrel serve'")
	command.Flags().StringVar(&from.Recipient, "encrypt-to", "", "public key of age (age1...) for which the file is encrypted")
	return command
}

func newRestoreCommand(d *deps) *cobra.Command {
	var to backup.Target
	var of records
	var identity string
	command := &cobra.Command{
		Use: "restore FILE", Short: "Bring a backup back into an empty database", Args: terminal.OneArgument("the file that 'kambrel backup' has written"),
		Long: `Brings a backup back into an empty database, all or nothing. Stop the service of
the old records first: two that do not know of each other would write twice.

The records are of an earlier moment, and what has happened in the directories and
the cloud since they do not know. So everything is paused: the service, once it is
started, reads everything anew and rehearses, and nothing is written anywhere
until you have seen the rehearsal and said 'kambrel resume'. People who were made
in the cloud meanwhile are found by their link keys and not made again. Who was
signed in signs in again; agents that were enrolled since are enrolled anew.`,
		Example: "  kambrel restore /var/backups/kambrel-monday.backup --database postgres://kambrel@127.0.0.1/kambrel_new",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := of.find(); err != nil {
				return err
			}
			to.DSN, to.TLSFolder = of.dsn, of.tlsFolder
			if identity != "" {
				text, err := terminal.ReadFile(cmd, identity)
				if err != nil {
					return fmt.Errorf("read the identity: %w", err)
				}
				to.Identity = string(text)
			}
			done, err := backup.Restore(cmd.Context(), args[0], to)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), done, func(w io.Writer) error {
				fmt.Fprintf(w, "The records of %s are back (%d entries, %d links, %d runs; %s ago).\n", when(&done.Made), done.Holds.Entries, done.Holds.Links, done.Holds.Runs, time.Since(done.Made).Round(time.Minute))
				if done.Authority {
					fmt.Fprintf(w, "So is the service's own certificate authority, in %s.\n", to.TLSFolder)
				}
				_, err := fmt.Fprint(w, `Everything is paused. Next:
  kambrel serve ...                    with this database; it reads everything and rehearses
  kambrel runs                         when the rehearsal has ended:
  kambrel runs show N                  what has changed since, and what would be done about it
  kambrel resume                       let it go on
`)
				return err
			})
		},
	}
	of.flags(command)
	command.Flags().StringVar(&of.tlsFolder, "tls-folder", "", "where the service's own authority is brought back, if there is none")
	command.Flags().StringVar(&identity, "identity", "", "file with the identity of age, of an encrypted backup; - for standard input")
	return command
}
