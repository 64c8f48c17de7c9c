package job

// lockOf names what is locked while a journal is in hand: a file beside it, for what is locked here cannot be written
// through another handle (LockFileEx).
func lockOf(journal string) string { return journal + ".lock" }
