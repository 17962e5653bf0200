package order

// Rearrange puts the items in an order that all edges agree with. Those that stay
// keep their order among themselves; each of the others goes no further than it
// has to.
func (g *Graph) Rearrange(stay []bool) []int32 {
	edges := make([]Edge, 0, len(g.next)+g.n)
	last := int32(-1)
	for i := range int32(g.n) {
		for _, to := range g.After(i) {
			edges = append(edges, Edge{i, to})
		}
		if stay[i] {
			if last >= 0 {
				edges = append(edges, Edge{last, i})
			}
			last = i
		}
	}
	return NewGraph(g.n, edges).Sort()
}
