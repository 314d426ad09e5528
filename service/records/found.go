package records

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"echolane/core/subject"
	"echolane/core/wording"
)

// LookedAt is what was found in a source.
type LookedAt struct {
	Site      string    `db:"site" json:"site"`
	Lane      string    `db:"lane" json:"lane"`
	Path      string    `db:"path" json:"path"`
	Digest    string    `db:"digest" json:"digest"`
	Type      string    `db:"type" json:"type"`
	Width     int       `db:"width" json:"width"` // upright, as the height
	Height    int       `db:"height" json:"height"`
	Bytes     int64     `db:"bytes" json:"bytes"`
	Frames    int       `db:"frames" json:"frames"`
	Faces     int       `db:"faces" json:"faces"`
	Kind      string    `db:"kind" json:"kind"`           // photograph, graphic or drawing
	Sharpness float64   `db:"sharpness" json:"sharpness"` // 0–1: below about 0.4 it is out of focus
	Lettered  bool      `db:"lettered" json:"lettered"`   // some of it looks like text
	Colours   string    `db:"colours" json:"colours"`     // words for the main ones, the largest first, separated by spaces
	At        time.Time `db:"at" json:"at"`
}

// mostLookedAt bounds the sources of all sites that are known by what was found in them: beyond, the oldest are let go.
const mostLookedAt = 5_000_000

// longestLookedAt is the longest path that is written down: an index holds no longer ones.
const longestLookedAt = 2000

type lookedKey struct{ site, lane, path string }

func newLookedAt(o RecorderOptions) *batcher[lookedKey, LookedAt] {
	return newBatcher(batchOptions[lookedKey, LookedAt]{
		what: "what was found in sources", every: time.Second, holds: 4096, begin: o.Store.begin, log: o.Log, panics: o.Panics,
		key: func(l *LookedAt) lookedKey { return lookedKey{l.Site, l.Lane, l.Path} },
		clean: func(l *LookedAt) {
			l.Site, l.Lane, l.Digest, l.Type, l.Kind = wording.Text(l.Site, 64), wording.Text(l.Lane, 64), wording.Text(l.Digest, 200), wording.Text(l.Type, 100), wording.Text(l.Kind, 40)
		},
		merge: func(have, more *LookedAt) { *have = *more },
		compare: func(a, b *LookedAt) int {
			return cmp.Or(cmp.Compare(a.Site, b.Site), cmp.Compare(a.Lane, b.Lane), cmp.Compare(a.Path, b.Path))
		},
		write: func(ctx context.Context, tx *sqlx.Tx, l *LookedAt) error {
			_, err := tx.NamedExecContext(ctx, `INSERT INTO looked_at (site, lane, path, digest, type, width, height, bytes, frames, faces, kind, sharpness, lettered, colours)
				VALUES (:site, :lane, :path, :digest, :type, :width, :height, :bytes, :frames, :faces, :kind, :sharpness, :lettered, :colours)
				ON CONFLICT (site, lane, path) DO UPDATE SET digest = excluded.digest, type = excluded.type, width = excluded.width, height = excluded.height, bytes = excluded.bytes,
					frames = excluded.frames, faces = excluded.faces, kind = excluded.kind, sharpness = excluded.sharpness, lettered = excluded.lettered, colours = excluded.colours, at = now()`, l)
			return err
		},
	})
}

// LookedAt notes what was found in a source. It never waits for the database. Paths that can't be written down are left out.
func (r *Recorder) LookedAt(l LookedAt) {
	if len(l.Path) <= longestLookedAt && wording.Text(l.Path, longestLookedAt) == l.Path {
		r.looked.Add(l)
	}
}

// A Find is what sources are to have.
type Find struct {
	where []string
	args  []any
}

// Searchable are the terms of a Find, with what may stand behind their colon.
var Searchable = [][2]string{
	{"name", "a part of the path; as a word without a colon is"},
	{"colour", "one of " + strings.Join(subject.ColourNames, ", ")},
	{"faces", "a number, also as >0, >=2, <3"},
	{"width", "pixels, such as >2000"},
	{"height", "pixels, such as >2000"},
	{"bytes", "such as >1MB"},
	{"frames", "a number, such as >1"},
	{"sharpness", "0 to 1, such as <0.4"},
	{"kind", "photograph, graphic or drawing"},
	{"type", "such as jpeg"},
	{"text", "yes or no"},
}

// ParseFind reads terms with spaces between, all of which are to hold: name:delta colour:red faces:>0 width:>2000.
func ParseFind(text string) (f Find, err error) {
	terms := strings.Fields(text)
	if len(terms) > 20 {
		return f, fmt.Errorf("there are %d terms, and at most 20 are looked for", len(terms))
	}
	for _, term := range terms {
		name, value, colon := strings.Cut(term, ":")
		if !colon {
			name, value = "name", term
		}
		if name = strings.ToLower(name); name == "color" {
			name = "colour"
		}
		known := slices.IndexFunc(Searchable, func(s [2]string) bool { return s[0] == name })
		if known < 0 {
			var names []string
			for _, s := range Searchable {
				names = append(names, s[0])
			}
			err := fmt.Errorf("%q is nothing that sources are found by: that is %s", name, strings.Join(names, ", "))
			if near := wording.Nearest(name, names); near != "" {
				err = fmt.Errorf("%w; did you mean %s?", err, near)
			}
			return f, err
		}
		wrong := fmt.Errorf("%s:%s: give %s", name, value, Searchable[known][1])
		if value == "" || wording.Text(value, 200) != value {
			return f, wrong
		}
		lower := strings.ToLower(value)
		switch name {
		case "name":
			f.add(`strpos(lower(path), %s) > 0`, lower)
		case "colour":
			if lower == "gray" {
				lower = "grey"
			}
			if !slices.Contains(subject.ColourNames, lower) {
				return f, wrong
			}
			f.add(`%s = ANY (string_to_array(colours, ' '))`, lower)
		case "kind":
			if !slices.Contains([]string{"photograph", "graphic", "drawing"}, lower) {
				return f, wrong
			}
			f.add(`kind = %s`, lower)
		case "type":
			f.add(`strpos(type, %s) > 0`, lower)
		case "text":
			if lower != "yes" && lower != "no" {
				return f, wrong
			}
			f.add(`lettered = %s`, lower == "yes")
		default:
			op, n, ok := comparison(lower)
			if !ok {
				return f, wrong
			}
			f.add(name+` `+op+` %s`, n)
		}
	}
	return f, nil
}

func (f *Find) add(where string, arg any) {
	f.args = append(f.args, arg)
	f.where = append(f.where, fmt.Sprintf(where, fmt.Sprint("$", len(f.args))))
}

// comparison reads a number with what it is compared by; none is =. kB, MB and GB are powers of a thousand.
func comparison(s string) (op string, n float64, ok bool) {
	for _, op = range []string{">=", "<=", ">", "<", "="} {
		if rest, found := strings.CutPrefix(s, op); found {
			n, ok = amount(rest)
			return op, n, ok
		}
	}
	n, ok = amount(s)
	return "=", n, ok
}

func amount(s string) (float64, bool) {
	per := 1.0
	for unit, by := range map[string]float64{"kb": 1e3, "mb": 1e6, "gb": 1e9} {
		if number, ok := strings.CutSuffix(s, unit); ok {
			s, per = number, by
			break
		}
	}
	v, err := strconv.ParseFloat(s, 64)
	return v * per, err == nil && v >= 0 && v < 1e15
}

// Find gives the sources of a site, of a lane where it isn't "", in which there is what is looked for: in the order of lane and path,
// behind one of them, at most limit.
func (s *Store) Find(ctx context.Context, site, lane string, f Find, afterLane, afterPath string, limit int) ([]LookedAt, error) {
	args := append(slices.Clone(f.args), site, lane, afterLane, afterPath, limit)
	n := len(f.args)
	where := append(slices.Clone(f.where), fmt.Sprintf(`site = $%d AND ($%d = '' OR lane = $%d) AND (lane, path) > ($%d, $%d)`, n+1, n+2, n+2, n+3, n+4))
	list := []LookedAt{}
	if err := s.db.SelectContext(ctx, &list, `SELECT * FROM looked_at WHERE `+strings.Join(where, " AND ")+fmt.Sprintf(` ORDER BY lane, path LIMIT $%d`, n+5), args...); err != nil {
		return nil, fmt.Errorf("find sources of %s: %w", site, plain(err))
	}
	return list, nil
}

// CountLookedAt says how many sources of a site, of a lane where it isn't "", were looked at.
func (s *Store) CountLookedAt(ctx context.Context, site, lane string) (n int64, err error) {
	if err := s.db.GetContext(ctx, &n, `SELECT count(*) FROM looked_at WHERE site = $1 AND ($2 = '' OR lane = $2)`, site, lane); err != nil {
		return 0, fmt.Errorf("count what was looked at of %s: %w", site, plain(err))
	}
	return n, nil
}

// ForgetOthers forgets what was found in the sources of a lane, those whose paths begin so, that aren't among paths: they are no more.
func (s *Store) ForgetOthers(ctx context.Context, site, lane, below string, paths []string) error {
	paths = slices.DeleteFunc(slices.Clone(paths), func(p string) bool { return wording.Text(p, longestLookedAt) != p }) // those aren't written down
	_, err := s.db.ExecContext(ctx, `DELETE FROM looked_at l WHERE site = $1 AND lane = $2 AND starts_with(path, $3)
		AND NOT EXISTS (SELECT FROM unnest($4::text[]) AS t (there) WHERE there = l.path)`, site, lane, wording.Text(below, longestLookedAt), paths)
	return wrap("forget what was found in sources that are gone", err)
}

// Gone has what was found in a source forgotten, which is no more. It blocks for a bounded time.
func (r *Recorder) Gone(ctx context.Context, site, lane, path string) error {
	if wording.Text(path, longestLookedAt) != path {
		return nil
	}
	ctx, done := context.WithTimeout(ctx, 2*time.Second)
	defer done()
	r.looked.Drop(ctx, lookedKey{site, lane, path}) // or it would be written down after it was forgotten
	return r.store.ForgetLookedAt(ctx, site, lane, path)
}

// ForgetLookedAt forgets what was found in a source that is no more.
func (s *Store) ForgetLookedAt(ctx context.Context, site, lane, path string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM looked_at WHERE site = $1 AND lane = $2 AND path = $3`, site, lane, path)
	return wrap("forget what was found", err)
}
