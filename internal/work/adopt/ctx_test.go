package adopt_test

import "context"

var ctx = context.Background()
