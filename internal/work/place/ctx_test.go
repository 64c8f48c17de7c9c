package place_test

import "context"

var ctx = context.Background()
