package records

import (
	"context"
	"fmt"
	"strings"
	"time"

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
	from := `WITH sources AS (
		SELECT site, lane, path, format, count(*) AS variants, sum(bytes) AS bytes, max(source_bytes) AS source_bytes, sum(asked) AS asked,
			sum(asked * bytes) AS served, sum(asked * source_bytes) AS unscaled, sum(render_ms::float8) AS render_ms, max(used_at) AS used_at
		FROM made_variants WHERE ($1 = '' OR site = $1) GROUP BY site, lane, path, format)
	, each AS (SELECT ` + name + ` AS name, site, lane, path, sum(variants) AS variants, sum(bytes) AS bytes, max(source_bytes) AS source_bytes, sum(asked) AS asked,
			sum(served) AS served, sum(unscaled) AS unscaled, sum(render_ms) AS render_ms, max(used_at) AS used_at
		FROM sources GROUP BY 1, 2, 3, 4)
	`
	const rows = `sum(variants)::bigint AS variants, sum(bytes)::bigint AS bytes, count(*) AS sources, sum(source_bytes)::bigint AS source_bytes,
		sum(asked)::bigint AS asked, sum(served)::bigint AS served, sum(unscaled)::bigint AS unscaled, sum(render_ms) AS render_ms, max(used_at) AS used_at`
	groups = []StockGroup{}
	// The first row is the sum of all.
	var list []struct {
		All bool `db:"whole"`
		StockGroup
	}
	err = s.db.SelectContext(ctx, &list, from+`
		, grouped AS (SELECT name, `+rows+` FROM each GROUP BY name)
		SELECT true AS whole, '' AS name, coalesce(sum(variants), 0)::bigint AS variants, coalesce(sum(bytes), 0)::bigint AS bytes, 0::bigint AS sources, 0::bigint AS source_bytes,
			coalesce(sum(asked), 0)::bigint AS asked, coalesce(sum(served), 0)::bigint AS served, coalesce(sum(unscaled), 0)::bigint AS unscaled, coalesce(sum(render_ms), 0) AS render_ms, max(used_at) AS used_at FROM grouped
		UNION ALL (SELECT false, grouped.* FROM grouped ORDER BY bytes DESC, name LIMIT $2)
		UNION ALL SELECT true, 'sources', 0, 0, count(*), coalesce(sum(source_bytes), 0)::bigint, 0, 0, 0, 0, NULL FROM (SELECT max(source_bytes) AS source_bytes FROM each GROUP BY site, lane, path) one`, site, limit)
	if err != nil {
		return all, nil, fmt.Errorf("take stock: %w", plain(err))
	}
	var sources, bytes int64
	for _, l := range list {
		switch {
		case !l.All:
			groups = append(groups, l.StockGroup)
		case l.Name == "sources":
			sources, bytes = l.Sources, l.SourceBytes
		default:
			all = l.StockFigures
		}
	}
	all.Sources, all.SourceBytes = sources, bytes
	return all, groups, nil
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
