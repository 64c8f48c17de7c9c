package fault

// Hiding gives an error with every text of it changed by hide, which takes
// secrets out. What errors.Is and errors.As find in it stays.
func Hiding(err error, hide func(string) string) error {
	if err == nil {
		return nil
	}
	f, is := err.(*Error)
	if !is {
		if plain := err.Error(); hide(plain) == plain {
			return err
		}
		return &hiding{err, hide}
	}
	out := *f
	out.What, out.Where, out.Remedy = hide(f.What), hide(f.Where), hide(f.Remedy)
	out.Details = make([]string, len(f.Details))
	for i, d := range f.Details {
		out.Details[i] = hide(d)
	}
	out.Problems = make([]Problem, len(f.Problems))
	for i, p := range f.Problems {
		out.Problems[i] = Problem{p.ID, hide(p.What), hide(p.Remedy)}
	}
	out.Cause = Hiding(f.Cause, hide)
	return &out
}

// hiding is an error whose text is not to be shown as it is.
type hiding struct {
	err  error
	hide func(string) string
}

// Error gives the text without its secrets.
func (h *hiding) Error() string { return h.hide(h.err.Error()) }

// Unwrap gives what is inside, with the same texts hidden.
func (h *hiding) Unwrap() []error {
	switch inner := h.err.(type) {
	case interface{ Unwrap() []error }:
		var out []error
		for _, err := range inner.Unwrap() {
			out = append(out, Hiding(err, h.hide))
		}
		return out
	case interface{ Unwrap() error }:
		if err := inner.Unwrap(); err != nil {
			return []error{Hiding(err, h.hide)}
		}
	}
	return nil
}

// Is lets the error be known for what it is.
func (h *hiding) Is(target error) bool { return h.err == target }
