package site_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/testing/sitetest"
)

func TestReleasesStanding(t *testing.T) {
	w := sitetest.Demo(t)
	w.Now = func() time.Time { return time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC) }
	e, err := w.Book.Catalogue.Find("slateroom")
	require.NoError(t, err)
	assert.Equal(t, "the newest, gets fixes until 2027-08-28", w.Book.Standing(e.Kit, 0))
	assert.Equal(t, "older, no fixes since 2026-08-31", w.Book.Standing(e.Kit, 1))
}
