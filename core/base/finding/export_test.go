package finding

// Stories are all stories by the ids of their findings.
func Stories() map[string]*Story { return stories() }
