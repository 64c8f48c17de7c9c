package mysqld_test

import (
	"database/sql"
	"fmt"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // the client
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/standin/mysqld"
)

func start(t *testing.T) (*mysqld.Server, *sql.DB) {
	t.Helper()
	s, err := mysqld.Start(t.TempDir(), "127.0.0.1:0", "pw")
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	db, err := sql.Open("mysql", fmt.Sprintf("root:pw@tcp(%s)/?interpolateParams=true", s.Address()))
	require.NoError(t, err)
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { _ = db.Close() })
	for _, statement := range []string{"CREATE DATABASE demo", "USE demo"} {
		_, err := db.Exec(statement)
		require.NoError(t, err)
	}
	return s, db
}

// What it cannot do it refuses, and names it.
func TestRefusals(t *testing.T) {
	_, db := start(t)
	for statement, words := range map[string]string{
		"CREATE PROCEDURE x() SELECT 1":            "PROCEDURE",
		"LOAD DATA INFILE 'x' INTO TABLE y":        "LOAD DATA",
		"CREATE TABLE x (a INT) PARTITION BY HASH": "PARTITION",
		"GRANT SELECT ON demo.* TO 'a'@'b'":        "SELECT",
		"SHOW ENGINE INNODB STATUS":                "ENGINE",
		"SELECT * FROM nowhere":                    "Table doesn't exist",
		"SELECT 'x":                                "without an end",
		"CREATE USER 'a'@'b'":                      "does not know this form",
		"DROP DATABASE nowhere":                    "doesn't exist",
		"USE nowhere":                              "Unknown database",
	} {
		_, err := db.Exec(statement)
		assert.ErrorContains(t, err, words, statement)
	}
	_, err := db.Prepare("SELECT ?")
	assert.ErrorContains(t, err, "prepared statements")
}

func TestStatements(t *testing.T) {
	_, db := start(t)
	for _, statement := range []string{
		"CREATE TABLE IF NOT EXISTS `t` (id INT UNSIGNED NOT NULL AUTO_INCREMENT COMMENT 'x', `key` VARCHAR(20) CHARACTER " +
			"SET utf8mb4 NOT NULL DEFAULT 'a', at TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP(), PRIMARY KEY (id), UNIQUE " +
			"KEY u (`key`), KEY k (at)) ENGINE=InnoDB AUTO_INCREMENT=5 DEFAULT CHARSET=utf8mb4",
		"INSERT INTO t (`key`) VALUES ('one'), (\"two\")",
		"INSERT IGNORE INTO t (`key`) VALUES ('one')",
		"INSERT INTO t (id, `key`) VALUES (1, 'x') ON DUPLICATE KEY UPDATE `key` = VALUES(`key`)",
		"START TRANSACTION", "UPDATE t SET at = NOW() WHERE id = 2", "ROLLBACK", "SET NAMES utf8mb4",
	} {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
	_, err := db.Exec("INSERT INTO t (`key`) VALUES ('TWO')")
	assert.ErrorContains(t, err, "Duplicate entry", "cases are not told apart")
	var key string
	var count int
	require.NoError(t, db.QueryRow("SELECT `key`, (SELECT count(*) FROM t) FROM t WHERE id = ?", 1).Scan(&key, &count))
	assert.Equal(t, "x", key)
	assert.Equal(t, 2, count)
	done, err := db.Exec("INSERT INTO t (`key`) VALUES ('last')")
	require.NoError(t, err)
	id, err := done.LastInsertId()
	require.NoError(t, err)
	assert.GreaterOrEqual(t, id, int64(3))
	_, err = db.Exec("TRUNCATE TABLE t")
	require.NoError(t, err)
}

func TestOutage(t *testing.T) {
	s, db := start(t)
	s.Drop()
	assert.Error(t, db.Ping())
	require.NoError(t, s.Return())
	assert.NoError(t, db.Ping())
	s.Outage(100 * time.Millisecond)
	assert.Error(t, db.Ping())
	assert.Eventually(t, func() bool { return db.Ping() == nil }, 3*time.Second, 20*time.Millisecond)
}
