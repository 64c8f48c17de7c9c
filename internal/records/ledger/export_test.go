package ledger

import "fmt"

// SetFormatForTest makes the file look like one of another release.
func (l *SQLite) SetFormatForTest(n int) error {
	_, err := l.db.Exec(fmt.Sprintf("PRAGMA user_version = %d", n))
	return err
}

// BeforeRedirectsForTest makes the file one of the first format.
func (l *SQLite) BeforeRedirectsForTest() error {
	_, err := l.db.Exec(
		"DROP TABLE redirects; DROP TABLE measures; DROP TABLE rounds; DROP TABLE told; DROP INDEX jobs_ended; " +
			"DROP INDEX jobs_number; ALTER TABLE jobs DROP COLUMN ended; ALTER TABLE jobs DROP COLUMN number; " +
			"PRAGMA user_version = 1",
	)
	return err
}
