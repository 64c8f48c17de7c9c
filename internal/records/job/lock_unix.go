//go:build unix

package job

// lockOf names what is locked while a journal is in hand: the journal itself.
func lockOf(journal string) string { return journal }
