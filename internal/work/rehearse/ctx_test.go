package rehearse_test

import "context"

var ctx = context.Background()
