package source

import (
	"cmp"
	"encoding/json"
	"fmt"
	"iter"
	"math"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compile"
	"eastporch/internal/core/rangetable"
)

// gathering puts together what workers read, in the order of the chunks.
type gathering struct {
	how    ParseOptions
	c      *compile.Rows
	ids    compile.PlaceTable
	of     map[int]*workerPlaces
	lines  int
	bytes  int64
	failed error // of the writer of rejects
}

// workerPlaces are the places of one worker, by its numbers.
type workerPlaces struct {
	places compile.Places
	ours   []uint32 // our number + 1, or 0
}

func newGathering(how ParseOptions, about atlas.About) *gathering {
	g := &gathering{how: how, ids: compile.NewPlaceTable(), of: map[int]*workerPlaces{}}
	g.c = &compile.Rows{Source: &atlas.Parts{About: about, Arrays: atlas.Arrays{Offsets: []uint32{0}}}, Spans: map[uint32]addr.Range{}, Note: g.note, Where: how.Where}
	return g
}

func (g *gathering) note(reject bool, n atlas.Note) {
	s := g.c.Source
	if g.how.Where != nil {
		file, in := g.how.Where(n.Line)
		n.Line, n.Reason = in, n.Reason+", in "+file
	}
	list, count, kind := &s.Remarks, &s.Remarked, "remark"
	if reject {
		list, count, kind = &s.Rejects, &s.Rejected, "reject"
	}
	*count++
	if len(*list) < maxNotes {
		*list = append(*list, n)
	}
	if g.how.Rejected != nil && g.failed == nil {
		line, _ := json.Marshal(struct {
			Kind string `json:"kind"`
			atlas.Note
		}{kind, n})
		_, g.failed = g.how.Rejected.Write(append(line, '\n'))
	}
}

func (g *gathering) take(c *chunkRows) error {
	s := g.c.Source
	s.Rows += c.rows
	s.Accepted += c.accepted
	for _, n := range c.rejects {
		g.note(true, n)
	}
	for _, n := range c.notes {
		g.note(false, n)
	}
	s.Feeds = append(s.Feeds, c.feeds...)
	for line, span := range c.spans {
		g.c.Spans[line] = span
	}
	w := g.of[c.worker]
	if w == nil {
		w = &workerPlaces{}
		g.of[c.worker] = w
	}
	w.places.Append(&c.places)
	for range c.places.Count() {
		w.ours = append(w.ours, 0)
	}
	for _, rows := range [][]rangetable.Row{c.v4, c.v6} {
		for i := range rows {
			v := rows[i].Value
			if w.ours[v] == 0 {
				id, err := g.place(w.places.At(v))
				if err != nil {
					return err
				}
				w.ours[v] = id + 1
			}
			rows[i].Value = w.ours[v] - 1
		}
	}
	g.c.Add(c.v4, c.v6)
	g.lines += c.lines
	g.bytes += int64(c.bytes)
	if g.how.Progress != nil {
		g.how.Progress(g.bytes, g.lines)
	}
	return g.failed
}

// place gives a place its number.
func (g *gathering) place(b []byte, hash uint32) (uint32, error) {
	s := g.c.Source
	id, isNew := g.ids.Find(b, hash, s.Blob, s.Offsets)
	if !isNew {
		return id, nil
	}
	if id == atlas.MaxPlaces || len(s.Blob)+len(b) > math.MaxUint32 {
		return 0, fmt.Errorf("more than %d different places, or %d MB of them", atlas.MaxPlaces, math.MaxUint32>>20)
	}
	s.Blob = append(s.Blob, b...)
	s.Offsets = append(s.Offsets, uint32(len(s.Blob)))
	return id, nil
}

func (g *gathering) finish() (*atlas.Source, error) {
	if g.failed != nil {
		return nil, fmt.Errorf("the rejects could not be written: %w", g.failed)
	}
	g.ids, g.of = compile.PlaceTable{}, nil
	s, err := g.c.Compile()
	if err == nil && g.failed != nil {
		err = fmt.Errorf("the rejects could not be written: %w", g.failed)
	}
	return s, err
}

// readRows reads rows that are taken apart already, in one go.
func readRows(t *table, rows iter.Seq2[[]string, error], how ParseOptions, about atlas.About) (*atlas.Source, error) {
	g, w := newGathering(how, about), newWorker(0)
	format := &tableRows{t: t}
	w.format = format
	at, n := 0, 0
	flush := func() error {
		c := w.out
		c.sort()
		c.lines = n - at
		at = n
		w.out = &chunkRows{}
		return g.take(c)
	}
	w.out = &chunkRows{}
	for fields, err := range rows {
		if err != nil {
			return nil, fmt.Errorf("%s: row %d: %w", about.Name, n+1, err)
		}
		n++
		span, key := format.fields(fields)
		w.out.rows++
		w.out.bytes += len(key)
		hash := w.known.hash(key)
		v, ok := w.known.get(hash)
		if !ok {
			v = w.judge(hash)
		}
		if err := w.add(uint32(n), key, span, v); err != nil {
			w.out.rejects = append(w.out.rejects, compile.NoteOf(n, strings.Join(fields, ","), err.Error()))
		}
		if n-at == cmp.Or(how.chunk, 10_000) {
			if err := flush(); err != nil {
				return nil, err
			}
		}
	}
	if err := flush(); err != nil {
		return nil, err
	}
	return g.finish()
}
