package demo

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/secret"
)

// Snapshot lists everything in the demo account, a line each: files and
// folders with modes and checksums, databases, users. Two equal snapshots mean
// that nothing has changed.
func Snapshot(d *Demo) (string, error) {
	var out strings.Builder
	if err := Tree(&out, d.Standin.Root); err != nil {
		return "", err
	}
	before, err := readState(filepath.Join(d.Folder, "demo"))
	if err != nil {
		return "", err
	}
	ctx := context.Background()
	server, err := mariadb.Connect(ctx, database.Login{Server: d.Standin.Database.Address(), User: "root",
		Password: secret.Of(before.Password)})
	if err != nil {
		return "", err
	}
	defer server.Close()
	databases, err := server.Databases(ctx)
	if err != nil {
		return "", err
	}
	users, err := server.Users(ctx)
	if err != nil {
		return "", err
	}
	fmt.Fprintf(&out, "database %s\nuser %s\n", strings.Join(databases, "\ndatabase "), strings.Join(users, "\nuser "))
	return out.String(), nil
}

// Tree lists a folder of this machine.
func Tree(out *strings.Builder, top string) error {
	return filepath.WalkDir(top, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		sum := ""
		if info.Mode().IsRegular() {
			text, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			sum = fmt.Sprintf(" %x", sha256.Sum256(text))
		}
		fmt.Fprintf(out, "%s %s%s\n", info.Mode(), strings.TrimPrefix(name, top), sum)
		return nil
	})
}

// Difference compares two snapshots line by line.
func Difference(before, after string) (gone, come []string) {
	old, new := map[string]bool{}, map[string]bool{}
	for line := range strings.SplitSeq(before, "\n") {
		old[line] = true
	}
	for line := range strings.SplitSeq(after, "\n") {
		new[line] = true
		if !old[line] {
			come = append(come, line)
		}
	}
	for line := range strings.SplitSeq(before, "\n") {
		if !new[line] {
			gone = append(gone, line)
		}
	}
	return gone, come
}

// ButBackups leaves the backups in the account's store out of a snapshot: one
// that was made before a change stays when the change is taken back.
func ButBackups(snapshot string) string {
	var out []string
	for line := range strings.SplitSeq(snapshot, "\n") {
		if !strings.HasSuffix(line, " /.tivset") && !strings.Contains(line, " /.tivset/backups") {
			out = append(out, line)
		}
	}
	return strings.Join(out, "\n")
}
