package editions

import (
	"encoding/csv"
	"fmt"
	"math/big"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
)

// Files of two other writers, in every encoding and compression, say what the table says
// that they were made from; tools/parquetfiles makes them.
func TestParquetOfOtherWriters(t *testing.T) {
	rows, err := os.Open("testdata/rows.csv")
	require.NoError(t, err)
	defer rows.Close()
	about := atlas.About{Name: "rows", Rank: 1, Dated: "2026-11-01"}
	table, err := source.ReadTable(rows, ',', nil, about)
	require.NoError(t, err)
	require.Zero(t, table.Rejected)
	_, err = rows.Seek(0, 0)
	require.NoError(t, err)
	lines, err := csv.NewReader(rows).ReadAll()
	require.NoError(t, err)
	files, err := filepath.Glob("testdata/*.parquet")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 17)
	want, tried, differed := atlas.New(table), 0, 0
	for _, file := range files {
		s := fromFeed(file)
		s.Format = source.Parquet
		read, _, err := (&Fetcher{}).Read(t.Context(), s)
		require.NoError(t, err, file)
		require.Equal(t, table.Accepted, read.Accepted, file)
		got := atlas.New(read)
		for _, line := range lines[1:] {
			for _, end := range line[:2] {
				n, err := strconv.ParseUint(end, 10, 32)
				require.NoError(t, err)
				ip := netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
				tried++
				a, b := want.Lookup(ip), got.Lookup(ip)
				if !assert.Equal(t, []any{a.Location, a.Network, a.Labels}, []any{b.Location, b.Network, b.Labels}, "%s in %s", ip, file) {
					differed++
				}
			}
		}
		d, err := Describe(file)
		require.NoError(t, err)
		assert.Equal(t, "labels", d.Mapping["labels"], file)
	}
	t.Logf("%d files, %d addresses: %d differed", len(files), tried, differed)
}

// Columns that cannot be read are refused with the reason where a fact is to come from them.
func TestParquetThatIsNotRead(t *testing.T) {
	for column, reason := range map[string]string{"raw": "", "many.key_value.key": "is a list", "labels": "is a list", "half": "", "at": "", "seen": "", "sure": ""} {
		s := fromFeed("testdata/arrow-none.parquet")
		s.Format, s.Columns = source.Parquet, map[string]string{"city": column}
		_, _, err := (&Fetcher{}).Read(t.Context(), s)
		if reason == "" {
			assert.NoError(t, err, column)
		} else {
			assert.ErrorContains(t, err, reason, column)
		}
	}
	type row struct {
		First string   `parquet:"first"`
		Last  string   `parquet:"last"`
		Fixed [16]byte `parquet:"fixed"`
		Clock int64    `parquet:"clock,time(microsecond)"`
	}
	file := filepath.Join(t.TempDir(), "x.parquet")
	require.NoError(t, parquet.WriteFile(file, []row{{First: "198.18.0.0", Last: "198.18.0.255"}}))
	for column, kind := range map[string]string{"fixed": "FIXED_LEN_BYTE_ARRAY", "clock": "TIME"} {
		s := fromFeed(file)
		s.Format, s.Columns = source.Parquet, map[string]string{"country_code": column}
		_, _, err := (&Fetcher{}).Read(t.Context(), s)
		assert.ErrorContains(t, err, "has the type "+kind, column)
	}
}

// Random values of every type are written as they are meant; the model takes whole numbers
// apart digit by digit.
func TestTextOfParquetTypes(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 3))
	type row struct {
		Small  int32    `parquet:"small,decimal(3:9)"`
		Large  int64    `parquet:"large,decimal(7:18)"`
		Bytes  [16]byte `parquet:"bytes,decimal(11:38)"`
		U32    uint32   `parquet:"u32"`
		U64    uint64   `parquet:"u64"`
		U8     uint8    `parquet:"u8"`
		I16    int16    `parquet:"i16"`
		Single float32  `parquet:"single"`
		Double float64  `parquet:"double"`
	}
	var rows []row
	for range 5000 {
		one := row{
			Small: int32(r.IntN(2_000_000_000) - 1_000_000_000), Large: r.Int64N(2_000_000_000_000_000_000) - 1_000_000_000_000_000_000,
			U32: r.Uint32(), U64: r.Uint64(), U8: uint8(r.Uint32()), I16: int16(r.Uint32()), Single: float32(r.IntN(1<<20)) / 64, Double: float64(r.IntN(1<<30)) / 1024,
		}
		for i := range one.Bytes {
			one.Bytes[i] = byte(r.Uint32())
		}
		if r.IntN(2) == 0 { // near nothing
			copy(one.Bytes[:12], []byte(strings.Repeat(string([]byte{255 * byte(r.IntN(2))}), 12)))
		}
		rows = append(rows, one)
	}
	file := filepath.Join(t.TempDir(), "x.parquet")
	require.NoError(t, parquet.WriteFile(file, rows))
	text, err := os.Open(file)
	require.NoError(t, err)
	defer text.Close()
	info, err := text.Stat()
	require.NoError(t, err)
	f, err := parquet.OpenFile(text, info.Size())
	require.NoError(t, err)
	at, differed := 0, 0
	parquetRows(f, parquetColumns(f.Metadata().Schema), func(got []string, err error) bool {
		require.NoError(t, err)
		one := rows[at]
		n := new(big.Int)
		for _, b := range one.Bytes {
			n.Mul(n, big.NewInt(256)).Add(n, big.NewInt(int64(b)))
		}
		if n.Bit(127) == 1 {
			n.Sub(n, new(big.Int).Exp(big.NewInt(2), big.NewInt(128), nil))
		}
		want := []string{
			pointed(fmt.Sprint(one.Small), 3), pointed(fmt.Sprint(one.Large), 7), pointed(n.String(), 11), fmt.Sprint(one.U32), fmt.Sprint(one.U64), fmt.Sprint(one.U8), fmt.Sprint(one.I16),
			strconv.FormatFloat(float64(one.Single), 'f', -1, 32), strconv.FormatFloat(one.Double, 'f', -1, 64),
		}
		if !assert.Equal(t, want, got) {
			differed++
		}
		at++
		return differed < 3
	})
	assert.Len(t, rows, at)
	t.Logf("%d values: %d differed", 9*at, differed)
}

// pointed puts a point so many digits from the right, without zeros at the end.
func pointed(digits string, places int) string {
	sign := ""
	if digits[0] == '-' {
		sign, digits = "-", digits[1:]
	}
	for len(digits) <= places {
		digits = "0" + digits
	}
	text := digits[:len(digits)-places] + "." + digits[len(digits)-places:]
	text = strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
	if text == "0" {
		sign = ""
	}
	return sign + text
}
