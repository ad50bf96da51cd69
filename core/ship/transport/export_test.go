package transport

import "time"

// LeftBehind sets after how long the guard of a new file counts as left behind. It returns what it was.
func LeftBehind(d time.Duration) (was time.Duration) {
	was, guarded = guarded, d
	return was
}

// Silent sets how long a web server may send and accept nothing. It returns what it was.
func Silent(d time.Duration) (was time.Duration) {
	was, silent = silent, d
	return was
}
