package show

import (
	"os"

	"golang.org/x/sys/windows"
)

// colours tells a console of Windows to take the sequences that colours are made of, which older
// ones do only when they are asked; false for one that can't.
func colours(f *os.File) bool {
	var mode uint32
	console := windows.Handle(f.Fd())
	if windows.GetConsoleMode(console, &mode) != nil {
		return true // a terminal of another kind
	}
	return windows.SetConsoleMode(console, mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil
}
