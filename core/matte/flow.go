package matte

import "math"

// A graph is nodes between two ends, with what may flow along each way. Its smallest cut parts the nodes into those that stay with
// the first end and the others (Boykov and Jolly 2001).
type graph struct {
	first []int32 // each node's first arc, −1 for none
	arcs  []arc
	level []int32
	next  []int32 // where a search goes on
}

type arc struct {
	to, after int32 // after is the same node's next arc; an arc and the one back are 2i and 2i+1
	left      float32
}

// newGraph is n nodes; the ends are n and n+1.
func newGraph(n int) *graph {
	g := &graph{first: make([]int32, n+2), level: make([]int32, n+2), next: make([]int32, n+2)}
	for i := range g.first {
		g.first[i] = -1
	}
	return g
}

// link lets so much flow from a to b, and back.
func (g *graph) link(a, b int, there, back float32) {
	g.arcs = append(g.arcs, arc{int32(b), g.first[a], there}, arc{int32(a), g.first[b], back})
	g.first[a], g.first[b] = int32(len(g.arcs)-2), int32(len(g.arcs)-1)
}

// cut says which nodes stay with the first end (Dinic 1970).
func (g *graph) cut() []bool {
	from, to := int32(len(g.first)-2), int32(len(g.first)-1)
	for g.measure(from, to) {
		copy(g.next, g.first)
		for g.push(from, to, math.MaxFloat32) > 0 {
		}
	}
	stays := make([]bool, len(g.first)-2)
	for i := range stays {
		stays[i] = g.level[i] >= 0
	}
	return stays
}

const least = 1e-5 // less doesn't flow

// measure counts each node's steps from the first end, and reports whether the other one is reached.
func (g *graph) measure(from, to int32) bool {
	for i := range g.level {
		g.level[i] = -1
	}
	g.level[from] = 0
	queue := []int32{from}
	for len(queue) > 0 {
		n := queue[0]
		queue = queue[1:]
		for a := g.first[n]; a >= 0; a = g.arcs[a].after {
			if t := g.arcs[a].to; g.arcs[a].left > least && g.level[t] < 0 {
				g.level[t] = g.level[n] + 1
				queue = append(queue, t)
			}
		}
	}
	return g.level[to] >= 0
}

// push sends at most so much from n onwards, and says how much went.
func (g *graph) push(n, to int32, most float32) float32 {
	if n == to {
		return most
	}
	for ; g.next[n] >= 0; g.next[n] = g.arcs[g.next[n]].after {
		a := &g.arcs[g.next[n]]
		if a.left <= least || g.level[a.to] != g.level[n]+1 {
			continue
		}
		if went := g.push(a.to, to, min(most, a.left)); went > 0 {
			a.left -= went
			g.arcs[g.next[n]^1].left += went
			return went
		}
	}
	return 0
}
