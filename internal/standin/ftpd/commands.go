package ftpd

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strconv"
	"strings"
	"time"
)

var commands = map[string]func(*session, string){
	"TYPE": func(c *session, _ string) { c.say(200, "Type is binary") },
	"SYST": func(c *session, _ string) { c.say(215, "UNIX Type: L8") },
	"PWD":  func(c *session, _ string) { c.say(257, `"/`+c.dir+`"`) },
	"CWD":  (*session).changeFolder,
	"EPSV": (*session).extendedPassive,
	"PASV": (*session).passive,
	"MLST": (*session).describe,
	"MLSD": func(c *session, a string) { c.list(a, !c.odd.NoFacts, facts) },
	"LIST": func(c *session, a string) { c.list(strings.TrimPrefix(a, "-a"), true, long) },
	"RETR": (*session).retrieve,
	"STOR": (*session).store,
	"MKD":  func(c *session, a string) { c.change(a, 257, func(n string) error { return c.root.Mkdir(n, 0o755) }) },
	"RMD":  func(c *session, a string) { c.change(a, 250, c.removeFolder) },
	"DELE": func(c *session, a string) { c.change(a, 250, c.removeFile) },
	"RNFR": (*session).renameFrom,
	"RNTO": func(c *session, a string) {
		c.change(a, 250, func(n string) error { return c.root.Rename(c.from, n) })
	},
	"SITE": (*session).site,
}

func (c *session) no(err error) {
	text := "Failed"
	switch {
	case errors.Is(err, fs.ErrNotExist):
		text = "No such file or directory"
	case errors.Is(err, fs.ErrPermission):
		text = "Permission denied"
	case errors.Is(err, fs.ErrExist):
		text = "File exists"
	}
	c.say(550, text)
}

func (c *session) change(argument string, fine int, do func(string) error) {
	name := c.name(argument)
	err := error(fs.ErrPermission)
	if !c.locked(name) {
		err = do(name)
	}
	if err != nil {
		c.no(err)
		return
	}
	c.say(fine, "Done")
}

func (c *session) removeFolder(name string) error {
	if info, err := c.root.Lstat(name); err != nil || !info.IsDir() {
		return errors.Join(err, errors.New("no folder"))
	}
	return c.root.Remove(name)
}

func (c *session) removeFile(name string) error {
	if info, err := c.root.Lstat(name); err != nil || info.IsDir() {
		return errors.Join(err, errors.New("no file"))
	}
	return c.root.Remove(name)
}

func (c *session) changeFolder(argument string) {
	name := c.name(argument)
	info, err := c.root.Stat(name)
	if err != nil || !info.IsDir() {
		c.no(errors.Join(err, fs.ErrNotExist))
		return
	}
	c.dir = name
	c.say(250, "There")
}

func (c *session) renameFrom(argument string) {
	c.from = c.name(argument)
	if _, err := c.root.Lstat(c.from); err != nil || c.locked(c.from) {
		c.no(errors.Join(err, fs.ErrPermission))
		return
	}
	c.say(350, "And where to?")
}

func (c *session) site(argument string) {
	verb, rest, _ := strings.Cut(argument, " ")
	text, name, _ := strings.Cut(rest, " ")
	mode, err := strconv.ParseUint(text, 8, 32)
	if !strings.EqualFold(verb, "CHMOD") || err != nil || c.odd.NoModes {
		c.say(500, "Not known here")
		return
	}
	c.change(name, 200, func(n string) error { return c.root.Chmod(n, fs.FileMode(mode).Perm()) })
}

func (c *session) closeData() {
	if c.data != nil {
		_ = c.data.Close()
		c.data = nil
	}
}

func (c *session) listen() (port int, err error) {
	c.closeData()
	if c.data, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return 0, err
	}
	return c.data.Addr().(*net.TCPAddr).Port, nil
}

func (c *session) extendedPassive(string) {
	if c.odd.NoEPSV {
		c.say(500, "EPSV is not known here")
		return
	}
	port, err := c.listen()
	if err != nil {
		c.no(err)
		return
	}
	c.say(229, fmt.Sprintf("Entering Extended Passive Mode (|||%d|)", port))
}

func (c *session) passive(string) {
	port, err := c.listen()
	if err != nil {
		c.no(err)
		return
	}
	host := "127,0,0,1"
	if c.odd.OtherAddressed {
		host = "192,0,2,7"
	}
	c.say(227, fmt.Sprintf("Entering Passive Mode (%s,%d,%d).", host, port>>8, port&255))
}

// transfer takes the client's data connection and moves bytes over it.
func (c *session) transfer(move func(net.Conn) error) {
	if c.data == nil {
		c.say(425, "Ask for a data connection first")
		return
	}
	defer c.closeData()
	_ = c.data.(*net.TCPListener).SetDeadline(time.Now().Add(10 * time.Second))
	line, err := c.data.Accept()
	if err != nil {
		c.say(425, "Nobody came")
		return
	}
	c.say(150, "Here it goes")
	if c.private {
		line = tls.Server(line, c.tls)
	}
	err = move(line)
	if closed := line.Close(); err == nil {
		err = closed
	}
	switch {
	case errors.Is(err, errFull):
		c.say(452, "No space left on device")
	case err != nil:
		c.say(426, "The transfer broke off")
	default:
		c.say(226, "Done")
	}
}

func (c *session) retrieve(argument string) {
	file, err := c.root.Open(c.name(argument))
	if err != nil {
		c.no(err)
		return
	}
	defer file.Close()
	if info, err := file.Stat(); err != nil || info.IsDir() {
		c.no(fs.ErrNotExist)
		return
	}
	c.transfer(func(line net.Conn) error {
		_, err := io.Copy(line, file)
		return err
	})
}

var errFull = errors.New("full")

func (c *session) store(argument string) {
	name := c.name(argument)
	if c.locked(name) {
		c.no(fs.ErrPermission)
		return
	}
	file, err := c.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		c.no(err)
		return
	}
	c.transfer(func(line net.Conn) error {
		n, err := io.Copy(file, line)
		if closed := file.Close(); err == nil {
			err = closed
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		c.taken += n
		if c.odd.Space > 0 && c.taken > c.odd.Space {
			return errFull
		}
		return err
	})
	c.over = c.odd.CloseEachFile
}

func (c *session) describe(argument string) {
	name := c.name(argument)
	if c.odd.NoFacts {
		c.say(500, "MLST is not known here")
		return
	}
	info, err := c.root.Lstat(name)
	if err != nil {
		c.no(err)
		return
	}
	fmt.Fprintf(c.conn, "250-Here it is\r\n %s%s\r\n250 End\r\n", strings.TrimSuffix(facts(info), info.Name()+"\r\n"),
		argument)
}

func (c *session) list(argument string, offered bool, format func(fs.FileInfo) string) {
	name := c.name(strings.TrimSpace(argument))
	if !offered {
		c.say(500, "Not known here")
		return
	}
	dir, err := c.root.Open(name)
	if err != nil {
		c.no(err)
		return
	}
	defer dir.Close()
	entries, err := dir.Readdir(-1)
	if err != nil {
		c.no(err)
		return
	}
	c.transfer(func(line net.Conn) error {
		var out strings.Builder
		for _, e := range entries {
			out.WriteString(format(e))
		}
		for {
			n, err := io.WriteString(line, out.String())
			c.mu.Lock()
			c.sent += int64(n)
			c.mu.Unlock()
			if err != nil || !c.odd.EndlessListing {
				return err
			}
		}
	})
}

// facts is a line of MLSD (RFC 3659, 7).
func facts(i fs.FileInfo) string {
	kind := "file"
	switch {
	case i.IsDir():
		kind = "dir"
	case i.Mode()&fs.ModeSymlink != 0:
		kind = "OS.unix=slink"
	}
	return fmt.Sprintf("type=%s;size=%d;modify=%s;UNIX.mode=%04o; %s\r\n", kind, i.Size(),
		i.ModTime().UTC().Format("20060102150405"), i.Mode().Perm(), i.Name())
}

// long is a line of LIST, like that of ls -l.
func long(i fs.FileInfo) string {
	mode := i.Mode().String()
	if i.Mode()&fs.ModeSymlink != 0 {
		mode = "l" + mode[1:]
	}
	return fmt.Sprintf("%s 1 quill quill %12d %s %s\r\n", mode, i.Size(), i.ModTime().UTC().Format("Jan _2 15:04"),
		path.Base(i.Name()))
}
