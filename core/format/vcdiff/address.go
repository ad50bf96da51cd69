package vcdiff

import "errors"

// addresses are the caches of addresses of a window (RFC 3284, 5.1 to 5.3).
type addresses struct {
	near []int64
	next int
	same []int64
}

func newAddresses(near, same int) *addresses {
	return &addresses{near: make([]int64, near), same: make([]int64, same*256)}
}

func (a *addresses) reset() {
	clear(a.near)
	clear(a.same)
	a.next = 0
}

func (a *addresses) update(at int64) {
	if len(a.near) > 0 {
		a.near[a.next] = at
		if a.next++; a.next == len(a.near) {
			a.next = 0
		}
	}
	if len(a.same) > 0 {
		a.same[at%int64(len(a.same))] = at
	}
}

// encode says an address in the fewest bytes: its mode, and its bytes appended to b. here is where the copy goes to.
func (a *addresses) encode(b []byte, at, here int64) (mode uint8, out []byte) {
	if n := int64(len(a.same)); n > 0 && a.same[at%n] == at {
		i := at % n
		a.update(at)
		return uint8(2 + len(a.near) + int(i/256)), append(b, byte(i%256))
	}
	best, value := uint8(0), at
	if d := here - at; d < value {
		best, value = 1, d
	}
	for i, n := range a.near {
		if d := at - n; d >= 0 && d < value {
			best, value = uint8(2+i), d
		}
	}
	a.update(at)
	return best, appendInt(b, value)
}

var errAddress = errors.New("a copy begins outside of what there is")

// decode reads an address off the front of b.
func (a *addresses) decode(b []byte, mode uint8, here int64) (at int64, rest []byte, err error) {
	if m := int(mode) - 2 - len(a.near); m >= 0 {
		if len(b) == 0 {
			return 0, nil, errInt
		}
		at, rest = a.same[m*256+int(b[0])], b[1:]
	} else {
		if at, rest, err = cutInt(b); err != nil {
			return 0, nil, err
		}
		switch {
		case mode == 1:
			at = here - at
		case mode >= 2:
			at += a.near[mode-2]
		}
	}
	if at < 0 || at >= here {
		return 0, nil, errAddress
	}
	a.update(at)
	return at, rest, nil
}
