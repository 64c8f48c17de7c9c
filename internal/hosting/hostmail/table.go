package hostmail

// column is one of a table with a heading: what its values are.
type column struct {
	of label
	is sense
}

// table reads a line of a table whose columns have headings, or the headings.
func (r *reader) table(line string) bool {
	cells := cellsOf(line)
	if len(cells) < 2 {
		r.columns = nil
		return false
	}
	if len(r.columns) > 0 {
		if len(cells) == len(r.columns) {
			return r.row(line, cells)
		}
		r.columns = nil
	}
	var columns []column
	fields := 0
	for _, cell := range cells {
		all := tokens(cell)
		l, found := readLabel(all, 0)
		if !found || !l.complete {
			if len(columns) > 0 || len(cells) < 3 { // the first may be called anything, such as “Service”
				return false
			}
			columns = append(columns, column{})
			continue
		}
		l.strong, l.begins = true, true
		columns = append(columns, column{of: l, is: l.field()})
		if l.field() != noSense {
			fields++
		}
	}
	if fields < 2 {
		return false
	}
	r.columns = columns
	return true
}

// row takes the values of a row.
func (r *reader) row(line string, cells []string) bool {
	for _, cell := range cells {
		if l, found := readLabel(tokens(cell), 0); found && l.complete && l.topic() != noSense {
			r.begin(l.topic())
			r.scheme = schemeOf(cell)
			r.engine(cell)
			break
		}
	}
	of := 0
	for i, c := range r.columns {
		if c.is == noSense || cells[i] == "" || cells[i] == "-" {
			continue
		}
		before := r.lastOf
		r.take(line, c.of, cells[i], true, of)
		if c.is == domain && (r.lastOf != before || of == 0) {
			of = r.lastOf
		}
	}
	return true
}

// cellsOf takes a line apart at the edges of its columns.
func cellsOf(line string) (out []string) {
	all := tokens(line)
	from := 0
	for i := 1; i <= len(all); i++ {
		if i == len(all) || all[i].gap {
			if from < i {
				out = append(out, line[all[from].from:all[i-1].to])
			}
			from = i
		}
	}
	return out
}
