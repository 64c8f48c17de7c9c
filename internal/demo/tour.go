package demo

import (
	"context"
	"fmt"
	"io"
)

// Tour runs a full example.
func Tour(ctx context.Context, d *Demo, program string, out io.Writer) error {
	return fmt.Errorf("not yet")
}
