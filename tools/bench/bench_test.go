// Package bench measures the range table against other ways to find the range
// of an address: a general-purpose routing table, and PostgreSQL. It is a module
// of its own, so that the product does not depend on what it is compared with.
package bench

import (
	"context"
	"net/netip"
	"os"
	"sync"
	"testing"

	"github.com/gaissmai/bart"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/rangetable"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/synthetic"
)

func TestMain(m *testing.M) { os.Exit(db.Run(m, db.Model{})) }

type full struct {
	v4, v6 []rangetable.Row
	table  *rangetable.Table
}

var fullSet = sync.OnceValue(func() *full {
	f := &full{}
	f.v4, f.v6 = synthetic.Ranges(1, synthetic.Rows4, synthetic.Rows6, synthetic.Places)
	var err error
	if f.table, err = rangetable.Build(f.v4, f.v6); err != nil {
		panic(err)
	}
	return f
})

const queries = 1 << 20

var sink uint32

// The routing table runs after ours, with the same ranges and the same stream of
// addresses, drawn by range.
func benchmarkRouting(b *testing.B, rows []rangetable.Row, is4 bool) {
	ask := synthetic.Queries(7, queries, rows, is4, "range")
	table := fullSet().table
	b.Run("ours", func(b *testing.B) {
		for i := range b.N {
			sink += table.Find(ask[i%queries])
		}
	})
	b.Run("ours-many", func(b *testing.B) {
		var values [1024]uint32
		for i := 0; i < b.N; i += len(values) {
			table.FindAll(ask[i%queries:i%queries+len(values)], values[:])
		}
		sink += values[0]
	})
	routes := &bart.Table[uint32]{}
	for i := range rows {
		routes.Insert(rows[i].Prefix(is4), rows[i].Value)
	}
	b.Run("library", func(b *testing.B) {
		for i := range b.N {
			v, _ := routes.Lookup(ask[i%queries])
			sink += v
		}
	})
}

func BenchmarkRouting4(b *testing.B) { benchmarkRouting(b, fullSet().v4, true) }

func BenchmarkRouting6(b *testing.B) { benchmarkRouting(b, fullSet().v6, false) }

// BenchmarkDatabase finds addresses through a btree over flattened ranges, one
// connection, prepared; and in process.
func BenchmarkDatabase(b *testing.B) {
	f := fullSet()
	conn, err := pgx.Connect(b.Context(), db.New(b))
	require.NoError(b, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(b.Context(), `CREATE TABLE flat (first inet NOT NULL, value integer NOT NULL)`)
	require.NoError(b, err)
	at := netip.IPv4Unspecified()
	var row [2]any
	_, err = conn.CopyFrom(b.Context(), pgx.Identifier{"flat"}, []string{"first", "value"}, pgx.CopyFromFunc(func() ([]any, error) {
		if !at.IsValid() || !at.Is4() {
			return nil, nil
		}
		row[0], row[1] = at, int32(f.table.Find(at))
		at = f.table.Cell(at).Last.Next()
		return row[:], nil
	}))
	require.NoError(b, err)
	for _, sql := range []string{`CREATE INDEX ON flat (first) INCLUDE (value)`, `VACUUM ANALYZE flat`} {
		_, err = conn.Exec(b.Context(), sql)
		require.NoError(b, err)
	}
	ask := synthetic.Queries(7, queries, f.v4, true, "range")
	b.Run("btree", func(b *testing.B) {
		for i := range b.N {
			var v int32
			err := conn.QueryRow(context.Background(), `SELECT value FROM flat WHERE first <= $1 ORDER BY first DESC LIMIT 1`, ask[i%queries]).Scan(&v)
			if err != nil || uint32(v) != f.table.Find(ask[i%queries]) {
				b.Fatal(v, err)
			}
		}
	})
	b.Run("ours", func(b *testing.B) {
		for i := range b.N {
			sink += f.table.Find(ask[i%queries])
		}
	})
}
