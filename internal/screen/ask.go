package screen

import (
	"bufio"
	"fmt"
	"strings"
)

// Confirm asks a yes-or-no question; anything but yes is no.
func (s *Streams) Confirm(question string) bool {
	fmt.Fprintf(s.Err, "%s [y/N] ", question)
	line, err := bufio.NewReader(s.In).ReadString('\n')
	if err != nil && line == "" {
		fmt.Fprintln(s.Err)
		return false
	}
	answer := strings.ToLower(strings.TrimSpace(line))
	return answer == "y" || answer == "yes"
}
