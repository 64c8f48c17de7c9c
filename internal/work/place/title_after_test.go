package place_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/answer"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/place"
)

// A copy that is given another title has it on its pages, and the original keeps its own.
func TestCopyWithATitle(t *testing.T) {
	for app, at := range sitetest.Apps {
		w := sitetest.Demo(t)
		done, err := w.Install(sitetest.Request(app, at))
		if !assert.NoError(t, err, app) {
			continue
		}
		copied := w.Copy(place.Request{Site: done.Site.Address, At: "lockside.localhost/try",
			Answers: answer.Given{"title": "Class 7 & more"}})
		assert.Contains(t, w.Fetch(copied.Site.URL), "Class 7 &amp; more", app)
		assert.NotContains(t, w.Fetch(done.Site.URL), "Class 7", app)
	}
}
