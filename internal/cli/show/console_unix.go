//go:build !windows

package show

import "os"

// colours says whether a terminal knows them: all of today's do.
func colours(*os.File) bool { return true }
