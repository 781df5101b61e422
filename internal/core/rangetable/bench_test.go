package rangetable_test

import (
	"encoding/binary"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sort"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"eastporch/internal/core/rangetable"
	"eastporch/internal/testkit/synthetic"
)

// full is the set that the promises are about, built once.
type full struct {
	table  *rangetable.Table
	v4, v6 []rangetable.Row
	words  [2][]uint32
}

var fullSet = sync.OnceValue(func() *full {
	f := &full{}
	f.v4, f.v6 = synthetic.Ranges(1, synthetic.Rows4, synthetic.Rows6, synthetic.Places)
	var err error
	if f.table, err = rangetable.Build(f.v4, f.v6); err != nil {
		panic(err)
	}
	f.words[0], f.words[1] = f.table.Words()
	return f
})

// zero is 0, but the compiler does not know it: it makes one step wait for the
// result of the one before.
var zero uint32

var sink uint32

const queries = 1 << 20

// ask is a stream of addresses that takes little of the cache itself.
type ask struct {
	v4 []uint32
	v6 [][2]uint64
}

func asking(rows []rangetable.Row, is4 bool, how string) (a ask) {
	for _, q := range synthetic.Queries(7, queries, rows, is4, how) {
		b := q.As16()
		if is4 {
			a.v4 = append(a.v4, binary.BigEndian.Uint32(b[12:]))
		} else {
			a.v6 = append(a.v6, [2]uint64{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])})
		}
	}
	return a
}

func (a ask) at(i uint32) netip.Addr {
	i %= queries
	if a.v4 != nil {
		var b [4]byte
		binary.BigEndian.PutUint32(b[:], a.v4[i])
		return netip.AddrFrom4(b)
	}
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], a.v6[i][0])
	binary.BigEndian.PutUint64(b[8:], a.v6[i][1])
	return netip.AddrFrom16(b)
}

func benchmarkFamily(b *testing.B, rows []rangetable.Row, is4 bool, words []uint32) {
	f := fullSet()
	b.Logf("%d ranges, %.1f MB", len(rows), float64(len(words)*4)/1e6)
	for _, how := range []string{"uniform", "range", "zipf"} {
		list := asking(rows, is4, how)
		b.Run(how+"/dependent", func(b *testing.B) {
			b.ReportAllocs()
			var v uint32
			for i := range b.N {
				v = f.table.Find(list.at(uint32(i) + v&zero))
			}
			sink = v
		})
		b.Run(how+"/free", func(b *testing.B) {
			for i := range b.N {
				sink += f.table.Find(list.at(uint32(i)))
			}
		})
	}
	b.Run("range/many", func(b *testing.B) {
		list := asking(rows, is4, "range")
		var ask [1000]netip.Addr
		var values [1000]uint32
		for i := 0; i < b.N; i += len(ask) {
			for j := range ask {
				ask[j] = list.at(uint32(i + j))
			}
			f.table.FindAll(ask[:], values[:])
		}
		sink = values[0]
	})
	b.Run("one-read", func(b *testing.B) { // of an array of the same size, each waiting for the last
		array, at := make([]uint32, len(words)), make([]uint32, queries)
		r := rand.New(rand.NewPCG(1, 1))
		for i := range array {
			array[i] = r.Uint32()
		}
		for i := range at {
			at[i] = r.Uint32N(uint32(len(array)))
		}
		b.ResetTimer()
		var v uint32
		for i := range b.N {
			v = array[at[(uint32(i)+v&zero)%queries]]
		}
		sink = v
	})
}

func BenchmarkFind4(b *testing.B) {
	f := fullSet()
	benchmarkFamily(b, f.v4, true, f.words[0])
}

func BenchmarkFind6(b *testing.B) {
	f := fullSet()
	benchmarkFamily(b, f.v6, false, f.words[1])
}

// BenchmarkSearch is a binary search over the same intervals.
func BenchmarkSearch(b *testing.B) {
	f := fullSet()
	type interval struct{ first, value uint32 }
	var list []interval
	for a := netip.MustParseAddr("0.0.0.0"); a.IsValid() && a.Is4(); {
		cell := f.table.Cell(a)
		bytes := a.As4()
		first := uint32(bytes[0])<<24 | uint32(bytes[1])<<16 | uint32(bytes[2])<<8 | uint32(bytes[3])
		if v := f.table.Find(a); len(list) == 0 || list[len(list)-1].value != v {
			list = append(list, interval{first, v})
		}
		a = cell.Last.Next()
	}
	stream := asking(f.v4, true, "uniform").v4
	b.Run("ours", func(b *testing.B) {
		list := ask{v4: stream}
		for i := range b.N {
			sink += f.table.Find(list.at(uint32(i)))
		}
	})
	b.Run("ours-many", func(b *testing.B) {
		list := ask{v4: stream}
		var some [1024]netip.Addr
		var values [1024]uint32
		for i := 0; i < b.N; i += len(some) {
			for j := range some {
				some[j] = list.at(uint32(i + j))
			}
			f.table.FindAll(some[:], values[:])
		}
		sink += values[0]
	})
	b.Run("sort", func(b *testing.B) {
		for i := range b.N {
			ip := stream[i%queries]
			sink += list[sort.Search(len(list), func(i int) bool { return list[i].first > ip })-1].value
		}
	})
}

func BenchmarkWorkers(b *testing.B) {
	f := fullSet()
	stream := asking(f.v4, true, "range")
	for _, workers := range []int{1, 2} {
		b.Run([]string{"", "one", "two"}[workers], func(b *testing.B) {
			var wait sync.WaitGroup
			for w := range workers {
				wait.Go(func() {
					var sum uint32
					for i := w; i < b.N; i += workers {
						sum += f.table.Find(stream.at(uint32(i)))
					}
					if sum == 1 {
						panic("never")
					}
				})
			}
			wait.Wait()
		})
	}
}

func BenchmarkIndex(b *testing.B) {
	f := fullSet()
	for range b.N {
		_, err := rangetable.Open(f.words[0], f.words[1])
		require.NoError(b, err)
	}
	b.ReportMetric(float64(4*(len(f.words[0])+len(f.words[1])))/1e6, "MB")
}

func BenchmarkTable(b *testing.B) {
	f := fullSet()
	for range b.N {
		_, err := rangetable.Build(f.v4, f.v6)
		require.NoError(b, err)
	}
}

// Memory is part of the promise: both families together.
func TestFullSetFitsIn65MB(t *testing.T) {
	f := fullSet()
	bytes := 4 * (len(f.words[0]) + len(f.words[1]))
	require.LessOrEqual(t, bytes, 65_000_000)
	r := rand.New(rand.NewPCG(5, 5))
	for range 20_000 { // every row is found at its first address, or a longer one is
		rows, is4 := f.v4, true
		if r.IntN(2) == 0 {
			rows, is4 = f.v6, false
		}
		i := r.IntN(len(rows))
		want := rows[i]
		a := want.Prefix(is4).Addr()
		j, _ := slices.BinarySearchFunc(rows, rangetable.Row{Hi: want.Hi, Lo: want.Lo, Bits: 129}, rangetable.Row.Compare)
		require.Equal(t, rows[j-1].Value, f.table.Find(a), "%s", want.Prefix(is4))
	}
}
