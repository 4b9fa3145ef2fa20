package topology

import "errors"

// Bounds of a diagram: about a second and 200 MB.
const (
	mostNodes = 200_000
	mostKnown = 2_000_000
)

var errTooLarge = errors.New("too much is shared among the services below it to compute this exactly")

// diagram is a set of truth functions as reduced ordered binary decision diagrams
// (R. E. Bryant, IEEE Transactions on Computers C-35, 1986). Equal functions are equal nodes,
// and each node stands behind those that it leads to.
type diagram struct {
	nodes  []node
	unique map[node]int
	known  map[[3]int]int
}

// node is a function: high where the variable is true, low where it is false.
type node struct{ variable, low, high int }

// The two constant functions, which are the first nodes of every diagram.
const (
	never  = 0
	always = 1
)

const noVariable = 1 << 30 // of the constants: behind all others

func newDiagram() *diagram {
	return &diagram{
		nodes:  []node{{noVariable, never, never}, {noVariable, always, always}},
		unique: map[node]int{}, known: map[[3]int]int{},
	}
}

func (d *diagram) node(variable, low, high int) int {
	if low == high {
		return low
	}
	n := node{variable, low, high}
	if at, is := d.unique[n]; is {
		return at
	}
	if len(d.nodes) == mostNodes {
		panic(errTooLarge)
	}
	d.nodes = append(d.nodes, n)
	d.unique[n] = len(d.nodes) - 1
	return len(d.nodes) - 1
}

// choose is then where f is true, otherwise where it is not.
func (d *diagram) choose(f, then, otherwise int) int {
	switch {
	case f == always, then == otherwise:
		return then
	case f == never:
		return otherwise
	}
	key := [3]int{f, then, otherwise}
	if at, is := d.known[key]; is {
		return at
	}
	v := min(d.nodes[f].variable, d.nodes[then].variable, d.nodes[otherwise].variable)
	low := d.choose(d.where(f, v, false), d.where(then, v, false), d.where(otherwise, v, false))
	high := d.choose(d.where(f, v, true), d.where(then, v, true), d.where(otherwise, v, true))
	out := d.node(v, low, high)
	if len(d.known) == mostKnown {
		panic(errTooLarge)
	}
	d.known[key] = out
	return out
}

// where is f once the variable is known; none before it is in f.
func (d *diagram) where(f, variable int, is bool) int {
	n := d.nodes[f]
	switch {
	case n.variable != variable:
		return f
	case is:
		return n.high
	}
	return n.low
}

// atLeast is true where at least need of the functions are.
func (d *diagram) atLeast(need int, functions []int) int {
	// enough[k] is that at least k of those seen so far are true.
	enough := make([]int, need+1)
	enough[0] = always
	for _, f := range functions {
		for k := need; k > 0; k-- {
			enough[k] = d.choose(f, enough[k-1], enough[k])
		}
	}
	return enough[need]
}
