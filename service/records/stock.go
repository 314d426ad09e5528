package records

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"echolane/core/declare"
	"echolane/core/wording"
)

// StockFigures say what is kept of something.
type StockFigures struct {
	Variants    int64      `db:"variants" json:"variants"`
	Bytes       int64      `db:"bytes" json:"bytes"`
	Sources     int64      `db:"sources" json:"sources"`           // that they were made of
	SourceBytes int64      `db:"source_bytes" json:"source_bytes"` // of those
	Asked       int64      `db:"asked" json:"asked"`               // times that they were answered with
	Served      int64      `db:"served" json:"served_bytes"`       // bytes that went out so
	Unscaled    int64      `db:"unscaled" json:"unscaled_bytes"`   // bytes that would have gone out of the sources themselves
	RenderMS    float64    `db:"render_ms" json:"render_ms"`       // that their making took
	UsedAt      *time.Time `db:"used_at" json:"used_at,omitempty"` // when one was last answered with
}

// StockGroup is what is kept under one name.
type StockGroup struct {
	Name string `db:"name" json:"name"`
	StockFigures
}

// StockBy are the ways to group what is kept.
var StockBy = []string{"site", "lane", "source", "format"}

// Stock says what is kept of a site, or of all where site is "", in all and by groups, those with the most bytes first, at most
// limit of them.
func (s *Store) Stock(ctx context.Context, site, by string, limit int) (all StockFigures, groups []StockGroup, err error) {
	name := map[string]string{"site": `site`, "lane": `site || '/' || lane`, "source": `site || '/' || lane || '/' || path`, "format": `format`}[by]
	if name == "" {
		return all, nil, fmt.Errorf("stock can't be grouped by %q", by)
	}
	// Two scans at a time, on two connections. Sums as double precision are exact up to 9 PB, and several times as fast as those of
	// bigints, which are numerics.
	type sources struct {
		Name    string `db:"name"`
		Sources int64  `db:"sources"`
		Bytes   int64  `db:"bytes"`
	}
	var list []sources
	work, inner := errgroup.WithContext(ctx)
	work.Go(func() error {
		return s.scan(inner, &groups, `SELECT `+name+` AS name, count(*) AS variants, sum(bytes::float8)::bigint AS bytes, 1::bigint AS sources, max(source_bytes) AS source_bytes,
				sum(asked::float8)::bigint AS asked, sum(asked::float8 * bytes)::bigint AS served, sum(asked::float8 * source_bytes)::bigint AS unscaled, sum(render_ms::float8) AS render_ms, max(used_at) AS used_at
			FROM made_variants WHERE ($1 = '' OR site = $1) GROUP BY 1`, site)
	})
	counted := `SELECT name, count(*) AS sources, sum(bytes::float8)::bigint AS bytes FROM (
		SELECT ` + name + ` AS name, max(source_bytes) AS bytes FROM made_variants WHERE ($1 = '' OR site = $1) GROUP BY 1, site, lane, path) each GROUP BY name`
	if by == "format" { // a source may have variants in several: a bit for each, told apart below
		bits := "CASE format"
		for i, f := range declare.FormatNames() {
			bits += fmt.Sprintf(" WHEN '%s' THEN %d", f, 1<<i)
		}
		counted = `SELECT formats::text AS name, count(*) AS sources, sum(bytes::float8)::bigint AS bytes FROM (
			SELECT bit_or(` + bits + ` ELSE 0 END) AS formats, max(source_bytes) AS bytes FROM made_variants WHERE ($1 = '' OR site = $1) GROUP BY site, lane, path) each GROUP BY 1`
	}
	if by != "source" {
		work.Go(func() error { return s.scan(inner, &list, counted, site) })
	}
	if err := work.Wait(); err != nil {
		return all, nil, wrap("take stock", err)
	}
	at := map[string]sources{}
	for _, l := range list {
		all.Sources, all.SourceBytes = all.Sources+l.Sources, all.SourceBytes+l.Bytes
		if by != "format" {
			at[l.Name] = l
			continue
		}
		bits, _ := strconv.Atoi(l.Name)
		for i, f := range declare.FormatNames() {
			if bits>>i&1 == 1 {
				at[f] = sources{f, at[f].Sources + l.Sources, at[f].Bytes + l.Bytes}
			}
		}
	}
	for i := range groups {
		if l, counted := at[groups[i].Name]; counted {
			groups[i].Sources, groups[i].SourceBytes = l.Sources, l.Bytes
		}
	}
	for _, g := range groups {
		if by == "source" {
			all.Sources, all.SourceBytes = all.Sources+1, all.SourceBytes+g.SourceBytes
		}
		all.Variants, all.Bytes = all.Variants+g.Variants, all.Bytes+g.Bytes
		all.Asked, all.Served, all.Unscaled, all.RenderMS = all.Asked+g.Asked, all.Served+g.Served, all.Unscaled+g.Unscaled, all.RenderMS+g.RenderMS
		if g.UsedAt != nil && (all.UsedAt == nil || g.UsedAt.After(*all.UsedAt)) {
			all.UsedAt = g.UsedAt
		}
	}
	slices.SortFunc(groups, func(a, b StockGroup) int { return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Name, b.Name)) })
	if groups = groups[:min(len(groups), limit)]; groups == nil {
		groups = []StockGroup{}
	}
	return all, groups, nil
}

// scan reads a table through, with memory for it.
func (s *Store) scan(ctx context.Context, to any, query string, args ...any) error {
	tx, err := s.db.BeginTxx(ctx, snapshotRead)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, `SET LOCAL work_mem = '64MB'`); err != nil {
		return err
	}
	return tx.SelectContext(ctx, to, query, args...)
}

// StockVariant is one variant that is kept.
type StockVariant struct {
	Site         string    `db:"site" json:"site"`
	Lane         string    `db:"lane" json:"lane"`
	Path         string    `db:"path" json:"path"`
	Key          string    `db:"key" json:"key"`
	Declarations string    `db:"declarations" json:"declarations"` // the resolved form
	Class        string    `db:"class" json:"class,omitempty"`
	Format       string    `db:"format" json:"format"`
	Width        int       `db:"width" json:"width"`
	Height       int       `db:"height" json:"height"`
	Bytes        int64     `db:"bytes" json:"bytes"`
	SourceBytes  int64     `db:"source_bytes" json:"source_bytes"`
	RenderMS     float64   `db:"render_ms" json:"render_ms"`
	Asked        int64     `db:"asked" json:"asked"`
	MadeAt       time.Time `db:"made_at" json:"made_at"`
	UsedAt       time.Time `db:"used_at" json:"used_at"`
}

// StockOrders are the orders in which variants are listed.
var StockOrders = []string{"largest", "coldest", "most-asked", "newest"}

// StockVariants lists variants of a site, or of a lane, a source or all below a path of it.
func (s *Store) StockVariants(ctx context.Context, r PurgeRule, order string, skip, limit int) ([]StockVariant, error) {
	by := map[string]string{"largest": `bytes DESC`, "coldest": `used_at`, "most-asked": `asked DESC`, "newest": `made_at DESC`}[order]
	if by == "" {
		return nil, fmt.Errorf("variants have no order %q: there are %s", order, strings.Join(StockOrders, ", "))
	}
	where, args := r.scope()
	list := []StockVariant{}
	err := s.db.SelectContext(ctx, &list, fmt.Sprintf(`SELECT site, lane, path, key, declarations, class, format, width, height, bytes, source_bytes, render_ms, asked, made_at, used_at
		FROM made_variants WHERE %s ORDER BY %s, path, key OFFSET $%d LIMIT $%d`, where, by, len(args)+1, len(args)+2), append(args, skip, limit)...)
	if err != nil {
		return nil, fmt.Errorf("list the variants of %s: %w", r.Site, plain(err))
	}
	return list, nil
}

// Asked is how often a variant was answered with.
type Asked struct {
	Site, Lane, Path, Key string
	Times                 int64
}

// AddAsked counts answers.
func (s *Store) AddAsked(ctx context.Context, all []Asked) error {
	n := len(all)
	sites, lanes, paths, keys, times := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]int64, n)
	for i, a := range all {
		sites[i], lanes[i], paths[i], keys[i], times[i] = a.Site, a.Lane, wording.Text(a.Path, longestPath), a.Key, a.Times
	}
	_, err := s.db.ExecContext(ctx, `UPDATE made_variants v SET asked = v.asked + a.times, used_at = now()
		FROM unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::bigint[]) AS a (site, lane, path, key, times)
		WHERE v.site = a.site AND v.lane = a.lane AND v.path = a.path AND v.key = a.key`, sites, lanes, paths, keys, times)
	return wrap("count answers", err)
}

// Gone forgets variants that are kept nowhere any more.
func (s *Store) Gone(ctx context.Context, keys []string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM made_variants WHERE key = ANY ($1)`, keys)
	return wrap("forget variants", err)
}
