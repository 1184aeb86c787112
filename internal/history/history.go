// Package history knows how records are kept: in a SQLite file, or in PostgreSQL where many machines write. It puts them in, finds
// them again, and lets old ones go; one that can't be put in waits in a folder for its turn. What records say is the core's to
// tell, and where they are kept is the caller's.
package history

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/jackc/pgx/v5/pgconn"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver pgx
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// ErrNewer is the error of a store that a newer version of the program has changed.
var ErrNewer = errors.New("it was made by a newer zincdoor; use that one here too")

// Store keeps records. Several processes may use one store at once, and one process may call its methods from several goroutines.
type Store struct {
	db       *sql.DB
	postgres bool
	where    string // for people, without a password
	file     string // "" for a server
}

//go:embed migrations/*.sql
var embedded embed.FS

// migrations are the scripts of our own tables.
var migrations = func() fs.FS {
	scripts, err := fs.Sub(embedded, "migrations")
	if err != nil {
		panic(err) // it is part of the program
	}
	return scripts
}()

// patience is how long a writer waits for others.
const patience = 10 * time.Second

// mostConnections is how many connections a process has open at most: a server has a hundred for all, where nobody says otherwise.
const mostConnections = 16

// answer is how long a server may take to answer at all.
const answer = 3 * time.Second

// IsServer reports whether a place is the address of a PostgreSQL database, rather than a file.
func IsServer(place string) bool {
	return strings.HasPrefix(place, "postgres://") || strings.HasPrefix(place, "postgresql://")
}

// Called is how a place is called in messages: an address without its password.
func Called(place string) string {
	if !IsServer(place) {
		return place
	}
	address, err := url.Parse(place)
	if err != nil {
		return "the PostgreSQL database"
	}
	address.RawQuery = ""
	return address.Redacted()
}

// Open opens the store at a place: a file, which is made where there is none, or the address of a PostgreSQL database. It is
// brought to this version's form. It must be closed.
func Open(ctx context.Context, place string) (*Store, error) {
	return opened(&Store{postgres: IsServer(place), where: Called(place)}, func(s *Store) error { return s.open(ctx, place) })
}

// OpenThere opens a store as Open does, but makes no new file: the error wraps fs.ErrNotExist where there is none. A file that can't be
// written to is opened for reading alone.
func OpenThere(ctx context.Context, place string) (*Store, error) {
	if IsServer(place) {
		return Open(ctx, place)
	}
	if _, err := os.Stat(place); err != nil {
		return nil, err
	}
	s, err := Open(ctx, place)
	if code := codeOf(err); code != sqlite3.SQLITE_READONLY && code != sqlite3.SQLITE_CANTOPEN {
		return s, err
	}
	if _, unwritten := os.Stat(place + "-wal"); unwritten == nil {
		return nil, fmt.Errorf("%w; others have written to it, and what they wrote can't be read without writing", err)
	}
	return opened(&Store{where: place}, func(s *Store) error { return s.openUnwritable(ctx, place) })
}

// opened is a store once it was opened. Where that fails, nothing of it stays open.
func opened(s *Store, open func(s *Store) error) (*Store, error) {
	if err := open(s); err != nil {
		if s.db != nil {
			s.db.Close()
		}
		return nil, fmt.Errorf("the history in %s can't be used: %w", s.where, plain(err))
	}
	return s, nil
}

// openUnwritable opens a file for reading alone. Its form must be this version's.
func (s *Store) openUnwritable(ctx context.Context, file string) (err error) {
	if s.db, err = sql.Open("sqlite", address(file, url.Values{"immutable": {"1"}})); err != nil {
		return err
	}
	ours, err := newest(migrations)
	if err != nil {
		return err
	}
	is, err := s.form(ctx, records().Table)
	switch {
	case err != nil:
		return err
	case is > ours:
		return ErrNewer
	case is < ours:
		return errors.New("it is of an earlier form, and can't be written to, to bring it to this one")
	}
	return nil
}

// address is how SQLite names a file.
func address(file string, settings url.Values) string {
	return (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: file}).EscapedPath(), RawQuery: settings.Encode()}).String()
}

func (s *Store) open(ctx context.Context, place string) (err error) {
	driver := "pgx"
	if !s.postgres {
		s.file = place
		if err := os.MkdirAll(filepath.Dir(place), 0o777); err != nil {
			return err
		}
		// Writers take their lock when they begin, and wait for it. What was written survives the end of the program at any moment.
		settings := url.Values{"_txlock": {"immediate"}, "_pragma": {
			fmt.Sprintf("busy_timeout(%d)", patience.Milliseconds()), "auto_vacuum(incremental)", "journal_mode(wal)", "synchronous(normal)",
		}}
		driver, place = "sqlite", address(place, settings)
	}
	if s.db, err = sql.Open(driver, place); err != nil {
		return err
	}
	s.db.SetMaxIdleConns(2)
	s.db.SetMaxOpenConns(mostConnections)
	// While others begin the same file, SQLite may say at once that it is busy, without the wait that it was asked for.
	for until := time.Now().Add(patience); ; {
		err := s.ready(ctx)
		if codeOf(err) != sqlite3.SQLITE_BUSY || time.Now().After(until) {
			return err
		}
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// ready has the store answer, and its tables be of this version's form.
func (s *Store) ready(ctx context.Context) error {
	answering, cancel := context.WithTimeout(ctx, answer)
	defer cancel()
	if err := s.db.PingContext(answering); err != nil {
		return err
	}
	return s.Bring(ctx, records())
}

// Database is where records are kept, for who keeps something beside them; postgres says which of the two it is. It is closed with the
// store.
func (s *Store) Database() (db *sql.DB, postgres bool) { return s.db, s.postgres }

// Atomically does several things at once or not at all. It may do them several times.
func (s *Store) Atomically(ctx context.Context, do func(*sql.Tx) error) error {
	return s.atomically(ctx, func(tx transaction) error { return do(tx.Tx) })
}

// Close closes the store.
func (s *Store) Close() error { return s.db.Close() }

// Form are the scripts that bring tables of a store from one form to the next, and the table that says which of them were run.
type Form struct {
	Scripts fs.FS // called like 001_records.sql
	Table   string
}

// records is the form of our own tables.
func records() Form { return Form{migrations, "goose_db_version"} }

// Bring brings tables of the store to the newest form. Of several that try at once, one does it.
func (s *Store) Bring(ctx context.Context, to Form) error {
	ours, err := newest(to.Scripts)
	if err != nil {
		return err
	}
	if is, err := s.form(ctx, to.Table); err == nil && is == ours {
		return nil
	} else if is > ours {
		return ErrNewer
	}
	dialect := goose.DialectSQLite3
	if s.postgres {
		dialect = goose.DialectPostgres
	}
	table, err := database.NewStore(dialect, to.Table)
	if err != nil {
		return err
	}
	return s.Alone(ctx, func() error {
		provider, err := goose.NewProvider(goose.DialectCustom, s.db, to.Scripts, goose.WithDisableGlobalRegistry(true), goose.WithStore(table))
		if err != nil {
			return err
		}
		if _, err := provider.Up(ctx); err != nil {
			return err
		}
		if is, err := s.form(ctx, to.Table); err != nil || is != ours {
			return errors.Join(err, ErrNewer)
		}
		return nil
	})
}

// forming is the number of the lock of who alters the form of a store, where the database has such locks.
const forming = 0x7a696e64

// Alone does something while nobody else does something alone with this store.
func (s *Store) Alone(ctx context.Context, do func() error) error {
	waiting, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if s.postgres {
		conn, err := s.db.Conn(ctx)
		if err != nil {
			return err
		}
		defer conn.Close()
		if _, err := conn.ExecContext(waiting, "SELECT pg_advisory_lock($1)", forming); err != nil {
			return err
		}
		defer conn.ExecContext(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", forming)
		return do()
	}
	turn := flock.New(s.file + ".lock")
	if _, err := turn.TryLockContext(waiting, 20*time.Millisecond); err != nil {
		return err
	}
	defer func() {
		turn.Unlock()
		os.Remove(s.file + ".lock")
	}()
	return do()
}

// form is the version of the form of tables, 0 for an empty store.
func (s *Store) form(ctx context.Context, table string) (is int64, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(version_id), 0) FROM "+table).Scan(&is)
	return is, err
}

// newest is the version of the newest form.
func newest(scripts fs.FS) (version int64, err error) {
	all, err := fs.ReadDir(scripts, ".")
	for _, script := range all {
		n, wrong := goose.NumericComponent(script.Name())
		if wrong != nil {
			return 0, wrong
		}
		version = max(version, n)
	}
	return version, err
}

// plainError is an error in words that say what to do.
type plainError struct{ error }

// Unwrap gives the database's own error.
func (e plainError) Unwrap() error { return errors.Unwrap(e.error) }

// plain is an error in words that say what to do, where the database says less. It is the same where it has them already.
func plain(err error) error {
	if _, is := errors.AsType[plainError](err); is {
		return err
	}
	switch codeOf(err) {
	case sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_CORRUPT:
		return plainError{fmt.Errorf("the file is damaged or no history; move it away to begin a new one (%w)", err)}
	case sqlite3.SQLITE_FULL:
		return plainError{fmt.Errorf("there is no room left on the disk (%w)", err)}
	case sqlite3.SQLITE_BUSY:
		return plainError{fmt.Errorf("others kept it busy for %s (%w)", patience, err)}
	}
	return err
}

// codeOf is SQLite's code of an error, without what it says of the same in more detail; SQLITE_OK where it isn't SQLite's.
func codeOf(err error) int {
	var of *sqlite.Error
	if !errors.As(err, &of) {
		return sqlite3.SQLITE_OK
	}
	return of.Code() & 0xff
}

// mostTries is how often a transaction is tried that others of its kind keep from being done.
const mostTries = 10

// atomically does several things at once or not at all. Where PostgreSQL ends one of several transactions that wait for each other, that
// one is done once more, so that do may be called several times.
func (s *Store) atomically(ctx context.Context, do func(tx transaction) error) error {
	for try := 1; ; try++ {
		err := s.once(ctx, do)
		var of *pgconn.PgError
		if !errors.As(err, &of) || try == mostTries || of.Code != deadlock && of.Code != serialization {
			return err
		}
		select {
		case <-time.After(time.Duration(rand.Int64N(int64(try) * int64(20*time.Millisecond)))):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// The SQLSTATE of transactions that PostgreSQL ended for the sake of others.
const (
	deadlock      = "40P01"
	serialization = "40001"
)

func (s *Store) once(ctx context.Context, do func(tx transaction) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return plain(err)
	}
	defer tx.Rollback()
	if err := do(transaction{tx, s.postgres}); err != nil {
		return plain(err)
	}
	return plain(tx.Commit())
}

// Rows reads what a query gives, row by row. Errors are said plainly.
func Rows(ctx context.Context, on interface {
	QueryContext(context.Context, string, ...any) (*sql.Rows, error)
}, see func(scan func(...any) error) error, query string, args ...any) error {
	found, err := on.QueryContext(ctx, query, args...)
	if err != nil {
		return plain(err)
	}
	defer found.Close()
	for found.Next() {
		if err := see(found.Scan); err != nil {
			return plain(err)
		}
	}
	return plain(found.Err())
}

// transaction is a transaction on a store.
type transaction struct {
	*sql.Tx
	postgres bool
}

// insert inserts rows, many at once. What is there already stays.
func (tx transaction) insert(ctx context.Context, table string, columns int, all []any) error {
	const most = 600 // values in a statement
	for statement, prepared := (*sql.Stmt)(nil), 0; len(all) > 0; {
		n := min(len(all), most/columns*columns)
		if n != prepared {
			if statement != nil {
				statement.Close()
			}
			var err error
			if statement, err = tx.PrepareContext(ctx, "INSERT INTO "+table+" VALUES "+tx.values(n, columns)+" ON CONFLICT DO NOTHING"); err != nil {
				return err
			}
			defer statement.Close()
			prepared = n
		}
		if _, err := statement.ExecContext(ctx, all[:n]...); err != nil {
			return err
		}
		all = all[n:]
	}
	return nil
}

// values are the marks of n values, in rows of so many. SQLite looks names of marks up one after the other, and has marks without.
func (tx transaction) values(n, columns int) string {
	var list strings.Builder
	for i := range n {
		switch {
		case i == 0:
			list.WriteByte('(')
		case i%columns == 0:
			list.WriteString("),(")
		default:
			list.WriteByte(',')
		}
		if tx.postgres {
			fmt.Fprintf(&list, "$%d", i+1)
		} else {
			list.WriteByte('?')
		}
	}
	return list.String() + ")"
}
