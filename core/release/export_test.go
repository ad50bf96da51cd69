package release

// Forget frees the project as a killed run does: a rehearsal stays.
func (s *Session) Forget() { s.lock.Release() }
