package screen

import (
	"bufio"
	"context"
	"fmt"
	"strings"
)

// Confirm asks a yes-or-no question; anything but yes is no, and so is the end
// of the context, such as by Ctrl-C.
func (s *Streams) Confirm(ctx context.Context, question string) bool {
	fmt.Fprintf(s.Err, "%s [y/N] ", question)
	lines := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(s.In).ReadString('\n')
		lines <- line
	}()
	select {
	case <-ctx.Done():
		fmt.Fprintln(s.Err)
		return false
	case line := <-lines:
		if !strings.HasSuffix(line, "\n") {
			fmt.Fprintln(s.Err)
		}
		answer := strings.ToLower(strings.TrimSpace(line))
		return answer == "y" || answer == "yes"
	}
}
