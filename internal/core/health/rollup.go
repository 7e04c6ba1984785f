package health

// few is how many hosts there are at most where one alone paints what they have in common, and share of how many a
// state must be where there are more: one host of ten thousand does not paint a source red.
const (
	few      = 20
	oneIn    = 20
	severity = 3 // states that may paint it
)

// RollUp is the state of what so many hosts have in common, by how many are in which state: the worst that is of
// weight.
func RollUp(counts map[State]int) State {
	all := 0
	for _, n := range counts {
		all += n
	}
	if all == 0 {
		return Waiting
	}
	for _, s := range [severity]State{Failing, Offline, Degraded} {
		if n := counts[s]; n > 0 && (all <= few || n*oneIn >= all) {
			return s
		}
	}
	if counts[Waiting] == all {
		return Waiting
	}
	return Healthy
}
