package records

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgtype"
)

// Rights, each holding those before it.
const (
	MayRead = "read" // look at everything
	MayEdit = "edit" // change sites
	MayOwn  = "own"  // add and remove sites, tokens and people
)

// Access is who calls, and what they may do.
type Access struct {
	Who   string   `json:"who"`
	May   string   `json:"may"`
	Sites []string `json:"sites"` // none: all
}

// Allows reports whether the access reaches a right on a site; site "" asks about what is above sites.
func (a Access) Allows(right, site string) bool {
	rank := map[string]int{MayRead: 1, MayEdit: 2, MayOwn: 3}
	if rank[a.May] < rank[right] {
		return false
	}
	if len(a.Sites) == 0 {
		return true
	}
	for _, s := range a.Sites {
		if s == site {
			return true
		}
	}
	return false
}

// Granted is who or what was given rights, by whom.
type Granted struct {
	ID     int64     `db:"id" json:"id"`
	Name   string    `db:"name" json:"name"`
	May    string    `db:"may" json:"may" words:"read edit own"`
	Sites  []string  `db:"-" json:"sites"`
	MadeAt time.Time `db:"made_at" json:"made_at"`
	MadeBy string    `db:"made_by" json:"made_by"`
}

// Token is a token without what it says.
type Token struct {
	Granted
	UsedAt *time.Time `db:"used_at" json:"used_at"`
}

// Person is somebody who may sign in.
type Person struct{ Granted }

// ErrWrong: name and password don't go together, or a link or session is over.
var ErrWrong = errors.New("that isn't right")

// TooManyTries says when the next try will be looked at.
type TooManyTries struct{ Wait time.Duration }

func (e *TooManyTries) Error() string {
	return fmt.Sprintf("too many failed tries; the next one is looked at in %v", e.Wait.Round(time.Second))
}

// tokenMark begins every token, so that people and scanners recognise what leaked.
const tokenMark = "elane_"

func random() string {
	b := make([]byte, 32)
	rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

func digest(s string) []byte { d := sha256.Sum256([]byte(s)); return d[:] }

type textArray []string

func (a *textArray) Scan(v any) error {
	return pgtype.NewMap().SQLScanner((*[]string)(a)).Scan(v)
}

// AddToken makes a token. It is given back once and kept only as its digest.
func (s *Store) AddToken(ctx context.Context, name, may string, sites []string, by string) (Token, string, error) {
	secret := tokenMark + random()
	t := Token{Granted: Granted{Name: name, May: may, Sites: sites, MadeBy: by}}
	err := s.db.QueryRowContext(ctx, `INSERT INTO tokens (name, hash, may, sites, made_by) VALUES ($1, $2, $3, $4, $5) RETURNING id, made_at`,
		name, digest(secret), may, nonNil(sites), by).Scan(&t.ID, &t.MadeAt)
	return t, secret, wrap("add a token", err)
}

func nonNil(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}

// Tokens lists all tokens.
func (s *Store) Tokens(ctx context.Context) ([]Token, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, name, may, sites, made_at, made_by, used_at FROM tokens ORDER BY id`)
	if err != nil {
		return nil, fmt.Errorf("list tokens: %w", plain(err))
	}
	defer rows.Close()
	list := []Token{}
	for rows.Next() {
		var t Token
		if err := rows.Scan(&t.ID, &t.Name, &t.May, (*textArray)(&t.Sites), &t.MadeAt, &t.MadeBy, &t.UsedAt); err != nil {
			return nil, fmt.Errorf("list tokens: %w", plain(err))
		}
		list = append(list, t)
	}
	return list, rows.Err()
}

// RemoveToken revokes a token, and says whether it was there.
func (s *Store) RemoveToken(ctx context.Context, id int64) (bool, error) {
	return s.remove(ctx, "revoke a token", `DELETE FROM tokens WHERE id = $1`, id)
}

func (s *Store) remove(ctx context.Context, doing, query string, args ...any) (bool, error) {
	r, err := s.db.ExecContext(ctx, query, args...)
	if err != nil {
		return false, wrap(doing, err)
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// ByToken finds whose token this is. ErrWrong where it is nobody's.
func (s *Store) ByToken(ctx context.Context, token string) (Access, error) {
	var a Access
	err := s.db.QueryRowContext(ctx, `UPDATE tokens SET used_at = now() WHERE hash = $1 RETURNING name, may, sites`, digest(token)).
		Scan(&a.Who, &a.May, (*textArray)(&a.Sites))
	a.Who = "token " + a.Who
	return a, orWrong("find a token", err)
}

func orWrong(doing string, err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrWrong
	}
	return wrap(doing, err)
}

// AddPerson adds somebody who may sign in. ErrExists where the name is taken.
func (s *Store) AddPerson(ctx context.Context, name, password, may string, sites []string, by string) (Person, error) {
	p := Person{Granted{Name: name, May: may, Sites: nonNil(sites), MadeBy: by}}
	done, err := s.hash(ctx, toHash{Password: password})
	if err != nil {
		return p, err
	}
	err = s.db.QueryRowContext(ctx, `INSERT INTO people (name, password, may, sites, made_by) VALUES ($1, $2, $3, $4, $5) RETURNING id, made_at`,
		name, done.Hash, may, p.Sites, by).Scan(&p.ID, &p.MadeAt)
	return p, wrap("add "+name, err)
}

// People lists everybody who may sign in.
func (s *Store) People(ctx context.Context) ([]Person, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, name, may, sites, made_at, made_by FROM people ORDER BY name`)
	if err != nil {
		return nil, fmt.Errorf("list people: %w", plain(err))
	}
	defer rows.Close()
	list := []Person{}
	for rows.Next() {
		var p Person
		if err := rows.Scan(&p.ID, &p.Name, &p.May, (*textArray)(&p.Sites), &p.MadeAt, &p.MadeBy); err != nil {
			return nil, fmt.Errorf("list people: %w", plain(err))
		}
		list = append(list, p)
	}
	return list, rows.Err()
}

// RemovePerson takes somebody's entry and sessions away. The last owner can't be removed: ErrExists.
func (s *Store) RemovePerson(ctx context.Context, id int64) (bool, error) {
	there, err := s.remove(ctx, "remove a person", `DELETE FROM people p WHERE id = $1 AND
		(may <> 'own' OR EXISTS (SELECT FROM people o WHERE o.may = 'own' AND o.id <> p.id))`, id)
	if err == nil && !there {
		var n int
		if err := s.db.GetContext(ctx, &n, `SELECT count(*) FROM people WHERE id = $1`, id); err == nil && n > 0 {
			return false, ErrExists
		}
	}
	return there, err
}

// SetPassword gives a person another password and ends their other sessions.
func (s *Store) SetPassword(ctx context.Context, name, password string) error {
	done, err := s.hash(ctx, toHash{Password: password})
	if err != nil {
		return err
	}
	if _, err := s.db.ExecContext(ctx, `UPDATE people SET password = $2 WHERE name = $1`, name, done.Hash); err != nil {
		return wrap("set a password", err)
	}
	_, err = s.db.ExecContext(ctx, `DELETE FROM sessions WHERE person = (SELECT id FROM people WHERE name = $1)`, name)
	return wrap("end sessions", err)
}

// SignIn checks name and password. Tries of one client for one name slow its next ones: from the fourth failed one on each
// doubles the wait, up to a quarter of an hour; another client isn't held up by them. A try counts before it is looked at,
// and is taken back when it was right, so that tries at the same time count too. client is the caller's network.
func (s *Store) SignIn(ctx context.Context, name, password, client string) error {
	who := client + " " + name
	var failed []int
	err := s.db.SelectContext(ctx, &failed, `INSERT INTO tries (who, failed, until) VALUES ($1, 1, now())
		ON CONFLICT (who) DO UPDATE SET failed = CASE WHEN tries.until < now() - interval '1 hour' THEN 1 ELSE tries.failed + 1 END,
			until = now() + CASE WHEN tries.until >= now() - interval '1 hour' AND tries.failed >= 3
				THEN least(interval '15 minutes', interval '1 second' * power(2, least(tries.failed - 2, 12))) ELSE interval '0' END
		WHERE tries.until <= now() RETURNING failed`, who)
	if err != nil {
		return wrap("sign in", err)
	}
	if len(failed) == 0 {
		var wait float64
		if err := s.db.GetContext(ctx, &wait, `SELECT coalesce(max(extract(epoch FROM until - now())), 0) FROM tries WHERE who = $1`, who); err != nil {
			return wrap("sign in", err)
		}
		return &TooManyTries{max(time.Second, time.Duration(wait*float64(time.Second)))}
	}
	kept := nobodys
	err = s.db.GetContext(ctx, &kept, `SELECT password FROM people WHERE name = $1`, name)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return wrap("sign in", err)
	}
	there := err == nil
	done, err := s.hash(ctx, toHash{password, kept})
	if err != nil {
		return err
	}
	if !done.Matches || !there {
		return ErrWrong
	}
	_, err = s.db.ExecContext(ctx, `DELETE FROM tries WHERE who = $1`, who)
	return wrap("sign in", err)
}

const sessionLasts = 14 * 24 * time.Hour

// OpenSession starts a session for a person and gives what its cookie says.
func (s *Store) OpenSession(ctx context.Context, name string) (cookie string, ends time.Time, err error) {
	cookie, ends = random(), time.Now().Add(sessionLasts)
	r, err := s.db.ExecContext(ctx, `INSERT INTO sessions (hash, person, ends_at) SELECT $1, id, $3 FROM people WHERE name = $2`, digest(cookie), name, ends)
	if err != nil {
		return "", ends, wrap("open a session", err)
	}
	if n, _ := r.RowsAffected(); n == 0 {
		return "", ends, ErrWrong
	}
	return cookie, ends, nil
}

// BySession finds whose session this is. ErrWrong where it is over.
func (s *Store) BySession(ctx context.Context, cookie string) (Access, error) {
	var a Access
	err := s.db.QueryRowContext(ctx, `SELECT p.name, p.may, p.sites FROM sessions s JOIN people p ON p.id = s.person WHERE s.hash = $1 AND s.ends_at > now()`, digest(cookie)).
		Scan(&a.Who, &a.May, (*textArray)(&a.Sites))
	return a, orWrong("find a session", err)
}

// CloseSession ends a session, and sweeps those that are over.
func (s *Store) CloseSession(ctx context.Context, cookie string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM sessions WHERE hash = $1 OR ends_at < now()`, digest(cookie))
	return wrap("close a session", err)
}

// OneTimeLink makes a link's secret: for person "" it makes the first owner, otherwise it signs that person in.
func (s *Store) OneTimeLink(ctx context.Context, person string, lasts time.Duration) (string, error) {
	secret := random()
	_, err := s.db.ExecContext(ctx, `INSERT INTO links (hash, person, ends_at) VALUES ($1, $2, $3)`, digest(secret), person, time.Now().Add(lasts))
	return secret, wrap("make a one-time link", err)
}

// UseLink takes a link up, once. ErrWrong where it was used or has ended.
func (s *Store) UseLink(ctx context.Context, secret string) (person string, err error) {
	err = s.db.GetContext(ctx, &person, `DELETE FROM links WHERE hash = $1 AND ends_at > now() RETURNING person`, digest(secret))
	return person, orWrong("use a one-time link", err)
}

// LinkFor says whom a link is for, without using it up.
func (s *Store) LinkFor(ctx context.Context, secret string) (person string, err error) {
	err = s.db.GetContext(ctx, &person, `SELECT person FROM links WHERE hash = $1 AND ends_at > now()`, digest(secret))
	return person, orWrong("find a one-time link", err)
}

// HasOwner reports whether anybody owns the service yet.
func (s *Store) HasOwner(ctx context.Context) (bool, error) {
	var there bool
	err := s.db.GetContext(ctx, &there, `SELECT EXISTS (SELECT FROM people WHERE may = 'own')`)
	return there, wrap("look for an owner", err)
}
