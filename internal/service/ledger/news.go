package ledger

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"zincdoor/internal/app"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/service/address"
)

// Acceptance is a finding that a guarded branch accepts. Days are YYYY-MM-DD.
type Acceptance struct {
	Repository, Branch, Entry           string
	Path, Tool, Rule, Message, Severity string
	Why, Reason, By, Owner, On, Until   string
}

const acceptanceColumns = "repository, branch, entry, path, tool, rule, message, severity, why, reason, accepted_by, owner, accepted_on, until"

func readAcceptance(scan func(...any) error, a *Acceptance) error {
	return scan(&a.Repository, &a.Branch, &a.Entry, &a.Path, &a.Tool, &a.Rule, &a.Message, &a.Severity, &a.Why, &a.Reason, &a.By, &a.Owner, &a.On, &a.Until)
}

// SetAcceptances notes what a branch accepts, and which teams its policy names.
func (l *Ledger) SetAcceptances(ctx context.Context, repository, branch string, all []app.Acceptance, teams []string) error {
	return l.store.Atomically(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"acceptance", "team"} {
			if err := run(ctx, tx, "DELETE FROM "+table+" WHERE repository = $1 AND branch = $2", repository, branch); err != nil {
				return err
			}
		}
		for _, a := range all {
			if err := run(ctx, tx, "INSERT INTO acceptance ("+acceptanceColumns+", sought) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15) ON CONFLICT DO NOTHING",
				repository, branch, a.ID, a.Path, a.Tool, a.Rule, a.Message, a.Severity, string(a.Why), a.Reason, a.By, a.Owner, a.On, a.Until, strings.ToLower(strings.Join([]string{a.Path, a.Rule, a.Message, a.Owner}, "\n"))); err != nil {
				return err
			}
		}
		for _, team := range teams {
			if err := run(ctx, tx, "INSERT INTO team VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", repository, branch, team); err != nil {
				return err
			}
		}
		return nil
	})
}

// Acceptances lists what the branches of a repository accept, of all where its name is empty: what ends first goes first, what has no end
// last.
func (l *Ledger) Acceptances(ctx context.Context, repository string, most int) ([]Acceptance, error) {
	return list(ctx, l.db, readAcceptance, "SELECT "+acceptanceColumns+" FROM acceptance WHERE (repository = $1 OR $1 = '') ORDER BY CASE WHEN until = '' THEN 1 ELSE 0 END, until, repository, path, entry LIMIT $2", repository, most)
}

// Ending lists of these what ends up to a day.
func (l *Ledger) Ending(ctx context.Context, repository, until string, most int) ([]Acceptance, error) {
	return list(ctx, l.db, readAcceptance, "SELECT "+acceptanceColumns+" FROM acceptance WHERE until > '' AND until <= $2 AND (repository = $1 OR $1 = '') ORDER BY until, repository, path, entry LIMIT $3", repository, until, most)
}

// News is something that is worth a notice.
type News struct {
	ID         string // follows from what it is
	Repository string
	Teams      []string // whom it concerns; empty for nobody in particular
	About      policyfile.News
	Title      string // a line
	Body       string // text
	Record     string // the id of the record that it comes from, "" for none
	Time       time.Time
}

// Page is the address of the page that shows more of it.
func (n News) Page() string {
	if n.Record != "" {
		return address.Record(n.Record)
	}
	return address.Repository(n.Repository)
}

const newsColumns = "id, repository, teams, about, title, body, record, time"

func readNews(scan func(...any) error, n *News) error {
	var time int64
	var teams string
	err := scan(&n.ID, &n.Repository, &teams, &n.About, &n.Title, &n.Body, &n.Record, &time)
	n.Teams, n.Time = strings.FieldsFunc(teams, func(c rune) bool { return c == '\n' }), at(time)
	return err
}

// teamsOf are teams as they are kept: each between line ends.
func teamsOf(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return "\n" + strings.Join(names, "\n") + "\n"
}

// AddNews notes something; fresh is false where it was noted before.
func AddNews(ctx context.Context, tx *sql.Tx, n News) (fresh bool, err error) {
	return changed(ctx, tx, "INSERT INTO news ("+newsColumns+") VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT DO NOTHING", n.ID, n.Repository, teamsOf(n.Teams), string(n.About), n.Title, n.Body, n.Record, stamp(n.Time))
}

// NewsOf lists what was worth a notice, the newest first: of a repository, of all where its name is empty; for a team what is its own and
// what is nobody's in particular.
func (l *Ledger) NewsOf(ctx context.Context, repository, team string, most int) ([]News, error) {
	asked := ""
	if team != "" {
		asked = teamsOf([]string{team})
	}
	return list(ctx, l.db, readNews, "SELECT "+newsColumns+" FROM news WHERE (repository = $1 OR $1 = '') AND ($2 = '' OR teams = '' OR replace(teams, $2, '') <> teams) ORDER BY time DESC, id LIMIT $3", repository, asked, most)
}

// NewsNamed is what was noted by an id, nil where there is none.
func (l *Ledger) NewsNamed(ctx context.Context, id string) (*News, error) {
	return one(ctx, l.db, readNews, "SELECT "+newsColumns+" FROM news WHERE id = $1", id)
}

// Acceptance is an accepted finding of a branch by the id of its entry, nil where there is none.
func (l *Ledger) Acceptance(ctx context.Context, repository, branch, entry string) (*Acceptance, error) {
	return one(ctx, l.db, readAcceptance, "SELECT "+acceptanceColumns+" FROM acceptance WHERE repository = $1 AND branch = $2 AND entry = $3", repository, branch, entry)
}

// FindAcceptances lists accepted findings whose path, rule, message or owner has some words in it, which are in small letters.
func (l *Ledger) FindAcceptances(ctx context.Context, repository, words string, most int) ([]Acceptance, error) {
	words = "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(words) + "%"
	return list(ctx, l.db, readAcceptance, "SELECT "+acceptanceColumns+` FROM acceptance WHERE sought LIKE $2 ESCAPE '\' AND (repository = $1 OR $1 = '') ORDER BY repository, path, entry LIMIT $3`, repository, words, most)
}
