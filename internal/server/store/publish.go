package store

import (
	"context"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
)

// A Policy says what becomes of the addresses of a prefix, where no narrower one
// says otherwise: those of the owner go before those of kinds.
type Policy struct {
	Prefix  netip.Prefix
	Own     bool
	Kind    addr.Kind // of those that are not the owner's
	Skipped bool
}

// Terms are what beside an edition decides what is said of an address.
type Terms struct {
	Policy     []Policy
	Embeddings []addr.Embedding
	Labels     map[string][]netip.Prefix
}

// Publish fills the tables that the SQL function locate answers from, and
// puts them in place at once. ranges calls its argument for each range, in
// order; it gives how many there were.
func (s *Store) Publish(ctx context.Context, edition string, terms Terms, ranges func(yield func(addr.Range, atlas.LookupResult) bool)) (n int64, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := takeTurn(ctx, tx, publishing); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `CREATE TABLE atlas_range_next (LIKE atlas_range)`); err != nil {
			return err
		}
		rows := make(chan []any, 1024)
		stop := make(chan struct{})
		go func() {
			defer close(rows)
			ranges(func(span addr.Range, f atlas.LookupResult) bool {
				row := []any{span.First, span.Last, string(f.Location.Level), list(f.Labels)}
				for i := range atlas.Facts {
					if fact := &atlas.Facts[i]; fact.Column != "" {
						row = append(row, fact.Value(&f.Location, &f.Network))
					}
				}
				select {
				case rows <- row:
					return true
				case <-stop:
					return false
				}
			})
		}()
		columns := []string{"first", "last", "level", "labels"}
		for i := range atlas.Facts {
			if atlas.Facts[i].Column != "" {
				columns = append(columns, atlas.Facts[i].Name)
			}
		}
		n, err = tx.CopyFrom(ctx, pgx.Identifier{"atlas_range_next"}, columns, pgx.CopyFromFunc(func() ([]any, error) { return <-rows, nil })) // nil is the end
		close(stop)
		for range rows { // until the other side has seen it
		}
		if err != nil {
			return err
		}
		for _, sql := range []string{
			`CREATE INDEX ON atlas_range_next (first)`, `ANALYZE atlas_range_next`, `DROP TABLE atlas_range`,
			`ALTER TABLE atlas_range_next RENAME TO atlas_range`, `DELETE FROM atlas_policy`, `DELETE FROM atlas_embedding`, `DELETE FROM atlas_label`, `DELETE FROM atlas_published`,
		} {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return err
			}
		}
		if err := terms.insert(ctx, tx); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `INSERT INTO atlas_published VALUES ($1, $2, $3)`, edition, time.Now().UTC(), n)
		return err
	})
	return n, away(err)
}

func (t *Terms) insert(ctx context.Context, tx pgx.Tx) error {
	var policy, embeddings, labels [][]any
	for _, p := range t.Policy {
		policy = append(policy, []any{p.Prefix, p.Own, p.Kind.String(), p.Skipped})
	}
	for _, e := range t.Embeddings {
		if len(embeddings) == 0 || embeddings[len(embeddings)-1][0] != e.Prefix {
			embeddings = append(embeddings, []any{e.Prefix, e.Own, e.At[:], e.Flipped})
		}
	}
	for name, prefixes := range t.Labels {
		for _, p := range prefixes {
			labels = append(labels, []any{p.Masked(), name})
		}
	}
	for _, into := range []struct {
		table   string
		columns []string
		rows    [][]any
	}{
		{"atlas_policy", []string{"prefix", "own", "kind", "skipped"}, policy},
		{"atlas_embedding", []string{"prefix", "own", "at", "flipped"}, embeddings},
		{"atlas_label", []string{"prefix", "label"}, labels},
	} {
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{into.table}, into.columns, pgx.CopyFromRows(into.rows)); err != nil {
			return err
		}
	}
	return nil
}
