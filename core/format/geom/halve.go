package geom

import "slices"

// Halve puts a list into an order in which the k-th is the one that would stand there if it were
// sorted, all before it are not greater, and all from it on not less (Hoare, "Find", 1961): that
// takes a time that grows with the list, where sorting takes longer than that. compare must tell
// any two apart that are to be told apart later: the same list always comes to the same order.
func Halve[T any](list []T, k int, compare func(a, b T) int) {
	for len(list) > 24 {
		// The median of three, so that lists that are sorted already are no worse than others.
		a, b, c := list[0], list[len(list)/2], list[len(list)-1]
		if compare(a, b) > 0 {
			a, b = b, a
		}
		if compare(b, c) > 0 {
			b = c
			if compare(a, b) > 0 {
				b = a
			}
		}
		i, j := 0, len(list)-1
		for i <= j {
			for compare(list[i], b) < 0 {
				i++
			}
			for compare(b, list[j]) < 0 {
				j--
			}
			if i <= j {
				list[i], list[j] = list[j], list[i]
				i++
				j--
			}
		}
		switch {
		case k <= j:
			list = list[:j+1]
		case k >= i:
			list, k = list[i:], k-i
		default:
			return
		}
	}
	slices.SortFunc(list, compare)
}
