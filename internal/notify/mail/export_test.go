package mail

import "testing"

// SendmailIs has a program stand for this machine's sendmail until the test ends.
func SendmailIs(t *testing.T, program string) {
	before := sendmails
	sendmails = []string{program}
	t.Cleanup(func() { sendmails = before })
}
