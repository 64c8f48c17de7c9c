package command

import "tivset/internal/screen"

// each does something with each of the sites that are named. What it prints for
// programs is one document: that of the one site; of several, an array, which
// ends with the first failure.
func (a *app) each(words []string, do func(word string) (document any, err error)) error {
	all := []any{}
	for _, word := range words {
		document, err := do(word)
		switch {
		case err == nil:
			all = append(all, document)
		case !a.json || len(words) == 1:
			return err
		default:
			if err := a.streams.WriteJSON(append(all, a.streams.Failed(err))); err != nil {
				return err
			}
			return &silent{screen.Code(err)}
		}
	}
	switch {
	case !a.json:
		return nil
	case len(words) == 1:
		return a.streams.WriteJSON(all[0])
	}
	return a.streams.WriteJSON(all)
}
