package mariadb

import (
	"context"
	"database/sql/driver"
	"fmt"
)

// careful makes connections by another connector that ends the program where a server greets in no way that there is:
// whoever answers in a database's place says what they like.
type careful struct{ driver.Connector }

// Connect implements driver.Connector.
func (c careful) Connect(ctx context.Context) (conn driver.Conn, err error) {
	defer func() {
		if cause := recover(); cause != nil {
			conn, err = nil, fmt.Errorf("what answers is no database server of this kind: %v", cause)
		}
	}()
	return c.Connector.Connect(ctx)
}
