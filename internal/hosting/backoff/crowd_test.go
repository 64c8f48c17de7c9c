package backoff_test

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tivset/internal/hosting/backoff"
)

var errFull = errors.New("full")

func TestWait(t *testing.T) {
	tries, told := 0, 0
	err := backoff.Wait(context.Background(), time.Minute, func() { told++ }, func() error {
		if tries++; tries < 3 {
			return fmt.Errorf("signing in: %w", backoff.Of(errFull))
		}
		return nil
	})
	assert.NoError(t, err)
	assert.Equal(t, []int{3, 2}, []int{tries, told})
	assert.Equal(t, errFull, backoff.Wait(context.Background(), time.Minute, nil, func() error { return errFull }),
		"what is no crowd is not waited for")
	err = backoff.Wait(context.Background(), time.Second, nil, func() error { return backoff.Of(errFull) })
	assert.ErrorIs(t, err, errFull, "in the end it is said what the server said")
	within, stop := context.WithCancel(context.Background())
	stop()
	assert.ErrorIs(t, backoff.Wait(within, time.Minute, nil, func() error { return backoff.Of(errFull) }),
		context.Canceled)
}
