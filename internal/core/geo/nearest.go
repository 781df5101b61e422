package geo

import (
	"container/heap"
	"math"
	"slices"
)

// An Index finds the points that lie nearest to a point. It is a k-d tree over
// the points' positions in space, where neither the poles nor the antimeridian
// are special. It is immutable and safe for concurrent use.
type Index struct {
	nodes []indexNode // a balanced tree: the middle of each part is its root
}

type indexNode struct {
	at    [3]float64
	point int32
}

// NewIndex makes an index of points; what it finds are their places in the list.
func NewIndex(points []Point) *Index {
	x := &Index{nodes: make([]indexNode, len(points))}
	for i, p := range points {
		x.nodes[i] = indexNode{p.position(), int32(i)}
	}
	x.build(0, len(points), 0)
	return x
}

// position is where p stands on the sphere of radius 1.
func (p Point) position() [3]float64 {
	lat, lon := rad(p.Latitude), rad(p.Longitude)
	return [3]float64{math.Cos(lat) * math.Cos(lon), math.Cos(lat) * math.Sin(lon), math.Sin(lat)}
}

func (x *Index) build(from, to, axis int) {
	if to-from < 2 {
		return
	}
	part := x.nodes[from:to]
	slices.SortFunc(part, func(a, b indexNode) int {
		switch {
		case a.at[axis] < b.at[axis]:
			return -1
		case a.at[axis] > b.at[axis]:
			return 1
		}
		return int(a.point - b.point)
	})
	middle := (from + to) / 2
	x.build(from, middle, (axis+1)%3)
	x.build(middle+1, to, (axis+1)%3)
}

// A Near is a point that was found, and how far away it is.
type Near struct {
	Place int // in the list
	Km    float64
}

// Nearest gives the n points nearest to p that want accepts, the nearest first;
// a nil want accepts all.
func (x *Index) Nearest(p Point, n int, want func(place int) bool) []Near {
	if n < 1 || !p.Valid() {
		return nil
	}
	s := &search{x: x, at: p.position(), n: n, want: want}
	s.look(0, len(x.nodes), 0)
	list := make([]Near, len(s.found))
	for i := range slices.Backward(list) {
		f := heap.Pop(&s.found).(candidate)
		list[i] = Near{int(f.place), 2 * earthKm * math.Asin(math.Min(1, math.Sqrt(f.square)/2))}
	}
	return list
}

// search looks for the nearest nodes; found is a heap with the farthest on top.
type search struct {
	x     *Index
	at    [3]float64
	n     int
	want  func(int) bool
	found candidates
}

type candidate struct {
	square float64 // of the chord's length
	place  int32
}

type candidates []candidate

func (c candidates) Len() int           { return len(c) }
func (c candidates) Less(i, j int) bool { return c[i].square > c[j].square }
func (c candidates) Swap(i, j int)      { c[i], c[j] = c[j], c[i] }
func (c *candidates) Push(v any)        { *c = append(*c, v.(candidate)) }
func (c *candidates) Pop() any {
	last := (*c)[len(*c)-1]
	*c = (*c)[:len(*c)-1]
	return last
}

func (s *search) look(from, to, axis int) {
	if from >= to {
		return
	}
	middle := (from + to) / 2
	node := &s.x.nodes[middle]
	if s.want == nil || s.want(int(node.point)) {
		square := 0.0
		for i := range node.at {
			square += (node.at[i] - s.at[i]) * (node.at[i] - s.at[i])
		}
		if len(s.found) < s.n {
			heap.Push(&s.found, candidate{square, node.point})
		} else if square < s.found[0].square {
			s.found[0] = candidate{square, node.point}
			heap.Fix(&s.found, 0)
		}
	}
	side := s.at[axis] - node.at[axis]
	near, far := [2]int{from, middle}, [2]int{middle + 1, to}
	if side > 0 {
		near, far = far, near
	}
	s.look(near[0], near[1], (axis+1)%3)
	if len(s.found) < s.n || side*side < s.found[0].square {
		s.look(far[0], far[1], (axis+1)%3)
	}
}
